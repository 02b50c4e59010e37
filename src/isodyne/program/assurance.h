#pragma once
// What is claimed about failures of a bench: tables of failure modes, and hazards with what can lead to them.

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::program {

struct Program;

/// A table of failure modes. Its columns with values, and those computed from them, are quantities of a small program
/// of its own, without a plant.
struct FailureModes {
  struct Column {
    std::string name;
    VarId id = kNone;                  ///< of `columns`
    std::vector<VarId> computed_from;  ///< empty: it is no computed one
    bool computed = false;
  };
  /// As it is written: "fault", "scenario", "requirement" and "noticed by" among its cells, names with commas.
  struct Row {
    std::string name;
    std::vector<std::pair<std::string, std::string>> cells;
    Span span;
  };
  std::string name, doc;
  std::string file;                        ///< with more rows, relative to the bench; may be empty
  std::int32_t scenario = kNone;           ///< of rows that name none
  std::vector<std::int32_t> requirements;  ///< the same; empty: every one
  std::vector<VarId> noticed;              ///< the same: truths
  std::shared_ptr<const Program> columns;  ///< null: every column is text
  std::vector<Column> typed;
  std::vector<Row> rows;
  Span span;
};

/// At the bottom of fault trees.
struct BasicEvent {
  std::string name, doc;
  std::optional<double> rate;         ///< 1/s, constant
  std::optional<double> probability;  ///< that it has happened, whatever the time
  std::int32_t fault = kNone;         ///< what happens to the bench; kNone: no run can show it
  Span span;
};

/// Where a gate, or the top of a tree, gets what it takes from.
struct TreeInput {
  bool gate = false;  ///< else a basic event
  std::int32_t index = kNone;
  bool operator==(const TreeInput&) const = default;
};

struct TreeGate {
  enum class Kind { all, any, at_least, inhibit };
  std::string name, doc;  ///< no name: it stands within the formula of another
  Kind kind = Kind::any;
  int least = 0;              ///< of `at_least`: so many
  std::vector<TreeInput> of;  ///< of `inhibit`: what happens, and the condition
};
const char* gate_word(TreeGate::Kind kind);

/// It is reached in a run where one of `broken` is broken.
struct Hazard {
  std::string name, doc, level, source;
  std::vector<std::int32_t> broken;        ///< requirements
  std::vector<std::int32_t> scenarios;     ///< where what leads to it is tried
  std::vector<std::int32_t> requirements;  ///< what keeps it away, beside those
  double over_s = 0;                       ///< in which events with a rate may happen; 0: not said
  std::vector<TreeGate> gates;             ///< what a gate takes stands before it
  std::optional<TreeInput> top;
  Span span;
};

struct Assurance {
  std::vector<FailureModes> failure_modes;
  std::vector<BasicEvent> basic_events;
  std::vector<Hazard> hazards;
};

}  // namespace isodyne::program
