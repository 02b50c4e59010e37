#pragma once
// The classic Runge-Kutta method of order 4 with a fixed step.
//
// For smooth right-hand sides whose fastest time constant is well above the step; a stiff part (time
// constant below about 0.36 of the step, the edge of the method's stability region) makes it diverge.
// Source: Hairer, Nørsett, Wanner, "Solving Ordinary Differential Equations I", II.1, table 1.2.

#include <cstddef>
#include <vector>

namespace isodyne::engine {

class Rk4 {
 public:
  explicit Rk4(std::size_t states) : k2_(states), k3_(states), k4_(states), stage_(states) {}

  /// One step of x' = f(t, x) from t to t + h, in place. `k1` holds f(t, x) already.
  /// `derivative(t, x, dx)` computes dx from x; both have the number of states given above.
  template <typename Derivative>
  void step(double t, double h, double* x, const double* k1, Derivative&& derivative) {
    const std::size_t n = stage_.size();
    for (std::size_t i = 0; i < n; ++i) stage_[i] = x[i] + 0.5 * h * k1[i];
    derivative(t + 0.5 * h, stage_.data(), k2_.data());
    for (std::size_t i = 0; i < n; ++i) stage_[i] = x[i] + 0.5 * h * k2_[i];
    derivative(t + 0.5 * h, stage_.data(), k3_.data());
    for (std::size_t i = 0; i < n; ++i) stage_[i] = x[i] + h * k3_[i];
    derivative(t + h, stage_.data(), k4_.data());
    for (std::size_t i = 0; i < n; ++i) x[i] += h / 6.0 * (k1[i] + 2.0 * k2_[i] + 2.0 * k3_[i] + k4_[i]);
  }

 private:
  std::vector<double> k2_, k3_, k4_, stage_;
};

}  // namespace isodyne::engine
