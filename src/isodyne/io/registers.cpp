#include "isodyne/io/registers.h"

#include <algorithm>
#include <bit>
#include <charconv>
#include <cmath>
#include <cstring>
#include <map>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"

namespace isodyne::io {

namespace {

using Form = RegisterTag::Form;

constexpr const char* kTables[] = {"coil", "discrete", "holding", "input"};

struct TypeWord {
  const char* word;
  Form form;
  int words;
};
constexpr TypeWord kTypes[] = {{"bool", Form::bit, 1},       {"int16", Form::integer, 1},  {"uint16", Form::natural, 1},
                               {"int32", Form::integer, 2},  {"uint32", Form::natural, 2}, {"int64", Form::integer, 4},
                               {"uint64", Form::natural, 4}, {"float32", Form::real, 2},   {"float64", Form::real, 4}};

struct Channel {
  std::size_t index = 0;
  bool into_controller = true;
  program::VarId id = program::kNone;
};

/// What the controller exchanges by name; frames by their fields.
std::map<std::string, Channel> channels_by_name(const program::Program& p, const program::Controller& c) {
  std::map<std::string, Channel> all;
  for (std::size_t i = 0; i < c.reads.size(); ++i) all[p.variable(c.reads[i]).name] = {i, true, c.reads[i]};
  for (std::size_t i = 0; i < c.writes.size(); ++i) {
    const program::VarId id = c.writes[i].value;
    all[p.variable(id).name] = {i, false, id};
  }
  return all;
}

void take_type(RegisterTag& tag, const program::Program& p, const program::Variable& v) {
  tag.boolean = v.type.kind == program::Type::Kind::boolean;
  tag.labels = v.type.kind == program::Type::Kind::choice
                   ? static_cast<std::int32_t>(p.choices[static_cast<std::size_t>(v.type.choice)].labels.size())
                   : 0;
}

/// Reads one row; what is wrong with it goes to `wrong`.
class Row {
 public:
  Row(const CsvRow& row, const std::map<std::string, std::size_t>& columns, bool decimal_comma)
      : row_(row), columns_(columns), decimal_comma_(decimal_comma) {}
  std::string text(const char* column) const {
    const auto found = columns_.find(column);
    return found == columns_.end() ? std::string() : row_.text(found->second);
  }
  std::optional<double> number(const char* column) const { return csv_number(text(column), decimal_comma_); }
  int line() const { return row_.line; }

 private:
  const CsvRow& row_;
  const std::map<std::string, std::size_t>& columns_;
  bool decimal_comma_;
};

class MapReader {
 public:
  MapReader(const std::string& file, const program::Program& p, const program::Controller& c)
      : file_(file), p_(p), channels_(channels_by_name(p, c)) {}

  Result<RegisterMap> run(const std::string& text) {
    const Csv csv = read_csv(text);
    if (!csv.trouble.empty()) wrong(csv.trouble_line, csv.trouble);
    std::map<std::string, std::size_t> columns;
    if (!csv.rows.empty()) {
      for (std::size_t i = 0; i < csv.rows[0].fields.size(); ++i)
        columns.emplace(lower_case(csv.rows[0].fields[i].text), i);
    }
    for (const char* needed : {"channel", "table", "address", "type"}) {
      if (!columns.contains(needed)) wrong(1, fmt::format("there is no column `{}`", needed));
    }
    if (!troubles_.empty()) return failure();
    for (std::size_t i = 1; i < csv.rows.size(); ++i) take(Row(csv.rows[i], columns, csv.decimal_comma()));
    lacking();
    if (!troubles_.empty()) return failure();
    return std::move(map_);
  }

 private:
  void wrong(int line, const std::string& what) { troubles_ += fmt::format("\n  {}:{}: {}", file_, line, what); }
  Failure failure() const { return {"cannot use the register map", file_, "it has mistakes:" + troubles_}; }

  void take(const Row& row) {
    const std::string name = row.text("channel");
    if (name.empty()) return;
    const auto channel = channels_.find(name);
    if (channel == channels_.end()) {
      std::vector<std::string> names;
      for (const auto& [known, c] : channels_) names.push_back(known);
      const auto meant = did_you_mean(name, names);
      return wrong(row.line(), fmt::format("the controller exchanges no `{}`{}", name, meant ? "; " + *meant : ""));
    }
    const program::Variable& v = p_.variable(channel->second.id);
    RegisterTag tag;
    tag.channel = name;
    tag.into_controller = channel->second.into_controller;
    tag.index = channel->second.index;
    take_type(tag, p_, v);
    const auto table = std::find(std::begin(kTables), std::end(kTables), lower_case(row.text("table")));
    if (table == std::end(kTables))
      return wrong(row.line(), fmt::format("`{}` is no table: coil, discrete, holding, input", row.text("table")));
    tag.table = static_cast<RegisterTable>(table - std::begin(kTables));
    const auto address = row.number("address");
    if (!address || *address < 0 || *address > 65535 || *address != std::floor(*address))
      return wrong(row.line(), fmt::format("`{}` is no address: 0 to 65535", row.text("address")));
    tag.address = static_cast<int>(*address);
    if (!set_type(tag, lower_case(row.text("type"))))
      return wrong(row.line(),
                   fmt::format("`{}` is no type: bool, int16, uint16, int32, uint32, int64, uint64, float32, "
                               "float64",
                               row.text("type")));
    if (!scaled(row, v, tag) || !possible(row.line(), v, tag)) return;
    map_.tags.push_back(tag);
  }

