// faults: the list of everything that can break, who looks for it, and which scenario gets there.

#include <algorithm>
#include <atomic>
#include <map>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "command.h"
#include "isodyne/bench/reach.h"
#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/present/summary.h"
#include "isodyne/present/timeline.h"
#include "isodyne/present/trace.h"
#include "plans.h"
#include "table.h"
#include "terminal.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;
using When = model::Fault::When;

namespace {

struct FaultRow {
  std::string name, place, kind, trigger, description;
  std::vector<std::string> requirements{};
  std::vector<std::string> reached{};  ///< "uplock at 97.2 s"
  std::string earliest{};              ///< of those, after the start
  Time earliest_at = Time::max();
  bool told = true;  ///< false: that takes a try
};

/// What can be told without a run: times, and what scenarios inject.
void without_a_try(const model::Program& p, const model::Fault& f, FaultRow& row) {
  row.told = f.condition == model::kNone;
  for (std::size_t s = 0; s < p.scenarios.size() && row.told; ++s) {
    const model::Scenario& scenario = p.scenarios[s];
    if (!scenario.needs.empty()) continue;
    if (f.when == When::by_hand) {
      for (const std::int32_t injected : bench::faults_of(p, static_cast<std::int32_t>(s))) {
        if (&p.faults[static_cast<std::size_t>(injected)] == &f) row.reached.push_back(scenario.name);
      }
      continue;
    }
    const present::Timeline t = present::timeline_of(p, scenario);
    if (!t.latest || *t.latest >= f.begin) row.reached.push_back(scenario.name);
  }
}

/// Every scenario once, healthy; false, and said why, if one cannot run.
bool try_scenarios(const Arguments& arguments, const model::Loaded& loaded, std::vector<FaultRow>& rows) {
  const model::Program& p = *loaded.program;
  for (FaultRow& row : rows) row.reached.clear();
  ports::ForeignCalls calls(std::chrono::milliseconds(1000));
  const bench::PortMaker make_port = ports_for(loaded.program, {.folder = folder_of(arguments.words[0]),
                                                                .logs = "",
                                                                .read_file = present::read_file,
                                                                .calls = &calls,
                                                                .answer_within = std::chrono::seconds(1),
                                                                .paced = false,
                                                                .seed = 1});
  ProgressLine progress;
  const std::atomic<bool> go_on{false};
  for (std::size_t s = 0; s < p.scenarios.size(); ++s) {
    const model::Scenario& scenario = p.scenarios[s];
    if (!scenario.needs.empty()) continue;
    progress.draw(static_cast<double>(s) / static_cast<double>(p.scenarios.size()), "trying " + scenario.name);
    bench::RunPlan plan;
    plan.scenario = static_cast<std::int32_t>(s);
    plan.setting = arguments.value(Option::setting).value_or("");
    plan.longest = std::chrono::hours(24);  // a scenario that never ends is not tried to its end
    plan.native = engine::NativeSettings::usual();
    if (!read_seed(arguments, plan.seed)) return false;
    if (const auto trouble = bench::trouble_with(p, plan)) {
      progress.clear();
      say_error(trouble->text());
      return false;
    }
    bench::TriggerWatch watch(p);
    bench::Run run(loaded.program, plan, make_port, watch);
    const bench::RunResult result = run.execute(go_on);
    if (result.ending == bench::Ending::controller_failed) {
      progress.clear();
      say_error(result.explanation);
      return false;
    }
    for (std::size_t f = 0; f < rows.size(); ++f) {
      rows[f].told = true;
      const auto at = watch.reached()[f];
      if (!at) continue;
      rows[f].reached.push_back(at->count() == 0 ? scenario.name
                                                 : fmt::format("{} at {}", scenario.name, format_span(*at)));
      if (at->count() == 0 || *at >= rows[f].earliest_at) continue;
      rows[f].earliest_at = *at;
      rows[f].earliest = rows[f].reached.back();
    }
  }
  progress.clear();
  return true;
}

std::string joined(const std::vector<std::string>& all, const char* none) {
  std::string text;
  for (const std::string& one : all) text += (text.empty() ? "" : ", ") + one;
  return text.empty() ? none : text;
}

/// "all" where every scenario that can be run gets there; with times, the earliest of them.
std::string reached_text(const FaultRow& r, const model::Program& p) {
  const auto runnable = static_cast<std::size_t>(
      std::count_if(p.scenarios.begin(), p.scenarios.end(), [](const model::Scenario& s) { return s.needs.empty(); }));
  if (r.reached.size() < std::max<std::size_t>(runnable, 3)) {
    if (r.reached.size() <= 3) return joined(r.reached, "none");
    return fmt::format("{}, {} and {} more", r.reached[0], r.reached[1], r.reached.size() - 2);
  }
  return r.earliest.empty() ? "all" : "all, first " + r.earliest;
}

void print_rows(const model::Program& p, const std::vector<FaultRow>& rows, bool tried) {
  Table table({{"Fault"},
               {"On"},
               {"Kind"},
               {"Trigger"},
               {"Looked for by"},
               {tried ? "Triggered in" : "Within reach of"},
               {"Description"}});
  std::size_t open = 0, unseen = 0, unreached = 0;
  for (const FaultRow& r : rows) {
    open += r.told ? 0 : 1;
    unseen += r.requirements.empty() ? 1 : 0;
    unreached += r.told && r.reached.empty() ? 1 : 0;
    table.row({r.name, r.place, r.kind, r.trigger, joined(r.requirements, "nobody"), r.told ? reached_text(r, p) : "?",
               r.description});
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  std::string closing = counted(rows.size(), "fault");
  if (unseen > 0) closing += fmt::format("; {} that no requirement looks for", unseen);
  if (unreached > 0) closing += fmt::format("; {} that no scenario gets to", unreached);
  say(closing + ".");
  if (open > 0)
    say(fmt::format("Whether conditions come true takes a run: with --try, every scenario is run once, healthy."));
}

}  // namespace

int run_faults(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const model::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const model::Program& p = *loaded.program;
  std::vector<FaultRow> rows;
  for (const model::Fault& f : p.faults) {
    FaultRow row{f.name, model::place_of(p, f),     model::fault_word(f.kind), f.when_text,
                 f.doc,  present::looking_for(p, f)};
    if (!f.amount_text.empty()) row.kind += " " + f.amount_text;
    without_a_try(p, f, row);
    rows.push_back(std::move(row));
  }
  const bool tried = arguments.has(Option::try_);
  if (tried && !try_scenarios(arguments, loaded, rows)) return kNotCompleted;
  if (arguments.has(Option::json)) {
    Json list = Json::array();
    for (const FaultRow& r : rows) {
      Json j{{"fault", r.name},
             {"on", r.place},
             {"kind", r.kind},
             {"trigger", r.trigger},
             {"requirements", r.requirements}};
      j["scenarios"] = r.told ? Json(r.reached) : Json(nullptr);
      j["description"] = r.description;
      list.push_back(std::move(j));
    }
    say(list.dump(2, ' ', false, Json::error_handler_t::replace));
  } else if (arguments.has(Option::csv)) {
    put(stdout, csv_line({"fault", "on", "kind", "trigger", "requirements", "scenarios", "description"}));
    for (const FaultRow& r : rows)
      put(stdout, csv_line({r.name, r.place, r.kind, r.trigger, joined(r.requirements, ""),
                            r.told ? joined(r.reached, "") : "?", r.description}));
  } else {
    print_rows(p, rows, tried);
  }
  return kHeld;
}

}  // namespace isodyne::app
