#include "isodyne/session/failure_runs.h"

#include <algorithm>
#include <cmath>
#include <set>
#include <tuple>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/session/case_views.h"

namespace isodyne::session {

using judge::Answer;

namespace {

std::string seconds(double s) {
  return format_number(s) + " s";
}

/// Looks at one failure.
class Finder {
 public:
  Finder(const program::Program& p, const FailureRow& row, const std::vector<program::VarId>& signals,
         const FailureRun& healthy, const FailureRun& failed)
      : p_(p), row_(row), signals_(signals), healthy_(healthy), failed_(failed) {}

  FailureFinding run() {
    f_.command = failed_.result.command;
    if (!comes_to_an_end(healthy_, "without the failure ")) return std::move(f_);
    if (failed_.result.outcome == kNotRun || !failed_.onset) return no_answer(failed_.result.why), std::move(f_);
    if (!began()) return std::move(f_);
    notice();
    requirements();
    decide();
    return std::move(f_);
  }

 private:
  void no_answer(const std::string& why) {
    f_.result = FailureResult::no_answer;
    list_on(f_.why, why, "; ");
  }

  bool comes_to_an_end(const FailureRun& run, const char* which) {
    if (run.result.outcome != kNotRun && run.result.whole && run.onset) return true;
    no_answer(fmt::format("the run {}gives no answer: {}", which,
                          run.result.why.empty() ? run.result.outcome : run.result.why));
    return false;
  }

  bool began() {
    std::string never;
    for (const std::int32_t f : row_.faults) {
      const std::string& name = at(p_.faults, f).name;
      const auto& all = failed_.onset->began;
      const auto it = std::find_if(all.begin(), all.end(), [&](const auto& b) { return b.first == name; });
      if (it == all.end())
        list_on(never, name);
      else
        began_s_ = std::min(began_s_, it->second);
    }
    if (never.empty()) return true;
    f_.result = FailureResult::not_reached;
    f_.why = fmt::format("{} never came", never);
    return false;
  }

  void notice() {
    std::string doubtful;
    for (const program::VarId id : row_.noticed) {
      const auto i = static_cast<std::size_t>(std::find(signals_.begin(), signals_.end(), id) - signals_.begin());
      const auto first = failed_.onset->signals.at(i).first_s;
      const auto healthy = healthy_.onset->signals.at(i).last_s;
      const std::string& name = p_.variable(id).name;
      // Strictly before it could be told apart, but for an instant or two; nobody could use that.
      if (healthy && *healthy >= began_s_) {
        list_on(doubtful, fmt::format("{} comes without the failure too ({})", name, seconds(*healthy)), "; ");
      } else if (first && (!f_.noticed_after_s || *first - began_s_ < *f_.noticed_after_s)) {
        f_.noticed_after_s = *first - began_s_;
        f_.noticed_by = name;
      }
    }
    list_on(f_.why, doubtful, "; ");
  }

  bool is_linked(const SummaryRow& row) const {
    if (row_.requirements.empty()) return true;
    return std::any_of(row_.requirements.begin(), row_.requirements.end(),
                       [&](std::int32_t r) { return at(p_.requirements, r).name == row.name; });
  }

  void requirements() {
    double least = HUGE_VAL;
    for (const SummaryRow& row : failed_.result.rows) {
      if (!is_linked(row)) continue;
      const SummaryRow* without = row_of(healthy_.result, row.name);
      if (row.answer == Answer::broken && without != nullptr && without->answer == Answer::broken) {
        list_on(anyway_, row.name);
        continue;
      }
      if (row.answer == Answer::held) ++tested_;
      if (row.answer == Answer::broken) breach(row);
      // What is open at the end of both runs is open because of the scenario.
      const bool open = row.answer == Answer::undecided || row.answer == Answer::interrupted;
      if (open && !(without != nullptr && without->answer == row.answer)) list_on(open_, row.name);
      margin(row, without, least);
    }
  }

  void breach(const SummaryRow& row) {
    f_.broken.push_back(row.name);
    if (!row.first_breach_s) return;
    const double after = *row.first_breach_s - began_s_;
    if (!f_.broken_after_s || after < *f_.broken_after_s) f_.broken_after_s = after;
  }

  /// The share of its healthy margin that is left; a broken one has none.
  void margin(const SummaryRow& row, const SummaryRow* without, double& least) {
    if (!row.worst_margin) return;
    const double healthy = without != nullptr && without->worst_margin ? *without->worst_margin : 0;
    const double left = row.answer == Answer::broken ? -HUGE_VAL : healthy > 0 ? *row.worst_margin / healthy : HUGE_VAL;
    if (left >= least && !f_.margin.empty()) return;
    least = left;
    f_.margin = row.name + " " + row.margin_text();
    f_.margin_without = healthy > 0 ? without->margin_text() : "";
  }

