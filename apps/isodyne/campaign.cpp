// campaign: the cases of a campaign are run. cases: what they came to.

#include <atomic>
#include <charconv>
#include <chrono>
#include <csignal>
#include <filesystem>
#include <map>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/session/campaign.h"
#include "plans.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

namespace {

using session::CaseResult;
using session::SummaryRow;
using std::chrono::steady_clock;

std::atomic<bool> g_ended{false};

/// "17,40..60": numbers, in order.
std::optional<std::vector<std::int64_t>> read_numbers(const std::string& text) {
  std::vector<std::int64_t> all;
  const auto wrong = [&] {
    say_error(fmt::format("`{}` are no numbers of cases; write for example 17,40..60", text));
    return std::nullopt;
  };
  const char *at = text.data(), *const end = at + text.size();
  const auto number = [&](std::int64_t& to) {
    const auto [rest, trouble] = std::from_chars(at, end, to);
    at = rest;
    return trouble == std::errc{} && to >= 1 && to <= session::Cases::kMost;
  };
  while (at < end) {
    std::int64_t from = 0, to = 0;
    if (!number(from)) return wrong();
    to = from;
    if (end - at > 2 && at[0] == '.' && at[1] == '.') {
      at += 2;
      if (!number(to) || to < from) return wrong();
    }
    for (; from <= to; ++from) all.push_back(from);
    if (at < end && *at++ != ',') return wrong();
  }
  if (all.empty()) return wrong();
  return all;
}

std::optional<std::size_t> campaign_named(const program::Program& p, const std::string& name) {
  std::vector<std::string> known;
  for (std::size_t i = 0; i < p.campaigns.size(); ++i) {
    if (p.campaigns[i].name == name) return i;
    known.push_back(p.campaigns[i].name);
  }
  const auto meant = did_you_mean(name, known);
  say_error(fmt::format("there is no campaign `{}`; {}", name, meant ? *meant : "there are: " + listed(known, "none")));
  return std::nullopt;
}

std::optional<session::CampaignWish> read_wish(const Arguments& arguments, const check::Loaded& loaded) {
  session::CampaignWish wish;
  const std::string &file = arguments.words[0], &name = arguments.words[1];
  const auto campaign = campaign_named(*loaded.program, name);
  if (!campaign) return std::nullopt;
  wish.campaign = *campaign;
  wish.bench = session::bench_of(loaded, folder_of(file));
  wish.book = arguments.value(Option::out).value_or("campaigns/" + name + ".sqlite");
  wish.kept = std::filesystem::path(wish.book).replace_extension("").string();
  if (wish.kept == wish.book) wish.kept += ".kept";
  if (!read_seed(arguments, wish.seed)) return std::nullopt;
  wish.resume = arguments.has(Option::resume);
  wish.fail_fast = arguments.has(Option::fail_fast);
  if (const auto only = arguments.value(Option::only)) {
    const auto numbers = read_numbers(*only);
    if (!numbers) return std::nullopt;
    wish.only = *numbers;
  }
  if (const auto jobs = arguments.value(Option::jobs)) {
    std::size_t n = 0;
    const auto [rest, trouble] = std::from_chars(jobs->data(), jobs->data() + jobs->size(), n);
    if (trouble != std::errc{} || rest != jobs->data() + jobs->size() || n < 1 || n > 64)
      return say_error(fmt::format("--jobs takes a number from 1 to 64, not `{}`", *jobs)), std::nullopt;
    wish.jobs = n;
  }
  for (const Option option : {Option::budget, Option::answer_within}) {
    const auto text = arguments.value(option);
    if (!text) continue;
    const auto span = read_span(*text);
    if (!span || span->count() <= 0)
      return say_error(fmt::format("`{}` is not a time; write for example \"20 min\"", *text)), std::nullopt;
    if (option == Option::budget)
      wish.budget = *span;
    else
      wish.answer_within =
          std::max(std::chrono::milliseconds(1), std::chrono::duration_cast<std::chrono::milliseconds>(*span));
  }
  return wish;
}

std::string course_text(const session::CampaignCourse& c, steady_clock::time_point begin) {
  if (c.to_keep > 0) return fmt::format("{} of {} recordings", c.kept, c.to_keep);
  const double seconds = std::chrono::duration<double>(steady_clock::now() - begin).count();
  std::string text = fmt::format("{} of {} cases, {} broken", c.done, c.wanted, c.broken);
  if (c.not_run > 0) text += fmt::format(", {} not run", c.not_run);
  if (c.done > 0 && seconds > 0.5) {
    const double rate = static_cast<double>(c.done) / seconds;
    text += fmt::format(", {:.3g} a second, {} left", rate,
                        format_span(std::chrono::seconds(
                            static_cast<std::int64_t>(std::ceil(static_cast<double>(c.wanted - c.done) / rate)))));
  }
  return text;
}

/// What is different from other cases, in a line.
std::string factors_text(const session::CaseBookKey& key, const CaseResult& r) {
  std::string text = r.scenario;
  if (!r.faults.empty()) list_on(text, r.faults);
  if (!r.setting.empty()) list_on(text, r.setting);
  for (std::size_t i = 0; i < key.varied.size(); ++i) {
    const auto& [name, unit] = key.varied[i];
    list_on(text, fmt::format("{} {}{}", name, format_number(r.values[i]), unit.empty() ? "" : " " + unit));
  }
  return text;
}

void say_summary(const session::CaseBookKey& key, const std::vector<CaseResult>& all) {
  struct Of {
    std::size_t held = 0, broken = 0, undecided = 0, not_tested = 0;
    const CaseResult* worst = nullptr;
    bool is_broken = false;
    std::optional<double> margin;
    std::string text;
  };
  std::vector<std::string> order;
  std::map<std::string, Of> of;
  std::map<std::string, std::size_t> outcomes;
  for (const CaseResult& r : all) {
    ++outcomes[r.outcome];
    for (const SummaryRow& row : r.rows) {
      if (!of.contains(row.name)) order.push_back(row.name);
      Of& o = of[row.name];
      using judge::Answer;
      ++(row.answer == Answer::held         ? o.held
         : row.answer == Answer::broken     ? o.broken
         : row.answer == Answer::not_tested ? o.not_tested
                                            : o.undecided);
      // One that is broken is worse than any that is not, also where no margin says how much.
      const bool broken = row.answer == Answer::broken;
      const bool worse =
          broken != o.is_broken ? broken : row.worst_margin && (!o.margin || *row.worst_margin < *o.margin);
      if (!worse) continue;
      o.is_broken = broken, o.margin = row.worst_margin, o.text = row.margin_text(), o.worst = &r;
    }
  }
  TextTable table({{"Requirement"},
                   {"Held", TextTable::Align::right},
                   {"Broken", TextTable::Align::right},
                   {"Undecided", TextTable::Align::right},
                   {"Not tested", TextTable::Align::right},
                   {"Worst margin", TextTable::Align::right},
                   {"In case", TextTable::Align::right}});
  for (const std::string& name : order) {
    const Of& o = of[name];
    table.row({name, std::to_string(o.held), std::to_string(o.broken), std::to_string(o.undecided),
               std::to_string(o.not_tested), o.margin ? o.text : "–",
               o.worst == nullptr ? "–" : std::to_string(o.worst->number)});
  }
  if (!order.empty()) put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  std::string counts;
  for (const auto& [outcome, n] : outcomes)
    list_on(counts, fmt::format("{} {}{}", n, outcome.starts_with("a ") ? "where " : "", outcome));
  say(fmt::format("{} of {} cases of campaign {}: {}", all.size(), key.count, key.campaign,
                  counts.empty() ? "none" : counts));
}

/// What is no answer, and what was not as it was asked for.
void say_doubts(const std::vector<CaseResult>& all) {
  const auto tell = [&](const char* what, const auto& which) {
    const auto count = static_cast<std::size_t>(std::count_if(all.begin(), all.end(), which));
    const auto first = std::find_if(all.begin(), all.end(), which);
    if (count > 0)
      say_error(fmt::format("{} {}; case {}: {}", counted(count, "case"), what, first->number, first->why));
  };
  tell("did not come to the end", [](const CaseResult& r) { return !r.whole; });
  tell("not as asked for", [](const CaseResult& r) { return r.whole && !r.why.empty(); });
}

void say_case(const session::CaseBookKey& key, const CaseResult& r) {
  say(fmt::format("Case {}: {}", r.number, factors_text(key, r)));
  say(r.outcome + (r.why.empty() ? "" : ": " + r.why));
  if (!r.whole) say("It did not come to its end: verdicts are those of what there was of it.");
  TextTable table(
      {{"Requirement"}, {"Verdict"}, {"Margin", TextTable::Align::right}, {"Worst at", TextTable::Align::right}});
  for (const SummaryRow& row : r.rows) {
    const auto at = row.worst_at_s ? time_from_seconds(*row.worst_at_s) : std::nullopt;
    table.row({row.name, judge::answer_word(row.answer), row.margin_text(), at ? format_instant(*at) : "–"});
  }
  if (!r.rows.empty()) put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  say("Again, in the folder of the bench:");
  say("  " + r.command);
}

void say_csv(const session::CaseBookKey& key, const std::vector<CaseResult>& all) {
  std::vector<std::string> requirements, fields{"case", "scenario", "faults", "setting"};
  for (const auto& [name, unit] : key.varied) fields.push_back(unit.empty() ? name : name + " [" + unit + "]");
  for (const CaseResult& r : all) {
    for (const SummaryRow& row : r.rows) {
      if (contains(requirements, row.name)) continue;
      requirements.push_back(row.name);
    }
  }
  for (const char* one : {"outcome", "whole", "why", "simulated [s]"}) fields.emplace_back(one);
  std::map<std::string, std::string> units;
  for (const CaseResult& r : all) {
    for (const SummaryRow& row : r.rows) {
      if (!row.margin_unit.empty()) units[row.name] = row.margin_unit;
    }
  }
  for (const std::string& name : requirements) {
    fields.push_back(name);
    fields.push_back(fmt::format("{} margin [{}]", name, units[name].empty() ? "1" : units[name]));
  }
  put(stdout, csv_line(fields));
  for (const CaseResult& r : all) {
    fields = {std::to_string(r.number), r.scenario, r.faults, r.setting};
    for (const double v : r.values) fields.push_back(format_exact(v));
    fields.insert(fields.end(), {r.outcome, r.whole ? "1" : "0", one_line(r.why), format_exact(r.simulated_s)});
    std::map<std::string, const SummaryRow*> rows;
    for (const SummaryRow& row : r.rows) rows[row.name] = &row;
    for (const std::string& name : requirements) {
      const auto found = rows.find(name);
      fields.emplace_back(found == rows.end() ? "" : judge::answer_word(found->second->answer));
      fields.push_back(
          found == rows.end() || !found->second->worst_margin ? "" : format_exact(*found->second->worst_margin));
    }
    put(stdout, csv_line(fields));
  }
}

}  // namespace

