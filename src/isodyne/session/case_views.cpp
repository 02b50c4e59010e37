#include "isodyne/session/case_views.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <set>

#include <fmt/format.h>
#include <boost/math/distributions/chi_squared.hpp>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/core/units.h"

namespace isodyne::session {

namespace {

/// What a case has in a column: any of the words, or a number; nothing where it has none.
struct Cell {
  std::vector<std::string> words;
  std::optional<double> number;
};

struct Column {
  std::string unit;  ///< of numbers
  bool numbers = false;
  std::function<Cell(const CaseResult&)> of;
};

const MeasureRow* measure_of(const CaseResult& result, const std::string& name) {
  const auto found = std::find_if(result.measures.begin(), result.measures.end(),
                                  [&](const MeasureRow& row) { return row.name == name; });
  return found == result.measures.end() ? nullptr : &*found;
}

Cell word(std::string text) {
  return {{std::move(text)}, std::nullopt};
}

std::optional<Column> column_named(const CaseBookKey& key, const CaseList& all, const std::string& name) {
  if (name == "case")
    return Column{"", true, [](const CaseResult& r) { return Cell{{}, static_cast<double>(r.number)}; }};
  if (name == "scenario") return Column{"", false, [](const CaseResult& r) { return word(r.scenario); }};
  if (name == "setting") return Column{"", false, [](const CaseResult& r) { return word(r.setting); }};
  if (name == "outcome") return Column{"", false, [](const CaseResult& r) { return word(r.outcome); }};
  if (name == "fault") {
    return Column{"", false, [](const CaseResult& r) {
                    Cell cell{faults_of(r), std::nullopt};
                    if (cell.words.empty()) cell.words = {"none"};
                    return cell;
                  }};
  }
  for (std::size_t i = 0; i < key.varied.size(); ++i) {
    if (key.varied[i].first == name)
      return Column{key.varied[i].second, true, [i](const CaseResult& r) { return Cell{{}, r.values[i]}; }};
  }
  for (const char* end : {".least", ".greatest"}) {
    if (!name.ends_with(end)) continue;
    const std::string measure = name.substr(0, name.size() - std::string(end).size());
    const bool least = end == std::string(".least");
    for (const CaseResult* r : all) {
      const MeasureRow* row = measure_of(*r, measure);
      if (row == nullptr) continue;
      return Column{row->unit == "1" ? "" : row->unit, true, [measure, least](const CaseResult& one) -> Cell {
                      const MeasureRow* own = measure_of(one, measure);
                      return own == nullptr ? Cell{} : Cell{{}, least ? own->least : own->greatest};
                    }};
    }
  }
  const bool margin = name.ends_with(".margin");
  const std::string requirement = margin ? name.substr(0, name.size() - 7) : name;
  for (const CaseResult* r : all) {
    const SummaryRow* row = row_of(*r, requirement);
    if (row == nullptr) continue;
    return Column{margin ? row->margin_unit : "", margin, [requirement, margin](const CaseResult& one) -> Cell {
                    const SummaryRow* own = row_of(one, requirement);
                    if (own == nullptr) return {};
                    return margin ? Cell{{}, own->worst_margin} : word(judge::answer_word(own->answer));
                  }};
  }
  return std::nullopt;
}

Failure no_column(const CaseBookKey& key, const CaseList& all, const std::string& name) {
  std::vector<std::string> known{"case", "scenario", "fault", "setting", "outcome"};
  for (const auto& [varied, unit] : key.varied) known.push_back(varied);
  std::set<std::string> requirements;
  for (const CaseResult* r : all) {
    for (const SummaryRow& row : r->rows) requirements.insert(row.name);
  }
  known.insert(known.end(), requirements.begin(), requirements.end());
  const auto meant = did_you_mean(name, known);
  return {fmt::format("there is no column `{}`", name), "",
          meant ? *meant
                : "there are: " + listed(known, "none") +
                      ", and `.margin` of each requirement, `.least` and `.greatest` of each measure",
          Failure::Kind::wrong_input};
}

/// A number in the unit of a column.
std::optional<double> number_in(const std::string& text, const std::string& unit) {
  const auto plain = csv_number(text, false);
  if (plain) return *plain;
  const std::size_t space = text.find(' ');
  if (space == std::string::npos) return std::nullopt;
  const auto number = csv_number(text.substr(0, space), false);
  const auto given = parse_unit(text.substr(space + 1)), own = parse_unit(unit.empty() ? "1" : unit);
  if (!number || !given || !own || !(given->dimension == own->dimension)) return std::nullopt;
  return own->read(*number * given->factor + given->offset);
}

struct Condition {
  Column column;
  std::string op, value;
  std::optional<double> number;

