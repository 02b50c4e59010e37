#pragma once
// Tables as spreadsheets save them: commas, semicolons or tabs; quotes; a byte-order mark; either end of line.
//
// Nothing is guessed about the values; whoever reads a number says so.

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace isodyne {

struct CsvField {
  std::string text;                  ///< without quotes, and without blanks around it
  std::uint32_t begin = 0, end = 0;  ///< bytes in the file, with its quotes
};

struct CsvRow {
  std::vector<CsvField> fields;
  int line = 0;  ///< in the file, from 1

  /// The text of a column; empty beyond the last.
  const std::string& text(std::size_t column) const;
};

struct Csv {
  static constexpr std::size_t kMostRows = 1'000'000, kMostColumns = 1000;

  char separator = ',';
  std::vector<CsvRow> rows;  ///< without empty lines
  std::string trouble;       ///< why reading ended early; empty: it did not
  int trouble_line = 0;

  /// Where decimals are behind a comma, the separator is something else.
  bool decimal_comma() const { return separator != ','; }
};

/// Lines that begin with # before the first row do not tell which separator it is. Never fails: what cannot be read is
/// in `trouble`, and the rows before it are there.
Csv read_csv(std::string_view text);

/// "3.5", or "3,5" where commas do not separate. Nothing for anything else.
std::optional<double> csv_number(std::string_view text, bool decimal_comma);

/// One line with its end; fields are quoted where they have to be.
std::string csv_line(const std::vector<std::string>& fields, char separator = ',');

}  // namespace isodyne
