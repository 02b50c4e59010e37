#pragma once
// The one writer of aligned tables.

#include <string>
#include <vector>

namespace isodyne::app {

class TextTable {
 public:
  enum class Align { left, right };
  struct Column {
    std::string title;
    Align align = Align::left;
  };
  explicit TextTable(std::vector<Column> columns) : columns_(std::move(columns)) {}

  /// `colour` is an SGR sequence such as "1;31" for the cell in column `coloured`; used on terminals only.
  void row(std::vector<std::string> cells, std::string colour = {}, std::size_t coloured = 0);
  bool empty() const { return rows_.empty(); }

  /// Columns two blanks apart, under their titles if any column has one; cells are wrapped so that lines fit into
  /// `width` (0: any width).
  std::string text(std::size_t width, bool colours) const;

 private:
  struct Row {
    std::vector<std::string> cells;
    std::string colour;
    std::size_t coloured = 0;
  };
  std::vector<Column> columns_;
  std::vector<Row> rows_;
};

}  // namespace isodyne::app
