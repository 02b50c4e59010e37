#include "isodyne/exchange/workbook.h"

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <map>

#include <fmt/format.h>
#include <xlsxwriter.h>
#include <zip.h>
#include <pugixml.hpp>

#include "isodyne/core/text.h"
#include "isodyne/exchange/xml.h"

namespace isodyne::exchange {

namespace {

constexpr zip_uint64_t kMostBytes = 100u << 20;
constexpr std::size_t kMostCell = 100'000;

/// A text may be in runs of different looks.
std::string text_in(const pugi::xml_node& node) {
  std::string text;
  for (const pugi::xml_node& c : node.children()) {
    if (local_name(c) == "t") text += c.text().get();
    if (local_name(c) == "r") text += child_called(c, "t").text().get();
    if (text.size() > kMostCell) break;
  }
  return text;
}

/// The column of "AB12", from 0; nothing: it is none.
std::optional<std::size_t> column_of(std::string_view place) {
  std::size_t column = 0;
  for (const char c : place) {
    if (c < 'A' || c > 'Z') break;
    column = 26 * column + static_cast<std::size_t>(c - 'A' + 1);
    if (column > Csv::kMostColumns) return std::nullopt;
  }
  return column == 0 ? std::nullopt : std::optional(column - 1);
}

class Reader {
 public:
  explicit Reader(const std::string& file) : file_(file) {}
  ~Reader() {
    if (zip_ != nullptr) zip_discard(zip_);
  }

  Result<Workbook> run() {
    int code = 0;
    zip_ = zip_open(file_.c_str(), ZIP_RDONLY, &code);
    if (zip_ == nullptr) return wrong("it is no workbook, or cannot be read");
    const auto sheet = first_sheet();
    if (!sheet) return sheet.failure();
    pugi::xml_document texts;
    if (const auto read = part("xl/sharedStrings.xml")) {
      if (!texts.load_buffer(read->data(), read->size())) return wrong("its texts are malformed");
      for (const pugi::xml_node& si : texts.document_element().children()) {
        if (local_name(si) == "si") texts_.push_back(text_in(si));
      }
    }
    if (const auto trouble = looks(); !trouble) return trouble.failure();
    const auto read = part(*sheet);
    if (!read) return wrong(fmt::format("it has no {}", *sheet));
    pugi::xml_document document;
    if (!document.load_buffer(read->data(), read->size())) return wrong("its first sheet is malformed");
    const pugi::xml_node root = document.document_element();
    for (const pugi::xml_node& m : child_called(root, "mergeCells").children())
      return wrong(fmt::format("cells {} are merged; each row needs its own", printable(m.attribute("ref").value())));
    if (const auto trouble = rows(child_called(root, "sheetData")); !trouble) return trouble.failure();
    return std::move(book_);
  }

 private:
  Failure wrong(const std::string& why) const {
    return {"cannot read the workbook", file_, why, Failure::Kind::wrong_input};
  }

  std::optional<std::string> part(const std::string& name) {
    zip_stat_t stat;
    zip_stat_init(&stat);
    if (zip_stat(zip_, name.c_str(), 0, &stat) != 0 || (stat.valid & ZIP_STAT_SIZE) == 0 || stat.size > kMostBytes)
      return std::nullopt;
    zip_file_t* in = zip_fopen(zip_, name.c_str(), 0);
    if (in == nullptr) return std::nullopt;
    std::string text(stat.size, '\0');
    const zip_int64_t got = zip_fread(in, text.data(), text.size());
    zip_fclose(in);
    if (got != static_cast<zip_int64_t>(text.size())) return std::nullopt;
    return text;
  }

  Result<std::string> first_sheet() {
    const auto text = part("xl/workbook.xml"), relations = part("xl/_rels/workbook.xml.rels");
    pugi::xml_document book, names;
    if (!text || !relations || !book.load_buffer(text->data(), text->size()) ||
        !names.load_buffer(relations->data(), relations->size()))
      return wrong("it is no workbook of this kind (.xlsx), or is larger than 100 MB");
    from_1904_ = child_called(book.document_element(), "workbookPr").attribute("date1904").as_bool();
    std::string id;
    for (const pugi::xml_node& s : child_called(book.document_element(), "sheets").children()) {
      if (local_name(s) != "sheet") continue;
      if (++book_.sheets > 1) continue;
      book_.sheet = printable(s.attribute("name").value());
      id = s.attribute("r:id").value();
    }
    for (const pugi::xml_node& r : names.document_element().children()) {
      if (id.empty() || r.attribute("Id").value() != id) continue;
      std::string target = r.attribute("Target").value();
      return target.starts_with("/") ? target.substr(1) : "xl/" + target;
    }
    return wrong("it has no sheet");
  }

