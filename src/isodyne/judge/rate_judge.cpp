#include "isodyne/judge/rate_judge.h"

#include <algorithm>
#include <cmath>

namespace isodyne::judge {

namespace {
const std::vector<Measured> kNothing;

std::vector<program::NodeId> joined(const std::vector<std::vector<program::NodeId>>& groups) {
  std::vector<program::NodeId> all;
  for (const auto& g : groups) all.insert(all.end(), g.begin(), g.end());
  return all;
}

/// Images of a batch. Beside, one has to be worth the price of waking a thread.
std::size_t room_of(RateJudge::Where where) {
  return engine::BlockEvaluator::kRows * (where == RateJudge::Where::beside ? 2 : 1);
}

/// What each group reads, as places in a row.
std::vector<std::vector<std::int32_t>> reads_of(const engine::BlockEvaluator& block, std::size_t groups) {
  std::vector<std::vector<std::int32_t>> all;
  for (std::size_t g = 0; g < groups; ++g) all.push_back(block.read_by(g));
  return all;
}

Value exactly(double distance, bool holds) {
  return {distance, distance, holds, holds};
}
}  // namespace

RateJudge::RateJudge(std::shared_ptr<const program::Program> program, std::vector<std::int32_t> requirements,
                     std::vector<std::int32_t> measures, Where where)
    : program_(std::move(program)),
      requirements_(std::move(requirements)),
      monitors_(requirements_.size()),
      block_(*program_, expressions(false)),
      witness_(block_.reads(), reads_of(block_, monitors_.size()), room_of(where)),
      with_measures_(*program_, joined(expressions(true))),
      measurer_(program_, std::move(measures)),
      measured_(&kNothing),
      latest_(program_->measures.size()),
      known_(program_->measures.size()) {
  newly_broken_.reserve(monitors_.size());
  found_.reserve(monitors_.size());
  const std::size_t room = room_of(where);
  static_assert(4 * engine::BlockEvaluator::kRows <= kMostImagesLate);
  for (Batch* b : {&filling_, &working_}) {
    b->rows.resize(room * block_.row_size());
    b->times.resize(room);
  }
  if (where == Where::beside && !monitors_.empty()) beside_ = std::thread([this] { work(); });
}

RateJudge::~RateJudge() {
  if (!beside_.joinable()) return;
  {
    const std::lock_guard lock(mutex_);
    leaving_ = true;
  }
  changed_.notify_all();
  beside_.join();
}

/// The thread beside: batches until it may leave.
void RateJudge::work() {
  std::unique_lock lock(mutex_);
  for (;;) {
    changed_.wait(lock, [&] { return busy_ || leaving_; });
    if (!busy_) return;
    lock.unlock();
    look(working_);
    lock.lock();
    busy_ = false;
    changed_.notify_all();
  }
}

/// Waits until nothing is being looked at, and takes what was found.
void RateJudge::settle() {
  if (beside_.joinable()) {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return !busy_; });
  }
  std::stable_sort(found_.begin(), found_.end(), [](const Broken& a, const Broken& b) { return a.at < b.at; });
  newly_broken_.insert(newly_broken_.end(), found_.begin(), found_.end());
  found_.clear();
}

/// What was taken goes to whoever looks at it.
void RateJudge::hand_over() {
  if (!beside_.joinable()) {
    look(filling_);
    filling_.count = 0;
    return settle();
  }
  settle();
  std::swap(filling_, working_);
  filling_.count = 0;
  {
    const std::lock_guard lock(mutex_);
    busy_ = true;
  }
  changed_.notify_all();
}

/// Sets the monitors up; the expressions that each of them needs, apart for those about measures.
std::vector<std::vector<program::NodeId>> RateJudge::expressions(bool of_measures) {
  std::vector<std::vector<program::NodeId>> all(monitors_.size());
  std::size_t count = 0;
  for (std::size_t i = 0; i < monitors_.size(); ++i) {
    const program::Requirement& r = program::at(program_->requirements, requirements_[i]);
    Monitor& m = monitors_[i];
    m.verdict.requirement = requirements_[i];
    m.verdict.breaches.reserve(Verdict::kMostBreaches);
    if (r.measures.empty() == of_measures) continue;
    if (of_measures) any_with_measures_ = true;  // the other list is made before this is
    m.first = count;
    if (r.nodes.empty()) {
      all[i] = {r.trigger, r.check, r.margin};
    } else {
      m.formula.emplace(r, i, m.first);
      Formula::collect(r, all[i]);
    }
    count += all[i].size();
  }
  return all;
}

