#include "isodyne/check/plant/table_loader.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/program/tables.h"

namespace isodyne::check {

namespace {

/// One value with the place it was read from.
struct Cell {
  double value = 0;
  Span span;
};
struct Row {
  Cell x, y, z;
};

template <typename Value>
std::optional<Value> word_value(Check& check, const lang::Name& written,
                                const std::vector<std::pair<const char*, Value>>& words, const char* what) {
  std::vector<std::string> known;
  std::string all;
  for (const auto& [word, value] : words) {
    if (written.text == word) return value;
    known.emplace_back(word);
    all += (all.empty() ? "`" : ", `") + known.back() + "`";
  }
  const auto meant = did_you_mean(written.text, known);
  check.error(Code::unknown_name, written.span, fmt::format("{} is {}, not `{}`", what, all, written.text),
              meant.value_or(""));
  return std::nullopt;
}

class Loader {
 public:
  Loader(Check& check, Expressions& expressions, const lang::TableDecl& decl)
      : check_(check), x_(expressions), decl_(decl) {}

  std::optional<LookupTable> run() {
    using Method = LookupTable::Method;
    using Outside = LookupTable::Outside;
    const auto method = word_value<Method>(
        check_, decl_.method, {{"linear", Method::linear}, {"cubic", Method::cubic}, {"hold", Method::hold}},
        "the way from value to value");
    const auto outside =
        word_value<Outside>(check_, decl_.outside,
                            {{"held", Outside::held}, {"extended", Outside::extended}, {"repeated", Outside::repeated}},
                            "what holds outside");
    for (const auto& param : decl_.params) types_.push_back(type_of(param.type));
    types_.push_back(type_of(decl_.result));
    if (!method || !outside) return std::nullopt;
    for (const Type& t : types_) {
      if (!t.valid()) return std::nullopt;
    }
    table_.name = decl_.name.text;
    table_.doc = decl_.doc;
    table_.span = decl_.name.span;
    table_.method = *method;
    table_.outside = *outside;
    if (two() && *method == Method::cubic) {
      check_.error(Code::bad_table, decl_.method.span, "a table with two arguments is `linear` or `hold`");
      return std::nullopt;
    }
    const bool read = decl_.file.empty() ? written_rows() : file_rows();
    if (!read || !(two() ? grid() : line())) return std::nullopt;
    prepare(table_);
    return std::move(table_);
  }

 private:
  bool two() const { return decl_.params.size() == 2; }

  Type type_of(const lang::TypeRef& ref) {
    Unit unit;
    Type type = check_.type_of(ref, unit);
    if (type.valid() && (type.kind != Type::Kind::real || type.size > 0)) {
      check_.error(Code::type_mismatch, ref.span, "a table is about real quantities");
      type = {};
    }
    units_.push_back(unit);
    return type;
  }

  bool refuse(Span span, std::string why, std::string advice = {}) {
    check_.error(Code::bad_table, span, std::move(why), std::move(advice));
    return false;
  }

  // ---- values in the text
  std::optional<Cell> cell(const lang::Expr& e, const Type& type, const char* what) {
    static const std::map<std::string, Typed> kNoNames;
    const NodeId node = x_.check_as(e, {nullptr, &kNoNames, nullptr}, type, what);
    const auto value = check_.constant(node, e.span, what);
    return value ? std::optional(Cell{*value, e.span}) : std::nullopt;
  }

  bool written_rows() {
    for (const lang::TableDecl::Row& row : decl_.rows) {
      const auto x = cell(*row.at, types_[0], "a point of a table");
      if (!x) return false;
      if (!two()) {
        const auto z = cell(*row.value, types_[1], "a value of a table");
        if (!z) return false;
        rows_.push_back({*x, {}, *z});
        continue;
      }
      for (const lang::TableDecl::Row& inner : row.line) {
        const auto y = cell(*inner.at, types_[1], "a point of a table");
        const auto z = cell(*inner.value, types_[2], "a value of a table");
        if (!y || !z) return false;
        rows_.push_back({*x, *y, *z});
      }
    }
    return true;
  }

  // ---- values in a file
  struct Field {
    std::string_view text;
    Span span;
  };

  std::vector<Field> fields(const CsvRow& row) const {
    std::vector<Field> all;
    for (const CsvField& f : row.fields) all.push_back({f.text, {decl_.data, f.begin, std::max(f.end, f.begin + 1)}});
    return all;
  }

  struct Column {
    std::size_t index = 0;
    Unit unit;
  };

