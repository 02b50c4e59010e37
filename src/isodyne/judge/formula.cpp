#include "isodyne/judge/formula.h"

#include <cmath>
#include <deque>

#include "isodyne/judge/formula_machine.h"
#include "isodyne/judge/outline.h"

namespace isodyne::judge {

namespace {

/// What is evaluated at each instant.
class Looked {
 public:
  Looked(std::size_t expression, const program::FormulaNode& node) : expression_(expression), node_(node) {}
  /// Its keys in the images that are computed, after those that they were computed for before.
  void keys(const engine::BlockEvaluator& e, std::size_t count, std::int64_t* keys);
  /// The images that come next are not those that follow.
  void begin_again() { begun_ = false; }
  void outline_again() { outlined_ = false; }
  /// What is known of its keys in the images that are outlined.
  Bounds bounds(const engine::BlockEvaluator& e);

 private:
  std::size_t expression_;  ///< with its distance behind it
  program::FormulaNode node_;
  bool begun_ = false;  ///< rises, falls, changes: `before_` is there
  double before_ = 0;
  program::Interval outlined_before_;
  bool outlined_ = false;
};

void Looked::keys(const engine::BlockEvaluator& e, std::size_t count, std::int64_t* keys) {
  const double* values = e.column(expression_);
  if (node_.kind == Kind::truth) {
    if (node_.margin != program::kNone) return keys_of(e.column(expression_ + 1), values, count, keys);
    for (std::size_t i = 0; i < count; ++i) keys[i] = values[i] != 0 ? kMost : kLeast;
    return;
  }
  for (std::size_t i = 0; i < count; ++i) {
    const double more = begun_ ? values[i] - before_ : 0;
    const bool holds = node_.kind == Kind::rises ? more > 0 : node_.kind == Kind::falls ? more < 0 : more != 0;
    const double distance = node_.kind == Kind::rises ? more : node_.kind == Kind::falls ? -more : std::abs(more);
    begun_ = true;
    before_ = values[i];
    keys[i] = node_.number ? key_of(distance, holds) : holds ? kMost : kLeast;
  }
}

Bounds Looked::bounds(const engine::BlockEvaluator& e) {
  const program::Interval& value = e.range(expression_);
  if (node_.kind == Kind::truth) {
    Range key{kLeast, kMost};
    if (node_.margin != program::kNone) {
      const program::Interval& distance = e.range(expression_ + 1);
      if (!distance.unknown()) key = {ordered(distance.low), ordered(distance.high)};
      if (distance.low == 0) key.low = -1;  // or the zero that does not hold
      if (distance.high == 0) key.high = 0;
    }
    if (value.surely()) {
      key = node_.margin == program::kNone ? Range{kMost, kMost} : greatest(key, {0, 0});
    } else if (value.surely_not()) {
      key = node_.margin == program::kNone ? Range{kLeast, kLeast} : least(key, {-1, -1});
    } else {
      key = {std::min<std::int64_t>(key.low, -1), std::max<std::int64_t>(key.high, 0)};
    }
    return {key.low, key.high, key.high, key.low};
  }
  // What stays as it was before does not change.
  const bool same = value.low == value.high &&
                    (!outlined_ || (outlined_before_.low == value.low && outlined_before_.high == value.low));
  outlined_before_ = value;
  outlined_ = true;
  if (!same) return {};
  const std::int64_t key = node_.number ? -1 : kLeast;
  return {key, key, key, key};
}

/// Images that may be needed, and what the expressions read of them. As little as possible: much of it is kept.
struct Block {
  std::size_t size = 0;
  Time begin{}, step{};
  std::vector<Time> times;  ///< where they are not at equal distances
  std::vector<double> kept;
};

/// How far back an instant can need others.
Time looks_back(const std::vector<program::FormulaNode>& nodes, std::int32_t root) {
  if (root == program::kNone) return {};
  const program::FormulaNode& n = nodes[static_cast<std::size_t>(root)];
  const Time own = n.kind == Kind::held || n.kind == Kind::last ? n.time : Time{};
  return own + std::max(looks_back(nodes, n.a), looks_back(nodes, n.b));
}

}  // namespace

struct Formula::Work {
  Work(const program::Requirement& r, std::size_t group, std::size_t first, Look look);
  void block(const Time* at, std::size_t count, engine::BlockEvaluator& e, double worst);
  void finish(engine::BlockEvaluator& e);

  std::optional<FormulaMachine<std::int64_t>> exact;  ///< while it looks at every instant
  std::unique_ptr<FormulaMachine<Range>> finished;    ///< takes over at the end
  std::deque<Held> passed_over;                       ///< not yet told

