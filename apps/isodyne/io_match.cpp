#include <algorithm>
#include <filesystem>
#include <map>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/io/match.h"
#include "isodyne/session/summary.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

using program::Program;

const program::Controller* chosen(const Program& p, const Arguments& arguments) {
  const bool named = arguments.words.size() > 1;
  const program::Controller* found = nullptr;
  std::vector<std::string> names;
  std::string all;
  for (const program::Controller& c : p.controllers) {
    names.push_back(c.name);
    list_on(all, c.name);
    const bool listed = !c.tags.empty() || arguments.has(Option::tags);
    if (named ? c.name == arguments.words[1] : listed && found == nullptr) found = &c;
  }
  if (found != nullptr) return found;
  if (!named) {
    say_error(fmt::format("no controller of bench {} has a tag list: write `tags \"tags.csv\"` into it, or give --tags",
                          p.name));
    return nullptr;
  }
  const auto meant = did_you_mean(arguments.words[1], names);
  say_error(
      fmt::format("bench {} has no controller `{}`; {}", p.name, arguments.words[1], meant.value_or("it has " + all)));
  return nullptr;
}

/// Everything that the command found, before it is shown.
struct Findings {
  std::string file;
  std::vector<io::MatchChannel> channels;
  io::TagList list;
  std::vector<io::Match> matches;
  std::vector<std::string> changes, problems;
  std::vector<std::string> channels_left, tags_left, unsure;
};

/// Rows that people have confirmed, as tags of channels; says which of them no longer hold.
std::vector<int> confirmed(const std::vector<io::MapRow>& before, Findings& f) {
  std::map<std::string, int> tag_of;
  for (std::size_t t = 0; t < f.list.tags.size(); ++t) tag_of.try_emplace(f.list.tags[t].name, static_cast<int>(t));
  std::map<std::string, std::string> wanted;
  for (const io::MapRow& r : before) {
    if (r.confirmed && !r.channel.empty()) wanted[r.channel] = r.tag;
  }
  std::vector<int> fixed(f.channels.size(), -1);
  for (std::size_t c = 0; c < f.channels.size(); ++c) {
    const auto w = wanted.find(f.channels[c].name);
    if (w == wanted.end()) continue;
    const auto t = tag_of.find(w->second);
    if (t != tag_of.end())
      fixed[c] = t->second;
    else
      f.problems.push_back(
          fmt::format("{} was confirmed as {}, which the list no longer has", f.channels[c].name, w->second));
  }
  return fixed;
}

void look(Findings& f) {
  std::vector<bool> used(f.list.tags.size(), false);
  for (std::size_t c = 0; c < f.channels.size(); ++c) {
    const io::Match& m = f.matches[c];
    if (m.tag < 0) {
      f.channels_left.push_back(f.channels[c].name);
      continue;
    }
    const io::Tag& tag = f.list.tags[static_cast<std::size_t>(m.tag)];
    used[static_cast<std::size_t>(m.tag)] = true;
    for (const std::string& t : m.troubles)
      f.problems.push_back(fmt::format("{} as {}: {}", f.channels[c].name, tag.name, t));
    if (!m.confirmed && m.score - m.next < 0.1) f.unsure.push_back(f.channels[c].name);
  }
  for (std::size_t t = 0; t < f.list.tags.size(); ++t) {
    if (!used[t]) f.tags_left.push_back(f.list.tags[t].name);
  }
  f.problems.insert(f.problems.end(), f.list.troubles.begin(), f.list.troubles.end());
}

/// "a, b, c and 12 more"
std::string some(const std::vector<std::string>& names) {
  constexpr std::size_t kMost = 12;
  std::string text;
  for (std::size_t i = 0; i < std::min(kMost, names.size()); ++i) text += (i == 0 ? "" : ", ") + names[i];
  return names.size() > kMost ? text + fmt::format(" and {} more", names.size() - kMost) : text;
}

void say_list(const char* heading, const std::vector<std::string>& lines) {
  constexpr std::size_t kMost = 40;
  if (lines.empty()) return;
  say(fmt::format("\n{}", heading));
  for (std::size_t i = 0; i < std::min(kMost, lines.size()); ++i) say("  " + lines[i]);
  if (lines.size() > kMost) say(fmt::format("  and {} more; --json has all of them", lines.size() - kMost));
}