void RateJudge::worse(Monitor& m, double margin, Time now) {
  if (!std::isfinite(margin) || m.worst <= margin) return;
  m.worst = margin;
  m.verdict.worst_margin = margin;
  m.verdict.worst_at = now;
}

void RateJudge::breach(Monitor& m, Time now) {
  if (!m.verdict.first_breach) {
    m.verdict.first_breach = now;
    found_.push_back({m.verdict.requirement, now});
  }
  if (!m.in_breach) {
    m.listed = m.verdict.breaches.size() < Verdict::kMostBreaches;
    if (m.listed) m.verdict.breaches.push_back({now, now});
  } else if (m.listed) {
    m.verdict.breaches.back().end = now;
  }
  m.in_breach = true;
}

void RateJudge::at_once(Monitor& m, Time now, bool triggered, bool holds, double margin) {
  if (requirement(m).margin == program::kNone) margin = holds ? kFar : -kFar;
  instant(m, now, exactly(kFar, triggered), exactly(margin, holds));
}

void RateJudge::instant(Monitor& m, Time at, const Value& trigger, const Value& check) {
  if (requirement(m).form == program::Requirement::Form::always) {
    always(m, at, trigger, check);
  } else {
    once(m, at, trigger, check);
  }
}

/// At every instant where the trigger holds.
void RateJudge::always(Monitor& m, Time at, const Value& trigger, const Value& check) {
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
void RateJudge::once(Monitor& m, Time at, const Value& trigger, const Value& check) {
  m.verdict.tests = 1;
  const double now = std::min(m.all, check.low);
  if (now > m.best) {
    m.best = now;
    m.worst = now;
    m.verdict.worst_margin = std::isfinite(now) ? std::optional(now) : std::nullopt;
    m.verdict.worst_at = at;
  }
  m.all = std::min(m.all, trigger.low);
  if (m.verdict.first_breach) return;  // what comes now can only bring the margin nearer to zero
  m.reached = m.reached || check.certain;
  m.open = m.open || check.possible;
  if (m.reached || check.possible || trigger.possible) return;  // afterwards only the margin can grow
  breach(m, at);
}

/// whenever A then within T B. An instant with B answers every A up to it, so only the earliest unanswered
/// A has to be remembered. The margin is the time left when the answer came.
void RateJudge::in_time(Monitor& m, Time now, bool triggered, bool answered) {
  const program::Requirement& r = requirement(m);
  if (triggered && !m.tested_before) ++m.verdict.tests;
  m.tested_before = triggered;
  if (triggered && !m.waiting_since) m.waiting_since = now;
  if (!m.waiting_since) return;
  const Time waited = now - *m.waiting_since;
  if (waited > *r.within) breach(m, now);
  if (answered) {
    worse(m, to_seconds(*r.within - waited), now);
    m.waiting_since.reset();
    m.in_breach = false;
  } else if (waited > *r.within) {
    worse(m, to_seconds(*r.within - waited), now);  // still without an answer: the margin goes on falling
  }
}

/// It is put to the test at the instants that come next, or not, and not broken.
void RateJudge::test(Monitor& m, bool asked) {
  if (asked && !m.tested_before) ++m.verdict.tests;
  m.tested_before = asked;
  m.in_breach = false;
}

void RateJudge::drain(Monitor& m) {
  if (requirement(m).form == program::Requirement::Form::always) {
    while (const auto held = m.formula->held()) {  // the usual case
      if (held->count == 0) return;
      if (held->asked) worse(m, held->least, held->at);
      test(m, held->asked);
    }
  }
  Time at{};
  for (Value trigger, check; m.formula->next(at, trigger, check);) instant(m, at, trigger, check);
}

namespace {

ISODYNE_WIDE bool none(const double* truths, std::size_t rows) {
  std::size_t count = 0;
  for (std::size_t i = 0; i < rows; ++i) count += truths[i] != 0 ? 1 : 0;
  return count == 0;
}
ISODYNE_WIDE bool all(const double* truths, std::size_t rows) {
  std::size_t count = 0;
  for (std::size_t i = 0; i < rows; ++i) count += truths[i] != 0 ? 1 : 0;
  return count == rows;
}
/// Four at a time; what is no number is passed over.
ISODYNE_WIDE double least(const double* values, std::size_t rows) {
  double m[4] = {values[0], values[0], values[0], values[0]};
  std::size_t i = 0;
  for (; i + 4 <= rows; i += 4) {
    for (std::size_t k = 0; k < 4; ++k) m[k] = values[i + k] < m[k] ? values[i + k] : m[k];
  }
  for (; i < rows; ++i) m[0] = values[i] < m[0] ? values[i] : m[0];
  return std::min(std::min(m[0], m[1]), std::min(m[2], m[3]));
}

}  // namespace

/// A block of which the outline shows that what is asked holds in all of it, with more to spare than it had, or that
/// nothing is asked.
bool RateJudge::calm(Monitor& m) {
  const program::Requirement& r = requirement(m);
  if (r.form != program::Requirement::Form::always || m.formula || m.waiting_since) return false;
  const program::Interval always{1, 1};
  const program::Interval& trigger = r.trigger == program::kNone ? always : block_.range(m.first);
  if (!trigger.surely_not()) {
    const bool held = !r.within && trigger.surely() && block_.range(m.first + 1).surely();
    if (!held || (r.margin != program::kNone && !(block_.range(m.first + 2).low >= m.worst))) return false;
  }
  test(m, trigger.surely());
  return true;
}

/// The block that is computed: what is asked at every instant holds in all of them, or is not asked in any. Then there
/// is nothing to do but to remember the worst margin.
bool RateJudge::nothing_new(Monitor& m, const Time* times, std::size_t rows) {
  const program::Requirement& r = requirement(m);
  if (r.form != program::Requirement::Form::always || m.formula) return false;
  const double* trigger = block_.column(m.first);
  const bool triggered = r.trigger == program::kNone;
  if (!triggered && none(trigger, rows)) {
    if (r.within && m.waiting_since) return false;
    test(m, false);
    return true;
  }
  if (r.within || !(triggered || all(trigger, rows)) || !all(block_.column(m.first + 1), rows)) return false;
  if (r.margin != program::kNone) {
    const double* margin = block_.column(m.first + 2);
    const double worst = least(margin, rows);
    if (!std::isfinite(worst)) return false;
    if (worst < m.worst) worse(m, worst, times[std::find(margin, margin + rows, worst) - margin]);
  }
  test(m, true);
  return true;
}

void RateJudge::look(Batch& batch) {
  constexpr std::size_t kRows = engine::BlockEvaluator::kRows;
  for (std::size_t i = 0; i < batch.count; i += kRows) {
    const double* rows = batch.rows.data() + i * block_.row_size();
    const std::size_t count = std::min(kRows, batch.count - i);
    look(rows, batch.times.data() + i, count);
  }
  bear_witness(batch);
}

void RateJudge::bear_witness(Batch& batch) {
  witness_.looked_at(batch.rows, batch.times, batch.count);
  for (std::size_t i = 0; i < monitors_.size(); ++i)
    witness_.mark(i, monitors_[i].verdict.first_breach, monitors_[i].verdict.worst_at);
}

/// One block.
void RateJudge::look(const double* rows, const Time* times, std::size_t count) {
  block_.load(rows, count);
  for (std::size_t g = 0; g < monitors_.size(); ++g) {
    Monitor& m = monitors_[g];
    if (measured(m)) continue;
    block_.outline(g);
    if (calm(m)) continue;
    if (m.formula) {
      m.formula->block(times, count, block_, m.worst);
      drain(m);
      continue;
    }
    block_.compute(g);
    if (nothing_new(m, times, count)) continue;
    const program::Requirement& r = requirement(m);
    const double *trigger = block_.column(m.first), *check = block_.column(m.first + 1),
                 *margin = block_.column(m.first + 2);
    for (std::size_t i = 0; i < count; ++i) {
      const bool triggered = r.trigger == program::kNone || trigger[i] != 0;
      if (r.within)
        in_time(m, times[i], triggered, check[i] != 0);
      else
        at_once(m, times[i], triggered, check[i] != 0, margin[i]);
    }
  }
}

void RateJudge::ask(const std::vector<Measured>& fresh) {
  if (fresh.empty() || !any_with_measures_) return;
  hand_over();  // what comes before is told before
  settle();
  for (Monitor& m : monitors_) {
    if (measured(m)) with_measures(m, fresh);
  }
  settle();
}

/// It is asked at every new value of a measure that it reads, once each of them has one.
void RateJudge::with_measures(Monitor& m, const std::vector<Measured>& fresh) {
  const program::Requirement& asked = requirement(m);
  const auto& read = asked.measures;
  for (const Measured& value : fresh) {
    if (std::find(read.begin(), read.end(), value.measure) == read.end()) continue;
    if (!value.whole) {
      // The rest of a run that `per` does not divide is not a stretch; those before it were judged.
      const auto window = program_->measures[static_cast<std::size_t>(value.measure)].window;
      m.open = m.open || window != program::Measure::Window::per || value.occurrence == 1;
      continue;
    }
    const auto i = static_cast<std::size_t>(value.measure);
    latest_[i] = value.value;
    known_[i] = 1;
    const auto known = [&](std::int32_t r) { return known_[static_cast<std::size_t>(r)] != 0; };
    if (!std::all_of(read.begin(), read.end(), known)) continue;
    for (const std::int32_t r : read)
      with_measures_.give(program_->measures[static_cast<std::size_t>(r)].value, latest_[static_cast<std::size_t>(r)]);
    with_measures_.compute();
    m.tested_before = false;  // each value is a test of its own
    m.in_breach = false;
    const bool triggered = asked.trigger == program::kNone || with_measures_.value(m.first) != 0;
    at_once(m, value.end, triggered, with_measures_.value(m.first + 1) != 0, with_measures_.value(m.first + 2));
  }
}

const std::vector<Broken>& RateJudge::ask_about(const std::vector<Measured>& fresh) {
  newly_broken_.clear();
  ask(fresh);
  return newly_broken_;
}

const std::vector<Broken>& RateJudge::image(const observe::Image& image) {
  newly_broken_.clear();
  block_.gather(image.variables, filling_.rows.data() + filling_.count * block_.row_size());
  filling_.times[filling_.count++] = last_ = image.at;
  if (any_with_measures_) with_measures_.load(image.variables);
  if (measurer_.any()) {
    measured_ = &measurer_.image(image);
    ask(*measured_);
  }
  if (filling_.count == filling_.times.size()) hand_over();
  return newly_broken_;
}

const std::vector<Broken>& RateJudge::flush() {
  newly_broken_.clear();
  if (filling_.count > 0) hand_over();
  settle();
  return newly_broken_;
}

void RateJudge::finish() {
  flush();
  measured_ = &measurer_.finish();
  ask(*measured_);
}

std::vector<Verdict> RateJudge::verdicts(observe::Ending ending) {
  std::vector<Verdict> all;
  for (std::size_t i = 0; i < monitors_.size(); ++i) {
    Monitor& m = monitors_[i];
    if (m.formula) {
      m.formula->finish(block_);
      drain(m);
    }
    const bool once = requirement(m).form != program::Requirement::Form::always;
    // What should have come once and has not, in a run that is over.
    const bool missed = once && !m.reached && !m.open && m.verdict.tests > 0 && ending == observe::Ending::completed;
    if (missed && !m.verdict.first_breach) breach(m, last_);
    Verdict& v = m.verdict;
    if (v.first_breach) {
      v.answer = Answer::broken;
    } else if (ending == observe::Ending::interrupted) {
      v.answer = Answer::interrupted;
    } else if (v.tests == 0) {
      v.answer = m.open && measured(m) ? Answer::undecided : Answer::not_tested;
    } else if (m.reached) {
      v.answer = Answer::held;
    } else if (!observe::as_asked(ending) || (once && ending == observe::Ending::cut_short) || m.waiting_since ||
               m.open) {
      v.answer = Answer::undecided;
    } else {
      v.answer = Answer::held;
    }
    all.push_back(v);
    witness_.mark(i, v.first_breach, v.worst_at);
  }
  witness_.finish();
  return all;
}

}  // namespace isodyne::judge
