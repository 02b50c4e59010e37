#include "case_tables.h"

#include <charconv>
#include <map>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/session/cases.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using session::CaseResult;
using session::MeasureRow;
using session::SummaryRow;

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

void CaseCounts::add(const CaseResult& r) {
  ++cases;
  ++outcomes_[r.outcome];
  broken = broken || session::is_broken(r);
  if (!r.whole && ++not_whole == 1) first_not_whole_ = fmt::format("case {}: {}", r.number, r.why);
  if (r.whole && !r.why.empty() && ++odd_ == 1) first_odd_ = fmt::format("case {}: {}", r.number, r.why);
  for (const SummaryRow& row : r.rows) {
    if (!of_.contains(row.name)) order_.push_back(row.name);
    of_[row.name].add(r.number, row);
  }
}

void CaseCounts::say_summary(const session::CaseBookKey& key) const {
  TextTable table({{"Requirement"},
                   {"Held", TextTable::Align::right},
                   {"Broken", TextTable::Align::right},
                   {"Undecided", TextTable::Align::right},
                   {"Not tested", TextTable::Align::right},
                   {"Worst margin", TextTable::Align::right},
                   {"In case", TextTable::Align::right},
                   {"Meaning"}});
  for (const std::string& name : order_) {
    const session::RequirementCounts& o = of_.at(name);
    table.row({name, std::to_string(o.held), std::to_string(o.broken), std::to_string(o.undecided),
               std::to_string(o.not_tested), o.worst.margin_text(),
               o.worst_case == 0 ? "–" : std::to_string(o.worst_case), session::meaning_of(key, name)});
  }
  if (!order_.empty()) put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  say(fmt::format("{} of {} cases of campaign {}: {}", cases, key.count, key.campaign,
                  session::outcomes_text(outcomes_)));
}

void CaseCounts::say_doubts() const {
  if (not_whole > 0)
    say_error(fmt::format("{} did not come to the end; {}", counted(not_whole, "case"), first_not_whole_));
  if (odd_ > 0) say_error(fmt::format("{} not as asked for; {}", counted(odd_, "case"), first_odd_));
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
  TextTable measures({{"Measure"},
                      {"Stretches", TextTable::Align::right},
                      {"Least", TextTable::Align::right},
                      {"Greatest", TextTable::Align::right},
                      {"Did not happen", TextTable::Align::right}});
  const auto text = [](const std::optional<double>& v, const std::string& unit) {
    return v ? format_number(*v) + (unit == "1" ? "" : " " + unit) : "–";
  };
  for (const MeasureRow& m : r.measures)
    measures.row({m.name, std::to_string(m.stretches), text(m.least, m.unit), text(m.greatest, m.unit),
                  std::to_string(m.missed)});
  if (!r.measures.empty()) put(stdout, measures.text(width_of(stdout), colours_on(stdout)));
  say("Again, in the folder of the bench:");
  say("  " + r.command);
}

namespace {
/// Of the case that has the most: one that could not be run has none.
std::vector<MeasureRow> most_measures(const session::CaseList& cases) {
  const auto most = std::max_element(cases.begin(), cases.end(), [](const CaseResult* a, const CaseResult* b) {
    return a->measures.size() < b->measures.size();
  });
  return (*most)->measures;
}
}  // namespace

