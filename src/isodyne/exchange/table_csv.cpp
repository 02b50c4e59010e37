// Signals over time as CSV.

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/core/units.h"
#include "isodyne/exchange/signal_table.h"

namespace isodyne::exchange {

namespace {

/// "level [m]" to its name and unit.
std::pair<std::string, std::string> title_of(const std::string& text) {
  const std::size_t open = text.rfind('[');
  if (open == std::string::npos || text.back() != ']') return {text, ""};
  std::string name = text.substr(0, open);
  name.erase(name.find_last_not_of(' ') + 1);
  return {name, text.substr(open + 1, text.size() - open - 2)};
}

std::optional<double> value_of(const std::string& text, bool decimal_comma) {
  if (text.empty() || lower_case(text) == "nan") return kMissing;
  const std::string word = lower_case(text);
  if (word == "true") return 1;
  if (word == "false") return 0;
  return csv_number(text, decimal_comma);
}

/// Only 0 and 1, and no unit; or words.
SignalColumn::Kind kind_of(const SignalColumn& c, bool words) {
  const auto all = [&](auto fits) { return std::all_of(c.values.begin(), c.values.end(), fits); };
  if (words && all([](double v) { return v == 0 || v == 1; })) return SignalColumn::Kind::truth;
  return SignalColumn::Kind::number;
}

}  // namespace

std::string to_csv(const SignalTable& t) {
  std::vector<std::string> fields{"t [s]"};
  for (const SignalColumn& c : t.columns) fields.push_back(c.unit.empty() ? c.name : c.name + " [" + c.unit + "]");
  std::string text = csv_line(fields);
  text.insert(text.size() - 1, "\r");  // every line ends as RFC 4180 has it
  for (std::size_t i = 0; i < t.times_ns.size(); ++i) {
    text += format_exact(to_seconds(Time{t.times_ns[i]}));
    for (const SignalColumn& c : t.columns) {
      text += ',';
      const double v = c.values[i];
      if (std::isnan(v)) continue;  // no value: an empty cell, of a truth as of a number
      text += c.kind == SignalColumn::Kind::truth ? (v != 0 ? "true" : "false") : format_exact(v);
    }
    text += "\r\n";
  }
  return text;
}

Result<SignalTable> from_csv(const std::string& name, std::string_view text) {
  const Csv csv = read_csv(text);
  const auto wrong = [&](int line, const std::string& what) {
    return Failure{"cannot read the table", fmt::format("{}:{}", name, line), what};
  };
  if (!csv.trouble.empty()) return wrong(csv.trouble_line, csv.trouble);
  std::size_t header = 0;
  while (header < csv.rows.size() && csv.rows[header].text(0).starts_with("#")) ++header;
  if (header == csv.rows.size()) return wrong(1, "there is nothing in it");
  const CsvRow& titles = csv.rows[header];
  if (value_of(titles.text(0), csv.decimal_comma()).has_value())
    return wrong(titles.line, "the first line has to name the columns, such as \"t [s],level [m]\"");
  SignalTable t;
  t.title = name;
  const auto [time_name, time_unit] = title_of(titles.text(0));
  double to_s = 1;
  if (time_unit.empty()) {
    t.remarks.push_back(fmt::format("`{}` has no unit: seconds are assumed", time_name));
  } else {
    const auto unit = parse_unit(time_unit);
    if (!unit || unit->dimension != parse_unit("s")->dimension)
      return wrong(titles.line,
                   fmt::format("the first column has to be the time, and `{}` is no unit of it", time_unit));
    to_s = unit->factor;
  }
  std::vector<char> words(titles.fields.size());
  for (std::size_t c = 1; c < titles.fields.size(); ++c) {
    const auto [column, unit] = title_of(titles.text(c));
    t.columns.push_back({column.empty() ? fmt::format("column_{}", c + 1) : column, unit, {}, {}});
  }
  for (std::size_t r = header + 1; r < csv.rows.size(); ++r) {
    const CsvRow& row = csv.rows[r];
    if (row.fields.size() != titles.fields.size())
      return wrong(row.line, fmt::format("{}, but the header names {}", counted(row.fields.size(), "field"),
                                         titles.fields.size()));
    const auto time = csv_number(row.text(0), csv.decimal_comma());
    if (!time || !(std::abs(*time * to_s) < 9e9)) return wrong(row.line, fmt::format("`{}` is no time", row.text(0)));
    const std::int64_t at = std::llround(*time * to_s * 1e9);
    if (!t.times_ns.empty() && at <= t.times_ns.back())
      return wrong(row.line, fmt::format("the time {} does not come after the one before", row.text(0)));
    t.times_ns.push_back(at);
    for (std::size_t c = 1; c < row.fields.size(); ++c) {
      const std::string& field = row.text(c);
      const auto value = value_of(field, csv.decimal_comma());
      if (!value) return wrong(row.line, fmt::format("`{}` in column {} is no number", field, titles.text(c)));
      if (lower_case(field) == "true" || lower_case(field) == "false") words[c] = 1;
      t.columns[c - 1].values.push_back(*value);
    }
  }
  if (t.times_ns.empty()) return wrong(titles.line, "there is no line below the header");
  for (std::size_t c = 0; c < t.columns.size(); ++c) t.columns[c].kind = kind_of(t.columns[c], words[c + 1] != 0);
  return t;
}

}  // namespace isodyne::exchange
