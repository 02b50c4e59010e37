#include "isodyne/session/asked_optimizer.h"

#include <nlopt.h>

#include <algorithm>
#include <memory>

namespace isodyne::session {

namespace {

struct Replay {
  const std::vector<double>& known;
  nlopt_opt optimizer;
  std::size_t at = 0;
  std::optional<std::vector<double>> asked;
};

double replayed(unsigned n, const double* x, double*, void* data) {
  auto& r = *static_cast<Replay*>(data);
  if (r.at < r.known.size()) return r.known[r.at++];
  if (!r.asked) r.asked.emplace(x, x + n);
  nlopt_force_stop(r.optimizer);
  return 0;
}

nlopt_algorithm algorithm_of(AskedOptimizer::Method method, std::size_t dimensions) {
  if (method == AskedOptimizer::Method::everywhere) return NLOPT_GN_DIRECT_L;
  return method == AskedOptimizer::Method::quadratic && dimensions > 1 ? NLOPT_LN_BOBYQA : NLOPT_LN_SBPLX;
}

}  // namespace

AskedOptimizer::AskedOptimizer(Method method, std::vector<double> start, double step)
    : method_(method), start_(std::move(start)), step_(step) {}

std::optional<std::vector<double>> AskedOptimizer::next() {
  if (start_.empty()) return std::nullopt;
  const auto n = static_cast<unsigned>(start_.size());
  const std::unique_ptr<nlopt_opt_s, void (*)(nlopt_opt)> optimizer(nlopt_create(algorithm_of(method_, n), n),
                                                                    nlopt_destroy);
  if (!optimizer) return std::nullopt;
  Replay replay{known_, optimizer.get(), 0, {}};
  constexpr double kNear = 1e-3;  // of a range: nearer than that is the same point
  nlopt_set_min_objective(optimizer.get(), replayed, &replay);
  nlopt_set_lower_bounds1(optimizer.get(), 0);
  nlopt_set_upper_bounds1(optimizer.get(), 1);
  nlopt_set_initial_step1(optimizer.get(), step_);
  nlopt_set_xtol_abs1(optimizer.get(), kNear);
  std::vector<double> x = start_;
  for (double& one : x) one = std::clamp(one, 0.0, 1.0);
  double value = 0;
  nlopt_optimize(optimizer.get(), x.data(), &value);
  if (!replay.asked) return std::nullopt;
  for (double& one : *replay.asked) one = std::clamp(one, 0.0, 1.0);
  return replay.asked;
}

}  // namespace isodyne::session
