#include "isodyne/record/identity.h"

#include <algorithm>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/core/units.h"

namespace isodyne::record {

namespace {

std::string joined(const std::vector<std::string>& all) {
  return listed(all, "", ",");
}

std::vector<std::string> parted(std::string text, char by) {
  std::vector<std::string> all;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find(by), text.size());
    all.push_back(text.substr(0, end));
    text.erase(0, end + 1);
  }
  return all;
}

bool read_whole(const std::string& text, auto& to) {
  const auto read = std::from_chars(text.data(), text.data() + text.size(), to);
  return read.ec == std::errc{} && read.ptr == text.data() + text.size();
}

// As the options of the command line are: files of all versions have it so.
constexpr std::string_view kPaced = "--paced", kSpeed = "--paced --speed ";

std::string pace_text(const RunIdentity& i) {
  if (!i.pace) return "";
  return i.pace->speed == 1 ? std::string(kPaced) : std::string(kSpeed) + format_exact(i.pace->speed);
}

bool read_pace(RunIdentity& i, const std::string& text) {
  i.pace.reset();
  if (text.empty()) return true;
  i.pace.emplace();
  if (text == kPaced) return true;
  return text.starts_with(kSpeed) && read_whole(text.substr(kSpeed.size()), i.pace->speed) && i.pace->speed > 0;
}

bool read_longest(RunIdentity& i, const std::string& text) {
  i.longest = text.empty() ? std::nullopt : read_span(text);
  return text.empty() || i.longest;
}

bool read_piece(RunIdentity& i, const std::string& text) {
  std::int64_t ns = 0;
  if (text.empty()) return true;
  if (!read_whole(text, ns) || ns < 0) return false;
  return i.piece_from = Time{ns}, true;
}

bool read_method(RunIdentity& i, const std::string& text) {
  i.method = text;
  i.made_by = text == kReferenceMethod            ? MadeBy::reference
              : text.starts_with(kImportedMethod) ? MadeBy::others
                                                  : MadeBy::steps;
  return true;
}

bool read_seed(RunIdentity& i, const std::string& text) {
  return text.empty() || read_whole(text, i.seed);
}

/// "chamber.level=2 m", "lower.open=1 (true)"
std::string overrides_text(const RunIdentity& i) {
  std::vector<std::string> all;
  for (const Override& o : i.overrides)
    all.push_back(fmt::format("{}={}{}{}{}", o.name, format_exact(o.value), o.unit.empty() ? "" : " ", o.unit,
                              o.label.empty() ? "" : fmt::format(" ({})", o.label)));
  return joined(all);
}

bool read_overrides(RunIdentity& i, const std::string& text) {
  i.overrides.clear();
  for (const std::string& one : parted(text, ',')) {
    const std::size_t at = one.find('='), end = std::min(one.find(' ', at), one.size());
    Override o;
    if (at == std::string::npos || !read_whole(one.substr(at + 1, end - at - 1), o.value)) return false;
    o.name = one.substr(0, at);
    const std::string rest = end < one.size() ? one.substr(end + 1) : "";
    const bool label = rest.starts_with('(') && rest.ends_with(')');
    (label ? o.label : o.unit) = label ? rest.substr(1, rest.size() - 2) : rest;
    i.overrides.push_back(std::move(o));
  }
  return true;
}

template <std::string RunIdentity::*member>
constexpr IdentityField plain(const char* key, const char* words) {
  return {key, words, [](const RunIdentity& i) { return i.*member; },
          [](RunIdentity& i, const std::string& text) { return i.*member = text, true; }};
}

