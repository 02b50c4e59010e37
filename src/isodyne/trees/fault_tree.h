#pragma once
// A fault tree by itself: what happens at the bottom, and the gates between that and the top (IEC 61025).
//
// Gates are only of kinds that more events cannot switch off again (a coherent tree). An inhibit gate is its event and
// its condition, both.

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/program/program.h"

namespace isodyne::trees {

inline constexpr double kHour = 3600;  ///< s

struct FaultTree {
  struct Event {
    std::string name, doc;
    std::optional<double> probability;  ///< that it has happened; 0 to 1
    /// Of what the probability was computed: 1/s, constant, from an instant at which it has not happened.
    std::optional<double> rate;
    std::int32_t of = program::kNone;  ///< of the program's basic events
  };
  std::string name, doc;
  std::optional<double> over_s;  ///< the time of events with a rate
  std::vector<Event> events;
  std::vector<program::TreeGate> gates;  ///< what a gate takes stands before it
  program::TreeInput top;
};

/// That of a hazard, with the events that are in it. It must have a top.
FaultTree tree_of(const program::Program& program, const program::Hazard& hazard);

/// 1 - exp(-rate * time).
double probability_within(double rate, double seconds);

/// Whether the top is reached when these events have happened, and no others.
bool is_reached(const FaultTree& tree, const std::vector<bool>& happened);

}  // namespace isodyne::trees
