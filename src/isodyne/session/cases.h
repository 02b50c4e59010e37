#pragma once
// The cases of a campaign: which value each factor has in each run. The same campaign, seed and number always give the
// same case.
//
// Factors are, in this order: the scenario, the faults, the setting, and what is varied. Where cases are drawn, a
// factor with k values takes its k equal parts of [0, 1), a range the number itself. Latin hypercube: McKay, Beckman
// and Conover (1979), with a random place in each part. Sobol: Joe and Kuo (2008), from its second point on (the first
// is the corner of all ranges); it does not depend on the seed. Pairwise: greedily, in the manner of Cohen et al.
// (1997), "AETG".

#include <cstdint>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/program/program.h"

namespace isodyne::session {

struct Case {
  std::int64_t number = 0;  ///< from 1
  std::int32_t scenario = program::kNone;
  std::vector<std::int32_t> faults;
  std::string setting;
  std::vector<double> values;  ///< of what is varied, in its order, SI; not a number: as the bench has it
  /// Faults of the scenario that do not act in this run; of no campaign, but of what is compared with one.
  std::vector<std::int32_t> without{};
};

class Cases {
 public:
  static constexpr std::int64_t kMost = 10'000'000;

  /// A Failure: there are too many, or too few are asked for.
  static Result<Cases> of(const program::Program& program, const program::Campaign& campaign, std::uint64_t seed);

  std::int64_t count() const { return count_; }
  Case at(std::int64_t number) const;
  /// "scenario", "fault", "setting", and the names of what is varied.
  const std::vector<std::string>& factors() const { return names_; }
  /// How many values each has; 0: it is a range.
  const std::vector<std::size_t>& levels() const { return levels_; }

 private:
  explicit Cases(const program::Campaign& campaign) : campaign_(&campaign) {}
  Status every_combination(bool grid);
  Status drawn(std::uint64_t seed);
  Status pairs(std::uint64_t seed);
  /// Which of its values a factor has, or where in its range it is.
  double place(std::int64_t index, std::size_t factor) const;

  const program::Campaign* campaign_;
  std::vector<std::string> names_;
  std::vector<std::size_t> levels_;  ///< 0: a range
  std::vector<std::size_t> steps_;   ///< of a grid: values of each factor
  std::int64_t count_ = 0;
  bool listed_ = false;         ///< places_ has levels, else numbers in [0, 1)
  std::vector<double> places_;  ///< a row a case; empty: every combination
};

}  // namespace isodyne::session