constexpr IdentityField kFields[] = {
    plain<&RunIdentity::version>("isodyne_version", "version of Isodyne"),
    plain<&RunIdentity::main>("bench_file", "bench file"),
    plain<&RunIdentity::scenario>("scenario", "scenario"),
    plain<&RunIdentity::harness>("harness", "harness"),
    {"faults", "faults", [](const RunIdentity& i) { return joined(i.faults); },
     [](RunIdentity& i, const std::string& text) { return i.faults = parted(text, ','), true; }},
    plain<&RunIdentity::setting>("setting", "setting"),
    {"seed", "seed", [](const RunIdentity& i) { return std::to_string(i.seed); }, read_seed},
    {"method", "stepping", [](const RunIdentity& i) { return i.method; }, read_method},
    {"for", "time given", [](const RunIdentity& i) { return i.longest ? format_span(*i.longest) : ""; }, read_longest},
    {"pace", "pace", pace_text, read_pace},
    {"overrides", "values in place of the bench's", overrides_text, read_overrides, true},
    {"live", "others let in", [](const RunIdentity& i) { return std::string(i.live ? "yes" : ""); },
     [](RunIdentity& i, const std::string& text) { return i.live = text == "yes", true; }, true},
    {"piece_from_ns", "piece of a run, from ns",
     [](const RunIdentity& i) { return i.piece_from ? std::to_string(i.piece_from->count()) : ""; }, read_piece, true},
};

}  // namespace

std::string Override::text() const {
  const std::string number = format_exact(value) + (unit.empty() ? "" : " " + unit);
  return name + "=" + (!label.empty() ? label : shown.empty() ? number : shown);
}

std::span<const IdentityField> identity_fields() {
  return kFields;
}

std::vector<std::string> command_words(const RunIdentity& i) {
  if (i.made_by == MadeBy::others) return {};
  std::vector<std::string> words{i.made_by == MadeBy::reference ? "reference" : "run", i.main};
  const auto option = [&](const char* name, const std::string& value) {
    if (!value.empty()) words.insert(words.end(), {name, value});
  };
  if (!i.scenario.empty()) words.push_back(i.scenario);
  option("--harness", i.harness);
  for (const std::string& f : i.faults) option("--fault", f);
  option("--setting", i.setting);
  for (const Override& o : i.overrides) option("--with", o.text());
  option("--for", i.longest ? format_span(*i.longest) : "");
  for (const std::string& word : parted(pace_text(i), ' ')) words.push_back(word);
  option("--seed", std::to_string(i.seed));
  if (i.live) words.push_back("--open");
  return words;
}

std::string wish_name(const RunIdentity& i, const std::string& bench) {
  std::string name = (bench.empty() ? "bench" : bench) + "-" + (i.scenario.empty() ? "run" : i.scenario);
  for (const std::string& f : i.faults) name += "-" + f;
  if (!i.harness.empty()) name += "-alone-" + i.harness;
  if (!i.setting.empty()) name += "-" + i.setting;
  if (i.seed != 1) name += fmt::format("-seed{}", i.seed);
  if (i.made_by == MadeBy::reference) name += "-reference";
  if (i.pace) name += "-paced" + (i.pace->speed == 1 ? "" : format_exact(i.pace->speed));
  if (i.longest) {
    name += "-for";
    for (const char c : format_span(*i.longest)) name += c == ' ' ? "" : std::string(1, c);
  }
  if (!i.overrides.empty()) name += fmt::format("-with{:08x}", static_cast<std::uint32_t>(fnv1a(overrides_text(i))));
  if (!i.state.empty()) name += fmt::format("-from{:08x}", static_cast<std::uint32_t>(fnv1a(i.state)));
  return name;
}

std::string fingerprint(const RunIdentity& i) {
  std::uint64_t hash = fnv1a("");
  for (const IdentityField& f : identity_fields()) {
    const std::string text = f.text(i);
    if (!text.empty()) hash = fnv1a(fmt::format("\n{}={}", f.key, text), hash);
  }
  hash = fnv1a("\n" + i.state, hash);
  auto sources = i.sources;  // a recording has them in another order
  std::sort(sources.begin(), sources.end());
  for (const auto& [name, text] : sources) hash = fnv1a("\n" + name + "\n" + text, hash);
  return fmt::format("{:016x}", hash);
}

}  // namespace isodyne::record
