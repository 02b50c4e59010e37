// Racks on the command line: what is where, what is free, and changing it.

#include <algorithm>
#include <filesystem>
#include <set>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/csv.h"
#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/io/rack_text.h"
#include "isodyne/session/summary.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

using program::Program;

std::string joined(const std::vector<std::string>& words) {
  std::string text;
  for (const std::string& w : words) list_on(text, w);
  return text;
}

/// Calls `visit(rack, slot, channel, address)` for every channel of every rack.
template <typename Visit>
void each_channel(const Program& p, Visit visit) {
  for (const program::Rack& r : p.racks) {
    for (const program::RackSlot& s : r.slots) {
      for (const program::RackChannel& c : s.channels)
        visit(r, s, c, fmt::format("{}.{}.{}", r.name, s.number, c.number));
    }
  }
}

const program::ChannelForm* form_of(const Program& p, const program::RackChannel& c) {
  if (c.sensor != program::kNone) return &p.sensors[static_cast<std::size_t>(c.sensor)];
  if (c.actuator != program::kNone) return &p.actuators[static_cast<std::size_t>(c.actuator)];
  return nullptr;
}

program::VarId value_of(const Program& p, const program::RackChannel& c) {
  if (c.sensor != program::kNone) return p.sensors[static_cast<std::size_t>(c.sensor)].value;
  if (c.actuator != program::kNone) return p.actuators[static_cast<std::size_t>(c.actuator)].value;
  return program::kNone;
}

/// What a channel in use carries: the quantity measured, the constant, or the actuator's controller.
std::string carries(const Program& p, const program::RackChannel& c) {
  if (!c.value.empty()) return c.value;
  const program::VarId id = value_of(p, c);
  return id == program::kNone ? "" : p.variable(id).doc;
}

std::string wire(const program::ChannelForm& f) {
  if (f.electrical_text.empty()) return f.range_text;
  return fmt::format("{} as {}", f.range_text, f.electrical_text);
}

Json channel_json(const Program& p, const program::RackSlot& s, const program::RackChannel& c,
                  const std::string& address) {
  Json j{{"channel", address},
         {"module", s.module},
         {"direction", c.input ? "input" : "output"},
         {"form", c.form},
         {"name", c.name.empty() ? Json(nullptr) : Json(c.name)}};
  if (c.name.empty()) return j;
  j["carries"] = carries(p, c);
  j["on"] = c.on;
  j["groups"] = c.groups;
  if (const auto* f = form_of(p, c)) {
    j["range"] = f->range_text;
    j["electrical"] = f->electrical_text;
    j["counts"] = f->counts_text;
  }
  return j;
}

void say_no_rack(const Program& p) {
  say_error(
      fmt::format("bench {} has no rack; declare one: `use library \"modules.dyne\"` above the bench, and `rack name "
                  "{{ slot 1 : CurrentIn8 {{ }} }}` in it",
                  p.name));
}

/// A loaded bench that has racks; null after saying why not.
std::shared_ptr<const Program> with_racks(const Arguments& arguments) {
  const check::Loaded loaded = load_file(arguments.words[0]);
  print_diagnostics(loaded, arguments.words[0]);
  if (loaded.program != nullptr && loaded.program->racks.empty()) {
    say_no_rack(*loaded.program);
    return nullptr;
  }
  return loaded.program;
}

bool asked(const std::vector<std::string>& words, const program::Rack& r, const program::RackChannel& c,
           const std::string& address) {
  if (words.size() < 2) return !c.name.empty();
  for (std::size_t i = 1; i < words.size(); ++i) {
    const std::string& w = words[i];
    const bool group = std::find(c.groups.begin(), c.groups.end(), w) != c.groups.end();
    if (group || w == c.name || is_element_of(c.name, w) || (w == r.name && !c.name.empty()) || w == address)
      return true;
  }
  return false;
}

/// "4 .. 8, 11, 13 .. 16"
std::string ranges(const std::vector<int>& numbers) {
  std::string text;
  for (std::size_t i = 0; i < numbers.size();) {
    std::size_t end = i;
    while (end + 1 < numbers.size() && numbers[end + 1] == numbers[end] + 1) ++end;
    list_on(text, std::to_string(numbers[i]));
    if (end > i) text += (end > i + 1 ? " .. " : ", ") + std::to_string(numbers[end]);
    i = end + 1;
  }
  return text;
}

}  // namespace