  /// "power [kW]": the title and the unit, which must fit the type.
  std::optional<Column> column(const std::vector<Field>& header, std::size_t index, const Type& type) {
    const Field& f = header[index];
    const std::size_t open = f.text.find('['), close = f.text.rfind(']');
    if (open == std::string_view::npos || close == std::string_view::npos || close < open) {
      refuse(f.span, fmt::format("column `{}` has no unit", f.text),
             fmt::format("write `{} [{}]`", f.text, type.absolute ? "degC" : si_text(type.dimension)));
      return std::nullopt;
    }
    const std::string name(f.text.substr(open + 1, close - open - 1));
    const auto unit = parse_unit(name);
    if (!unit) {
      check_.error(Code::unknown_unit, f.span, fmt::format("`{}` is not a unit", name), unit_advice(name));
      return std::nullopt;
    }
    if (unit->dimension != type.dimension || unit->absolute() != type.absolute) {
      check_
          .error(Code::unit_mismatch, f.span,
                 fmt::format("this column is {}, but the table says {}", isodyne::describe(unit->dimension),
                             describe(check_.program, type)))
          .notes.push_back({decl_.name.span, "the table is declared here"});
      return std::nullopt;
    }
    return Column{index, *unit};
  }

  std::optional<std::size_t> value_column(const std::vector<Field>& header) {
    const std::size_t arguments = decl_.params.size();
    if (!decl_.column) return arguments;
    std::vector<std::string> titles;
    for (std::size_t i = 0; i < header.size(); ++i) {
      std::string title(header[i].text.substr(0, header[i].text.find('[')));
      while (!title.empty() && title.back() == ' ') title.pop_back();
      if (title == decl_.column->text) return i;
      titles.push_back(title);
    }
    const auto meant = did_you_mean(decl_.column->text, titles);
    check_.error(Code::unknown_name, decl_.column->span,
                 fmt::format("`{}` has no column `{}`", decl_.file, decl_.column->text), meant.value_or(""));
    return std::nullopt;
  }

  bool file_rows() {
    if (decl_.data < 0) return false;  // it could not be read, which has been reported
    const Csv csv = read_csv(check_.program.sources->text(decl_.data));
    decimal_comma_ = csv.decimal_comma();
    std::vector<Column> columns;
    for (const CsvRow& r : csv.rows) {
      const std::vector<Field> row = fields(r);
      if (row.size() == 1 && row[0].text.starts_with('#')) continue;
      if (columns.empty()) {
        if (!header(row, columns)) return false;
      } else if (!data_row(row, columns)) {
        return false;
      }
    }
    if (!csv.trouble.empty())
      return refuse(decl_.file_span, fmt::format("`{}`, line {}: {}", decl_.file, csv.trouble_line, csv.trouble));
    if (!columns.empty()) return true;
    return refuse(decl_.file_span, fmt::format("`{}` is empty", decl_.file),
                  "its first line names the columns: `t [s], p [kW]`");
  }

  bool header(const std::vector<Field>& row, std::vector<Column>& columns) {
    if (row.size() <= decl_.params.size())
      return refuse(row[0].span, fmt::format("the header names {}, but {} are needed", counted(row.size(), "column"),
                                             decl_.params.size() + 1));
    const auto value = value_column(row);
    if (!value) return false;
    for (std::size_t i = 0; i < decl_.params.size(); ++i) {
      const auto c = column(row, i, types_[i]);
      if (!c) return false;
      columns.push_back(*c);
    }
    const auto c = column(row, *value, types_.back());
    if (!c) return false;
    columns.push_back(*c);
    return true;
  }

  bool data_row(const std::vector<Field>& row, const std::vector<Column>& columns) {
    std::vector<Cell> cells;
    for (const Column& c : columns) {
      if (c.index >= row.size()) return refuse(row.back().span, "this row is shorter than the header");
      const Field& f = row[c.index];
      const auto value = csv_number(f.text, decimal_comma_);
      if (!value)
        return refuse(f.span, fmt::format("`{}` is not a number", f.text), "numbers have a decimal point and no unit");
      cells.push_back({*value * c.unit.factor + c.unit.offset, f.span});
    }
    rows_.push_back({cells[0], two() ? cells[1] : Cell{}, cells.back()});
    return true;
  }

  // ---- rows to a table
  bool line() {
    if (rows_.size() < 2) return refuse(decl_.name.span, "a table needs two points at least");
    for (std::size_t i = 0; i < rows_.size(); ++i) {
      if (i > 0 && rows_[i].x.value <= rows_[i - 1].x.value)
        return refuse(rows_[i].x.span, "the points of a table must rise from one to the next");
      table_.x.push_back(rows_[i].x.value);
      table_.z.push_back(rows_[i].z.value);
    }
    return true;
  }

