#include "isodyne/session/failure_table.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/engine/running_plant.h"

namespace isodyne::session {

using program::FailureModes;
using program::Program;
using program::Type;

namespace {

constexpr std::pair<FailureResult, const char*> kWords[] = {
    {FailureResult::mitigated, "mitigated"},     {FailureResult::detected, "detected"},
    {FailureResult::missed, "missed"},           {FailureResult::harmless, "harmless"},
    {FailureResult::not_reached, "not reached"}, {FailureResult::no_answer, "no answer"}};

constexpr const char* kRunMark = "run_";

/// "A, B; C": names.
std::vector<std::string> split(const std::string& text) {
  std::vector<std::string> all;
  std::string word;
  for (const char c : text + ",") {
    if (c != ',' && c != ';' && c != '\n') {
      word += c;
      continue;
    }
    word = trimmed(word);
    if (!word.empty()) all.push_back(word);
    word.clear();
  }
  return all;
}

/// Of the texts of a bench in any order, and not of its controllers' code.
std::uint64_t number_of(const Bench& bench) {
  auto sources = bench.sources;
  std::sort(sources.begin(), sources.end());
  std::uint64_t hash = fnv1a("");
  for (const auto& [name, text] : sources) hash = fnv1a("\n" + name + "\n" + text, hash);
  return hash;
}

/// Where a number with its unit behind it, "2e-6 1/h" or "50%", has its unit.
std::size_t end_of_number(const std::string& text) {
  std::size_t at = 0;
  const auto digit = [&](std::size_t i) { return i < text.size() && text[i] >= '0' && text[i] <= '9'; };
  const auto sign = [&](std::size_t i) { return i < text.size() && (text[i] == '+' || text[i] == '-'); };
  if (sign(at)) ++at;
  while (digit(at) || (at < text.size() && (text[at] == '.' || text[at] == ','))) ++at;
  const bool power = at < text.size() && (text[at] == 'e' || text[at] == 'E');
  if (power && (digit(at + 1) || (sign(at + 1) && digit(at + 2)))) {
    at += 2;
    while (digit(at)) ++at;
  }
  return at;
}

/// What stands in a column of values, in SI; or why it is none.
Result<double> value_of(const Program& p, program::VarId id, const std::string& text, bool decimal_comma) {
  const program::Variable& v = p.variable(id);
  const auto wrong = [&](const std::string& why) { return Failure{fmt::format("`{}` in {}", text, v.name), "", why}; };
  double value = 0;
  if (v.type.kind == Type::Kind::boolean) {
    const std::string word = lower_case(text);
    for (const char* yes : {"yes", "true", "x", "1"}) {
      if (word == yes) return 1.0;
    }
    for (const char* no : {"no", "false", "-", "0"}) {
      if (word == no) return 0.0;
    }
    return wrong("yes or no stand there");
  }
  if (v.type.kind == Type::Kind::choice) {
    const auto& labels = at(p.choices, v.type.choice).labels;
    const auto label = std::find(labels.begin(), labels.end(), text);
    if (label != labels.end()) return static_cast<double>(label - labels.begin());
    return wrong(did_you_mean(text, labels).value_or("it can be " + listed(labels)));
  }
  const std::size_t behind = end_of_number(text);
  const auto number = csv_number(text.substr(0, behind), decimal_comma);
  if (!number) return wrong("that is no number");
  const std::string unit = trimmed(text.substr(behind));
  const auto given = unit.empty() ? std::optional(v.unit) : parse_unit(unit);
  if (!given || given->dimension != v.unit.dimension)
    return wrong(fmt::format("its unit is {}", v.unit.text == "1" ? "none" : v.unit.text));
  value = *number * given->factor + given->offset;
  if (v.type.kind == Type::Kind::integer && value != std::floor(value)) return wrong("whole numbers stand there");
  if (v.limits && !(value >= v.limits->first && value <= v.limits->second))
    return wrong(fmt::format("it can be {} to {}", p.format(id, v.limits->first), p.format(id, v.limits->second)));
  return value;
}

class Reader {
 public:
  Reader(const Bench& bench, const FailureModes& of) : p_(*bench.program), of_(of) {
    table_.name = of.name, table_.of = &of, bench_ = number_of(bench);
    for (const FailureModes::Column& c : of.typed) {
      if (c.computed) table_.computed.push_back(c.name);
    }
    if (of.columns != nullptr) plant_.emplace(of.columns);
  }

