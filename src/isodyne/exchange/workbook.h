#pragma once
// Workbooks of spreadsheets (Office Open XML, ISO/IEC 29500): the first sheet as a table, and a table as a workbook.

#include <string>
#include <vector>

#include "isodyne/core/csv.h"
#include "isodyne/core/result.h"

namespace isodyne::exchange {

/// The first sheet of a workbook, as a table: texts as they are, numbers as the shortest text that reads back as the
/// same, but shares as they are shown ("50 %") and days as 2026-12-02; of formulas the value that was stored with them.
/// Bounded in every size; nothing in it is executed. A Failure: it is none, it has merged cells (which of the rows do
/// they belong to?), or a formula without a value.
struct Workbook {
  Csv table;                 ///< fields have no place in a file; `line` is the number of the row
  std::string sheet;         ///< its name
  std::size_t sheets = 0;    ///< how many there are
  std::size_t formulas = 0;  ///< cells whose stored value was taken
};
Result<Workbook> read_workbook(const std::string& file);

struct SheetColumn {
  std::string title;
  double width = 12;  ///< in characters
};
struct Sheet {
  std::string name;
  std::vector<SheetColumn> columns;
  std::vector<std::vector<std::string>> rows;
  std::vector<int> shades;  ///< a row each: 0 none, 1 good, 2 doubtful, 3 bad
};
/// Replaces the file as a whole. What looks like a number becomes one; nothing becomes a formula.
Status write_workbook(const std::string& file, const Sheet& sheet);

}  // namespace isodyne::exchange