int run_campaign(const Arguments& arguments) {
  const check::Loaded loaded = load_file(arguments.words[0]);
  print_diagnostics(loaded, arguments.words[0]);
  if (loaded.program == nullptr) return kWrongInput;
  const auto wish = read_wish(arguments, loaded);
  if (!wish) return kWrongInput;
  std::signal(SIGINT, [](int) { g_ended = true; });
  std::signal(SIGTERM, [](int) { g_ended = true; });
  ProgressLine progress;
  const auto begin = steady_clock::now();
  const auto course = session::run_campaign(*wish, [&](const session::CampaignCourse& c) {
    const auto whole = static_cast<double>(c.to_keep > 0 ? c.to_keep : c.wanted);
    if (progress.due())
      progress.draw(static_cast<double>(c.to_keep > 0 ? c.kept : c.done) / whole, course_text(c, begin));
    return !g_ended;
  });
  progress.clear();
  if (!course) {
    say_error(course.failure().text());
    return course.failure().kind == Failure::Kind::wrong_input ? kWrongInput : kNotCompleted;
  }
  const auto book = session::CaseBook::read(wish->book);
  const auto all = book ? (*book)->all() : Result<std::vector<CaseResult>>(book.failure());
  if (!all) return say_error(all.failure().text()), kNotCompleted;
  say_summary((*book)->key(), *all);
  say_doubts(*all);
  if (course->kept > 0)
    say(fmt::format("{} kept in {}", counted(static_cast<std::size_t>(course->kept), "recording"), wish->kept));
  if (!course->unlike.empty())
    say_error(
        fmt::format("cases came to something else when they were run again for their recordings, which are of that "
                    "second run: {}; a controller that does not answer the same is no basis for a campaign",
                    course->unlike));
  say(fmt::format("All of it is in {0}: isodyne cases {0}", wish->book));
  const bool rest = course->stopped;
  if (rest) say_aside("Not all were run: the same with --resume goes on.");
  const auto any = [&](const auto& which) { return std::any_of(all->begin(), all->end(), which); };
  if (rest || !course->unlike.empty() || any([](const CaseResult& r) { return !r.whole; })) return kNotCompleted;
  return any(session::is_broken) ? kBroken : kHeld;
}

