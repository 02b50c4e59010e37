#include "isodyne/io/tags.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <map>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"

namespace isodyne::io {

namespace {

using Kind = TagType::Kind;

constexpr TagType kTagTypes[] = {
    {"BOOL", Kind::boolean, 1},   {"BYTE", Kind::bits, 8},     {"WORD", Kind::bits, 16},
    {"DWORD", Kind::bits, 32},    {"LWORD", Kind::bits, 64},   {"SINT", Kind::integer, 8},
    {"INT", Kind::integer, 16},   {"DINT", Kind::integer, 32}, {"LINT", Kind::integer, 64},
    {"USINT", Kind::natural, 8},  {"UINT", Kind::natural, 16}, {"UDINT", Kind::natural, 32},
    {"ULINT", Kind::natural, 64}, {"REAL", Kind::real, 32},    {"LREAL", Kind::real, 64},
};

std::string changed(std::string text, char from, char to, int by) {
  for (char& c : text) {
    if (c >= from && c <= to) c = static_cast<char>(c + by);
  }
  return text;
}
std::string upper(const std::string& text) {
  return changed(text, 'a', 'z', 'A' - 'a');
}
std::string lower(const std::string& text) {
  return changed(text, 'A', 'Z', 'a' - 'A');
}

}  // namespace

double TagType::lowest() const {
  return kind == Kind::integer ? -std::ldexp(1.0, bits - 1) : 0;
}
double TagType::highest() const {
  return kind == Kind::integer ? std::ldexp(1.0, bits - 1) - 1 : std::ldexp(1.0, bits) - 1;
}

const TagType* tag_type(const std::string& name) {
  const std::string wanted = upper(name);
  const auto found =
      std::find_if(std::begin(kTagTypes), std::end(kTagTypes), [&](const TagType& t) { return wanted == t.name; });
  return found == std::end(kTagTypes) ? nullptr : found;
}

std::optional<TagAddress> tag_address(const std::string& text) {
  const std::string t = upper(text);
  if (t.size() < 3 || t[0] != '%') return std::nullopt;
  TagAddress a;
  a.area = t[1];
  if (a.area != 'I' && a.area != 'Q' && a.area != 'M') return std::nullopt;
  std::size_t at = 2;
  if (!(t[at] >= '0' && t[at] <= '9')) {
    const std::size_t size = std::string("XBWDL").find(t[at++]);
    if (size == std::string::npos) return std::nullopt;
    a.bits = size == 0 ? 1 : 4 << size;
  }
  while (at < t.size()) {
    int number = 0;
    const auto read = std::from_chars(t.data() + at, t.data() + t.size(), number);
    if (read.ec != std::errc{} || number < 0 || a.numbers.size() >= 8) return std::nullopt;
    a.numbers.push_back(number);
    at = static_cast<std::size_t>(read.ptr - t.data());
    if (at < t.size() && (t[at++] != '.' || at == t.size())) return std::nullopt;
  }
  if (a.numbers.empty()) return std::nullopt;
  return a;
}

namespace {

class TagReader {
 public:
  TagReader(const std::string& text, std::string file, const program::TagColumns& columns)
      : csv_(read_csv(text)), file_(std::move(file)), columns_(columns) {}

  Result<TagList> run() {
    if (!csv_.trouble.empty()) return at(csv_.trouble_line, csv_.trouble);
    if (csv_.rows.empty()) return Failure{"there is nothing in", file_, ""};
    for (const auto& [index, wanted, usual, needed] :
         {Column{&name_, &columns_.name, "name", true}, Column{&address_, &columns_.address, "address", false},
          Column{&type_, &columns_.type, "type", true}, Column{&unit_, &columns_.unit, "unit", false},
          Column{&comment_, &columns_.comment, "comment", false}}) {
      if (const auto failure = find(*index, wanted->empty() ? usual : *wanted, needed || !wanted->empty()))
        return *failure;
    }
    for (std::size_t i = 1; i < csv_.rows.size(); ++i) {
      if (!csv_.rows[i].text(static_cast<std::size_t>(name_)).empty())
        list_.tags.push_back(tag(csv_.rows[i]));
      else
        list_.troubles.push_back(fmt::format("{}:{}: a tag without a name", file_, csv_.rows[i].line));
    }
    twice();
    return std::move(list_);
  }