  Result<FailureTable> run(const Csv* file) {
    for (const FailureModes::Row& row : of_.rows) written_here(row);
    if (file != nullptr) {
      if (auto trouble = from_file(*file)) return *trouble;
    }
    for (FailureRow& row : table_.rows) row.cells.resize(table_.titles.size());
    return std::move(table_);
  }

 private:
  std::size_t title(const std::string& text) {
    const auto known = std::find_if(table_.titles.begin(), table_.titles.end(),
                                    [&](const std::string& t) { return plain_title(t) == plain_title(text); });
    if (known != table_.titles.end()) return static_cast<std::size_t>(known - table_.titles.begin());
    table_.titles.push_back(text);
    return table_.titles.size() - 1;
  }

  void written_here(const FailureModes::Row& r) {
    FailureRow row;
    row.name = r.name;
    for (const auto& [column, text] : r.cells) {
      const std::size_t at = title(column);
      row.cells.resize(std::max(row.cells.size(), at + 1));
      row.cells[at] = text;
    }
    take(std::move(row), false);
  }

  std::optional<Failure> from_file(const Csv& csv) {
    const auto wrong = [&](const std::string& why) {
      return Failure{"cannot read the failure modes", of_.file, why, Failure::Kind::wrong_input};
    };
    if (!csv.trouble.empty()) return wrong(fmt::format("{} (line {})", csv.trouble, csv.trouble_line));
    if (csv.rows.empty()) return wrong("it has no line of titles");
    std::vector<std::size_t> places;
    std::optional<std::size_t> name, result, result_of;
    std::set<std::string> met;
    for (std::size_t i = 0; i < csv.rows[0].fields.size(); ++i) {
      const std::string& text = csv.rows[0].fields[i].text;
      const std::string plain = plain_title(text);
      if (!plain.empty() && !met.insert(plain).second)
        return wrong(fmt::format("two of its columns are called `{}`", text));
      if (plain == "row" || plain == "id") name = i;
      if (plain == "run_result") result = i;
      if (plain == "run_of") result_of = i;
      const bool ours = plain.empty() || plain == "row" || plain == "id" || plain.starts_with(kRunMark) ||
                        contains(table_.computed, plain);
      places.push_back(ours ? FailureRow::kNowhere : title(text));
    }
    if (const std::string why = lacking(met); !why.empty()) return wrong(why);
    for (std::size_t r = 1; r < csv.rows.size(); ++r) {
      const CsvRow& record = csv.rows[r];
      FailureRow row;
      row.at_record = r;
      row.name = name ? record.text(*name) : "";
      if (row.name.empty()) row.name = fmt::format("line {}", record.line);
      if (result) row.was = record.text(*result);
      if (result_of) row.was_of = record.text(*result_of);
      row.cells.resize(table_.titles.size());
      for (std::size_t i = 0; i < places.size(); ++i) {
        if (places[i] != FailureRow::kNowhere) row.cells[places[i]] = record.text(i);
      }
      const auto behind =
          record.fields.begin() + static_cast<std::ptrdiff_t>(std::min(places.size(), record.fields.size()));
      if (std::any_of(behind, record.fields.end(), [](const CsvField& f) { return !f.text.empty(); }))
        row.wrong.push_back(fmt::format("it has {} columns, and {} have a title", record.fields.size(), places.size()));
      take(std::move(row), csv.decimal_comma());
    }
    return std::nullopt;
  }

  /// What has to be there is not, or has a title that is nearly the one that is looked for, and would be a text of
  /// people without a word.
  std::string lacking(const std::set<std::string>& met) const {
    const std::vector<std::string> titles(met.begin(), met.end());
    std::vector<std::string> needed{"fault"};
    for (const FailureModes::Column& c : of_.typed) {
      if (!c.computed) needed.push_back(c.name);
    }
    for (const std::string& one : needed) {
      if (met.contains(plain_title(one))) continue;
      return fmt::format("none of its columns is called `{}`; there are {}", one, listed(titles, "none with a title"));
    }
    for (const char* link : {"scenario", "requirement", "noticed_by"}) {
      const auto near = met.contains(link) ? std::nullopt : closest(link, titles);
      if (near && !contains(needed, *near))
        return fmt::format("one of its columns is called `{}`; `{}` would be understood", *near, link);
    }
    return "";
  }

