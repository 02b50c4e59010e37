// faults: the list of everything that can break, what names it and what catches it, and which scenario gets there.

#include <algorithm>
#include <filesystem>
#include <map>
#include <sstream>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/bench/reach.h"
#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/present/timeline.h"
#include "isodyne/present/trace.h"
#include "isodyne/session/run_service.h"
#include "isodyne/session/workers.h"
#include "named_runs.h"
#include "plans.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;
using When = program::Fault::When;

namespace {

struct FaultRow {
  std::string name, place, kind, trigger, description;
  std::vector<std::string> requirements{};
  std::vector<std::string> reached{};  ///< "uplock at 97.2 s"
  std::string earliest{};              ///< of those, after the start
  Time earliest_at = Time::max();
  bool told = true;         ///< false: that takes a try
  std::string caught_by{};  ///< "R-1 in 002-uplock-drift", of the runs that were named
  bool acted = false;       ///< in one of them
};

/// What can be told without a run: times, and what scenarios inject.
void without_a_try(const program::Program& p, const program::Fault& f, FaultRow& row) {
  row.told = f.condition == program::kNone;
  for (std::size_t s = 0; s < p.scenarios.size() && row.told; ++s) {
    const program::Scenario& scenario = p.scenarios[s];
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

/// Watches what triggers faults.
struct Triggers : session::RunWatcher {
  explicit Triggers(const program::Program& program) : watch(program) {}
  void image(const observe::Image& image) override { watch.image(image); }
  void rows(const observe::Rows& rows) override { watch.rows(rows); }
  void event(const observe::Event& event) override { watch.event(event); }
  bench::TriggerWatch watch;
};

/// A run of it, healthy: when each fault's trigger came, in ns (-1: never), a line each; or `!` and why it cannot run.
std::string try_scenario(const session::RunRequest& request) {
  Triggers triggers(*request.bench->program);
  const session::RunOutcome outcome = session::run_here(request, {&triggers});
  if (outcome.ending == observe::Ending::controller_failed) return "!" + outcome.why();
  std::string text;
  for (const auto& at : triggers.watch.reached()) text += fmt::format("{}\n", at ? at->count() : -1);
  return text;
}

void note_reached(const std::string& scenario, const std::string& said, std::vector<FaultRow>& rows) {
  std::istringstream in(said);
  for (FaultRow& row : rows) {
    row.told = true;
    std::int64_t ns = -1;
    if (!(in >> ns) || ns < 0) continue;
    const Time at{ns};
    row.reached.push_back(ns == 0 ? scenario : fmt::format("{} at {}", scenario, format_span(at)));
    if (ns == 0 || at >= row.earliest_at) continue;
    row.earliest_at = at;
    row.earliest = row.reached.back();
  }
}

/// What is asked of each scenario that can be run; nothing, and said why, if one cannot.
std::optional<std::vector<session::RunRequest>> tries(const Arguments& arguments, const check::Loaded& loaded) {
  const program::Program& p = *loaded.program;
  std::vector<session::RunRequest> requests;
  for (std::size_t s = 0; s < p.scenarios.size(); ++s) {
    if (!p.scenarios[s].needs.empty()) continue;
    session::RunRequest r;
    r.bench = session::bench_of(loaded, folder_of(arguments.words[0]));
    r.evidence.judged = false;
    r.plan.scenario = static_cast<std::int32_t>(s);
    r.plan.setting = arguments.value(Option::setting).value_or("");
    r.plan.longest = std::chrono::hours(24);  // a scenario that never ends is not tried to its end
    r.plan.native = engine::NativeSettings::usual();
    if (!read_seed(arguments, r.plan.seed)) return std::nullopt;
    if (const auto trouble = bench::trouble_with(p, r.plan)) return say_error(trouble->text()), std::nullopt;
    requests.push_back(std::move(r));
  }
  return requests;
}

/// Every scenario once, healthy; false, and said why, if one cannot run.
bool try_scenarios(const Arguments& arguments, const check::Loaded& loaded, std::vector<FaultRow>& rows) {
  const program::Program& p = *loaded.program;
  for (FaultRow& row : rows) row.reached.clear();
  const auto requests = tries(arguments, loaded);
  if (!requests) return false;
  ProgressLine progress;
  std::size_t done = 0;
  const auto show = [&] {
    progress.draw(static_cast<double>(done) / static_cast<double>(requests->size()), "trying scenarios");
  };
  show();
  const std::size_t at_once = session::runs_beside(p, arguments.value(Option::setting).value_or("")) ? 0 : 1;
  const auto said = session::in_workers(
      requests->size(), at_once, [&](std::size_t i) { return try_scenario((*requests)[i]); },
      [&](std::size_t, session::Piece&) {
        ++done;
        show();
        return true;
      });
  progress.clear();
  for (std::size_t i = 0; i < said.size(); ++i) {
    const std::string& scenario = program::at(p.scenarios, (*requests)[i].plan.scenario).name;
    if (!said[i].done) return say_error("scenario " + scenario + " could not be tried: " + said[i].said), false;
    if (said[i].said.starts_with("!")) return say_error(said[i].said.substr(1)), false;
    note_reached(scenario, said[i].said, rows);
  }
  return true;
}

/// "all" where every scenario that can be run gets there; with times, the earliest of them.
std::string reached_text(const FaultRow& r, const program::Program& p) {
  const auto runnable = static_cast<std::size_t>(std::count_if(
      p.scenarios.begin(), p.scenarios.end(), [](const program::Scenario& s) { return s.needs.empty(); }));
  if (r.reached.size() < std::max<std::size_t>(runnable, 3)) {
    if (r.reached.size() <= 3) return listed(r.reached, "none");
    return fmt::format("{}, {} and {} more", r.reached[0], r.reached[1], r.reached.size() - 2);
  }
  return r.earliest.empty() ? "all" : "all, first " + r.earliest;
}

/// What the named runs say of each fault; false, and said, if one cannot be opened or is of another bench.
bool note_runs(const Arguments& arguments, const program::Program& p, std::vector<FaultRow>& rows,
               std::vector<std::string>& remarks) {
  const std::vector<std::string> folders(arguments.words.begin() + 1, arguments.words.end());
  const auto runs = open_runs(folders);
  if (!runs) return false;
  for (const session::RunFolder& run : *runs) {
    if (run.program->name == p.name) continue;
    say_error(fmt::format("{} is a run of bench {}, not of {}", run.path, run.program->name, p.name));
    return false;
  }
  std::vector<std::string> called;
  for (const std::string& folder : folders)
    called.push_back(std::filesystem::path(folder + "/.").parent_path().filename());
  const present::Trace trace = present::trace_of(*runs);
  for (const present::TraceFault& f : trace.faults) {
    const auto row = std::find_if(rows.begin(), rows.end(), [&](const FaultRow& r) { return r.name == f.name; });
    if (row == rows.end()) continue;
    row->acted = !f.acted.empty();
    row->caught_by = present::caught_text(f, called);
  }
  remarks = present::caught_remarks(trace, called);
  return true;
}

void print_rows(const program::Program& p, const std::vector<FaultRow>& rows, bool tried, bool with_runs,
                const std::vector<std::string>& remarks) {
  std::vector<TextTable::Column> columns{
      {"Fault"}, {"On"}, {"Kind"}, {"Trigger"}, {tried ? "Triggered in" : "Within reach of"}, {"Named by"}};
  if (with_runs) columns.push_back({"Caught by"});
  columns.push_back({"Description"});
  TextTable table(columns);
  std::size_t open = 0, unnamed = 0, unreached = 0;
  for (const FaultRow& r : rows) {
    open += r.told ? 0 : 1;
    unnamed += r.requirements.empty() ? 1 : 0;
    unreached += r.told && r.reached.empty() ? 1 : 0;
    std::vector<std::string> cells{
        r.name, r.place, r.kind, r.trigger, r.told ? reached_text(r, p) : "?", listed(r.requirements, "nothing")};
    if (with_runs) cells.push_back(!r.acted ? "did not act" : r.caught_by.empty() ? "nothing" : r.caught_by);
    cells.push_back(r.description);
    table.row(cells);
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  std::string closing = counted(rows.size(), "fault");
  if (unnamed > 0) closing += fmt::format("; {} that no requirement names", unnamed);
  if (unreached > 0) closing += fmt::format("; {} that no scenario gets to", unreached);
  say(closing + ".");
  for (const std::string& r : remarks) say(r);
  if (!with_runs)
    say("Which requirements a fault breaks takes runs with it: name their folders after the bench, or `isodyne "
        "trace`.");
  if (open > 0)
    say(fmt::format("Whether conditions come true takes a run: with --try, every scenario is run once, healthy."));
}

}  // namespace

int run_faults(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const program::Program& p = *loaded.program;
  std::vector<FaultRow> rows;
  for (const program::Fault& f : p.faults) {
    FaultRow row{f.name, program::place_of(p, f), program::fault_word(f.kind), f.when_text,
                 f.doc,  present::naming(p, f)};
    if (!f.amount_text.empty()) row.kind += " " + f.amount_text;
    without_a_try(p, f, row);
    rows.push_back(std::move(row));
  }
  const bool tried = arguments.has(Option::try_), with_runs = arguments.words.size() > 1;
  std::vector<std::string> remarks;
  if (with_runs && !note_runs(arguments, p, rows, remarks)) return kWrongInput;
  if (tried && !try_scenarios(arguments, loaded, rows)) return kNotCompleted;
  if (arguments.has(Option::json)) {
    Json list = Json::array();
    for (const FaultRow& r : rows) {
      Json j{
          {"fault", r.name}, {"on", r.place}, {"kind", r.kind}, {"trigger", r.trigger}, {"named_by", r.requirements}};
      if (with_runs) j["acted"] = r.acted, j["caught_by"] = r.caught_by;
      j["scenarios"] = r.told ? Json(r.reached) : Json(nullptr);
      j["description"] = r.description;
      list.push_back(std::move(j));
    }
    say(list.dump(2, ' ', false, Json::error_handler_t::replace));
  } else if (arguments.has(Option::csv)) {
    put(stdout, csv_line({"fault", "on", "kind", "trigger", "named by", "scenarios", "caught by", "description"}));
    for (const FaultRow& r : rows)
      put(stdout, csv_line({r.name, r.place, r.kind, r.trigger, listed(r.requirements, ""),
                            r.told ? listed(r.reached, "") : "?", r.caught_by, r.description}));
  } else {
    print_rows(p, rows, tried, with_runs, remarks);
  }
  return kHeld;
}

}  // namespace isodyne::app