 private:
  void look(const Time* at, std::size_t count, const engine::BlockEvaluator& e);
  void keep(const Time* at, std::size_t count, engine::BlockEvaluator& e);
  void decide(engine::BlockEvaluator& e, double worst);
  void pass_over(std::int64_t end, bool asked);
  void wake(engine::BlockEvaluator& e);
  void fall_asleep();
  void watch();
  void pause();
  void forget();
  const Block& block(std::int64_t number) const { return blocks_[static_cast<std::size_t>(number - first_block_)]; }

  const program::Requirement& requirement_;
  std::size_t group_;
  std::vector<Looked> leaves_;
  std::vector<std::int64_t> keys_;
  std::vector<Bounds> bounds_;
  std::optional<Outline> outline_;
  Time back_{};
  std::deque<Block> blocks_;  ///< as far back as they can still be needed
  std::vector<Block> spare_;
  std::int64_t first_block_ = 0, first_ = 0;      ///< number of blocks_[0], and of its first instant
  std::int64_t decided_block_ = 0, decided_ = 0;  ///< the next block to be decided, and its first instant
  std::int64_t done_ = 0;                         ///< instants that are told, or passed over
  std::int64_t kept_ = 0;                         ///< instants in blocks_
  std::int64_t exact_first_ = 0;                  ///< the first instant of `exact`
  std::int64_t calm_ = 0;                         ///< instants up to `decided_` that could have been passed over
  // Where nothing can be passed over, it is not tried for a while, and then for longer.
  bool outlined_ = false;  ///< whether the formula has an outline at all
  std::int64_t seen_ = 0, watched_from_ = 0, paused_until_ = 0, patience_ = 1;
};

Formula::Work::Work(const program::Requirement& r, std::size_t group, std::size_t first, Look look)
    : exact(std::in_place, r),
      requirement_(r),
      group_(group),
      back_(std::max(looks_back(r.nodes, r.trigger_root), looks_back(r.nodes, r.check_root))) {
  for (std::size_t i = 0; i < r.nodes.size(); ++i) {
    if (r.nodes[i].a == program::kNone) leaves_.emplace_back(first + 2 * i, r.nodes[i]);
  }
  bounds_.resize(leaves_.size());
  outlined_ = look == Look::where_it_matters && r.form == program::Requirement::Form::always && Outline::can(r);
  if (outlined_) watch();
}

void Formula::Work::block(const Time* at, std::size_t count, engine::BlockEvaluator& e, double worst) {
  if (exact) done_ = exact_first_ + exact->said_so_far();
  if (outlined_ && !outline_ && seen_ >= paused_until_) watch();
  if (outline_) fall_asleep();
  seen_ += static_cast<std::int64_t>(count);
  if (exact) {
    e.compute(group_);
    look(at, count, e);
  }
  if (!outline_) return;
  keep(at, count, e);
  for (std::size_t i = 0; i < leaves_.size(); ++i) bounds_[i] = leaves_[i].bounds(e);
  outline_->take(at[0], at[count - 1], bounds_);
  decide(e, worst);
  if (outline_) forget();
}

/// From the next block on: what is before it is as good as not there.
void Formula::Work::watch() {
  outline_.emplace(requirement_);
  blocks_.clear();
  first_block_ = decided_block_ = kept_ = calm_ = 0;
  first_ = decided_ = watched_from_ = seen_;
  for (Looked& l : leaves_) l.outline_again();
}

void Formula::Work::pause() {
  constexpr std::int64_t kMostPatience = 16;
  paused_until_ = seen_ + patience_ * (seen_ - watched_from_);
  patience_ = std::min(2 * patience_, kMostPatience);
  outline_.reset();
  blocks_.clear();
}

/// At every instant of what is computed.
void Formula::Work::look(const Time* at, std::size_t count, const engine::BlockEvaluator& e) {
  keys_.resize(leaves_.size() * count);
  for (std::size_t i = 0; i < leaves_.size(); ++i) leaves_[i].keys(e, count, keys_.data() + i * count);
  exact->take(at, count, keys_.data(), count);
}

void Formula::Work::keep(const Time* at, std::size_t count, engine::BlockEvaluator& e) {
  Block b;
  if (!spare_.empty()) {
    b = std::move(spare_.back());
    spare_.pop_back();
  }
  b.begin = at[0];
  b.size = count;
  b.step = count > 1 ? at[1] - at[0] : Time{};
  b.times.clear();
  for (std::size_t i = 0; i < count && b.times.empty(); ++i) {
    if (at[i] != b.begin + static_cast<std::int64_t>(i) * b.step) b.times.assign(at, at + count);
  }
  b.kept.resize(count * e.kept(group_));
  e.keep(group_, b.kept.data());
  blocks_.push_back(std::move(b));
  kept_ += static_cast<std::int64_t>(count);
}

/// Which of the blocks that are now outlined matter.
void Formula::Work::decide(engine::BlockEvaluator& e, double worst) {
  const std::int64_t bound = std::max<std::int64_t>(0, ordered(worst));
  for (Bounds trigger, check; outline_->next(trigger, check); ++decided_block_) {
    const std::int64_t end = decided_ + static_cast<std::int64_t>(block(decided_block_).size);
    const bool never = trigger.high < 0;
    const bool calm = never || (trigger.low >= 0 && check.low >= bound);
    if (exact && !calm) return pause();
    if (exact) {
      calm_ += end - decided_;
    } else if (calm) {
      pass_over(end, !never);
    } else {
      wake(e);
    }
    decided_ = end;
  }
}

void Formula::Work::pass_over(std::int64_t end, bool asked) {
  if (end <= done_) return;
  passed_over.push_back({static_cast<std::size_t>(end - done_), asked, kFar, {}});
  done_ = end;
}

/// Every instant is looked at from here on.
void Formula::Work::wake(engine::BlockEvaluator& e) {
  exact.emplace(requirement_);
  exact_first_ = first_;
  calm_ = 0;
  watched_from_ = seen_ - kept_;
  for (Looked& l : leaves_) l.begin_again();
  for (const Block& b : blocks_) {
    e.compute_kept(group_, b.kept.data(), b.size);
    std::vector<Time> times = b.times;
    for (std::size_t i = times.size(); i < b.size; ++i)
      times.push_back(b.begin + static_cast<std::int64_t>(i) * b.step);
    look(times.data(), b.size, e);
  }
  exact->skip(static_cast<std::size_t>(done_ - first_));
}

/// Waking up costs as much as what is kept: not more often than after as many instants.
void Formula::Work::fall_asleep() {
  if (!exact || calm_ < kept_ || kept_ == 0 || done_ < decided_) return;
  exact.reset();
  patience_ = 1;
}

/// What no instant can need that is not decided. A block more is kept: rises, falls and changes look at the one before.
void Formula::Work::forget() {
  const Time next = block(std::min(decided_block_, first_block_ + static_cast<std::int64_t>(blocks_.size()) - 1)).begin;
  while (blocks_.size() > 2 && first_block_ + 2 < decided_block_ && blocks_[2].begin <= next - back_) {
    first_ += static_cast<std::int64_t>(blocks_.front().size);
    kept_ -= static_cast<std::int64_t>(blocks_.front().size);
    ++first_block_;
    spare_.push_back(std::move(blocks_.front()));
    blocks_.pop_front();
  }
}

void Formula::Work::finish(engine::BlockEvaluator& e) {
  if (!exact) wake(e);
  exact->leave_all_steady();
  finished = std::make_unique<FormulaMachine<Range>>(*exact);
  finished->finish();
}

void Formula::collect(const program::Requirement& r, std::vector<program::NodeId>& expressions) {
  for (const program::FormulaNode& n : r.nodes) expressions.insert(expressions.end(), {n.value, n.margin});
}

Formula::Formula(const program::Requirement& r, std::size_t group, std::size_t first, Look look)
    : work_(std::make_unique<Work>(r, group, first, look)) {}
Formula::~Formula() = default;
Formula::Formula(Formula&&) noexcept = default;
Formula& Formula::operator=(Formula&&) noexcept = default;

void Formula::block(const Time* at, std::size_t count, engine::BlockEvaluator& evaluator, double worst) {
  work_->block(at, count, evaluator, worst);
}

void Formula::finish(engine::BlockEvaluator& evaluator) {
  work_->finish(evaluator);
}

std::optional<Formula::Held> Formula::held() {
  if (!work_->passed_over.empty()) {
    const Held passed_over = work_->passed_over.front();
    work_->passed_over.pop_front();
    return passed_over;
  }
  if (work_->finished) return std::nullopt;
  return work_->exact ? work_->exact->held() : Held{};
}

bool Formula::next(Time& at, Value& trigger, Value& check) {
  if (work_->finished) return work_->finished->next(at, trigger, check);
  return work_->exact && work_->exact->next(at, trigger, check);
}

}  // namespace isodyne::judge
