#pragma once
// Many runs of a bench: the factors of which each case takes one value, and how cases are drawn from them.

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::program {

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
};
const char* draw_word(Campaign::Draw draw);
const char* keep_word(Campaign::Keep keep);

}  // namespace isodyne::program
