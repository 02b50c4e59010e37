// cases: what the cases of a campaign came to.

#include <charconv>
#include <cmath>

#include <fmt/format.h>

#include "case_tables.h"
#include "isodyne/core/text.h"
#include "isodyne/session/campaign.h"
#include "isodyne/session/coverage.h"
#include "isodyne/session/evidence.h"
#include "run_progress.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"
#include "told_run.h"

namespace isodyne::app {

namespace {

using session::CaseBookKey;
using session::CaseList;
using session::CaseResult;
using session::SummaryRow;
using Align = TextTable::Align;

constexpr std::size_t kMostRows = 40;

void show(const TextTable& table) {
  if (!table.empty()) put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

/// What one looks into, in one place.
struct Look {
  const CaseBookKey& key;
  const std::vector<CaseResult>& all;
  CaseList cases;
  std::string requirement;
};

int refuse(const Failure& failure) {
  say_error(failure.text());
  return kWrongInput;
}

/// A number behind `worst` and `near`; nothing, and said: it is none.
std::optional<std::size_t> read_count(const Arguments& arguments, std::size_t otherwise) {
  if (arguments.words.size() < 3) return otherwise;
  const std::string& text = arguments.words[2];
  std::size_t n = 0;
  const auto [rest, trouble] = std::from_chars(text.data(), text.data() + text.size(), n);
  if (trouble == std::errc{} && rest == text.data() + text.size() && n > 0) return n;
  return say_error(fmt::format("`{}` is no number of cases", text)), std::nullopt;
}

void say_more(std::size_t shown, std::size_t all) {
  if (all > shown) say(fmt::format("{} more: --csv gives all", all - shown));
}

int list_cases(const Look& look) {
  if (look.cases.empty()) return say("No case is so."), kHeld;
  TextTable table(
      look.requirement.empty()
          ? std::vector<TextTable::Column>{{"Case", Align::right}, {"Outcome"}, {"Broken"}, {"Factors"}}
          : std::vector<TextTable::Column>{{"Case", Align::right}, {"Verdict"}, {"Margin", Align::right}, {"Factors"}});
  for (std::size_t i = 0; i < std::min(kMostRows, look.cases.size()); ++i) {
    const CaseResult& r = *look.cases[i];
    if (!look.requirement.empty()) {
      const SummaryRow* row = session::row_of(r, look.requirement);
      table.row({std::to_string(r.number), row == nullptr ? r.outcome : judge::answer_word(row->answer),
                 row == nullptr ? "–" : row->margin_text(), factors_text(look.key, r)});
      continue;
    }
    std::string broken;
    for (const SummaryRow& row : r.rows) {
      if (row.answer == judge::Answer::broken) list_on(broken, row.name);
    }
    table.row({std::to_string(r.number), r.outcome, broken.empty() ? "–" : broken, factors_text(look.key, r)});
  }
  show(table);
  say_more(kMostRows, look.cases.size());
  return kHeld;
}

/// `near`: those that are not broken.
int list_nearest(const Look& look, bool near, std::size_t most) {
  const auto how = session::nearness(look.all);
  CaseList cases = look.cases;
  std::erase_if(cases, [&](const CaseResult* r) {
    const session::Nearness& n = how.at(r->number);
    if (n.row == nullptr || !session::is_answer(*r)) return true;
    return near && (session::is_broken(*r) || !std::isfinite(n.share));
  });
  std::stable_sort(cases.begin(), cases.end(), [&](const CaseResult* a, const CaseResult* b) {
    return how.at(a->number).share < how.at(b->number).share;
  });
  if (cases.empty()) return say(near ? "None has a margin and is not broken." : "None has a margin."), kHeld;
  TextTable table({{"Case", Align::right},
                   {"Nearest"},
                   {"Verdict"},
                   {"Margin", Align::right},
                   {"In its spread", Align::right},
                   {"Factors"}});
  for (std::size_t i = 0; i < std::min(most, cases.size()); ++i) {
    const CaseResult& r = *cases[i];
    const session::Nearness& n = how.at(r.number);
    table.row({std::to_string(r.number), n.row->name, judge::answer_word(n.row->answer), n.row->margin_text(),
               std::isfinite(n.share) ? fmt::format("{:.3g}", n.share) : "–", factors_text(look.key, r)});
  }
  show(table);
  say_aside("In its spread: the margin in standard deviations of that requirement's margins over all cases.");
  return kHeld;
}

int list_groups(const Look& look, const std::string& by) {
  const auto groups = session::groups_by(look.key, look.cases, by);
  if (!groups) return refuse(groups.failure());
  const bool one = !look.requirement.empty();
  TextTable table(one ? std::vector<TextTable::Column>{{by},
                                                       {"Cases", Align::right},
                                                       {"Held", Align::right},
                                                       {"Broken", Align::right},
                                                       {"Undecided", Align::right},
                                                       {"Not tested", Align::right},
                                                       {"Worst margin", Align::right}}
                      : std::vector<TextTable::Column>{{by},
                                                       {"Cases", Align::right},
                                                       {"Not broken", Align::right},
                                                       {"Broken", Align::right},
                                                       {"No answer", Align::right},
                                                       {"Share broken", Align::right}});
  for (const session::CaseGroup& g : *groups) {
    const std::string cases = std::to_string(g.cases.size());
    if (one) {
      session::RequirementCounts c;
      for (const CaseResult* r : g.cases) {
        if (const SummaryRow* row = session::row_of(*r, look.requirement)) c.add(r->number, *row);
      }
      table.row({g.name, cases, std::to_string(c.held), std::to_string(c.broken), std::to_string(c.undecided),
                 std::to_string(c.not_tested), c.worst.margin_text()});
      continue;
    }
    std::size_t answers = 0, broken = 0;
    for (const CaseResult* r : g.cases) {
      answers += session::is_answer(*r) ? 1 : 0;
      broken += session::is_broken(*r) ? 1 : 0;
    }
    const double share = 100.0 * static_cast<double>(broken) / static_cast<double>(answers);
    table.row({g.name, cases, std::to_string(answers - broken), std::to_string(broken),
               std::to_string(g.cases.size() - answers), answers == 0 ? "–" : fmt::format("{:.0f} %", share)});
  }
  show(table);
  if (by == "fault") say_aside("A case with two faults counts with each.");
  return kHeld;
}

int say_why(const Look& look) {
  const auto all = session::effects(look.key, look.cases, look.requirement);
  if (all.empty()) {
    say("Nothing to explain: where an answer is known, " +
        std::string(
            std::any_of(look.cases.begin(), look.cases.end(), [](const auto* r) { return session::is_broken(*r); })
                ? "all or none are broken, or no factor differs."
                : "none is broken."));
    return kHeld;
  }
  TextTable table({{"Factor"},
                   {"Explains", Align::right},
                   {"Most where it is"},
                   {"Broken then", Align::right},
                   {"Else", Align::right},
                   {"By chance", Align::right}});
  std::string others;
  for (const session::Effect& e : all) {
    if (e.share <= 0) {
      list_on(others, e.factor);
      continue;
    }
    const auto of = [](std::size_t part, std::size_t whole) { return fmt::format("{} of {}", part, whole); };
    table.row({e.factor, fmt::format("{:.1f} %", 100 * e.share), e.value, of(e.with, e.of_with),
               of(e.without, e.of_without), e.chance < 1e-4 ? "< 0.01 %" : fmt::format("{:.2g} %", 100 * e.chance)});
  }
  show(table);
  if (!others.empty()) say("No more than by chance: " + others);
  say_aside(
      "Explains: how much of the difference between broken and not goes with the factor. By chance: how likely so much "
      "is\n"
      "where it does not matter; among many factors some are low by chance alone.");
  return kHeld;
}

/// One case as a run with all evidence, and whether it came to the same.
int repeat(const Arguments& arguments, const CaseBookKey& key, const CaseResult& was) {
  const std::string file = arguments.value(Option::bench).value_or(key.file);
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  session::CaseSource source;
  source.bench = session::bench_of(loaded, folder_of(file));
  auto request = session::request_again(key, source, was);
  if (!request) return refuse(request.failure());
  const auto folder = session::make_run_folder(arguments.value(Option::out).value_or(""), session::name_of(*request));
  if (!folder) return refuse(folder.failure());
  request->evidence.folder = *folder;
  RunProgress progress(*request);
  const session::RunOutcome outcome = session::run(*request, {&progress});
  const int status = tell_run(outcome, arguments, *request->bench);
  if (!outcome.summary) return status;
  CaseResult is = was;
  session::take_outcome(outcome, is);
  const std::string other = session::unlike(was, is);
  if (other.empty()) return say_aside(fmt::format("The same as case {}, to the bit.", was.number)), status;
  say_error(fmt::format("case {} came to something else: {}", was.number, other));
  return kNotCompleted;
}

/// What no case came to comes first, then how much of each kind was.
int say_coverage(const Look& look) {
  session::CoverageSum sum(look.key);
  for (const CaseResult* r : look.cases) sum.add(*r);
  constexpr std::size_t kMost = 20;
  TextTable table({{"Of"}, {"Met", Align::right}, {"All", Align::right}, {"Share", Align::right}});
  for (const session::Coverage& c : sum.all()) {
    const std::string kind = session::kind_text(c.kind);
    table.row({kind, std::to_string(c.met), std::to_string(c.all),
               fmt::format("{:.1f} %", std::floor(1000 * c.share()) / 10)});
    if (c.missing.empty()) continue;
    say(fmt::format("No case came to, of {}:", kind));
    for (std::size_t i = 0; i < std::min(kMost, c.missing.size()); ++i) say("  " + c.missing[i]);
    if (c.missing.size() > kMost) say(fmt::format("  and {} more", c.missing.size() - kMost));
  }
  show(table);
  return kHeld;
}

/// What is asked for in two ways at once, or is about something else.
bool fits_together(const Arguments& arguments, const std::string& what) {
  const auto wrong = [](const std::string& text) { return say_error(text), false; };
  for (const Option option : {Option::bench, Option::out, Option::no_report, Option::strict}) {
    if (what != "repeat" && arguments.has(option)) return wrong(fmt::format("{} is about `repeat`", spelled(option)));
  }
  for (const Option option :
       {Option::requirement, Option::where, Option::sort, Option::by, Option::case_, Option::csv}) {
    if (what == "repeat" && arguments.has(option))
      return wrong(fmt::format("{} is not about `repeat`", spelled(option)));
  }
  for (const Option option : {Option::csv, Option::by, Option::json}) {
    if (!what.empty() && what != "repeat" && arguments.has(option))
      return wrong(fmt::format("{} is about cases that are listed: leave out `{}`", spelled(option), what));
  }
  const int ways = (arguments.has(Option::csv) ? 1 : 0) + (arguments.has(Option::by) ? 1 : 0) +
                   (arguments.has(Option::json) ? 1 : 0) + (arguments.has(Option::case_) ? 1 : 0);
  return ways <= 1 || wrong("--csv, --json, --by and --case are ways to print: choose one");
}

int look_closer(const Arguments& arguments, Look& look) {
  const std::string what = arguments.words.size() > 1 ? arguments.words[1] : "";
  if (what == "worst" || what == "near") {
    const auto most = read_count(arguments, 10);
    return most ? list_nearest(look, what == "near", *most) : kWrongInput;
  }
  if (what == "why") {
    if (arguments.words.size() > 2) look.requirement = arguments.words[2];
    return say_why(look);
  }
  if (what == "coverage") return say_coverage(look);
  if (!what.empty()) {
    say_error(fmt::format("`{}` is nothing to look for; there are: worst, near, why, coverage, repeat", what));
    return kWrongInput;
  }
  if (arguments.has(Option::csv)) return say_csv(look.key, look.cases), kHeld;
  if (arguments.has(Option::json)) return say_json(look.key, look.cases), kHeld;
  if (const auto by = arguments.value(Option::by)) return list_groups(look, *by);
  return list_cases(look);
}

const CaseResult* case_of(const std::vector<CaseResult>& all, const std::string& text) {
  const auto numbers = read_numbers(text);
  if (!numbers) return nullptr;
  for (const CaseResult& r : all) {
    if (r.number == numbers->front()) return &r;
  }
  say_error(fmt::format("case {} is not there", text));
  return nullptr;
}

}  // namespace

int run_cases(const Arguments& arguments) {
  if (!fits_together(arguments, arguments.words.size() > 1 ? arguments.words[1] : "")) return kWrongInput;
  const auto book = session::CaseBook::read(arguments.words[0]);
  if (!book) return refuse(book.failure());
  const auto all = (*book)->all();
  if (!all) return say_error(all.failure().text()), kNotCompleted;
  const CaseBookKey& key = (*book)->key();
  const bool again = arguments.words.size() > 1 && arguments.words[1] == "repeat";
  if (again && arguments.words.size() < 3) return say_error("repeat takes the number of a case"), kWrongInput;
  if (again || arguments.has(Option::case_)) {
    const CaseResult* one = case_of(*all, again ? arguments.words[2] : *arguments.value(Option::case_));
    if (one == nullptr) return kWrongInput;
    return again ? repeat(arguments, key, *one) : (say_case(key, *one), kHeld);
  }
  Look look{key, *all, session::list_of(*all), arguments.value(Option::requirement).value_or("")};
  const std::string why = arguments.words.size() > 2 && arguments.words[1] == "why" ? arguments.words[2] : "";
  for (const std::string& name : {look.requirement, why}) {
    const bool known = name.empty() || std::any_of(all->begin(), all->end(), [&](const CaseResult& r) {
                         return session::row_of(r, name) != nullptr;
                       });
    if (known) continue;
    std::vector<std::string> names;
    for (const auto& [requirement, unit] : session::requirements_of(look.cases)) names.push_back(requirement);
    const auto meant = did_you_mean(name, names);
    say_error(fmt::format("nothing is known of a requirement `{}`; {}", name,
                          meant ? *meant : "there are: " + listed(names, "none")));
    return kWrongInput;
  }
  if (!look.requirement.empty()) {
    std::erase_if(look.cases, [&](const CaseResult* r) { return session::row_of(*r, look.requirement) == nullptr; });
    session::worst_first(look.cases, look.requirement);
  }
  if (const auto where = arguments.value(Option::where)) {
    auto found = session::cases_where(key, look.cases, *where);
    if (!found) return refuse(found.failure());
    look.cases = std::move(*found);
  }
  if (const auto sort = arguments.value(Option::sort)) {
    if (const Status sorted = session::sort_cases(key, look.cases, *sort); !sorted) return refuse(sorted.failure());
  }
  const bool closer = arguments.words.size() > 1 || !look.requirement.empty() || arguments.has(Option::where) ||
                      arguments.has(Option::sort) || arguments.has(Option::by) || arguments.has(Option::csv) ||
                      arguments.has(Option::json);
  if (closer) return look_closer(arguments, look);
  CaseCounts counts;
  for (const CaseResult& r : *all) counts.add(r);
  counts.say_summary(key);
  counts.say_doubts();
  return kHeld;
}

}  // namespace isodyne::app