  void take(FailureRow row, bool decimal_comma) {
    if (!names_.insert(row.name).second) row.wrong.push_back("another row has the same name");
    links(row);
    values(row, decimal_comma);
    std::string text;
    for (const char* link : {"fault", "scenario", "requirement", "noticed by"}) text += "\n" + table_.cell(row, link);
    row.of =
        fmt::format("bench {:016x}", fnv1a(text, bench_));  // with a word in front it is no number for spreadsheets
    table_.rows.push_back(std::move(row));
  }

  template <typename Things>
  std::optional<std::int32_t> find(FailureRow& row, const Things& all, const std::string& word, const char* what) {
    std::vector<std::string> known;
    for (std::size_t i = 0; i < all.size(); ++i) {
      if (all[i].name == word) return static_cast<std::int32_t>(i);
      known.push_back(all[i].name);
    }
    const auto meant = did_you_mean(word, known);
    row.wrong.push_back(fmt::format("there is no {} `{}`{}", what, word, meant ? "; " + *meant : ""));
    return std::nullopt;
  }

  void links(FailureRow& row) {
    for (const std::string& word : split(table_.cell(row, "fault"))) {
      if (const auto f = find(row, p_.faults, word, "fault")) row.faults.push_back(*f);
    }
    const auto scenarios = split(table_.cell(row, "scenario"));
    row.scenario = of_.scenario;
    if (scenarios.size() > 1) row.wrong.emplace_back("a row is run in one scenario; make a second row for the other");
    if (scenarios.size() == 1)
      row.scenario = find(row, p_.scenarios, scenarios[0], "scenario").value_or(program::kNone);
    if (row.scenario != program::kNone && !at(p_.scenarios, row.scenario).needs.empty())
      row.wrong.push_back(fmt::format("scenario `{}` needs a value for `{}`", at(p_.scenarios, row.scenario).name,
                                      at(p_.scenarios, row.scenario).needs));
    if (scenarios.empty() && row.scenario == program::kNone && !row.faults.empty())
      row.wrong.emplace_back("nothing says in which scenario: a column `scenario`, or `scenario NAME` in the table");
    for (const std::string& word : split(table_.cell(row, "requirement"))) requirement(row, word);
    if (table_.cell(row, "requirement").empty()) row.requirements = of_.requirements;
    for (const std::string& word : split(table_.cell(row, "noticed by"))) {
      const program::VarId id = p_.find(word);
      if (id == program::kNone || p_.variable(id).type.kind != Type::Kind::boolean)
        row.wrong.push_back(fmt::format("noticed by `{}`: the bench has no truth of that name", word));
      else
        row.noticed.push_back(id);
    }
    if (table_.cell(row, "noticed by").empty()) row.noticed = of_.noticed;
  }

  void requirement(FailureRow& row, const std::string& word) {
    const std::size_t before = row.requirements.size();
    for (std::size_t i = 0; i < p_.requirements.size(); ++i) {
      if (p_.requirements[i].name == word || p_.requirements[i].name.starts_with(word + "/"))
        row.requirements.push_back(static_cast<std::int32_t>(i));
    }
    if (row.requirements.size() == before) (void)find(row, p_.requirements, word, "requirement");
  }

  void values(FailureRow& row, bool decimal_comma) {
    if (!plant_) return;
    std::vector<std::pair<program::VarId, double>> given;
    std::set<program::VarId> known;
    bool good = true;
    for (const FailureModes::Column& c : of_.typed) {
      const std::string& text = table_.cell(row, c.name);
      if (c.computed || text.empty()) continue;
      const auto value = value_of(*of_.columns, c.id, text, decimal_comma);
      if (!value) row.wrong.push_back(value.failure().text());
      good = good && value;
      if (value) given.emplace_back(c.id, *value), known.insert(c.id);
    }
    engine::PlantState state = plant_->start(given);
    if (good) plant_->settle(state);
    for (const FailureModes::Column& c : of_.typed) {
      if (!c.computed) continue;
      const bool whole = good && std::all_of(c.computed_from.begin(), c.computed_from.end(),
                                             [&](program::VarId id) { return known.contains(id); });
      row.computed.push_back(whole ? of_.columns->format(c.id, state[c.id]) : "");
    }
  }

