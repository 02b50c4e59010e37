#pragma once
// What differs between two recordings: signal by signal, at the instants of the one that has fewer of them, with a
// tolerance in value and in time.

#include <optional>
#include <string>
#include <vector>

#include "isodyne/record/recording.h"

namespace isodyne::record {

/// How far two signals may be apart. A value is within it if the other signal comes that near to it at some instant
/// within `time` before or after.
struct Allowed {
  double value = 0;  ///< SI
  Time time{};
};

struct SignalDifference {
  enum class Verdict {
    equal,    ///< to the bit; what is no number on both sides is equal too
    within,   ///< not equal, but within what is allowed
    differs,  ///< more than that
    only_a,   ///< the other recording has no such signal
    only_b,
    other_kind,  ///< in units that cannot be compared, or damaged
  };
  std::string name;
  Verdict verdict = Verdict::equal;
  std::optional<Time> from;  ///< differs: the first instant at which it does (in a's time)
  double largest = 0;        ///< the largest difference at one instant (SI), beyond any time allowed
  Time largest_at{};
  double a_there = 0, b_there = 0;  ///< values at `from`, or else where the difference is largest (SI)
};

/// How the times of two recordings lie to each other.
struct Alignment {
  Time shift{};         ///< a's instant t is b's instant t + shift
  Time begin{}, end{};  ///< what both have, in a's time
  bool same_instants = false;
  std::size_t compared = 0;  ///< instants that are compared
  bool by_a = true;          ///< they are those of a; b is read between its instants
};

/// Of the instants of a signal, or if there is no name of those of the runs.
Alignment align(const Recording& a, const Recording& b, Time shift, const std::string& name = {});

/// Numbers between instants: on a straight line; truths, counts and choices are held.
SignalDifference difference(const Recording& a, const Recording& b, const std::string& name, Time shift,
                            const Allowed& allowed);

/// Names of both, those of a first.
std::vector<std::string> names_of_both(const Recording& a, const Recording& b);

/// The first instant at which a truth is true, a number is beyond a level ("tank.level > 3 m", "< 20 cm"), or an event
/// with this subject happens.
std::optional<Time> first_time_of(const Recording& recording, const std::string& what);

/// What one of them has and the other has not, whatever their signals say: time before or behind, instants between,
/// another ending. "ends: at 2 s, and at 1073.4 s".
std::vector<std::string> extent_differences(const Recording& a, const Recording& b, Time shift);

/// What differs beside the signals: "seed: 1, and 2".
std::vector<std::string> other_differences(const Recording& a, const Recording& b);

}  // namespace isodyne::record
