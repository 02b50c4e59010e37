#include "isodyne/judge/judge.h"

#include <algorithm>
#include <cmath>

namespace isodyne::judge {

const char* answer_word(Answer answer) {
  switch (answer) {
    case Answer::held:
      return "held";
    case Answer::broken:
      return "broken";
    case Answer::not_tested:
      return "not put to the test";
    case Answer::undecided:
      return "undecided";
    case Answer::interrupted:
      return "interrupted";
  }
  return "?";
}

Judge::Judge(std::shared_ptr<const model::Program> program)
    : program_(std::move(program)), monitors_(program_->requirements.size()), expressions_(*program_, expressions()), measurer_(program_) {
  static const std::vector<Measured> kNothing;
  measured_ = &kNothing;
  latest_.resize(program_->measures.size());
  known_.resize(program_->measures.size());
  newly_broken_.reserve(monitors_.size());
}

/// Sets the monitors up; the expressions that they need.
std::vector<model::NodeId> Judge::expressions() {
  std::vector<model::NodeId> all;
  for (std::size_t i = 0; i < monitors_.size(); ++i) {
    const model::Requirement& r = program_->requirements[i];
    Monitor& m = monitors_[i];
    m.verdict.requirement = static_cast<std::int32_t>(i);
    m.verdict.breaches.reserve(Verdict::kMostBreaches);
    m.first = all.size();
    if (r.nodes.empty()) {
      all.insert(all.end(), {r.trigger, r.check, r.margin});
    } else {
      m.formula.emplace(r, m.first);
      Formula::collect(r, all);
    }
  }
  return all;
}

void Judge::worse(Monitor& m, double margin, Time now) {
  if (!std::isfinite(margin) || (m.verdict.worst_margin && *m.verdict.worst_margin <= margin)) return;
  m.verdict.worst_margin = margin;
  m.verdict.worst_at = now;
}

void Judge::breach(Monitor& m, Time now) {
  if (!m.verdict.first_breach) {
    m.verdict.first_breach = now;
    newly_broken_.push_back(m.verdict.requirement);
  }
  if (!m.in_breach) {
    m.listed = m.verdict.breaches.size() < Verdict::kMostBreaches;
    if (m.listed) m.verdict.breaches.push_back({now, now});
  } else if (m.listed) {
    m.verdict.breaches.back().end = now;
  }
  m.in_breach = true;
}

void Judge::at_once(Monitor& m, Time now) {
  const model::Requirement& r = requirement(m);
  const auto exactly = [&](double distance, bool holds) { return Value{distance, distance, holds, holds}; };
  constexpr double kFar = std::numeric_limits<double>::infinity();
  const bool holds = expressions_.value(m.first + 1) != 0;
  const double margin = r.margin == model::kNone ? (holds ? kFar : -kFar) : expressions_.value(m.first + 2);
  instant(m, now, exactly(kFar, r.trigger == model::kNone || expressions_.value(m.first) != 0), exactly(margin, holds));
}

void Judge::instant(Monitor& m, Time at, const Value& trigger, const Value& check) {
  if (requirement(m).form == model::Requirement::Form::always) {
    always(m, at, trigger, check);
  } else {
    once(m, at, trigger, check);
  }
}

/// At every instant where the trigger holds.
void Judge::always(Monitor& m, Time at, const Value& trigger, const Value& check) {
  if (trigger.certain && !m.tested_before) ++m.verdict.tests;
  m.tested_before = trigger.certain;
  if (trigger.certain && check.low == check.high) worse(m, check.low, at);
  const bool broken = trigger.certain && !check.possible;
  if (broken) {
    breach(m, at);
  } else {
    m.in_breach = false;
    m.open = m.open || (trigger.possible && !check.certain);
  }
}

/// Until the check holds for the first time; the trigger has to hold up to then.
void Judge::once(Monitor& m, Time at, const Value& trigger, const Value& check) {
  if (m.verdict.first_breach) return;
  m.verdict.tests = 1;
  const double now = std::min(m.all, check.low);
  if (now > m.best) {
    m.best = now;
    m.verdict.worst_margin = std::isfinite(now) ? std::optional(now) : std::nullopt;
    m.verdict.worst_at = at;
  }
  m.all = std::min(m.all, trigger.low);
  m.reached = m.reached || check.certain;
  m.open = m.open || check.possible;
  if (m.reached || check.possible || trigger.possible) return;  // afterwards only the margin can grow
  breach(m, at);
  worse(m, m.all, at);
}

/// whenever A then within T B. An instant with B answers every A up to it, so only the earliest unanswered
/// A has to be remembered. The margin is the time left when the answer came.
void Judge::in_time(Monitor& m, Time now) {
  const model::Requirement& r = requirement(m);
  const bool triggered = expressions_.value(m.first) != 0;
  if (triggered && !m.tested_before) ++m.verdict.tests;
  m.tested_before = triggered;
  if (triggered && !m.waiting_since) m.waiting_since = now;
  if (!m.waiting_since) return;
  const Time waited = now - *m.waiting_since;
  if (waited > *r.within) breach(m, now);
  if (expressions_.value(m.first + 1) != 0) {
    worse(m, to_seconds(*r.within - waited), now);
    m.waiting_since.reset();
    m.in_breach = false;
  } else if (waited > *r.within) {
    worse(m, to_seconds(*r.within - waited), now);  // still without an answer: the margin goes on falling
  }
}

void Judge::drain(Monitor& m) {
  Time at{};
  for (Value trigger, check; m.formula->next(at, trigger, check);) instant(m, at, trigger, check);
}

void Judge::take(const std::vector<Measured>& fresh) {
  measured_ = &fresh;
  if (fresh.empty()) return;
  for (Monitor& m : monitors_) {
    if (!requirement(m).measures.empty()) with_measures(m, fresh);
  }
}

/// It is asked at every new value of a measure that it reads, once each of them has one.
void Judge::with_measures(Monitor& m, const std::vector<Measured>& fresh) {
  const auto& read = requirement(m).measures;
  for (const Measured& value : fresh) {
    if (std::find(read.begin(), read.end(), value.measure) == read.end()) continue;
    if (!value.whole) {
      m.open = true;
      continue;
    }
    const auto i = static_cast<std::size_t>(value.measure);
    latest_[i] = value.value;
    known_[i] = 1;
    const bool all = std::all_of(read.begin(), read.end(), [&](std::int32_t r) { return known_[static_cast<std::size_t>(r)] != 0; });
    if (!all) continue;
    for (const std::int32_t r : read)
      expressions_.give(program_->measures[static_cast<std::size_t>(r)].value, latest_[static_cast<std::size_t>(r)]);
    expressions_.compute();
    m.tested_before = false;  // each value is a test of its own
    m.in_breach = false;
    at_once(m, value.end);
  }
}

const std::vector<std::int32_t>& Judge::image(const bench::Image& image) {
  newly_broken_.clear();
  expressions_.evaluate(image.variables);
  last_ = image.at;
  if (measurer_.any()) take(measurer_.image(image));
  for (Monitor& m : monitors_) {
    if (!requirement(m).measures.empty()) continue;
    if (m.formula) {
      m.formula->image(image.at, expressions_);
      drain(m);
    } else if (requirement(m).within) {
      in_time(m, image.at);
    } else {
      at_once(m, image.at);
    }
  }
  return newly_broken_;
}

std::vector<Verdict> Judge::verdicts(bench::Ending ending) {
  std::vector<Verdict> all;
  take(measurer_.finish());
  for (Monitor& m : monitors_) {
    if (m.formula) {
      m.formula->finish();
      drain(m);
    }
    const bool once = requirement(m).form != model::Requirement::Form::always;
    // What should have come once and has not, in a run that is over.
    const bool missed = once && !m.reached && !m.open && m.verdict.tests > 0 && ending == bench::Ending::completed;
    if (missed && !m.verdict.first_breach) breach(m, last_);
    Verdict& v = m.verdict;
    if (v.first_breach) {
      v.answer = Answer::broken;
    } else if (ending == bench::Ending::interrupted) {
      v.answer = Answer::interrupted;
    } else if (v.tests == 0) {
      v.answer = Answer::not_tested;
    } else if (m.reached) {
      v.answer = Answer::held;
    } else if (ending != bench::Ending::completed || m.waiting_since || m.open) {
      v.answer = Answer::undecided;
    } else {
      v.answer = Answer::held;
    }
    all.push_back(v);
  }
  return all;
}

}  // namespace isodyne::judge