void show(const Findings& f) {
  TextTable table({{"Channel"}, {"Tag"}, {"Address"}, {"Type"}, {"Unit"}, {"Score", TextTable::Align::right}, {""}});
  std::size_t matched = 0;
  for (std::size_t c = 0; c < f.channels.size(); ++c) {
    const io::Match& m = f.matches[c];
    if (m.tag < 0) {
      table.row({f.channels[c].name, "–", "", "", "", "", "no tag"}, "1;31", 6);
      continue;
    }
    ++matched;
    const io::Tag& t = f.list.tags[static_cast<std::size_t>(m.tag)];
    const bool unsure = std::find(f.unsure.begin(), f.unsure.end(), f.channels[c].name) != f.unsure.end();
    const char* remark = !m.troubles.empty() ? "look below" : m.confirmed ? "confirmed" : unsure ? "unsure" : "";
    table.row({f.channels[c].name, t.name, t.address, t.type, t.unit, fmt::format("{:.2f}", m.score), remark},
              !m.troubles.empty() ? "1;31"
              : unsure            ? "33"
                                  : "32",
              6);
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  say(fmt::format("{} of {} have a tag; {} of {} have no channel.", matched, counted(f.channels.size(), "channel"),
                  f.tags_left.size(), counted(f.list.tags.size(), "tag")));
  if (!f.channels_left.empty()) say("Without a tag: " + some(f.channels_left) + ".");
  if (!f.tags_left.empty()) say("Without a channel: " + some(f.tags_left) + ".");
  if (!f.unsure.empty()) say("Unsure, because another tag is nearly as like: " + some(f.unsure) + ".");
  say_list("Wrong:", f.problems);
  say_list("Changed since the table was written:", f.changes);
}

Json to_json(const Findings& f) {
  Json rows = Json::array();
  for (std::size_t c = 0; c < f.channels.size(); ++c) {
    const io::Match& m = f.matches[c];
    Json j{{"channel", f.channels[c].name}, {"tag", nullptr}};
    if (m.tag >= 0) {
      const io::Tag& t = f.list.tags[static_cast<std::size_t>(m.tag)];
      j["tag"] = t.name;
      j["address"] = t.address;
      j["type"] = t.type;
      j["score"] = m.score;
      j["next"] = m.next;
      j["confirmed"] = m.confirmed;
      j["troubles"] = m.troubles;
    }
    rows.push_back(std::move(j));
  }
  return {{"tags", f.file},
          {"matches", rows},
          {"channels_without_tag", f.channels_left},
          {"tags_without_channel", f.tags_left},
          {"unsure", f.unsure},
          {"problems", f.problems},
          {"changes", f.changes}};
}

}  // namespace

int run_io_match(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const program::Controller* controller = chosen(*loaded.program, arguments);
  if (controller == nullptr) return kWrongInput;
  Findings f;
  const auto given = arguments.value(Option::tags);
  f.file = given ? *given : (std::filesystem::path(folder_of(file)) / controller->tags).string();
  const Result<std::string> text = read_file(f.file);
  if (!text) {
    say_error(text.failure().text());
    return kWrongInput;
  }
  auto list = io::read_tags(*text, f.file, controller->tag_columns);
  if (!list) {
    say_error(list.failure().text());
    return kWrongInput;
  }
  f.list = std::move(*list);
  f.channels = io::channels_of(*loaded.program, *controller);
  std::vector<int> fixed;
  const auto out = arguments.value(Option::out);
  std::error_code none;
  if (out && std::filesystem::exists(*out, none)) {
    const Result<std::string> earlier = read_file(*out);
    const auto before = earlier ? io::read_map(*earlier, *out) : Result<std::vector<io::MapRow>>(earlier.failure());
    if (!before) {
      say_error(before.failure().text());
      return kWrongInput;
    }
    fixed = confirmed(*before, f);
    f.changes = io::differences(*before, f.channels, f.list.tags);
  }
  f.matches = io::match(f.channels, f.list.tags, fixed);
  look(f);
  if (arguments.has(Option::json))
    say(to_json(f).dump(2, ' ', false, Json::error_handler_t::replace));
  else
    show(f);
  if (out) {
    const Status written = write_file(*out, io::map_text(f.channels, f.list.tags, f.matches));
    if (!written) {
      say_error(written.failure().text());
      return kNotCompleted;
    }
    say_aside(fmt::format("wrote {}; set the state of a row to `confirmed` and it stays", *out));
  }
  return f.problems.empty() && f.channels_left.empty() ? kHeld : kBroken;
}

}  // namespace isodyne::app
