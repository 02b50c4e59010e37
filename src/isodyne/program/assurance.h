#pragma once
// What is claimed about failures of a bench: tables of failure modes.

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

struct Assurance {
  std::vector<FailureModes> failure_modes;
};

}  // namespace isodyne::program