  /// What numbers are shown as, by the number of their look: a share of 0.5 is shown as 50 %, and a day is a number
  /// too.
  Status looks() {
    const auto text = part("xl/styles.xml");
    if (!text) return Done{};
    pugi::xml_document document;
    if (!document.load_buffer(text->data(), text->size())) return wrong("its formats are malformed");
    std::map<int, Look> own;
    for (const pugi::xml_node& f : child_called(document.document_element(), "numFmts").children())
      own[f.attribute("numFmtId").as_int()] = look_of(f.attribute("formatCode").value());
    for (const pugi::xml_node& f : child_called(document.document_element(), "cellXfs").children()) {
      const int id = f.attribute("numFmtId").as_int();
      const bool share = id == 9 || id == 10, day = (id >= 14 && id <= 17) || id == 22;  // ISO/IEC 29500-1, 18.8.30
      looks_.push_back(own.contains(id) ? own[id] : share ? Look::share : day ? Look::day : Look::plain);
    }
    return Done{};
  }

  enum class Look { plain, share, day };
  static Look look_of(std::string_view format) {
    bool quoted = false;
    Look look = Look::plain;
    for (const char c : format) {
      if (c == '"') quoted = !quoted;
      if (quoted) continue;
      if (c == '%') return Look::share;
      if (c == 'y' || c == 'Y') look = Look::day;
    }
    return look;
  }

  std::string shown(double number, const pugi::xml_node& c) const {
    const auto style = static_cast<std::size_t>(std::max(0, c.attribute("s").as_int()));
    const Look look = style < looks_.size() ? looks_[style] : Look::plain;
    // Twelve digits: 0.07 · 100 is 7 for people.
    if (look == Look::share) return fmt::format("{:.12g} %", 100 * number);
    constexpr double kMostDays = 2'958'465;  // 9999-12-31
    if (look != Look::day || !(number >= 61 && number <= kMostDays)) return format_exact(number);
    const auto day = std::chrono::sys_days(std::chrono::year(1899) / 12 / 30) +
                     std::chrono::days(static_cast<int>(number) + (from_1904_ ? 1462 : 0));
    const std::chrono::year_month_day date(day);
    return fmt::format("{:04}-{:02}-{:02}", static_cast<int>(date.year()), static_cast<unsigned>(date.month()),
                       static_cast<unsigned>(date.day()));
  }

  Status rows(const pugi::xml_node& data) {
    for (const pugi::xml_node& r : data.children()) {
      if (local_name(r) != "row") continue;
      CsvRow row;
      row.line = r.attribute("r").as_int(static_cast<int>(book_.table.rows.size() + 1));
      for (const pugi::xml_node& c : r.children()) {
        if (local_name(c) != "c") continue;
        const auto column = c.attribute("r") ? column_of(c.attribute("r").value()) : std::optional(row.fields.size());
        if (!column || *column >= Csv::kMostColumns)
          return wrong(fmt::format("row {} has more columns than a table can have", row.line));
        auto text = cell(c);
        if (!text) return text.failure();
        if (row.fields.size() <= *column) row.fields.resize(*column + 1);
        row.fields[*column].text = trimmed(printable(*text));
      }
      const bool empty =
          std::all_of(row.fields.begin(), row.fields.end(), [](const CsvField& f) { return f.text.empty(); });
      if (empty) continue;
      if (book_.table.rows.size() >= Csv::kMostRows) return wrong("there are more rows than a table can have");
      book_.table.rows.push_back(std::move(row));
    }
    return Done{};
  }

