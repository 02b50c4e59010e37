#include "failure_templates.h"

#include <algorithm>
#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

struct Template {
  const char* kind;
  std::vector<const char*> titles;  ///< after row, item, failure mode
  const char* columns;              ///< in the language
};

const std::vector<Template>& templates() {
  static const std::vector<Template> kAll{
      {"ratings",
       {"cause", "local effect", "end effect", "severity", "occurrence", "detection", "action"},
       "  ## how bad the end effect is: 10 the worst\n"
       "  param severity : int  from 1 to 10\n"
       "  ## how often the cause comes: 10 all the time\n"
       "  param occurrence : int  from 1 to 10\n"
       "  ## how badly it is noticed: 10 not at all\n"
       "  param detection : int  from 1 to 10\n"
       "  ## risk priority number\n"
       "  let priority = severity * occurrence * detection\n"},
      {"criticality",
       {"cause", "end effect", "rate", "share", "probability", "time"},
       "  ## failure rate of the item\n"
       "  param rate : 1/h\n"
       "  ## share of its failures that are of this mode\n"
       "  param share : %  from 0 % to 100 %\n"
       "  ## that the end effect follows\n"
       "  param probability : %  from 0 % to 100 %\n"
       "  ## in operation\n"
       "  param time : h\n"
       "  ## criticality of the mode\n"
       "  let criticality = rate * share * probability * time\n"},
      {"diagnostics",
       {"cause", "effect", "rate", "share", "dangerous", "coverage"},
       "  ## failure rate of the item\n"
       "  param rate : 1/h\n"
       "  ## share of its failures that are of this mode\n"
       "  param share : %  from 0 % to 100 %\n"
       "  ## whether it keeps the safety function from acting\n"
       "  param dangerous : bool\n"
       "  ## how much of it a diagnostic test finds\n"
       "  param coverage : %  from 0 % to 100 %\n"
       "  let dangerous_detected   = if dangerous then rate * share * coverage else 0 1/h\n"
       "  let dangerous_undetected = if dangerous then rate * share * (1 - coverage) else 0 1/h\n"
       "  let safe                 = if dangerous then 0 1/h else rate * share\n"}};
  return kAll;
}

std::string rows_of(const program::Program& p, const Template& t) {
  std::vector<std::string> titles{"row", "item", "failure mode"};
  titles.insert(titles.end(), t.titles.begin(), t.titles.end());
  for (const char* link : {"fault", "scenario", "requirement", "noticed by"}) titles.emplace_back(link);
  std::string text = csv_line(titles);
  for (std::size_t i = 0; i < p.faults.size(); ++i) {
    std::vector<std::string> row(titles.size());
    row[0] = fmt::format("F-{:02}", i + 1);
    row[1] = program::place_of(p, p.faults[i]);
    row[2] = one_line(p.faults[i].doc);
    row[3 + t.titles.size()] = p.faults[i].name;
    text += csv_line(row);
  }
  return text;
}

}  // namespace

int say_failure_template(const session::Bench& bench, const std::string& kind, const std::string& out) {
  const program::Program& p = *bench.program;
  std::vector<std::string> known;
  for (const Template& t : templates()) known.emplace_back(t.kind);
  const auto t =
      std::find_if(templates().begin(), templates().end(), [&](const Template& one) { return one.kind == kind; });
  if (t == templates().end()) {
    const auto meant = did_you_mean(kind, known);
    say_error(
        fmt::format("--template takes {}, not `{}`{}", listed(known, "", " or "), kind, meant ? "; " + *meant : ""));
    return kWrongInput;
  }
  namespace fs = std::filesystem;
  std::error_code none;  // the bench names it as seen from its own folder
  const std::string file =
      out.empty() ? "failures.csv" : fs::proximate(fs::absolute(out), fs::absolute(bench.place()), none).string();
  say(fmt::format("failure_modes {} from \"{}\" {{", lower_case(p.name), file));
  put(stdout, t->columns);
  say(fmt::format("  scenario {}", p.scenarios.empty() ? "NAME" : p.scenarios[0].name));
  say("  # what tells of a failure: noticed by NAME\n}");
  if (out.empty()) {
    say_aside(fmt::format("--out FILE.csv writes the rows, one for each of {}", counted(p.faults.size(), "fault")));
    return kHeld;
  }
  if (const Status written = write_new_file(out, rows_of(p, *t)); !written) {
    say_error(written.failure().text());
    return kNotCompleted;
  }
  say_aside(fmt::format("{} has a row for each of {}", out, counted(p.faults.size(), "fault")));
  return kHeld;
}

}  // namespace isodyne::app