  /// Rows of a grid in any order: every x with every y once.
  bool grid() {
    for (const Row& r : rows_) {
      table_.x.push_back(r.x.value);
      table_.y.push_back(r.y.value);
    }
    for (auto* axis : {&table_.x, &table_.y}) {
      std::sort(axis->begin(), axis->end());
      axis->erase(std::unique(axis->begin(), axis->end()), axis->end());
    }
    if (table_.x.size() < 2 || table_.y.size() < 2)
      return refuse(decl_.name.span, "a table with two arguments needs two points of each at least");
    const std::size_t cells = table_.x.size() * table_.y.size();
    if (rows_.size() > cells || cells > rows_.size()) {
      return refuse(decl_.name.span,
                    fmt::format("{} values of the first argument and {} of the second make {} pairs, but {} are given",
                                table_.x.size(), table_.y.size(), cells, rows_.size()),
                    "give every pair once");
    }
    table_.z.assign(cells, std::nan(""));
    for (const Row& r : rows_) {
      const auto i =
          static_cast<std::size_t>(std::lower_bound(table_.x.begin(), table_.x.end(), r.x.value) - table_.x.begin());
      const auto j =
          static_cast<std::size_t>(std::lower_bound(table_.y.begin(), table_.y.end(), r.y.value) - table_.y.begin());
      double& z = table_.z[i * table_.y.size() + j];
      if (!std::isnan(z)) return refuse(r.z.span, "this pair of arguments is given twice");
      z = r.z.value;
    }
    return true;
  }

  bool decimal_comma_ = false;  ///< of the file
  Check& check_;
  Expressions& x_;
  const lang::TableDecl& decl_;
  std::vector<Type> types_;
  std::vector<Unit> units_;
  std::vector<Row> rows_;
  LookupTable table_;
};

}  // namespace

void load_tables(Check& check, Expressions& expressions) {
  for (const auto& [name, decl] : check.table_decls) {
    if (is_function_word(name))
      check.error(Code::duplicate, decl->name.span, fmt::format("`{}` is a function of the language", name),
                  "choose another name");
    auto table = Loader(check, expressions, *decl).run();
    if (!table) continue;
    check.tables[name] = static_cast<std::int32_t>(check.program.tables.size());
    check.program.tables.push_back(std::move(*table));
  }
}

namespace {
/// A run keeps thousands of signals, so the reader is asked for the one.
bool in_run(const lang::FileColumn& file) {
  return !file.file.ends_with(".csv") && file.column;
}
std::optional<std::int32_t> read(Check& check, const lang::FileColumn& file) {
  return check.read_file(in_run(file) ? file.file + "#" + file.column->text : file.file, file.span);
}
}  // namespace

OwnColumn load_own_column(Check& check, Expressions& expressions, const lang::FileColumn& file) {
  const auto data = read(check, file);
  if (!data) return {};
  const Csv csv = read_csv(check.program.sources->text(*data));
  std::string title;
  for (const CsvField& f : csv.rows.empty() ? std::vector<CsvField>{} : csv.rows.front().fields) {
    const std::string name = one_line(f.text.substr(0, f.text.find('[')));
    const bool wanted =
        !file.column || in_run(file) ? &f != &csv.rows.front().fields.front() : name == file.column->text;
    if (wanted && title.empty()) title = f.text;
  }
  const std::size_t open = title.find('['), close = title.rfind(']');
  const auto unit = open == std::string::npos || close == std::string::npos
                        ? std::nullopt
                        : parse_unit(title.substr(open + 1, close - open - 1));
  // Without a unit that can be read, the loader says what is wrong.
  const Type type{Type::Kind::real, unit ? unit->dimension : Dimension{}, kNone, unit && unit->absolute()};
  return {load_column(check, expressions, file, type), unit.value_or(*parse_unit("1"))};
}

std::int32_t load_column(Check& check, Expressions& expressions, const lang::FileColumn& file, const Type& type) {
  lang::TableDecl decl;
  const bool run = in_run(file);
  const auto data = read(check, file);
  if (!data) return kNone;
  decl.name = {file.file, file.span};
  decl.file = file.file;
  decl.file_span = file.span;
  decl.data = *data;
  if (!run) decl.column = file.column;
  decl.params.push_back({{"t", file.span}, {"s", file.span, nullptr}});
  decl.result = {type.absolute ? "degC" : type.dimension.none() ? "1" : si_text(type.dimension), file.span, nullptr};
  decl.method = {"linear", file.span};
  decl.outside = {"held", file.span};
  auto table = Loader(check, expressions, decl).run();
  if (!table) return kNone;
  check.program.tables.push_back(std::move(*table));
  return static_cast<std::int32_t>(check.program.tables.size() - 1);
}

}  // namespace isodyne::check