  Result<std::string> cell(const pugi::xml_node& c) {
    const std::string_view type = c.attribute("t").value();
    const std::string at = printable(c.attribute("r").value());
    if (type == "inlineStr") return text_in(child_called(c, "is"));
    const pugi::xml_node value = child_called(c, "v");
    if (child_called(c, "f")) {
      ++book_.formulas;
      if (!value) return wrong(fmt::format("the formula in {} has no value stored with it: save it once more", at));
    }
    const std::string text = value.text().get();
    if (type == "s") {
      const auto index = csv_number(text, false);
      if (!index || *index < 0 || *index >= static_cast<double>(texts_.size()))
        return wrong(fmt::format("cell {} names a text that is not there", at));
      return texts_[static_cast<std::size_t>(*index)];
    }
    if (type == "e") return wrong(fmt::format("cell {} is an error: {}", at, printable(text)));
    if (type == "b") return std::string(text == "1" ? "true" : "false");
    if (type == "str" || text.empty()) return text;
    const auto number = csv_number(text, false);
    return number ? shown(*number, c) : text;
  }

  const std::string& file_;
  zip_t* zip_ = nullptr;
  std::vector<std::string> texts_;
  std::vector<Look> looks_;
  bool from_1904_ = false;  ///< days are counted from another one
  Workbook book_;
};

/// The look of a row.
lxw_format* look(lxw_workbook* book, int shade) {
  constexpr lxw_color_t kColours[] = {0xFFFFFF, 0xE3F1E5, 0xFBF1D5, 0xF8DDDA};
  lxw_format* f = workbook_add_format(book);
  format_set_text_wrap(f);
  format_set_align(f, LXW_ALIGN_VERTICAL_TOP);
  if (shade > 0) format_set_bg_color(f, kColours[shade]);
  return f;
}

void put_cell(lxw_worksheet* sheet, lxw_row_t row, lxw_col_t column, const std::string& text, lxw_format* format) {
  constexpr std::size_t kMostText = 32'000;  // of the format itself: 32767
  const auto number = csv_number(text, false);
  if (number && format_exact(*number) == text)
    worksheet_write_number(sheet, row, column, *number, format);
  else
    worksheet_write_string(sheet, row, column, std::string(first_columns(text, kMostText)).c_str(), format);
}

}  // namespace

Result<Workbook> read_workbook(const std::string& file) {
  return Reader(file).run();
}

Status write_workbook(const std::string& file, const Sheet& sheet) {
  namespace fs = std::filesystem;
  const std::string beside = file + ".part";
  const auto failed = [&](const std::string& why) {
    std::error_code none;
    fs::remove(beside, none);
    return Failure{"cannot write the workbook", file, why};
  };
  lxw_workbook* const book = workbook_new(beside.c_str());
  if (book == nullptr) return failed("there is no memory for it");
  lxw_worksheet* const page = workbook_add_worksheet(book, sheet.name.substr(0, 31).c_str());
  if (page == nullptr) {
    workbook_close(book);
    return failed(fmt::format("a sheet cannot be called `{}`", sheet.name));
  }
  lxw_format* const head = workbook_add_format(book);
  format_set_bold(head);
  format_set_text_wrap(head);
  format_set_bottom(head, LXW_BORDER_THIN);
  lxw_format* looks[] = {look(book, 0), look(book, 1), look(book, 2), look(book, 3)};
  for (std::size_t i = 0; i < sheet.columns.size(); ++i) {
    const auto c = static_cast<lxw_col_t>(i);
    worksheet_set_column(page, c, c, sheet.columns[i].width, nullptr);
    worksheet_write_string(page, 0, c, sheet.columns[i].title.c_str(), head);
  }
  for (std::size_t r = 0; r < sheet.rows.size(); ++r) {
    const int shade = r < sheet.shades.size() ? sheet.shades[r] : 0;
    for (std::size_t i = 0; i < sheet.rows[r].size(); ++i)
      put_cell(page, static_cast<lxw_row_t>(r + 1), static_cast<lxw_col_t>(i), sheet.rows[r][i], looks[shade]);
  }
  worksheet_freeze_panes(page, 1, 1);
  if (!sheet.columns.empty())
    worksheet_autofilter(page, 0, 0, static_cast<lxw_row_t>(sheet.rows.size()),
                         static_cast<lxw_col_t>(sheet.columns.size() - 1));
  worksheet_set_landscape(page);
  worksheet_fit_to_pages(page, 1, 0);
  const lxw_error error = workbook_close(book);
  if (error != LXW_NO_ERROR) return failed(lxw_strerror(error));
  std::error_code trouble;
  fs::rename(beside, file, trouble);
  if (trouble) return failed(trouble.message());
  return Done{};
}

}  // namespace isodyne::exchange