  bool holds(const CaseResult& r) const {
    const Cell cell = column.of(r);
    if (!column.numbers) {
      const bool has = contains(cell.words, value);
      return op == "=" ? has : !has;
    }
    if (!cell.number) return false;
    const double a = *cell.number, b = *number;
    // What is printed is rounded, and is to find what it was printed of.
    const bool same = a == b || format_number(a) == format_number(b);
    return op == "="    ? same
           : op == "!=" ? !same
           : op == "<"  ? a < b
           : op == "<=" ? a <= b || same
           : op == ">"  ? a > b
                        : a >= b || same;
  }
};

/// What no case could have is a slip of the pen, and not something that did not happen.
std::optional<Failure> unknown_word(const CaseBookKey& key, const CaseList& all, const std::string& name,
                                    const Condition& c) {
  std::vector<std::string> known;
  const auto add = [&](const std::string& word) {
    if (!contains(known, word)) known.push_back(word);
  };
  for (const CaseFactor& f : key.factors) {
    if (f.name != name) continue;
    for (const std::string& v : f.values) {
      CaseResult r;
      r.faults = v == "none" ? "" : v;
      for (const std::string& word : name == "fault" && v != "none" ? faults_of(r) : std::vector<std::string>{v})
        add(word);
    }
  }
  for (const CaseResult* r : all) {
    for (const std::string& word : c.column.of(*r).words) add(word);
  }
  const bool verdicts =
      std::none_of(key.factors.begin(), key.factors.end(), [&](const CaseFactor& f) { return f.name == name; });
  using judge::Answer;
  for (const Answer a : {Answer::held, Answer::broken, Answer::undecided, Answer::not_tested, Answer::interrupted}) {
    if (verdicts) add(judge::answer_word(a));
  }
  if (contains(known, c.value)) return std::nullopt;
  const auto meant = did_you_mean(c.value, known);
  return Failure{fmt::format("`{}` is nothing that `{}` can be", c.value, name), "",
                 meant ? *meant : "there are: " + listed(known, "none"), Failure::Kind::wrong_input};
}

Result<Condition> read_condition(const CaseBookKey& key, const CaseList& all, const std::string& text) {
  const std::size_t at = text.find_first_of("=<>!");
  if (at == std::string::npos)
    return Failure{fmt::format("`{}` is no condition", text), "",
                   "write for example fault=gate_slow, or L-03.margin < 2", Failure::Kind::wrong_input};
  const std::size_t end = at + (at + 1 < text.size() && text[at + 1] == '=' ? 2 : 1);
  Condition c{{}, text.substr(at, end - at), trimmed(text.substr(end)), std::nullopt};
  const std::string name = trimmed(text.substr(0, at));
  const auto column = column_named(key, all, name);
  if (!column) return no_column(key, all, name);
  c.column = *column;
  if (c.op == "==") c.op = "=";
  if (c.op == "!") c.op = "!=";
  if (!c.column.numbers) {
    if (auto unknown = unknown_word(key, all, name, c)) return *unknown;
  }
  if (!c.column.numbers && c.op != "=" && c.op != "!=")
    return Failure{fmt::format("`{}` has words, which are not greater or less", name), "",
                   "ask with = or !=", Failure::Kind::wrong_input};
  if (c.column.numbers) {
    c.number = number_in(c.value, c.column.unit);
    if (!c.number)
      return Failure{fmt::format("`{}` is no number in {}", c.value, c.column.unit.empty() ? "1" : c.column.unit), "",
                     "", Failure::Kind::wrong_input};
  }
  return c;
}

/// Equal parts of a range, and in which one a number is.
struct Parts {
  double low = 0, high = 0;
  std::size_t count = 1;
  std::size_t of(double v) const {
    const auto part = static_cast<std::size_t>((v - low) / (high - low) * static_cast<double>(count));
    return std::min(part, count - 1);
  }
  std::string name(std::size_t part, const std::string& unit) const {
    const auto border = [&](std::size_t i) {
      return fmt::format("{:.4g}", low + (high - low) * static_cast<double>(i) / static_cast<double>(count));
    };
    return fmt::format("{} .. {}{}", border(part), border(part + 1), unit.empty() ? "" : " " + unit);
  }
};

constexpr std::size_t kManyValues = 12;

/// Groups, each case in those of its words, or in that of its number.
std::vector<CaseGroup> grouped(const Column& column, const CaseList& cases, std::size_t parts) {
  std::vector<CaseGroup> groups;
  if (!column.numbers) {
    std::map<std::string, std::size_t> known;
    for (const CaseResult* r : cases) {
      for (const std::string& w : column.of(*r).words) {
        const auto [at, fresh] = known.emplace(w, groups.size());
        if (fresh) groups.push_back({w, {}});
        groups[at->second].cases.push_back(r);
      }
    }
    return groups;
  }
  std::map<double, CaseList> values;
  for (const CaseResult* r : cases) {
    if (const auto number = column.of(*r).number) values[*number].push_back(r);
  }
  if (values.size() <= kManyValues) {
    for (auto& [value, of] : values)
      groups.push_back({format_number(value) + (column.unit.empty() ? "" : " " + column.unit), std::move(of)});
    return groups;
  }
  const Parts ranges{values.begin()->first, values.rbegin()->first, parts};
  for (std::size_t i = 0; i < parts; ++i) groups.push_back({ranges.name(i, column.unit), {}});
  for (auto& [value, of] : values) {
    CaseList& to = groups[ranges.of(value)].cases;
    to.insert(to.end(), of.begin(), of.end());
  }
  std::erase_if(groups, [](const CaseGroup& g) { return g.cases.empty(); });
  return groups;
}

/// Whether it is broken; nothing: nobody knows.
std::optional<bool> broken_in(const CaseResult& r, const std::string& requirement) {
  if (r.outcome == kNotRun) return std::nullopt;
  if (requirement.empty()) return is_answer(r) ? std::optional(is_broken(r)) : std::nullopt;
  const SummaryRow* row = row_of(r, requirement);
  if (row == nullptr) return std::nullopt;
  if (row->answer == judge::Answer::broken) return true;
  return row->answer == judge::Answer::held ? std::optional(false) : std::nullopt;
}

/// Groups that each case is in one of.
std::optional<Effect> effect_of(const std::string& factor, const std::vector<CaseGroup>& groups,
                                const std::string& requirement) {
  double n = 0, sum = 0, between = 0;
  std::vector<std::pair<double, double>> counts;  // broken, of
  for (const CaseGroup& g : groups) {
    double broken = 0;
    for (const CaseResult* r : g.cases) broken += *broken_in(*r, requirement) ? 1 : 0;
    counts.emplace_back(broken, static_cast<double>(g.cases.size()));
    n += static_cast<double>(g.cases.size()), sum += broken;
  }
  const double k = static_cast<double>(groups.size()), mean = sum / n, total = n * mean * (1 - mean);
  if (groups.size() < 2 || total <= 0 || n <= k) return std::nullopt;
  for (const auto& [broken, of] : counts) between += of * (broken / of - mean) * (broken / of - mean);
  const double within = total - between;
  Effect e;
  e.factor = factor;
  e.share = std::max(0.0, (between - (k - 1) * within / (n - k)) / total);
  const boost::math::chi_squared chi(k - 1);
  e.chance = boost::math::cdf(boost::math::complement(chi, between / (mean * (1 - mean))));
  std::size_t most = 0;
  for (std::size_t i = 1; i < counts.size(); ++i) {
    if (counts[i].first / counts[i].second > counts[most].first / counts[most].second) most = i;
  }
  e.value = groups[most].name;
  e.with = static_cast<std::size_t>(counts[most].first), e.of_with = static_cast<std::size_t>(counts[most].second);
  e.without = static_cast<std::size_t>(sum) - e.with, e.of_without = static_cast<std::size_t>(n) - e.of_with;
  return e;
}

}  // namespace

bool is_broken(const CaseResult& r) {
  return std::any_of(r.rows.begin(), r.rows.end(),
                     [](const SummaryRow& row) { return row.answer == judge::Answer::broken; });
}

bool is_answer(const CaseResult& r) {
  return r.whole || is_broken(r);
}

std::string unlike(const CaseResult& a, const CaseResult& b) {
  const auto all = [](const CaseResult& r) {
    std::map<std::string, std::vector<std::optional<double>>> known;
    for (const SummaryRow& row : r.rows)
      known[row.name] = {static_cast<double>(row.answer), static_cast<double>(row.tests), row.worst_margin,
                         row.first_breach_s};
    for (const MeasureRow& row : r.measures)
      known["measure " + row.name] = {static_cast<double>(row.stretches), static_cast<double>(row.missed), row.least,
                                      row.greatest};
    known["its end"] = {r.simulated_s, r.whole ? 1.0 : 0.0};
    return known;
  };
  const auto one = all(a), two = all(b);
  std::set<std::string> names;
  for (const auto* known : {&one, &two}) {
    for (const auto& [name, values] : *known) names.insert(name);
  }
  std::string text = a.outcome == b.outcome ? "" : fmt::format("{} and {}", a.outcome, b.outcome);
  for (const std::string& name : names) {
    const auto x = one.find(name), y = two.find(name);
    if (x == one.end() || y == two.end() || x->second != y->second) list_on(text, name);
  }
  return text;
}

std::string meaning_of(const CaseBookKey& key, const std::string& requirement) {
  for (const auto& [name, meaning] : key.meanings) {
    if (name == requirement) return one_line(meaning);
  }
  return "";
}

void RequirementCounts::add(std::int64_t number, const SummaryRow& row) {
  using judge::Answer;
  ++(row.answer == Answer::held         ? held
     : row.answer == Answer::broken     ? broken
     : row.answer == Answer::not_tested ? not_tested
                                        : undecided);
  // One that is broken is worse than any that is not, also where no margin says how much.
  const bool broke = row.answer == Answer::broken, was = worst.answer == Answer::broken;
  const bool less = row.worst_margin && (!worst.worst_margin || *row.worst_margin < *worst.worst_margin);
  if (broke != was ? broke : less) worst = row, worst_case = number;
}

std::string outcomes_text(const std::map<std::string, std::size_t>& outcomes) {
  std::string text;
  for (const auto& [outcome, n] : outcomes)
    list_on(text, fmt::format("{} {}{}", n, outcome.starts_with("a ") ? "where " : "", outcome));
  return text.empty() ? "none" : text;
}

std::vector<std::string> faults_of(const CaseResult& result) {
  std::vector<std::string> all;
  for (std::size_t at = 0; at < result.faults.size();) {
    const std::size_t end = std::min(result.faults.find(", ", at), result.faults.size());
    all.push_back(result.faults.substr(at, end - at));
    at = end + 2;
  }
  return all;
}

const SummaryRow* row_of(const CaseResult& result, const std::string& requirement) {
  const auto found = std::find_if(result.rows.begin(), result.rows.end(),
                                  [&](const SummaryRow& row) { return row.name == requirement; });
  return found == result.rows.end() ? nullptr : &*found;
}

CaseList list_of(const std::vector<CaseResult>& all) {
  CaseList list;
  for (const CaseResult& r : all) list.push_back(&r);
  return list;
}

std::vector<std::pair<std::string, std::string>> requirements_of(const CaseList& cases) {
  std::vector<std::pair<std::string, std::string>> found;
  std::map<std::string, std::size_t> known;
  for (const CaseResult* r : cases) {
    for (const SummaryRow& row : r->rows) {
      const auto [at, fresh] = known.emplace(row.name, found.size());
      if (fresh) found.emplace_back(row.name, "");
      if (found[at->second].second.empty()) found[at->second].second = row.margin_unit;
    }
  }
  return found;
}

Result<CaseList> cases_where(const CaseBookKey& key, const CaseList& all, const std::string& text) {
  std::vector<Condition> conditions;
  for (std::size_t at = 0; at <= text.size();) {
    const std::size_t end = std::min(text.find(',', at), text.size());
    const auto condition = read_condition(key, all, trimmed(text.substr(at, end - at)));
    if (!condition) return condition.failure();
    conditions.push_back(*condition);
    at = end + 1;
  }
  CaseList found;
  for (const CaseResult* r : all) {
    if (std::all_of(conditions.begin(), conditions.end(), [&](const Condition& c) { return c.holds(*r); }))
      found.push_back(r);
  }
  return found;
}

void worst_first(CaseList& cases, const std::string& requirement) {
  const auto rank = [&](const CaseResult* r) {
    const SummaryRow* row = row_of(*r, requirement);
    const bool broken = row != nullptr && row->answer == judge::Answer::broken;
    return std::pair(!broken, row != nullptr && row->worst_margin ? *row->worst_margin : HUGE_VAL);
  };
  std::stable_sort(cases.begin(), cases.end(),
                   [&](const CaseResult* a, const CaseResult* b) { return rank(a) < rank(b); });
}

Status sort_cases(const CaseBookKey& key, CaseList& cases, const std::string& name) {
  const bool down = name.ends_with(" down");
  const std::string plain = down ? trimmed(name.substr(0, name.size() - 5)) : name;
  const auto column = column_named(key, cases, plain);
  if (!column) return no_column(key, cases, plain);
  struct Keyed {
    bool none = false;
    double number = 0;
    std::string text;
    const CaseResult* of = nullptr;
  };
  std::vector<Keyed> keyed;
  for (const CaseResult* r : cases) {
    const Cell cell = column->of(*r);
    std::string text;
    for (const std::string& w : cell.words) list_on(text, w);
    keyed.push_back({column->numbers && !cell.number, cell.number.value_or(0), text, r});
  }
  std::stable_sort(keyed.begin(), keyed.end(), [&](const Keyed& a, const Keyed& b) {
    if (a.none != b.none) return b.none;
    if (a.number != b.number) return down ? a.number > b.number : a.number < b.number;
    return down ? a.text > b.text : a.text < b.text;
  });
  for (std::size_t i = 0; i < keyed.size(); ++i) cases[i] = keyed[i].of;
  return Done{};
}

std::map<std::int64_t, Nearness> nearness(const std::vector<CaseResult>& all) {
  std::map<std::string, std::vector<double>> margins;
  for (const CaseResult& r : all) {
    for (const SummaryRow& row : r.rows) {
      if (row.worst_margin) margins[row.name].push_back(*row.worst_margin);
    }
  }
  std::map<std::string, double> spread;
  for (const auto& [name, of] : margins) {
    const double n = static_cast<double>(of.size()), mean = std::accumulate(of.begin(), of.end(), 0.0) / n;
    double squares = 0;
    for (const double m : of) squares += (m - mean) * (m - mean);
    spread[name] = std::sqrt(squares / n);
  }
  std::map<std::int64_t, Nearness> near;
  for (const CaseResult& r : all) {
    Nearness least{HUGE_VAL, nullptr};
    for (const SummaryRow& row : r.rows) {
      if (!row.worst_margin) continue;
      const double s = spread[row.name];
      const double share = s > 0 ? *row.worst_margin / s : *row.worst_margin < 0 ? -HUGE_VAL : HUGE_VAL;
      if (least.row == nullptr || share < least.share) least = {share, &row};
    }
    if (is_broken(r) && least.share > 0) {
      least = {0, nullptr};
      for (const SummaryRow& row : r.rows) {
        if (row.answer == judge::Answer::broken) least.row = &row;
      }
    }
    near[r.number] = least;
  }
  return near;
}

Result<std::vector<CaseGroup>> groups_by(const CaseBookKey& key, const CaseList& cases, const std::string& name) {
  constexpr std::size_t kParts = 8;
  const auto column = column_named(key, cases, name);
  if (!column) return no_column(key, cases, name);
  auto groups = grouped(*column, cases, kParts);
  // Words in the order in which the campaign names them.
  const auto factor =
      std::find_if(key.factors.begin(), key.factors.end(), [&](const CaseFactor& f) { return f.name == name; });
  if (factor == key.factors.end() || column->numbers) return groups;
  std::stable_sort(groups.begin(), groups.end(), [&](const CaseGroup& a, const CaseGroup& b) {
    const auto place = [&](const std::string& v) { return std::find(factor->values.begin(), factor->values.end(), v); };
    return place(a.name) < place(b.name);
  });
  return groups;
}

std::vector<Effect> effects(const CaseBookKey& key, const CaseList& cases, const std::string& requirement) {
  CaseList known;
  for (const CaseResult* r : cases) {
    if (broken_in(*r, requirement)) known.push_back(r);
  }
  std::vector<Effect> all;
  const auto add = [&](const std::string& name, const std::vector<CaseGroup>& groups) {
    if (const auto e = effect_of(name, groups, requirement)) all.push_back(*e);
  };
  constexpr std::size_t kQuarters = 4;
  std::vector<std::string> names{"scenario", "setting"};
  for (const auto& [varied, unit] : key.varied) names.push_back(varied);
  for (const std::string& name : names) {
    if (const auto column = column_named(key, known, name)) add(name, grouped(*column, known, kQuarters));
  }
  // Each fault by itself: with it and without.
  std::set<std::string> faults;
  for (const CaseResult* r : known) {
    for (const std::string& f : faults_of(*r)) faults.insert(f);
  }
  for (const std::string& fault : faults) {
    std::vector<CaseGroup> two{{"with it", {}}, {"without it", {}}};
    for (const CaseResult* r : known) two[contains(faults_of(*r), fault) ? 0 : 1].cases.push_back(r);
    std::erase_if(two, [](const CaseGroup& g) { return g.cases.empty(); });
    add("fault " + fault, two);
  }
  std::stable_sort(all.begin(), all.end(), [](const Effect& a, const Effect& b) { return a.share > b.share; });
  return all;
}

}  // namespace isodyne::session
