#include "isodyne/core/csv.h"

#include <algorithm>
#include <charconv>
#include <cmath>

namespace isodyne {

namespace {

constexpr std::string_view kByteOrderMark = "\xef\xbb\xbf";

/// Where a text stops being one: a byte that no spreadsheet writes.
std::size_t no_text(std::string_view text) {
  const auto odd = [](char c) { return c >= '\0' && c < ' ' && c != '\t' && c != '\n' && c != '\r'; };
  return static_cast<std::size_t>(std::find_if(text.begin(), text.end(), odd) - text.begin());
}

/// What separates in the first line that is no comment; a semicolon or tab beats commas, which may be decimal ones.
char separator_of(std::string_view text) {
  std::size_t commas = 0, semicolons = 0, tabs = 0;
  bool quoted = false;
  while (text.starts_with('#')) text.remove_prefix(std::min(text.find('\n'), text.size() - 1) + 1);
  for (const char c : text) {
    if (c == '"') quoted = !quoted;
    if (quoted) continue;
    if (c == '\n' && commas + semicolons + tabs > 0) break;
    commas += c == ',' ? 1 : 0;
    semicolons += c == ';' ? 1 : 0;
    tabs += c == '\t' ? 1 : 0;
  }
  return semicolons > 0 ? ';' : tabs > 0 ? '\t' : ',';
}

class Reader {
 public:
  explicit Reader(std::string_view text) : text_(text) {
    if (text_.starts_with(kByteOrderMark)) at_ = kByteOrderMark.size();
    csv_.separator = separator_of(text_.substr(at_));
  }

  Csv run() {
    if (const std::size_t odd = no_text(text_); odd < text_.size()) {
      line_ += static_cast<int>(std::count(text_.begin(), text_.begin() + static_cast<std::ptrdiff_t>(odd), '\n'));
      fail("this is no text; is it the right file?");
      return std::move(csv_);
    }
    while (at_ < text_.size() && csv_.trouble.empty()) row();
    return std::move(csv_);
  }

 private:
  bool blank(char c) const { return (c == ' ' || c == '\t' || c == '\r') && c != csv_.separator; }
  char peek() const { return at_ < text_.size() ? text_[at_] : '\n'; }

  void row() {
    CsvRow row;
    row.line = line_;
    while (true) {
      row.fields.push_back(field());
      if (!csv_.trouble.empty()) return;
      if (peek() != csv_.separator) break;
      ++at_;
      if (row.fields.size() >= Csv::kMostColumns) return fail("this line has more columns than a table can have");
    }
    ++at_;  // the end of the line
    ++line_;
    const bool empty =
        std::all_of(row.fields.begin(), row.fields.end(), [](const CsvField& f) { return f.text.empty(); });
    if (empty) return;
    if (csv_.rows.size() >= Csv::kMostRows) return fail("there are more rows than a table can have");
    csv_.rows.push_back(std::move(row));
  }

  CsvField field() {
    const std::size_t start = at_;
    while (at_ < text_.size() && blank(text_[at_])) ++at_;
    CsvField f;
    f.begin = static_cast<std::uint32_t>(at_);
    if (peek() == '"' && at_ < text_.size()) {
      quoted(f);
    } else {
      while (at_ < text_.size() && text_[at_] != csv_.separator && text_[at_] != '\n') f.text += text_[at_++];
      f.end = static_cast<std::uint32_t>(at_);
      while (!f.text.empty() && blank(f.text.back())) f.text.pop_back(), --f.end;
      if (f.text.empty()) f.begin = f.end = static_cast<std::uint32_t>(start);  // before the end of the line, too
      plain(f);
    }
    return f;
  }

  void quoted(CsvField& f) {
    const int begin = line_;
    ++at_;
    while (true) {
      if (at_ >= text_.size()) {
        line_ = begin;
        return fail("a quote opens here that never closes");
      }
      const char c = text_[at_++];
      if (c == '"' && peek() == '"' && at_ < text_.size()) {
        f.text += '"';
        ++at_;
      } else if (c == '"') {
        break;
      } else {
        line_ += c == '\n' ? 1 : 0;
        f.text += c;
      }
    }
    f.end = static_cast<std::uint32_t>(at_);
    plain(f);
    while (at_ < text_.size() && blank(text_[at_])) ++at_;
    if (peek() != csv_.separator && peek() != '\n') fail("behind a quote something else follows than the next column");
  }

  /// The mark by which csv_line() says that it is no formula.
  static void plain(CsvField& f) {
    if (f.text.size() > 1 && f.text[0] == '\'' && std::string_view("=+-@").find(f.text[1]) != std::string_view::npos)
      f.text.erase(0, 1);
  }

  void fail(const char* why) {
    csv_.trouble = why;
    csv_.trouble_line = line_;
  }

  std::string_view text_;
  std::size_t at_ = 0;
  int line_ = 1;
  Csv csv_;
};

}  // namespace

const std::string& CsvRow::text(std::size_t column) const {
  static const std::string kNone;
  return column < fields.size() ? fields[column].text : kNone;
}

Csv read_csv(std::string_view text) {
  return Reader(text).run();
}

std::optional<double> csv_number(std::string_view text, bool decimal_comma) {
  std::string plain(text);
  if (decimal_comma && plain.find('.') == std::string::npos) std::replace(plain.begin(), plain.end(), ',', '.');
  if (plain.starts_with('+')) plain.erase(0, 1);
  double value = 0;
  const auto read = std::from_chars(plain.data(), plain.data() + plain.size(), value);
  if (read.ec != std::errc{} || read.ptr != plain.data() + plain.size() || !std::isfinite(value)) return std::nullopt;
  return value;
}

namespace {
constexpr std::string_view kFormulaSigns = "=+-@";

/// A number, with a unit or without: "-3.2 cm".
bool is_quantity(std::string_view text) {
  const std::size_t blank = std::min(text.find(' '), text.size());
  const std::string_view unit = text.substr(std::min(blank + 1, text.size()));
  const auto of_unit = [](char c) {
    return c < 0 || (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') || c == '/' ||
           c == '^' || c == '*' || c == '%' || c == '.' || c == '-';
  };
  return csv_number(text.substr(0, blank), false).has_value() && std::all_of(unit.begin(), unit.end(), of_unit);
}

/// A spreadsheet would take it for a formula, and do what it says.
std::string no_formula(const std::string& text) {
  const bool sign = !text.empty() && kFormulaSigns.find(text[0]) != std::string_view::npos;
  return sign && !is_quantity(text) ? "'" + text : text;
}
}  // namespace

std::string csv_line(const std::vector<std::string>& fields, char separator) {
  std::string line;
  for (std::size_t i = 0; i < fields.size(); ++i) {
    if (i > 0) line += separator;
    const std::string f = no_formula(fields[i]);
    const bool quotes = f.find_first_of("\"\r\n") != std::string::npos || f.find(separator) != std::string::npos ||
                        f.starts_with(' ') || f.ends_with(' ');
    if (!quotes) {
      line += f;
      continue;
    }
    line += '"';
    for (const char c : f) line += c == '"' ? std::string("\"\"") : std::string(1, c);
    line += '"';
  }
  return line + "\n";
}

}  // namespace isodyne
