#pragma once
// Edges of gates as modulators write them: of two switches one above the other, with the dead time between them, and of
// a pulse at the same place in each period.

#include <cmath>

#include "isodyne/engine/state.h"
#include "isodyne/networks/gates/carrier.h"

namespace isodyne::networks::gates {

/// How long after an instant what is taken over there may act.
constexpr Time kNanosecond{1};

/// Where the edges of a step go. Times do not fall.
class EdgeWriter {
 public:
  explicit EdgeWriter(engine::GateEdges& edges) : edges_(&edges) {}
  /// The gate is as it was at the beginning of the step.
  void begin(bool now) {
    edges_->first = now;
    edges_->count = 0;
  }
  void edge(Time at) {
    if (edges_->count >= engine::GateEdges::kMost) {
      full_ = true;
      return;
    }
    edges_->at[static_cast<std::size_t>(edges_->count++)] = at;
  }
  bool full() const { return full_; }

 private:
  engine::GateEdges* edges_;
  bool full_ = false;
};

/// Its state is four numbers: whether the upper and the lower one are on, and when (ns) they will be, or below 0.
class LegDriver {
 public:
  static constexpr std::size_t kNumbers = 4;
  static void begin(double* state, bool upper, bool lower) {
    state[0] = upper ? 1 : 0;
    state[1] = lower ? 1 : 0;
    state[2] = state[3] = kNever;
  }

  LegDriver(double* state, Time dead_time, EdgeWriter upper, EdgeWriter lower)
      : s_(state), dead_time_(dead_time), writers_{upper, lower} {
    for (std::size_t i : {0u, 1u}) writers_[i].begin(s_[i] != 0);
  }

  /// From `at` on the upper one is wanted, or the lower one.
  void want(Time at, bool upper) {
    wait(at);
    const std::size_t on = upper ? 0 : 1;
    off(1 - on, at);
    if (s_[on] == 0 && s_[2 + on] == kNever) s_[2 + on] = static_cast<double>((at + dead_time_).count());
    wait(at);
  }
  /// Both are off from `at` on.
  void rest(Time at) {
    wait(at);
    off(0, at);
    off(1, at);
  }
  /// Up to `at` what has waited comes on.
  void wait(Time at) {
    for (std::size_t i : {0u, 1u}) {
      if (s_[2 + i] == kNever || s_[2 + i] > static_cast<double>(at.count())) continue;
      writers_[i].edge(Time{static_cast<std::int64_t>(s_[2 + i])});
      s_[i] = 1;
      s_[2 + i] = kNever;
    }
  }
  bool full() const { return writers_[0].full() || writers_[1].full(); }

 private:
  static constexpr double kNever = -1;
  void off(std::size_t i, Time at) {
    s_[2 + i] = kNever;
    if (s_[i] == 0) return;
    writers_[i].edge(at);
    s_[i] = 0;
  }

  double* s_;
  Time dead_time_;
  EdgeWriter writers_[2];
};

/// A gate that is on for a quarter of a period, from each place on that is so many halves and any number of whole
/// periods away from the valley at time 0.
inline void quarter(const Carrier& carrier, double halves, Time from, Time to, engine::GateEdges& edges,
                    double& output) {
  constexpr int kMostQuarters = 64;
  EdgeWriter writer(edges);
  writer.begin(output != 0);
  double place = std::floor(carrier.place(from) - halves / 2) + halves / 2;
  for (int i = 0; i < kMostQuarters; ++i) {
    for (const double at : {place, place + 0.25}) {
      const Time t = carrier.when(at);
      if (t > to) return;
      const bool on = at == place;
      if (t <= from || on == (output != 0)) continue;
      writer.edge(t);
      output = on ? 1 : 0;
    }
    place += 1;
  }
}

}  // namespace isodyne::networks::gates
