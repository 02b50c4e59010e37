#include "isodyne/judge/judge.h"
#include "isodyne/program/quick.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

namespace isodyne::judge {

Judge::Judge(std::shared_ptr<const program::Program> program, Where where, const std::vector<std::int32_t>& only)
    : step_(program->step), gates_(!program->gates.empty()), between_(*program, program::quick_view(*program)) {
  struct Asked {
    std::vector<std::int32_t> requirements, measures;
  };
  std::map<Time, Asked, std::greater<>> asked;  // the bench steps least often
  asked[step_];
  const program::QuickParts quick(*program);
  const auto how_often = [&](const auto& what) {
    return program::asked_at_edges(*program, what) ? Time{} : quick.asked_every(what);
  };
  std::vector<bool> measured(program->measures.size(), only.empty());
  for (std::size_t i = 0; i < program->requirements.size(); ++i) {
    const auto number = static_cast<std::int32_t>(i);
    if (!only.empty() && std::find(only.begin(), only.end(), number) == only.end()) continue;
    asked[how_often(program->requirements[i])].requirements.push_back(number);
    for (const std::int32_t m : program->requirements[i].measures) measured[static_cast<std::size_t>(m)] = true;
  }
  for (std::size_t i = 0; i < program->measures.size(); ++i) {
    if (measured[i]) asked[how_often(program->measures[i])].measures.push_back(static_cast<std::int32_t>(i));
  }
  if (asked.contains(Time{})) at_edge_.resize(program->variables.size());
  for (auto& [every, what] : asked)
    rates_.push_back(
        {every, std::make_unique<RateJudge>(program, std::move(what.requirements), std::move(what.measures), where)});
  broken_.reserve(program->requirements.size());
}

void Judge::begin() {
  broken_.clear();
  measured_.clear();
}

const std::vector<Broken>& Judge::found() {
  std::stable_sort(broken_.begin(), broken_.end(), [](const Broken& a, const Broken& b) { return a.at < b.at; });
  return broken_;
}

void Judge::see(Rate& rate, const observe::Image& image) {
  note(rate.judge->image(image));
  const std::vector<Measured>& fresh = rate.judge->measured();
  if (fresh.empty()) return;
  measured_.insert(measured_.end(), fresh.begin(), fresh.end());
  if (rate.judge != rates_.front().judge) note(of_bench().ask_about(fresh));
}

const std::vector<Broken>& Judge::image(const observe::Image& image) {
  // A recording with the edges of gates has images at these; who is not asked there does not see them.
  const bool at_edge = gates_ && image.at.count() % step_.count() != 0;
  if (rates_.size() == 1 && !at_edge) return of_bench().image(image);
  begin();
  if (rates_.size() == 1) return found();
  const double* held = between_.image(image.variables);
  for (std::size_t r = 1; r < rates_.size(); ++r) {
    if (asks(rates_[r], image.at)) see(rates_[r], {image.at, held});
  }
  std::copy_n(image.variables, at_edge_.size(), at_edge_.begin());
  if (image.at.count() % step_.count() == 0) see(rates_.front(), image);
  return found();
}

const std::vector<Broken>& Judge::rows(const observe::Rows& rows) {
  begin();
  for (std::size_t i = 0; i < rows.count && rates_.size() > 1; ++i) {
    const Time at = rows.at(i);
    const double* held = between_.row(to_seconds(at), rows.row(i));
    for (std::size_t r = 1; r < rates_.size(); ++r) {
      if (rates_[r].every.count() > 0 && asks(rates_[r], at)) see(rates_[r], {at, held});
    }
  }
  return found();
}

/// What changes at one instant changes at once.
const std::vector<Broken>& Judge::edges(const observe::Edges& edges) {
  begin();
  Rate& rate = rates_.back();
  if (rate.every.count() > 0) return found();
  for (std::size_t i = 0; i < edges.list.size();) {
    const Time at = edges.list[i].at;
    for (; i < edges.list.size() && edges.list[i].at == at; ++i)
      at_edge_[static_cast<std::size_t>(edges.list[i].gate)] = edges.list[i].to ? 1 : 0;
    at_edge_[program::kTime] = to_seconds(at);
    see(rate, {at, at_edge_.data()});
  }
  return found();
}

const std::vector<Broken>& Judge::flush() {
  if (rates_.size() == 1) return of_bench().flush();
  begin();
  for (Rate& rate : rates_) note(rate.judge->flush());
  return found();
}

const std::vector<Measured>& Judge::measured() const {
  return rates_.size() == 1 ? rates_.front().judge->measured() : measured_;
}

std::vector<Verdict> Judge::verdicts(observe::Ending ending) {
  begin();
  for (std::size_t r = rates_.size(); r > 0; --r) {  // requirements about measures are asked last
    RateJudge& judge = *rates_[r - 1].judge;
    judge.finish();
    measured_.insert(measured_.end(), judge.measured().begin(), judge.measured().end());
    if (r > 1) (void)of_bench().ask_about(judge.measured());
  }
  std::vector<Verdict> all;
  for (const Rate& rate : rates_) {
    for (Verdict& v : rate.judge->verdicts(ending)) all.push_back(std::move(v));
  }
  std::sort(all.begin(), all.end(), [](const Verdict& a, const Verdict& b) { return a.requirement < b.requirement; });
  return all;
}

/// Rows of each rate, in one order of time; where one has no value of a quantity it is no number.
observe::Witnessed Judge::witnessed() const {
  if (rates_.size() == 1) return rates_.front().judge->witnessed();
  std::vector<observe::Witnessed> each;
  std::set<program::VarId> columns;
  std::set<Time> times;
  for (const Rate& rate : rates_) {
    each.push_back(rate.judge->witnessed());
    columns.insert(each.back().columns.begin(), each.back().columns.end());
    times.insert(each.back().times.begin(), each.back().times.end());
  }
  observe::Witnessed all{{columns.begin(), columns.end()}, {times.begin(), times.end()}, {}};
  all.rows.assign(all.columns.size() * all.times.size(), NAN);
  for (const observe::Witnessed& w : each) {
    for (std::size_t i = 0; i < w.times.size(); ++i) {
      const auto row = std::lower_bound(all.times.begin(), all.times.end(), w.times[i]) - all.times.begin();
      for (std::size_t c = 0; c < w.columns.size(); ++c) {
        const auto column =
            std::lower_bound(all.columns.begin(), all.columns.end(), w.columns[c]) - all.columns.begin();
        double& to = all.rows[static_cast<std::size_t>(row) * all.columns.size() + static_cast<std::size_t>(column)];
        if (std::isnan(to)) to = w.rows[i * w.columns.size() + c];
      }
    }
  }
  return all;
}

}  // namespace isodyne::judge
