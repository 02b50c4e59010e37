#include "isodyne/judge/judge.h"

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

namespace {
std::vector<model::NodeId> nodes_of(const model::Program& program) {
  std::vector<model::NodeId> nodes;
  for (const model::Requirement& r : program.requirements) nodes.insert(nodes.end(), {r.trigger, r.check, r.margin});
  return nodes;
}
}  // namespace

Judge::Judge(std::shared_ptr<const model::Program> program)
    : program_(std::move(program)), expressions_(*program_, nodes_of(*program_)) {
  monitors_.resize(program_->requirements.size());
  for (std::size_t i = 0; i < monitors_.size(); ++i) {
    monitors_[i].verdict.requirement = static_cast<std::int32_t>(i);
    monitors_[i].verdict.breaches.reserve(Verdict::kMostBreaches);
  }
  newly_broken_.reserve(monitors_.size());
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

/// always / never / whenever … then: at every instant where the trigger holds.
void Judge::at_once(Monitor& m, std::size_t i, Time now) {
  const model::Requirement& r = program_->requirements[i];
  const bool tested = r.trigger == model::kNone || expressions_.value(3 * i) != 0;
  if (tested && !m.tested_before) ++m.verdict.tests;
  m.tested_before = tested;
  if (tested && r.margin != model::kNone) worse(m, expressions_.value(3 * i + 2), now);
  if (tested && expressions_.value(3 * i + 1) == 0) {
    breach(m, now);
  } else {
    m.in_breach = false;
  }
}

/// whenever A then within T B. An instant with B answers every A up to it, so only the earliest unanswered
/// A has to be remembered. The margin is the time left when the answer came.
void Judge::in_time(Monitor& m, std::size_t i, Time now) {
  const model::Requirement& r = program_->requirements[i];
  const bool triggered = expressions_.value(3 * i) != 0;
  if (triggered && !m.tested_before) ++m.verdict.tests;
  m.tested_before = triggered;
  if (triggered && !m.waiting_since) m.waiting_since = now;
  if (!m.waiting_since) return;
  const Time waited = now - *m.waiting_since;
  if (waited > *r.within) breach(m, now);
  if (expressions_.value(3 * i + 1) != 0) {
    worse(m, to_seconds(*r.within - waited), now);
    m.waiting_since.reset();
    m.in_breach = false;
  } else if (waited > *r.within) {
    worse(m, to_seconds(*r.within - waited), now);  // still without an answer: the margin goes on falling
  }
}

const std::vector<std::int32_t>& Judge::image(const bench::Image& image) {
  newly_broken_.clear();
  expressions_.evaluate(image.variables);
  for (std::size_t i = 0; i < monitors_.size(); ++i) {
    if (program_->requirements[i].within) {
      in_time(monitors_[i], i, image.at);
    } else {
      at_once(monitors_[i], i, image.at);
    }
  }
  return newly_broken_;
}

std::vector<Verdict> Judge::verdicts(bench::Ending ending) const {
  std::vector<Verdict> all;
  for (const Monitor& m : monitors_) {
    Verdict v = m.verdict;
    if (v.first_breach) {
      v.answer = Answer::broken;
    } else if (ending == bench::Ending::interrupted) {
      v.answer = Answer::interrupted;
    } else if (v.tests == 0) {
      v.answer = Answer::not_tested;
    } else if (ending != bench::Ending::completed || m.waiting_since) {
      v.answer = Answer::undecided;
    } else {
      v.answer = Answer::held;
    }
    all.push_back(std::move(v));
  }
  return all;
}

}  // namespace isodyne::judge
