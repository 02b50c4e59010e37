#pragma once
// Methods of NLopt that are asked for one point after the other, so that several can go on side by side and runs can be
// done in between, with no thread of their own: each time the method is begun anew and given what is known already,
// which costs nothing beside a run. All of them are repeatable.

#include <optional>
#include <vector>

namespace isodyne::session {

/// Looks for a small value in the unit cube.
class AskedOptimizer {
 public:
  enum class Method {
    simplex,    ///< around the start: SBPLX (Rowan 1990), for what is not smooth
    quadratic,  ///< around the start: BOBYQA (Powell 2009), for what is; needs two dimensions
    everywhere  ///< in the whole cube: DIRECT-L (Gablonsky and Kelley 2001)
  };
  AskedOptimizer(Method method, std::vector<double> start, double step);

  /// The next point; nothing: it has come to its end.
  std::optional<std::vector<double>> next();
  /// What was found there; finite.
  void tell(double value) { known_.push_back(value); }
  std::size_t told() const { return known_.size(); }

 private:
  Method method_;
  std::vector<double> start_;
  double step_;
  std::vector<double> known_;
};

}  // namespace isodyne::session