 private:
  struct Column {
    int* index;
    const std::string* wanted;
    const char* usual;
    bool needed;
  };

  Failure at(int line, const std::string& what) const { return {fmt::format("{}:{}", file_, line), "", what}; }

  std::optional<Failure> find(int& index, const std::string& title, bool needed) const {
    std::string all;
    std::vector<std::string> titles;
    for (std::size_t i = 0; i < csv_.rows[0].fields.size(); ++i) {
      const std::string& text = csv_.rows[0].fields[i].text;
      if (lower(text) == lower(title)) index = static_cast<int>(i);
      list_on(all, text);
      titles.push_back(text);
    }
    if (index >= 0 || !needed) return std::nullopt;
    const auto meant = did_you_mean(title, titles);
    return at(csv_.rows[0].line,
              fmt::format("there is no column `{}`; {}", title,
                          meant.value_or(fmt::format(
                              "there are {}. Say which one it is: `tags \"{}\" name \"…\" type \"…\"`", all, file_))));
  }

  std::string text(const CsvRow& row, int column) const {
    return column < 0 ? std::string() : one_line(row.text(static_cast<std::size_t>(column)));
  }

  Tag tag(const CsvRow& row) const {
    Tag t;
    t.line = row.line;
    t.name = text(row, name_);
    t.address = text(row, address_);
    t.type = text(row, type_);
    t.unit = text(row, unit_);
    t.comment = text(row, comment_);
    t.known_type = tag_type(t.type);
    if (t.type.empty())
      t.troubles.push_back("it has no type");
    else if (t.known_type == nullptr)
      t.troubles.push_back(fmt::format("{} is not a type that a channel can have", t.type));
    if (!t.address.empty()) {
      t.place = tag_address(t.address);
      if (!t.place)
        t.troubles.push_back(fmt::format("{} is no address such as %IW4 or %QX0.3", t.address));
      else if (t.known_type != nullptr && t.place->bits != t.known_type->bits)
        t.troubles.push_back(fmt::format("{} has {} at {}, but its address is of {}", t.type,
                                         counted(static_cast<std::size_t>(t.known_type->bits), "bit"), t.address,
                                         counted(static_cast<std::size_t>(t.place->bits), "bit")));
    }
    if (!t.unit.empty()) {
      t.known_unit = parse_unit(t.unit);
      if (!t.known_unit) t.troubles.push_back(fmt::format("{} is not a unit", t.unit));
    }
    return t;
  }

  /// Names and addresses that two tags have.
  void twice() {
    std::map<std::string, const Tag*> names, addresses;
    for (Tag& t : list_.tags) {
      const auto [name, new_name] = names.try_emplace(upper(t.name), &t);
      if (!new_name)
        list_.troubles.push_back(
            fmt::format("{}:{}: tag {} stands in line {} already", file_, t.line, t.name, name->second->line));
      if (!t.place) continue;
      const auto [address, new_address] = addresses.try_emplace(upper(t.address), &t);
      if (!new_address)
        list_.troubles.push_back(fmt::format("{}:{}: {} and {} have one address, {}", file_, t.line,
                                             address->second->name, t.name, t.address));
    }
  }

  Csv csv_;
  std::string file_;
  const program::TagColumns& columns_;
  int name_ = -1, address_ = -1, type_ = -1, unit_ = -1, comment_ = -1;
  TagList list_;
};

}  // namespace

Result<TagList> read_tags(const std::string& text, const std::string& file, const program::TagColumns& columns) {
  return TagReader(text, file, columns).run();
}

}  // namespace isodyne::io