void say_csv(const session::CaseBookKey& key, const session::CaseList& cases) {
  std::vector<std::string> fields{"case", "scenario", "faults", "setting"};
  for (const auto& [name, unit] : key.varied) fields.push_back(unit.empty() ? name : name + " [" + unit + "]");
  for (const char* one : {"outcome", "whole", "why", "simulated [s]"}) fields.emplace_back(one);
  const auto requirements = session::requirements_of(cases);
  for (const auto& [name, unit] : requirements) {
    fields.push_back(name);
    fields.push_back(fmt::format("{} margin [{}]", name, unit.empty() ? "1" : unit));
    fields.push_back(fmt::format("{} first broken [s]", name));
  }
  const std::vector<MeasureRow> measures = cases.empty() ? std::vector<MeasureRow>{} : most_measures(cases);
  for (const MeasureRow& m : measures) {
    fields.push_back(fmt::format("{} least [{}]", m.name, m.unit));
    fields.push_back(fmt::format("{} greatest [{}]", m.name, m.unit));
    fields.push_back(m.name + " missed");
  }
  put(stdout, csv_line(fields));
  const auto maybe = [](const std::optional<double>& v) { return v ? format_exact(*v) : std::string(); };
  for (const CaseResult* r : cases) {
    fields = {std::to_string(r->number), r->scenario, r->faults, r->setting};
    for (const double v : r->values) fields.push_back(format_exact(v));
    fields.insert(fields.end(), {r->outcome, r->whole ? "1" : "0", one_line(r->why), format_exact(r->simulated_s)});
    std::map<std::string, const SummaryRow*> rows;
    for (const SummaryRow& row : r->rows) rows[row.name] = &row;
    for (const auto& [name, unit] : requirements) {
      const auto found = rows.find(name);
      const SummaryRow* row = found == rows.end() ? nullptr : found->second;
      fields.emplace_back(row == nullptr ? "" : judge::answer_word(row->answer));
      fields.push_back(row == nullptr ? "" : maybe(row->worst_margin));
      fields.push_back(row == nullptr ? "" : maybe(row->first_breach_s));
    }
    for (const MeasureRow& m : measures) {
      const auto own =
          std::find_if(r->measures.begin(), r->measures.end(), [&](const MeasureRow& o) { return o.name == m.name; });
      const bool there = own != r->measures.end();
      fields.push_back(there ? maybe(own->least) : "");
      fields.push_back(there ? maybe(own->greatest) : "");
      fields.push_back(there ? std::to_string(own->missed) : "");
    }
    put(stdout, csv_line(fields));
  }
}

void say_json(const session::CaseBookKey& key, const session::CaseList& cases) {
  const auto maybe = [](const std::optional<double>& v) { return v ? CheckedJson(*v) : CheckedJson(nullptr); };
  CheckedJson list = CheckedJson::array();
  for (const CaseResult* r : cases) {
    CheckedJson one{{"case", r->number},
                    {"scenario", r->scenario},
                    {"faults", session::faults_of(*r)},
                    {"setting", r->setting},
                    {"outcome", r->outcome},
                    {"whole", r->whole},
                    {"why", r->why},
                    {"simulated_s", r->simulated_s},
                    {"wall_s", r->wall_s},
                    {"command", r->command},
                    {"varied", CheckedJson::array()},
                    {"requirements", CheckedJson::array()},
                    {"measures", CheckedJson::array()}};
    for (std::size_t i = 0; i < key.varied.size(); ++i)
      one["varied"].push_back({{"name", key.varied[i].first}, {"value", r->values[i]}, {"unit", key.varied[i].second}});
    for (const SummaryRow& row : r->rows) {
      one["requirements"].push_back({{"name", row.name},
                                     {"verdict", judge::answer_word(row.answer)},
                                     {"tests", row.tests},
                                     {"worst_margin", maybe(row.worst_margin)},
                                     {"unit", row.margin_unit},
                                     {"worst_at_s", maybe(row.worst_at_s)},
                                     {"first_breach_s", maybe(row.first_breach_s)}});
    }
    for (const MeasureRow& m : r->measures) {
      one["measures"].push_back({{"name", m.name},
                                 {"unit", m.unit},
                                 {"stretches", m.stretches},
                                 {"missed", m.missed},
                                 {"least", maybe(m.least)},
                                 {"greatest", maybe(m.greatest)}});
    }
    list.push_back(std::move(one));
  }
  say(list.dump(2, ' ', false, CheckedJson::error_handler_t::replace));
}

}  // namespace isodyne::app
