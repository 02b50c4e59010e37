#pragma once
// A controller's parameter file against the plant's parameters: which values agree, whatever units they are written in.

#include <memory>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/program/program.h"

namespace isodyne::io {

/// One value of the file as it is written. JSON: { "chamber": { "area": 640, "cd": { "value": 0.62, "unit": "1" } } };
/// CSV: columns name, value and perhaps unit.
struct FileParameter {
  std::string name, value, unit;
  std::string place;  ///< "params.csv:3", or the way to it in JSON
};

Result<std::vector<FileParameter>> read_parameters(const std::string& text, const std::string& file);

struct ParameterRow {
  enum class State { equal, differs, unknown, unreadable, missing };
  State state = State::equal;
  std::string name, plant, file;  ///< as people read them
  std::string remark;             ///< what is wrong, or was assumed
};

const char* parameter_word(ParameterRow::State state);

/// Rows in the order of the file, and then shared parameters that it lacks. Values that differ by less than 1e-6 of
/// themselves are equal: files are often written in single precision.
std::vector<ParameterRow> compare(const std::shared_ptr<const program::Program>& program,
                                  const std::vector<FileParameter>& file);

}  // namespace isodyne::io