  const Program& p_;
  const FailureModes& of_;
  FailureTable table_;
  std::uint64_t bench_ = 0;
  std::set<std::string> names_;
  std::optional<engine::RunningPlant> plant_;
};

}  // namespace

const char* failure_word(FailureResult result) {
  for (const auto& [r, word] : kWords) {
    if (r == result) return word;
  }
  return "";
}

std::optional<FailureResult> failure_named(const std::string& text) {
  for (const auto& [r, word] : kWords) {
    if (text == word) return r;
  }
  return std::nullopt;
}

std::string plain_title(const std::string& title) {
  std::string plain;
  for (const char c : lower_case(trimmed(title))) plain += c == ' ' || c == '-' || c == '\n' ? '_' : c;
  return plain;
}

const std::string& FailureTable::cell(const FailureRow& row, const std::string& title) const {
  static const std::string kNothing;
  for (std::size_t i = 0; i < titles.size() && i < row.cells.size(); ++i) {
    if (plain_title(titles[i]) == plain_title(title)) return row.cells[i];
  }
  return kNothing;
}

Result<FailureTable> read_failures(const Bench& bench, const FailureModes& of, const Csv* file) {
  return Reader(bench, of).run(file);
}

std::vector<std::string> faults_without_row(const Program& program, const std::vector<FailureTable>& tables) {
  std::set<std::int32_t> met;
  for (const FailureTable& t : tables) {
    for (const FailureRow& r : t.rows) met.insert(r.faults.begin(), r.faults.end());
  }
  std::vector<std::string> names;
  for (std::size_t i = 0; i < program.faults.size(); ++i) {
    if (!met.contains(static_cast<std::int32_t>(i))) names.push_back(program.faults[i].name);
  }
  return names;
}

void take_earlier(FailureTable& table, const Csv& written) {
  if (written.rows.empty()) return;
  std::optional<std::size_t> name, result, result_of;
  for (std::size_t i = 0; i < written.rows[0].fields.size(); ++i) {
    const std::string plain = plain_title(written.rows[0].fields[i].text);
    if (plain == "row" || plain == "id") name = i;
    if (plain == "run_result") result = i;
    if (plain == "run_of") result_of = i;
  }
  if (!name || !result) return;
  std::map<std::string, const CsvRow*> was;
  for (std::size_t r = 1; r < written.rows.size(); ++r) was[written.rows[r].text(*name)] = &written.rows[r];
  for (FailureRow& row : table.rows) {
    const auto known = was.find(row.name);
    if (known == was.end()) continue;
    row.was = known->second->text(*result);
    row.was_of = result_of ? known->second->text(*result_of) : "";
  }
}

std::string written_into(const std::string& text, const Csv& csv,
                         const std::vector<std::pair<std::size_t, WrittenCells>>& cells) {
  std::vector<std::string> titles, fresh;
  for (const CsvField& f : csv.rows.at(0).fields) titles.push_back(plain_title(f.text));
  std::map<std::size_t, std::map<std::string, std::string>> of;
  for (const auto& [record, written] : cells) {
    for (const auto& [title, value] : written) {
      of[record][plain_title(title)] = value;
      if (contains(titles, plain_title(title))) continue;
      titles.push_back(plain_title(title));
      fresh.push_back(title);
    }
  }
  const std::size_t had = titles.size() - fresh.size();
  const auto as_field = [&](const std::string& value) {
    std::string line = csv_line({value}, csv.separator);
    line.pop_back();
    return line;
  };
  std::string out;
  std::size_t at = 0;
  const auto put = [&](std::size_t begin, std::size_t end, const std::string& value) {
    out.append(text, at, begin - at);
    out += value;
    at = end;
  };
  for (std::size_t r = 0; r < csv.rows.size(); ++r) {
    const CsvRow& row = csv.rows[r];
    const auto written = of.find(r);
    if (r > 0 && written == of.end()) continue;
    std::size_t end = row.fields.back().end;
    for (std::size_t i = 0; i < row.fields.size() && r > 0; ++i) {
      const bool place = i < had || (i < titles.size() && row.fields[i].text.empty());  // separators without titles
      const auto value = place ? written->second.find(titles[i]) : written->second.end();
      if (value != written->second.end()) put(row.fields[i].begin, row.fields[i].end, as_field(value->second));
    }
    std::string more;
    for (std::size_t i = row.fields.size(); i < titles.size(); ++i) {
      more += csv.separator;
      if (r == 0) {
        more += as_field(fresh[i - had]);
      } else if (const auto value = written->second.find(titles[i]); value != written->second.end()) {
        more += as_field(value->second);
      }
    }
    if (!more.empty()) put(std::max(at, end), std::max(at, end), more);
  }
  return out + text.substr(at);
}

}  // namespace isodyne::session