  bool scaled(const Row& row, const program::Variable& v, RegisterTag& tag) {
    const std::string order = lower_case(row.text("words"));
    if (!order.empty() && order != "high first" && order != "low first")
      return wrong(row.line(), fmt::format("words are `high first` or `low first`, not `{}`", row.text("words"))),
             false;
    tag.low_first = order == "low first";
    const std::string unit = row.text("unit");
    tag.unit = v.unit;
    if (!unit.empty()) {
      const auto read = parse_unit(unit);
      if (!read || !(read->dimension == v.type.dimension) || v.type.kind != program::Type::Kind::real)
        return wrong(row.line(), fmt::format("`{}` is no unit for {}", unit, model_type(v))), false;
      tag.unit = *read;
    }
    if (row.text("factor").empty()) return true;
    const auto factor = row.number("factor");
    if (!factor || *factor == 0 || !std::isfinite(*factor))
      return wrong(row.line(), fmt::format("`{}` is no factor", row.text("factor"))), false;
    tag.factor = *factor;
    return true;
  }

  std::string model_type(const program::Variable& v) const {
    return v.type.kind == program::Type::Kind::real ? fmt::format("a value in {}", v.unit.text) : p_.type_text(v);
  }

  bool possible(int line, const program::Variable& v, const RegisterTag& tag) {
    if (of_bits(tag.table) != (tag.form == Form::bit))
      return wrong(line, fmt::format("a place in `{}` cannot be {}", table_word(tag.table), type_word(tag))), false;
    if (tag.form == Form::bit && !tag.boolean)
      return wrong(line, fmt::format("`{}` is {}, not a bit", tag.channel, model_type(v))), false;
    if (tag.address + tag.words > 65536) return wrong(line, "it ends behind the last register"), false;
    for (int i = 0; i < tag.words; ++i) {
      const auto [before, fresh] = used_.try_emplace({tag.table, tag.address + i}, tag.channel);
      if (!fresh)
        return wrong(line,
                     fmt::format("{} {} holds `{}` already", table_word(tag.table), tag.address + i, before->second)),
               false;
    }
    return true;
  }

  /// Every value that the controller writes needs a place, or it could never be written.
  void lacking() {
    std::string names;
    for (const auto& [name, channel] : channels_) {
      const bool there = std::any_of(map_.tags.begin(), map_.tags.end(),
                                     [&, &n = name](const RegisterTag& t) { return t.channel == n; });
      if (!channel.into_controller && !there) names += (names.empty() ? "`" : ", `") + name + "`";
    }
    if (!names.empty() && troubles_.empty())
      troubles_ = fmt::format("\n  {}: no register for {}, which the controller writes", file_, names);
  }

