#pragma once
// How well a run kept to the wall clock, and what went between it and its controllers: as people and other programs
// read it.

#include <cstdint>
#include <string>
#include <vector>

#include "isodyne/bench/run_result.h"
#include "isodyne/core/json_fwd.h"

namespace isodyne::session {

/// A distribution of times, us.
struct TimesRow {
  std::string name;
  std::int64_t count = 0;
  double p50 = 0, p99 = 0, p999 = 0, longest = 0;
};

struct TimingSummary {
  double speed = 1, step_s = 0;
  std::int64_t steps = 0, overruns = 0;
  bool priority = false, locked = false, pinned = false, awake = false;
  int core = 0;
  std::vector<int> crew;             ///< cores of the threads that stepped beside
  std::vector<std::string> lacking;  ///< what the machine did not grant, and how to get it
  std::vector<TimesRow> rows;        ///< lateness, execution of a step, and what it is made of
  struct OverrunRow {
    double at_s = 0;
    std::int64_t steps = 0;
    double worst_us = 0;
  };
  std::vector<OverrunRow> stretches;
  std::int64_t all_stretches = 0;
  std::uint64_t queue_room = 0, queue_most = 0;
  std::int64_t images_lost = 0, events_lost = 0;
  double first_lost_s = 0;
  /// Histograms: from and to (us), and how many.
  struct Bin {
    double from = 0, to = 0;
    std::int64_t count = 0;
  };
  std::vector<Bin> lateness, execution;

  bool whole() const { return images_lost == 0 && events_lost == 0; }
  /// "Real time was kept: 5000 steps of 1 ms, none late."
  std::string verdict() const;
  /// "core 1 of its own, real-time priority, memory locked"
  std::string rights() const;
};

struct ControllerSummary {
  std::string name, setting;
  double offline_s = 0, answering_s = 0, ready_s = 0;
  std::int64_t exchanges = 0, late = 0, missed = 0;
  TimesRow age;
  ports::Traffic traffic;
  /// "Controller plc (program): ready after 0.02 s; 250 exchanges; …"
  std::string text() const;
};

/// Lateness, execution of a step, and what it is made of.
std::vector<TimesRow> times_of(const bench::Timing& timing);
TimingSummary timing_of(const program::Program& program, const bench::Timing& timing);
ControllerSummary controller_of(const bench::ControllerReport& report);

void to_json(CheckedJson& j, const TimingSummary& t);
void from_json(const CheckedJson& j, TimingSummary& t);
void to_json(CheckedJson& j, const ControllerSummary& c);
void from_json(const CheckedJson& j, ControllerSummary& c);

/// "0.06 µs", "1.2 ms"
std::string microseconds(double us);

}  // namespace isodyne::session