int run_cases(const Arguments& arguments) {
  const auto book = session::CaseBook::read(arguments.words[0]);
  if (!book) return say_error(book.failure().text()), kWrongInput;
  const std::string requirement = arguments.value(Option::requirement).value_or("");
  const auto all = (*book)->all(requirement);
  if (!all) return say_error(all.failure().text()), kNotCompleted;
  const session::CaseBookKey& key = (*book)->key();
  if (const auto text = arguments.value(Option::case_)) {
    const auto numbers = read_numbers(*text);
    if (!numbers) return kWrongInput;
    for (const CaseResult& r : *all) {
      if (r.number == numbers->front()) return say_case(key, r), kHeld;
    }
    return say_error(fmt::format("case {} is not there", *text)), kWrongInput;
  }
  if (arguments.has(Option::csv)) return say_csv(key, *all), kHeld;
  if (requirement.empty()) {
    say_summary(key, *all);
    say_doubts(*all);
    return kHeld;
  }
  if (all->empty()) return say_error(fmt::format("nothing is known of a requirement `{}`", requirement)), kWrongInput;
  constexpr std::size_t kMostRows = 40;
  TextTable table({{"Case", TextTable::Align::right}, {"Verdict"}, {"Margin", TextTable::Align::right}, {"Factors"}});
  for (std::size_t i = 0; i < std::min(kMostRows, all->size()); ++i) {
    const CaseResult& r = (*all)[i];
    table.row({std::to_string(r.number), judge::answer_word(r.rows[0].answer), r.rows[0].margin_text(),
               factors_text(key, r)});
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  if (all->size() > kMostRows) say(fmt::format("{} more: --csv gives all", all->size() - kMostRows));
  return kHeld;
}

}  // namespace isodyne::app