  void decide() {
    if (!anyway_.empty()) list_on(f_.why, anyway_ + " broken without the failure too: not counted", "; ");
    const bool noticed = !f_.noticed_by.empty();
    if (!f_.broken.empty()) {
      f_.result = noticed ? FailureResult::detected : FailureResult::missed;
      if (noticed && f_.broken_after_s && *f_.broken_after_s <= *f_.noticed_after_s)
        list_on(f_.why, "noticed only after the breach", "; ");
      return;
    }
    if (!failed_.result.whole || tested_ == 0 || !open_.empty()) {
      no_answer(!failed_.result.whole ? "its run did not come to its end: " +
                                            (failed_.result.why.empty() ? failed_.result.outcome : failed_.result.why)
                : tested_ == 0 ? "none of its requirements was put to the test and decided"
                               : open_ + " not decided when the run ended: a longer scenario would tell");
      return;
    }
    f_.result = noticed ? FailureResult::mitigated : FailureResult::harmless;
  }

  const program::Program& p_;
  const FailureRow& row_;
  const std::vector<program::VarId>& signals_;
  const FailureRun &healthy_, &failed_;
  FailureFinding f_;
  double began_s_ = HUGE_VAL;
  std::size_t tested_ = 0;
  std::string anyway_, open_;
};

}  // namespace

FailureFinding found(const program::Program& program, const FailureRow& row, const std::vector<program::VarId>& signals,
                     const FailureRun& healthy, const FailureRun& failed) {
  return Finder(program, row, signals, healthy, failed).run();
}

FailureFindings run_failures(FailureWish wish, const std::vector<FailureTable>& tables,
                             const std::function<bool(const FailureNews&)>& heard) {
  // Scenario, faults, and those of the scenario that must not act.
  using Key = std::tuple<std::int32_t, std::vector<std::int32_t>, std::vector<std::int32_t>>;
  constexpr std::size_t kMany = 30;
  std::map<Key, std::size_t> known;
  std::vector<Case> cases;
  const auto case_of = [&](std::int32_t scenario, const std::vector<std::int32_t>& faults,
                           const std::vector<std::int32_t>& without) {
    const auto [it, fresh] = known.try_emplace({scenario, faults, without}, cases.size());
    const auto number = static_cast<std::int64_t>(cases.size() + 1);
    if (fresh) cases.push_back({number, scenario, faults, wish.setting, {}, without});
    return it->second;
  };
  // A scenario that brings the failure itself is no run without it.
  const auto brought = [&](const FailureRow& row) {
    std::vector<std::int32_t> same;
    for (const std::int32_t f : bench::faults_of(*wish.bench->program, row.scenario)) {
      if (std::find(row.faults.begin(), row.faults.end(), f) != row.faults.end()) same.push_back(f);
    }
    return same;
  };
  struct Place {
    std::size_t table, row, healthy, failed;
  };
  std::vector<Place> places;
  std::set<program::VarId> signals;
  FailureFindings findings;
  for (std::size_t t = 0; t < tables.size(); ++t) {
    findings.of.emplace_back(tables[t].rows.size());
    for (std::size_t r = 0; r < tables[t].rows.size(); ++r) {
      const FailureRow& row = tables[t].rows[r];
      if (!row.wrong.empty() || row.faults.empty()) continue;
      places.push_back({t, r, case_of(row.scenario, {}, brought(row)), case_of(row.scenario, row.faults, {})});
      signals.insert(row.noticed.begin(), row.noticed.end());
    }
  }
  // Without a signal the onset would not be looked at, and when a failure began is asked all the same.
  if (signals.empty()) signals.insert(program::kTime);
  wish.signals.assign(signals.begin(), signals.end());
  wish.many = cases.size() >= kMany;
  const std::size_t jobs = runs_beside(*wish.bench->program, wish.setting) ? wish.jobs : 1;
  std::vector<std::optional<FailureRun>> runs(cases.size());
  findings.alone =
      do_cases(wish, cases, jobs, wish.each_alone, [&](std::size_t i, CaseResult& result, const CaseNews& news) {
        runs[i] = FailureRun{std::move(result), news.onset};
        ++findings.runs;
        const bool more = heard({findings.runs, cases.size()});
        findings.stopped = findings.stopped || (!more && findings.runs < cases.size());
        return more;
      });
  for (const Place& p : places) {
    if (!runs[p.healthy] || !runs[p.failed]) continue;
    findings.of[p.table][p.row] =
        found(*wish.bench->program, tables[p.table].rows[p.row], wish.signals, *runs[p.healthy], *runs[p.failed]);
  }
  return findings;
}

std::string changed_text(const FailureRow& row, const FailureFinding& finding) {
  return row.was.empty() || row.was == failure_word(finding.result) ? "" : "was " + row.was;
}

WrittenCells written_cells(const FailureTable& table, const FailureRow& row, const FailureFinding& f) {
  WrittenCells cells;
  for (std::size_t i = 0; i < table.computed.size(); ++i)
    cells.emplace_back(table.computed[i], i < row.computed.size() ? row.computed[i] : "");
  const auto after = [](const std::optional<double>& s) { return s ? seconds(*s) : ""; };
  cells.insert(cells.end(), {{"run result", failure_word(f.result)},
                             {"run noticed by", f.noticed_by},
                             {"run noticed after", after(f.noticed_after_s)},
                             {"run broken", listed(f.broken)},
                             {"run broken after", after(f.broken_after_s)},
                             {"run least margin", f.margin},
                             {"run margin without", f.margin_without},
                             {"run changed", changed_text(row, f)},
                             {"run remark", f.why},
                             {"run of", row.of},
                             {"run again", f.command}});
  return cells;
}

}  // namespace isodyne::session