  const std::string& file_;
  const program::Program& p_;
  std::map<std::string, Channel> channels_;
  std::map<std::pair<RegisterTable, int>, std::string> used_;
  RegisterMap map_;
  std::string troubles_;
};

}  // namespace

const char* table_word(RegisterTable table) {
  return kTables[static_cast<std::size_t>(table)];
}

double RegisterTag::lowest() const {
  if (form == Form::integer) return -std::ldexp(1.0, 16 * words - 1);
  return form == Form::real ? (words == 2 ? -3.4028234663852886e38 : -1.7976931348623157e308) : 0;
}
double RegisterTag::highest() const {
  if (form == Form::bit) return 1;
  if (form == Form::real) return words == 2 ? 3.4028234663852886e38 : 1.7976931348623157e308;
  // Of 64 bits: the largest double below the limit.
  const int bits = 16 * words - (form == Form::integer ? 1 : 0);
  return bits >= 63 ? std::nextafter(std::ldexp(1.0, bits), 0.0) : std::ldexp(1.0, bits) - 1;
}

bool set_type(RegisterTag& tag, const std::string& type) {
  for (const TypeWord& t : kTypes) {
    if (type != t.word) continue;
    tag.form = t.form;
    tag.words = t.words;
    return true;
  }
  return false;
}

std::string type_word(const RegisterTag& tag) {
  for (const TypeWord& t : kTypes) {
    if (t.form == tag.form && t.words == tag.words) return t.word;
  }
  return "?";
}

std::array<int, kRegisterTables> RegisterMap::sizes() const {
  std::array<int, kRegisterTables> sizes{};
  for (const RegisterTag& t : tags) {
    int& size = sizes[static_cast<std::size_t>(t.table)];
    size = std::max(size, t.address + t.words);
  }
  return sizes;
}

Result<RegisterMap> read_registers(const std::string& text, const std::string& file, const program::Program& program,
                                   const program::Controller& controller) {
  return MapReader(file, program, controller).run(text);
}

RegisterMap default_registers(const program::Program& p, const program::Controller& c) {
  RegisterMap map;
  std::array<int, kRegisterTables> next{};
  const auto place = [&](program::VarId id, std::size_t index, bool into) {
    const program::Variable& v = p.variable(id);
    RegisterTag tag;
    tag.channel = v.name;
    tag.into_controller = into;
    tag.index = index;
    tag.unit = v.unit;
    take_type(tag, p, v);
    set_type(tag, tag.boolean                                  ? "bool"
                  : v.type.kind == program::Type::Kind::real   ? "float32"
                  : v.type.kind == program::Type::Kind::choice ? "uint16"
                                                               : "int32");
    tag.table = tag.boolean ? (into ? RegisterTable::discrete : RegisterTable::coil)
                            : (into ? RegisterTable::input : RegisterTable::holding);
    int& at = next[static_cast<std::size_t>(tag.table)];
    tag.address = at;
    at += tag.words;
    map.tags.push_back(std::move(tag));
  };
  for (std::size_t i = 0; i < c.reads.size(); ++i) place(c.reads[i], i, true);
  for (std::size_t i = 0; i < c.writes.size(); ++i) place(c.writes[i].value, i, false);
  return map;
}

std::string registers_text(const RegisterMap& map) {
  std::string text = csv_line({"channel", "table", "address", "type", "words", "unit", "factor"});
  for (const RegisterTag& t : map.tags) {
    const bool real = t.labels == 0 && !t.boolean && t.unit.text != "1" && !t.unit.text.empty();
    text += csv_line({t.channel, table_word(t.table), std::to_string(t.address), type_word(t),
                      t.words > 1 ? (t.low_first ? "low first" : "high first") : "", real ? t.unit.text : "",
                      t.factor == 1 ? "" : fmt::format("{:g}", t.factor)});
  }
  return text;
}

void encode(const RegisterTag& t, double value, std::span<std::uint16_t> to) {
  if (t.form == Form::bit) {
    to[0] = value != 0 ? 1 : 0;
    return;
  }
  const double scaled = std::clamp(t.unit.read(value) / t.factor, t.lowest(), t.highest());
  std::uint64_t bits = 0;
  if (t.form == Form::real && t.words == 2) {
    bits = std::bit_cast<std::uint32_t>(static_cast<float>(scaled));
  } else if (t.form == Form::real) {
    bits = std::bit_cast<std::uint64_t>(scaled);
  } else if (t.form == Form::natural) {
    bits = static_cast<std::uint64_t>(std::clamp(std::nearbyint(scaled), t.lowest(), t.highest()));
  } else {
    bits = static_cast<std::uint64_t>(
        static_cast<std::int64_t>(std::clamp(std::nearbyint(scaled), t.lowest(), t.highest())));
  }
  for (int i = 0; i < t.words; ++i) {
    const int place = t.low_first ? i : t.words - 1 - i;
    to[static_cast<std::size_t>(place)] = static_cast<std::uint16_t>(bits >> (16 * i));
  }
}

std::optional<double> decode(const RegisterTag& t, std::span<const std::uint16_t> from) {
  if (t.form == Form::bit) return from[0] != 0 ? 1.0 : 0.0;
  std::uint64_t bits = 0;
  for (int i = 0; i < t.words; ++i) {
    const int place = t.low_first ? i : t.words - 1 - i;
    bits |= static_cast<std::uint64_t>(from[static_cast<std::size_t>(place)]) << (16 * i);
  }
  double raw = 0;
  if (t.form == Form::real) {
    raw = t.words == 2 ? static_cast<double>(std::bit_cast<float>(static_cast<std::uint32_t>(bits)))
                       : std::bit_cast<double>(bits);
  } else if (t.form == Form::natural) {
    raw = static_cast<double>(bits);
  } else {
    const int spare = 64 - 16 * t.words;
    raw = static_cast<double>(static_cast<std::int64_t>(bits << spare) >> spare);
  }
  const double value = raw * t.factor * t.unit.factor + t.unit.offset;
  if (!std::isfinite(value)) return std::nullopt;
  if (t.labels > 0 && (value < 0 || value >= t.labels || value != std::floor(value))) return std::nullopt;
  return t.boolean ? (value != 0 ? 1.0 : 0.0) : value;
}

}  // namespace isodyne::io
