#include "isodyne/session/stored_state.h"

#include <bit>
#include <charconv>
#include <map>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/file.h"
#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/session/summary.h"

namespace isodyne::session {

using Json = CheckedJson;

namespace {

/// Sixteen digits: a decimal number would not keep what is no number.
std::string bits(double value) {
  return fmt::format("{:016x}", std::bit_cast<std::uint64_t>(value));
}
double number(const std::string& text) {
  std::uint64_t bits = 0;
  std::from_chars(text.data(), text.data() + text.size(), bits, 16);
  return std::bit_cast<double>(bits);
}

}  // namespace

StoredState state_of(const program::Program& program, const record::RunIdentity& identity, const observe::Image& image,
                     const std::vector<observe::Change>& changes) {
  StoredState s{identity, image.at, changes, {}, {}};
  for (const observe::Change& c : changes) s.changed.push_back(program.variable(c.target).name);
  for (const program::VarId id : program.listed) s.values.emplace_back(program.variable(id).name, image.variables[id]);
  return s;
}

std::string to_json(const StoredState& s) {
  Json j{{"format", "isodyne state"}, {"format_version", 1}, {"time_ns", s.at.count()}};
  for (const record::IdentityField& f : record::identity_fields()) j[f.key] = f.text(s.identity);
  j["changes"] = Json::array();
  for (std::size_t c = 0; c < s.changes.size(); ++c)
    j["changes"].push_back(
        {{"time_ns", s.changes[c].at.count()}, {"name", s.changed[c]}, {"value", bits(s.changes[c].value)}});
  j["values"] = Json::array();
  for (const auto& [name, value] : s.values) j["values"].push_back({name, bits(value)});
  return j.dump(1, ' ', false, Json::error_handler_t::replace);
}

Result<StoredState> read_state(const std::string& file) {
  const auto text = read_file(file);
  if (!text) return text.failure();
  return parse_state(*text, file);
}

Result<StoredState> parse_state(const std::string& text, const std::string& file) {
  try {
    const auto parsed = parse_json(text);
    if (!parsed) return Failure{"cannot read the state", file, parsed.failure().text()};
    const Json& j = *parsed;
    if (j.value("format", "") != "isodyne state")
      return Failure{"cannot read the state", file, "it is JSON, but no state of a run"};
    StoredState s;
    for (const record::IdentityField& f : record::identity_fields()) {
      std::string given;
      if (const auto member = j.find(f.key); member == j.end())
        continue;  // of an earlier version
      else if (member->is_array())
        given = listed(member->get<std::vector<std::string>>(), "", ",");
      else
        given = *member;
      if (!f.read(s.identity, given))
        return Failure{"cannot read the state", file, fmt::format("`{}` is no {}", printable(given), f.words)};
    }
    s.at = Time{j.at("time_ns").get<std::int64_t>()};
    for (const Json& c : j.at("changes")) {
      s.changes.push_back({Time{c.at("time_ns").get<std::int64_t>()}, program::kNone, number(c.at("value"))});
      s.changed.push_back(c.at("name"));
    }
    for (const Json& v : j.at("values")) s.values.emplace_back(v.at(0), number(v.at(1)));
    return s;
  } catch (const nlohmann::json::exception& e) {
    return Failure{"cannot read the state", file, e.what()};
  }
}

std::string difference(const program::Program& program, const StoredState& state, const observe::Image& image) {
  std::map<std::string, double> now;
  for (const program::VarId id : program.listed) now[program.variable(id).name] = image.variables[id];
  for (const auto& [name, value] : state.values) {
    const auto found = now.find(name);
    if (found == now.end()) return fmt::format("`{}` is not there any more", name);
    if (std::bit_cast<std::uint64_t>(found->second) == std::bit_cast<std::uint64_t>(value)) continue;
    return fmt::format("`{}` was {:.17g} and is {:.17g}", name, value, found->second);
  }
  return {};
}

}  // namespace isodyne::session