int run_io_list(const Arguments& arguments) {
  const auto program = with_racks(arguments);
  if (program == nullptr) return kWrongInput;
  const Program& p = *program;
  TextTable table({{"Channel"}, {"Module"}, {"Carries"}, {"Range"}, {"Counts"}, {"On"}, {"Groups"}, {"Description"}});
  Json json = Json::array();
  each_channel(p, [&](const auto& r, const auto& s, const auto& c, const std::string& address) {
    const bool free = arguments.words.size() < 2 && arguments.has(Option::json) && c.name.empty();
    if (!free && !asked(arguments.words, r, c, address)) return;
    json.push_back(channel_json(p, s, c, address));
    const auto* f = form_of(p, c);
    table.row({address, s.module, c.name + (c.value.empty() ? "" : " = " + c.value),
               c.gate         ? c.form
               : f == nullptr ? ""
                              : wire(*f),
               f == nullptr ? "" : f->counts_text, c.on ? "yes" : "off", joined(c.groups),
               c.value.empty() ? carries(p, c) : ""});
  });
  if (arguments.has(Option::json)) {
    say(json.dump(2));
    return kHeld;
  }
  if (table.empty()) {
    say_error(arguments.words.size() > 1
                  ? fmt::format("no channel, group or rack is called `{}`; `isodyne io groups` lists the groups",
                                arguments.words[1])
                  : "no channel of the racks is in use");
    return kWrongInput;
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  return kHeld;
}

int run_io_groups(const Arguments& arguments) {
  const auto program = with_racks(arguments);
  if (program == nullptr) return kWrongInput;
  std::map<std::string, std::vector<std::string>> members, modules;
  each_channel(*program, [&](const auto& r, const auto& s, const auto& c, const std::string&) {
    for (const std::string& g : c.groups) {
      members[g].push_back(c.name);
      const std::string module = fmt::format("{}.{}", r.name, s.number);
      if (modules[g].empty() || modules[g].back() != module) modules[g].push_back(module);
    }
  });
  if (arguments.has(Option::json)) {
    Json j = Json::array();
    for (const auto& [g, names] : members) j.push_back({{"group", g}, {"channels", names}, {"slots", modules[g]}});
    say(j.dump(2));
    return kHeld;
  }
  TextTable table({{"Group"}, {"Channels", TextTable::Align::right}, {"Slots"}, {"Carries"}});
  for (const auto& [g, names] : members)
    table.row({g, std::to_string(names.size()), joined(modules[g]), joined(names)});
  if (table.empty())
    say("No channel belongs to a group: write `channel 1 : level in levels, safety`.");
  else
    put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  return kHeld;
}

int run_io_free(const Arguments& arguments) {
  const auto program = with_racks(arguments);
  if (program == nullptr) return kWrongInput;
  const Program& p = *program;
  std::set<std::string> placed;
  Json free = Json::array(), without = Json::array();
  TextTable table({{"Slot"}, {"Module"}, {"Free channels"}, {"Direction"}, {"Form"}});
  std::size_t count = 0;
  for (const program::Rack& r : p.racks) {
    for (const program::RackSlot& s : r.slots) {
      std::map<std::pair<bool, std::string>, std::vector<int>> numbers;
      for (const program::RackChannel& c : s.channels) {
        if (!c.name.empty()) {
          placed.insert(c.name);
          continue;
        }
        ++count;
        numbers[{c.input, c.form}].push_back(c.number);
        free.push_back(channel_json(p, s, c, fmt::format("{}.{}.{}", r.name, s.number, c.number)));
      }
      for (const auto& [key, list] : numbers)
        table.row({fmt::format("{}.{}", r.name, s.number), s.module, ranges(list), key.first ? "input" : "output",
                   key.second});
    }
  }
  std::string names;
  const auto look = [&](const std::string& name) {
    if (placed.contains(name)) return;
    list_on(names, name);
    without.push_back(name);
  };
  for (const program::Sensor& s : p.sensors) look(s.name);
  for (const program::Actuator& a : p.actuators) look(a.name);
  if (arguments.has(Option::json)) {
    say(Json{{"free", free}, {"without_channel", without}}.dump(2));
    return kHeld;
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  say(fmt::format("{} free.{}", counted(count, "channel"),
                  names.empty() ? " Every sensor and actuator has a channel." : " Without a channel: " + names + "."));
  return kHeld;
}

namespace {

/// Checks the changed texts as a whole and writes them, into a folder or in place; says what it did.
int write_changes(const Arguments& arguments, const check::Loaded& before,
                  const std::map<std::int32_t, std::string>& texts, const std::string& did) {
  const std::string& file = arguments.words[0];
  std::map<std::string, std::string> changed;
  for (const auto& [source, text] : texts) changed[before.relative[static_cast<std::size_t>(source)]] = text;
  const check::Loaded after = load_changed(file, changed);
  if (after.program == nullptr) {
    print_diagnostics(after, file);
    say_error("nothing was written: the bench would not be in order");
    return kWrongInput;
  }
  const auto out = arguments.value(Option::out);
  std::string files;
  for (const auto& [relative, text] : changed) {
    const std::filesystem::path to = std::filesystem::path(out ? *out : folder_of(file)) / relative;
    std::error_code error;
    if (out) std::filesystem::create_directories(to.parent_path(), error);
    const Status written = write_file(to.string(), text);
    if (!written) {
      say_error(written.failure().text());
      return kNotCompleted;
    }
    list_on(files, to.string());
  }
  say(changed.empty() ? "Nothing differs: nothing was written." : fmt::format("{} Wrote {}.", did, files));
  return kHeld;
}

/// A new actuator for an output, in front of its rack.
void add_actuator(const Program& p, const io::Binding& b, const std::string& unit,
                  std::map<std::int32_t, std::string>& texts) {
  for (const program::Rack& r : p.racks) {
    if (r.name != b.rack) continue;
    std::string& text = texts[r.span.source];
    const std::string& original = p.sources->text(r.span.source);
    if (text.empty()) text = original;
    // Texts are changed from the slots on, which stand behind this place.
    const std::size_t line = original.rfind('\n', r.span.begin);
    std::size_t begin = line == std::string::npos ? 0 : line + 1;
    while (begin > 1) {  // above what documents the rack
      const std::size_t previous = original.rfind('\n', begin - 2);
      const std::size_t from = previous == std::string::npos ? 0 : previous + 1;
      const std::size_t word = original.find_first_not_of(" \t", from);
      if (word == std::string::npos || original.compare(word, 1, "#") != 0) break;
      begin = from;
    }
    const std::size_t word = original.find_first_not_of(" \t", begin);
    text.insert(begin, original.substr(begin, word - begin) +
                           fmt::format("actuator {} : {}{}\n", b.name, unit,
                                       b.range.empty() ? "" : fmt::format(" {{ range {} }}", b.range)));
  }
}

}  // namespace

int run_io_bind(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const Program& p = *loaded.program;
  auto wanted = io::channel_at(p, arguments.words[1]);
  if (p.racks.empty()) return say_no_rack(p), kWrongInput;
  if (!wanted) {
    say_error(wanted.failure().text());
    return kWrongInput;
  }
  const bool remove = arguments.has(Option::remove);
  if (remove == (arguments.words.size() > 2)) {
    say_error(remove ? "--remove frees the channel: give no name with it"
                     : "which signal? For example `isodyne io bind BENCH 1.4 level`, or --remove to free the channel");
    return kWrongInput;
  }
  const std::string before = wanted->name;
  wanted->name = remove ? "" : arguments.words[2];
  wanted->value = arguments.words.size() > 3 ? one_line(arguments.words[3]) : "";
  wanted->range = one_line(arguments.value(Option::range).value_or(""));
  wanted->on = !arguments.has(Option::off);
  if (arguments.has(Option::groups) || before != wanted->name) wanted->groups.clear();
  std::string list = arguments.value(Option::groups).value_or("");
  for (std::size_t at = 0; at < list.size();) {
    const std::size_t end = std::min(list.find_first_of(", ", at), list.size());
    if (end > at) wanted->groups.push_back(list.substr(at, end - at));
    at = end + 1;
  }
  auto texts = io::rewritten(p, {*wanted});
  if (const auto unit = arguments.value(Option::unit)) {
    if (p.find(wanted->name) != program::kNone) {
      say_error(fmt::format("`{}` is declared already: leave --unit away", wanted->name));
      return kWrongInput;
    }
    add_actuator(p, *wanted, *unit, texts);
  }
  const std::string did =
      remove ? fmt::format("Channel {} is free; it carried {}.", wanted->address(), before.empty() ? "nothing" : before)
             : fmt::format("Channel {} carries {}{}.", wanted->address(), wanted->name,
                           before.empty() || before == wanted->name ? "" : ", no longer " + before);
  return write_changes(arguments, loaded, texts, did);
}

namespace {
/// A CSV table for people.
std::string aligned(const std::string& text) {
  const Csv csv = read_csv(text);
  std::vector<TextTable::Column> columns;
  for (const CsvField& f : csv.rows.front().fields) columns.push_back({f.text});
  TextTable table(columns);
  for (std::size_t i = 1; i < csv.rows.size(); ++i) {
    std::vector<std::string> cells;
    for (const CsvField& f : csv.rows[i].fields) cells.push_back(f.text);
    table.row(std::move(cells));
  }
  return table.text(width_of(stdout), colours_on(stdout));
}
}  // namespace

int run_io_table(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const auto out = arguments.value(Option::out);
  const auto from = arguments.value(Option::take);
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const Program& p = *loaded.program;
  if (p.racks.empty()) return say_no_rack(p), kWrongInput;
  if (!from) {
    const std::string text = io::table_text(p);
    if (!out) {
      put(stdout, arguments.has(Option::csv) ? text : aligned(text));
      return kHeld;
    }
    const Status written = write_file(*out, text);
    if (!written) say_error(written.failure().text());
    if (written) say_aside(fmt::format("wrote {}", *out));
    return written ? kHeld : kNotCompleted;
  }
  const Result<std::string> text = read_file(*from);
  if (!text) {
    say_error(text.failure().text());
    return kWrongInput;
  }
  const auto wanted = io::read_table(*text, *from, p);
  if (!wanted) {
    say_error(wanted.failure().text());
    return kWrongInput;
  }
  std::size_t changes = 0;
  const std::vector<io::Binding> all = io::bindings_of(p);
  for (const io::Binding& b : *wanted) {
    if (std::find(all.begin(), all.end(), b) == all.end()) ++changes;
  }
  return write_changes(arguments, loaded, io::rewritten(p, *wanted),
                       fmt::format("{} changed.", counted(changes, "channel")));
}

}  // namespace isodyne::app
