// search: runs that look for the worst case of a requirement.

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "interruption.h"
#include "isodyne/core/csv.h"
#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/session/case_views.h"
#include "isodyne/session/search.h"
#include "plans.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"
#include "typed.h"

namespace isodyne::app {

namespace {

using session::SearchResult;
using session::SearchRun;
using Align = TextTable::Align;

/// --over, by the rules of what a campaign varies; with the numbers of `bench`.
bool read_ranges(const Arguments& arguments, const session::Bench& bench, program::Campaign& ranges) {
  std::string text;
  for (const std::string& over : arguments.values(Option::over)) text += "  vary " + over + "\n";
  if (text.empty()) return true;
  if (bench.program->scenarios.empty()) return say_error("the bench has no scenario to look through"), false;
  const auto own = with_text(bench,
                             fmt::format("campaign looked_through {{\n{}  scenario {}\n  draw 1 by random\n}}\n", text,
                                         bench.program->scenarios.front().name),
                             "--over");
  if (own == nullptr) return false;
  for (const program::Campaign::Vary& v : own->campaigns.back().varied) {
    const program::Variable& variable = own->variable(v.what);
    const program::VarId here = bench.program->find(variable.name);
    if (!v.range) return say_error(fmt::format("--over {}: it has to be a range, from A to B", variable.name)), false;
    if (here == program::kNone) return say_error(fmt::format("`{}` is not in this bench", variable.name)), false;
    ranges.varied.push_back({here, {}, v.range});
  }
  return true;
}

bool read_faults(const Arguments& arguments, session::SearchWish& wish) {
  const program::Program& p = *wish.bench->program;
  const auto add = [&](std::int32_t f) {
    if (std::find(wish.faults.begin(), wish.faults.end(), f) == wish.faults.end()) wish.faults.push_back(f);
  };
  for (const std::string& name : arguments.values(Option::fault)) {
    const auto f = fault_named(p, name);
    if (!f) return false;
    add(*f);
  }
  if (wish.faults.empty()) {
    for (const auto& v : wish.own->varied) {
      const std::int32_t f = program::fault_of_setting(p, v.what);
      if (f != program::kNone) add(f);
    }
  }
  wish.faults_at_once = wish.faults.empty() ? 0 : 1;
  if (!read_whole(arguments, Option::faults, 8, wish.faults_at_once)) return false;
  if (arguments.has(Option::faults) && wish.faults.empty()) {
    for (std::size_t f = 0; f < p.faults.size(); ++f) add(static_cast<std::int32_t>(f));
  }
  for (const auto& v : wish.own->varied) {
    const std::int32_t f = program::fault_of_setting(p, v.what);
    if (f == program::kNone || std::find(wish.faults.begin(), wish.faults.end(), f) != wish.faults.end()) continue;
    return say_error(fmt::format("--over {}: fault {} is not among those that --fault names", p.variable(v.what).name,
                                 at(p.faults, f).name)),
           false;
  }
  return true;
}

bool read_wish(const Arguments& arguments, session::SearchWish& wish) {
  const program::Program& p = *wish.bench->program;
  std::vector<std::string> names;
  for (const program::Requirement& r : p.requirements) names.push_back(r.name);
  const auto it = std::find(names.begin(), names.end(), arguments.words[1]);
  if (it == names.end()) {
    const auto meant = did_you_mean(arguments.words[1], names);
    return say_error(fmt::format("there is no requirement `{}`; {}", arguments.words[1],
                                 meant ? *meant : "there are: " + listed(names, "none"))),
           false;
  }
  wish.requirement = static_cast<std::int32_t>(it - names.begin());
  if (at(p.requirements, wish.requirement).by_review)
    return say_error(fmt::format("{} is judged by review: no run shows a margin of it", *it)), false;
  auto ranges = std::make_shared<program::Campaign>();
  if (!read_ranges(arguments, *wish.bench, *ranges)) return false;
  wish.own = ranges;
  if (!read_faults(arguments, wish)) return false;
  for (const std::string& name : arguments.values(Option::scenario)) {
    const auto s = scenario_named(p, name);
    if (!s) return false;
    wish.scenarios.push_back(*s);
  }
  for (std::size_t s = 0; s < p.scenarios.size() && !arguments.has(Option::scenario); ++s) {
    if (p.scenarios[s].needs.empty()) wish.scenarios.push_back(static_cast<std::int32_t>(s));
  }
  return read_whole(arguments, Option::runs, 1'000'000, wish.runs) && read_seed(arguments, wish.seed) &&
         read_setting(arguments, p, wish.setting) && read_answer_within(arguments, wish.answer_within) &&
         read_whole(arguments, Option::jobs, 64, wish.jobs);
}

std::string margin_of(const session::SearchWish& wish, const SearchRun& run) {
  const session::SummaryRow* row =
      session::row_of(run.result, at(wish.bench->program->requirements, wish.requirement).name);
  return row == nullptr ? "" : row->margin_text();
}

std::string breach_of(const session::SearchWish& wish, const SearchRun& run) {
  const session::SummaryRow* row =
      session::row_of(run.result, at(wish.bench->program->requirements, wish.requirement).name);
  return row == nullptr || !row->first_breach_s ? "" : format_number(*row->first_breach_s) + " s";
}

/// What stands beside the name of a number in a run.
std::string number_of(const session::SearchWish& wish, const SearchRun& run, std::size_t i) {
  const program::Program& p = *wish.bench->program;
  const program::VarId id = wish.own->varied[i].what;
  return std::isnan(run.of.values[i]) ? "as it is" : p.format(id, run.of.values[i]);
}

/// One below the other: as it was found, and as plain as it could be made.
void show_runs(const session::SearchWish& wish, const std::vector<std::pair<std::string, const SearchRun*>>& runs) {
  std::vector<TextTable::Column> columns{{""}};
  for (const auto& [title, run] : runs) columns.push_back({title});
  TextTable table(columns);
  const auto line = [&](const std::string& name, const std::function<std::string(const SearchRun&)>& text) {
    std::vector<std::string> cells{name};
    for (const auto& [title, run] : runs) cells.push_back(text(*run));
    table.row(std::move(cells));
  };
  line("scenario", [](const SearchRun& r) { return r.result.scenario; });
  line("faults", [](const SearchRun& r) { return r.result.faults.empty() ? "none" : r.result.faults; });
  const program::Program& p = *wish.bench->program;
  for (std::size_t i = 0; i < wish.own->varied.size(); ++i)
    line(p.variable(wish.own->varied[i].what).name, [&](const SearchRun& r) { return number_of(wish, r, i); });
  line("margin", [&](const SearchRun& r) { return margin_of(wish, r); });
  const bool broken = std::any_of(runs.begin(), runs.end(), [](const auto& r) { return r.second->broken; });
  if (broken) line("broken at", [&](const SearchRun& r) { return breach_of(wish, r); });
  const bool remarks =
      std::any_of(runs.begin(), runs.end(), [](const auto& r) { return !r.second->result.why.empty(); });
  if (remarks) line("remark", [](const SearchRun& r) { return r.result.why; });
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

/// What was looked through: what is not in it, nobody has looked at.
void say_extent(const session::SearchWish& wish, const SearchResult& made) {
  const program::Program& p = *wish.bench->program;
  std::string numbers, faults, scenarios;
  for (const auto& v : wish.own->varied)
    list_on(numbers, fmt::format("{} from {} to {}", p.variable(v.what).name, p.format(v.what, v.range->first),
                                 p.format(v.what, v.range->second)));
  for (const std::int32_t f : wish.faults) list_on(faults, at(p.faults, f).name);
  for (const std::int32_t s : wish.scenarios) list_on(scenarios, at(p.scenarios, s).name);
  say(fmt::format("Looked through in {}: {}{}{}; scenarios {}; drawn with --seed {}", counted(made.runs.size(), "run"),
                  numbers, numbers.empty() || faults.empty() ? "" : "; ",
                  faults.empty() ? "" : fmt::format("up to {} of the faults {}", wish.faults_at_once, faults),
                  scenarios, wish.seed));
  if (made.without_margin > 0)
    say(fmt::format("{} of them had no margin: the requirement was not put to the test, or the run gave no answer ({})",
                    made.without_margin, made.why_without));
  if (made.fault_missing > 0) say(fmt::format("In {} of them a fault never came", made.fault_missing));
  if (!made.not_as_asked.empty()) say("Not always what was asked for: " + made.not_as_asked);
}

std::string as_csv(const session::SearchWish& wish, const SearchResult& made) {
  const program::Program& p = *wish.bench->program;
  std::vector<std::string> titles{"run", "scenario", "faults"};
  for (const auto& v : wish.own->varied) {
    const program::Variable& variable = p.variable(v.what);
    titles.push_back(variable.unit.text.empty() ? variable.name
                                                : fmt::format("{} [{}]", variable.name, variable.unit.text));
  }
  const std::string& name = at(p.requirements, wish.requirement).name;
  titles.insert(titles.end(), {name, "margin", "outcome of the run", "remark", "run again"});
  std::string text = csv_line(titles);
  for (const SearchRun& r : made.runs) {
    std::vector<std::string> cells{std::to_string(r.of.number), r.result.scenario, r.result.faults};
    for (std::size_t i = 0; i < wish.own->varied.size(); ++i)
      cells.push_back(std::isnan(r.of.values[i])
                          ? ""
                          : format_exact(p.variable(wish.own->varied[i].what).unit.read(r.of.values[i])));
    const session::SummaryRow* row = session::row_of(r.result, name);
    cells.insert(cells.end(), {row == nullptr ? "" : judge::answer_word(row->answer),
                               r.margin ? margin_of(wish, r) : "", r.result.outcome, r.result.why, r.result.command});
    text += csv_line(cells);
  }
  return text;
}

bool write_found(const session::SearchWish& wish, const SearchRun& run, const std::string& out) {
  const program::Program& p = *wish.bench->program;
  std::string faults;
  for (const std::int32_t f : run.of.faults) faults += " --fault " + at(p.faults, f).name;
  const std::string text = fmt::format(
                               "# Breaks {}: margin {}, first at {}. Found by `isodyne search` with --seed {}.\n"
                               "# To be run with{}: isodyne run BENCH worst_case{}{}\n\n",
                               at(p.requirements, wish.requirement).name, margin_of(wish, run), breach_of(wish, run),
                               wish.seed, faults.empty() ? "out faults" : " its faults", faults,
                               (wish.setting.empty() ? "" : " --setting " + wish.setting) +
                                   (wish.seed == 1 ? "" : fmt::format(" --seed {}", wish.seed))) +
                           session::scenario_text(wish, run.of, "worst_case");
  const Status written = write_new_file(out, text);
  if (!written) return say_error(written.failure().text()), false;
  say_aside(fmt::format("Written to {}, which the bench may `use`", out));
  return true;
}

}  // namespace

int run_search(const Arguments& arguments) {
  const check::Loaded loaded = load_file(arguments.words[0]);
  print_diagnostics(loaded, arguments.words[0]);
  if (loaded.program == nullptr) return kWrongInput;
  session::SearchWish wish;
  wish.bench = session::bench_of(loaded, folder_of(arguments.words[0]));
  if (!read_wish(arguments, wish)) return kWrongInput;
  if (!at(wish.bench->program->requirements, wish.requirement).has_margin())
    say_aside(fmt::format("{} has no margin, so there is no way to go towards its edge: cases are drawn, and no more",
                          arguments.words[1]));
  note_interruptions();
  ProgressLine progress;
  const auto result = session::search(wish, [&](const session::SearchNews& n) {
    if (progress.due())
      progress.draw(static_cast<double>(n.done) / static_cast<double>(std::max<std::size_t>(1, n.all)),
                    fmt::format("{} of {} runs, {}", n.done, n.all,
                                n.shrinking ? "making it plainer"
                                : n.least   ? fmt::format("least margin {:.4g}", *n.least)
                                            : "no margin yet"));
    return !interrupted();
  });
  progress.clear();
  if (!result) return say_error(result.failure().text()), kWrongInput;
  const SearchResult& made = *result;
  const std::string& name = at(wish.bench->program->requirements, wish.requirement).name;
  if (arguments.has(Option::csv)) {
    put(stdout, as_csv(wish, made));
  } else if (made.anyway) {
    say(fmt::format("{} is broken as it is, before anything was changed: {}", name, made.anyway->result.command));
  } else if (made.found) {
    say(fmt::format("{} is broken: found in run {}; {} more to make it plainer.", name, made.found_after,
                    made.shrinking_runs));
    show_runs(wish, {{"Found", &*made.found}, {"Plainer", &*made.plain}});
    say("Again, from inside the folder of the bench: " + made.plain->result.command);
    say_extent(wish, made);
  } else if (made.least) {
    say(fmt::format("{} was not broken. That is no proof: what lies between the runs, nobody has seen.", name));
    show_runs(wish, {{"Least margin", &*made.least}});
    say_extent(wish, made);
  } else {
    say_error(fmt::format("{} was put to the test in no run ({}), so nothing was looked for", name, made.why_without));
  }
  if (made.stopped) say_aside("Not all were run.");
  const auto out = arguments.value(Option::out);
  if (out && made.plain && !write_found(wish, *made.plain, *out)) return kNotCompleted;
  if (out && !made.plain) say_aside(fmt::format("{} was not written: there is nothing to write", *out));
  if (made.found || made.anyway) return kBroken;
  return made.stopped || !made.least ? kNotCompleted : kHeld;
}

}  // namespace isodyne::app
