// runs: the catalogue of runs, listed, tagged and tidied up.

#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/session/catalogue.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;
using session::CatalogueEntry;

namespace {

std::unique_ptr<session::Catalogue> opened() {
  auto catalogue = session::Catalogue::open(session::usual_catalogue());
  if (catalogue) return std::move(*catalogue);
  say_error(catalogue.failure().text());
  return nullptr;
}

std::optional<std::vector<CatalogueEntry>> found(session::Catalogue& catalogue, const std::vector<std::string>& words) {
  auto entries = catalogue.find(words);
  if (entries) return std::move(*entries);
  say_error(entries.failure().text());
  return std::nullopt;
}

/// As short as it can be named from here.
std::string near_path(const std::string& path) {
  std::error_code none;
  const std::string relative = fs::relative(path, none).string();
  return relative.empty() || relative.starts_with("../..") ? path : relative;
}

std::string tags_text(const CatalogueEntry& e) {
  std::string text;
  for (const std::string& t : e.tags) text += (text.empty() ? "" : " ") + t;
  return text;
}

Json to_json(const CatalogueEntry& e) {
  return {{"path", e.path},
          {"bench", e.bench},
          {"scenario", e.scenario},
          {"faults", e.faults},
          {"overrides", e.overrides},
          {"setting", e.setting},
          {"seed", e.seed},
          {"version", e.version},
          {"started", e.started},
          {"ending", e.ending},
          {"outcome", e.verdict()},
          {"inputs", e.inputs},
          {"simulated_s", e.simulated_s},
          {"wall_s", e.wall_s},
          {"held", e.held},
          {"broken", e.broken},
          {"not_put_to_the_test", e.not_tested},
          {"undecided", e.undecided},
          {"tags", e.tags},
          {"there", e.there}};
}

void print(const std::vector<CatalogueEntry>& entries) {
  if (entries.empty()) return say("No run in the catalogue fits.");
  TextTable table({{"Run"},
                   {"Bench"},
                   {"Scenario"},
                   {"Faults"},
                   {"Seed", TextTable::Align::right},
                   {"Verdict"},
                   {"Simulated", TextTable::Align::right},
                   {"Started"},
                   {"Tags"}});
  std::size_t missing = 0;
  for (const CatalogueEntry& e : entries) {
    missing += e.there ? 0 : 1;
    const std::string verdict = !e.there ? "missing" : e.verdict_text();
    const std::string played = e.scenario + (e.overrides.empty() ? "" : ", " + e.overrides);
    table.row({near_path(e.path), e.bench, played, e.faults, e.seed, verdict, format_seconds(e.simulated_s, 1),
               e.started, tags_text(e)},
              e.there && e.verdict() == "held" ? "32"
              : e.broken > 0 || !e.there       ? "31"
                                               : "33",
              5);
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  if (missing > 0)
    say(fmt::format("{} missing: moved or deleted. `isodyne runs prune missing` forgets them.",
                    counted(missing, "folder")));
}

}  // namespace

int run_runs(const Arguments& arguments) {
  const auto catalogue = opened();
  if (catalogue == nullptr) return kNotCompleted;
  auto entries = found(*catalogue, arguments.words);
  if (!entries) return kNotCompleted;
  if (arguments.has(Option::last)) {
    std::erase_if(*entries, [](const CatalogueEntry& e) { return !e.there || e.running; });
    if (entries->empty()) return say_error("no run in the catalogue fits"), kWrongInput;
    return say(near_path(entries->front().path)), kHeld;
  }
  if (!arguments.has(Option::json)) return print(*entries), kHeld;
  Json all = Json::array();
  for (const CatalogueEntry& e : *entries) all.push_back(to_json(e));
  say(all.dump(2, ' ', false, Json::error_handler_t::replace));
  return kHeld;
}

int run_runs_tag(const Arguments& arguments) {
  const auto catalogue = opened();
  if (catalogue == nullptr) return kNotCompleted;
  for (std::size_t i = 1; i < arguments.words.size(); ++i) {
    const Status done = catalogue->tag(arguments.words[0], arguments.words[i], arguments.has(Option::remove));
    if (!done) return say_error(done.failure().text()), kWrongInput;
  }
  return kHeld;
}

int run_runs_prune(const Arguments& arguments) {
  const auto catalogue = opened();
  if (catalogue == nullptr) return kNotCompleted;
  const auto entries = found(*catalogue, arguments.words);
  if (!entries) return kNotCompleted;
  const bool really = arguments.has(Option::yes);
  std::size_t gone = 0, kept = 0, running = 0;
  for (const CatalogueEntry& e : *entries) {
    if (!e.tags.empty()) {
      ++kept;
      continue;
    }
    if (e.running) {
      ++running;
      continue;
    }
    ++gone;
    say(near_path(e.path) + (e.there ? "" : " (its folder is missing)"));
    if (!really) continue;
    std::error_code error;
    // Only what is a run folder, of a killed run too, whatever the catalogue says.
    const bool run_folder =
        fs::exists(fs::path(e.path) / "verdicts.json", error) || fs::exists(fs::path(e.path) / "recording.tail", error);
    if (e.there && run_folder) fs::remove_all(e.path, error);
    if (error) return say_error(fmt::format("cannot delete {}: {}", e.path, error.message())), kNotCompleted;
    const Status forgotten = catalogue->forget(e.path);
    if (!forgotten) return say_error(forgotten.failure().text()), kNotCompleted;
  }
  say(fmt::format("{} {}{}{}.", counted(gone, "run"), really ? "deleted" : "would be deleted; --yes does it",
                  kept > 0 ? fmt::format("; {} with tags stay", kept) : "",
                  running > 0 ? fmt::format("; {} still running stay", running) : ""));
  return kHeld;
}

}  // namespace isodyne::app
