#pragma once
// What `isodyne list` lists, as tables and as JSON.

#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "isodyne/program/program.h"
#include "text_table.h"

namespace isodyne::app {

/// One kind of thing to list: a title, columns, and rows of text. JSON and tables come from the same rows.
struct Section {
  std::string name;
  std::vector<TextTable::Column> columns;
  std::vector<std::vector<std::string>> rows;
};

void say_section(const Section& section, bool several);
nlohmann::ordered_json section_json(const Section& section);

/// list --timing: steps, methods, periods, and what is held where two groups meet, and over a step of a network.
int list_timing(const program::Program& program, bool json);

}  // namespace isodyne::app
