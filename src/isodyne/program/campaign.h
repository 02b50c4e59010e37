#pragma once
// Many runs of a bench: the factors of which each case takes one value, and how cases are drawn from them.

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::program {

/// What cases may come to; see session/coverage.h.
enum class CoverageKind { modes, transitions, labels, truths, faults, faults_in_modes, requirements, pairs, ends };
inline constexpr int kCoverageKinds = 9;
const char* coverage_word(CoverageKind kind);

struct Campaign {
  enum class Draw {
    all,              ///< every combination
    random,           ///< each factor by itself
    latin_hypercube,  ///< of each factor every part of its range once
    sobol,            ///< a sequence that fills the space evenly (Joe and Kuo 2008)
    grid,             ///< every combination, ranges in equal steps
    pairwise          ///< every two values of two factors meet
  };
  enum class Keep { none, broken, all, worst };
  /// A quantity that begins with another value: one of these, or any between two (SI).
  struct Vary {
    VarId what = kNone;
    std::vector<double> values;
    std::optional<std::pair<double, double>> range;
  };

  std::string name, doc;
  std::vector<std::int32_t> scenarios;
  std::vector<std::vector<std::int32_t>> fault_sets;  ///< each: faults of one case; an empty one: none
  std::vector<std::string> settings;                  ///< empty: the first that each controller has
  std::vector<Vary> varied;
  Draw draw = Draw::all;
  std::int64_t draws = 0;  ///< how many cases; 0 for `all`
  Keep keep = Keep::broken;
  std::int64_t kept = 0;  ///< of `worst`
  /// No case is begun any more when so much was met: a share, 0 to 1.
  std::optional<std::pair<CoverageKind, double>> until;
};
const char* draw_word(Campaign::Draw draw);
const char* keep_word(Campaign::Keep keep);

}  // namespace isodyne::program
