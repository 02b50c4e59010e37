// trace: requirements against scenarios and faults over a set of runs, and what nothing covers.

#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/present/trace.h"
#include "named_runs.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

namespace {

Json trace_json(const present::Trace& t) {
  Json all{{"bench", t.bench}, {"runs", Json::array()}, {"requirements", Json::array()}};
  for (const present::TraceRun& r : t.runs)
    all["runs"].push_back({{"folder", r.folder},
                           {"scenario", r.scenario},
                           {"faults", r.faults},
                           {"faults_not_injected", r.not_injected}});
  for (const present::TraceRow& r : t.rows) {
    std::vector<std::string> verdicts;
    for (const auto& a : r.answers) verdicts.emplace_back(a ? judge::answer_word(*a) : "");
    all["requirements"].push_back({{"name", r.requirement},
                                   {"source", r.source},
                                   {"overall", judge::answer_word(r.overall)},
                                   {"verdicts", verdicts},
                                   {"margins", r.margins}});
  }
  all["not_put_to_the_test"] = t.untested;
  all["faults_never_injected"] = t.uninjected;
  all["scenarios_never_played"] = t.unplayed;
  all["faults_that_broke_nothing"] = t.uncaught;
  all["faults_that_nothing_names"] = t.unnamed;
  all["hazards"] = Json::array();
  for (const present::TraceHazard& h : t.hazards) {
    Json one{{"name", h.name}, {"level", h.level}, {"source", h.source}, {"requirements", Json::array()}};
    for (const auto& r : h.requirements)
      one["requirements"].push_back({{"name", r.name},
                                     {"level", r.level},
                                     {"allocated_to", r.allocated},
                                     {"by_review", r.by_review},
                                     {"overall", judge::answer_word(r.overall)}});
    all["hazards"].push_back(std::move(one));
  }
  all["faults"] = Json::array();
  for (const present::TraceFault& f : t.faults) {
    Json one{{"name", f.name}, {"acted_in", Json::array()}, {"named_by", f.named_by}, {"caught_by", Json::array()}};
    const auto folders = [&](const std::vector<std::size_t>& runs) {
      Json list = Json::array();
      for (const std::size_t r : runs) list.push_back(t.runs[r].folder);
      return list;
    };
    one["acted_in"] = folders(f.acted);
    for (const auto& c : f.caught_by)
      one["caught_by"].push_back({{"requirement", c.requirement}, {"runs", folders(c.runs)}});
    all["faults"].push_back(std::move(one));
  }
  return all;
}

using judge::Answer;

const char* sign_of(const std::optional<Answer>& answer) {
  if (!answer) return " ";
  if (answer == Answer::held) return "+";
  if (answer == Answer::broken) return "X";
  return answer == Answer::not_tested ? "-" : "?";
}

/// Who looks for each fault that acted, and what it broke.
void print_faults(const present::Trace& t) {
  TextTable table({{"Fault"}, {"Acted in"}, {"Named by"}, {"Caught by"}});
  bool any = false;
  std::vector<std::string> numbers;
  for (std::size_t r = 0; r < t.runs.size(); ++r) numbers.push_back(std::to_string(r + 1));
  for (const present::TraceFault& f : t.faults) {
    if (f.acted.empty()) continue;
    any = true;
    std::vector<std::string> acted;
    for (const std::size_t r : f.acted) acted.push_back(numbers[r]);
    table.row({f.name, listed(acted, ""), listed(f.named_by, "nothing"),
               f.caught_by.empty() ? "nothing" : present::caught_text(f, numbers)});
  }
  if (!any) return;
  say("");
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  for (const std::string& r : present::caught_remarks(t, numbers)) say(r);
}

/// What keeps each hazard away.
void print_hazards(const present::Trace& t) {
  TextTable table({{"Hazard"}, {"Level"}, {"Requirement"}, {"Level"}, {"Allocated to"}, {"Over all"}});
  for (const present::TraceHazard& h : t.hazards) {
    std::string name = h.name, level = h.level;
    for (const auto& r : h.requirements) {
      table.row({name, level, r.name, r.level, r.allocated, r.by_review ? "by review" : judge::answer_word(r.overall)});
      name.clear(), level.clear();
    }
    if (h.requirements.empty()) table.row({name, level, "none", "", "", ""});
  }
  if (table.empty()) return;
  say("");
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

void print_trace(const present::Trace& t) {
  for (std::size_t i = 0; i < t.runs.size(); ++i) {
    std::string missed;
    for (const std::string& f : t.runs[i].not_injected) missed += (missed.empty() ? "; not injected: " : ", ") + f;
    say(fmt::format("{:>3}  {}{}  ({})", i + 1, t.runs[i].title, missed, t.runs[i].folder));
  }
  say("");
  std::vector<TextTable::Column> columns{{"Requirement"}, {"Over all"}};
  for (std::size_t i = 0; i < t.runs.size(); ++i) columns.push_back({std::to_string(i + 1), TextTable::Align::right});
  columns.push_back({"Meaning"});
  TextTable table(columns);
  for (const present::TraceRow& r : t.rows) {
    std::vector<std::string> cells{r.requirement, judge::answer_word(r.overall)};
    for (const auto& a : r.answers) cells.emplace_back(sign_of(a));
    cells.push_back(r.description);
    table.row(cells, r.overall == Answer::held ? "32" : r.overall == Answer::broken ? "1;31" : "33", 1);
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  say("+ held, X broken, ? undecided, - not put to the test");
  print_faults(t);
  print_hazards(t);
  for (const auto& [what, names] : present::gaps_of(t)) {
    if (!names.empty()) say(fmt::format("{}: {}.", what, listed(names, "")));
  }
}

}  // namespace

int run_trace(const Arguments& arguments) {
  const auto opened = open_runs(arguments.words);
  if (!opened) return kWrongInput;
  const std::vector<session::RunFolder>& runs = *opened;
  for (const session::RunFolder& run : runs) {
    if (run.program->name == runs.front().program->name) continue;
    say_error(fmt::format("{} is a run of bench {}, but {} is one of {}", run.path, run.program->name,
                          runs.front().path, runs.front().program->name));
    return kWrongInput;
  }
  const present::Trace trace = present::trace_of(runs);
  if (const auto out = arguments.value(Option::out)) {
    std::error_code error;
    fs::create_directories(*out, error);
    for (const auto& [name, text] :
         {std::pair{"trace.csv", trace_csv(trace)}, std::pair{"trace.svg", trace_svg(trace)}}) {
      const Status written = write_file((fs::path(*out) / name).string(), text);
      if (!written) {
        say_error(written.failure().text());
        return kNotCompleted;
      }
    }
    say_aside(fmt::format("wrote trace.csv and trace.svg in {}", *out));
  }
  if (arguments.has(Option::json)) {
    say(trace_json(trace).dump(2, ' ', false, Json::error_handler_t::replace));
  } else if (arguments.has(Option::csv)) {
    put(stdout, trace_csv(trace));
  } else {
    print_trace(trace);
  }
  bool broken = false, open = !trace.untested.empty();
  for (const present::TraceRow& r : trace.rows) {
    broken = broken || r.overall == judge::Answer::broken;
    open = open || r.overall != judge::Answer::held;
  }
  return broken || (arguments.has(Option::strict) && open) ? kBroken : kHeld;
}

}  // namespace isodyne::app
