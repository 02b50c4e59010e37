#include "isodyne/record/playback.h"

#include <algorithm>
#include <set>

#include "isodyne/core/random.h"
#include "isodyne/engine/running_plant.h"

namespace isodyne::record {

using program::VarId;

std::vector<VarId> judged_variables(const program::Program& p) {
  std::set<VarId> all;
  const auto note = [&](program::NodeId node) {
    if (node == program::kNone) return;
    for (const VarId id : p.reads(node)) all.insert(id);
  };
  for (const program::Requirement& r : p.requirements) {
    for (const program::NodeId n : {r.trigger, r.check, r.margin}) note(n);
    for (const program::FormulaNode& n : r.nodes) {
      note(n.value);
      note(n.margin);
    }
  }
  for (const program::Measure& m : p.measures) {
    for (const program::NodeId n : {m.of, m.to, m.within, m.against, m.event, m.until}) note(n);
  }
  std::set<VarId> before;  // what edges remember is made anew
  for (const program::Edge& e : p.edges) {
    if (all.contains(e.previous)) note(e.now);
    before.insert(e.previous);
  }
  std::vector<VarId> list;
  for (const VarId id : all) {
    if (!before.contains(id) && p.variable(id).role != program::Role::measure) list.push_back(id);
  }
  return list;
}

Playback::Playback(std::shared_ptr<const program::Program> program, const Recording& recording,
                   const std::vector<VarId>& wanted)
    : program_(std::move(program)),
      recording_(recording),
      times_(&recording.times()),
      period_(program_->record_period()) {
  const program::Program& p = *program_;
  std::vector<std::pair<VarId, double>> starts;
  for (const program::Scenario& s : p.scenarios) {
    if (s.name != recording.identity().scenario) continue;
    for (const program::Scenario::Start& start : s.start) starts.emplace_back(start.target, start.value);
  }
  for (const Override& o : recording.identity().overrides) {
    const VarId id = p.find(o.name);
    if (id != program::kNone) starts.emplace_back(id, o.value);
  }
  image_ = engine::RunningPlant(program_).start(starts).values;
  image_[program::kSeed] = random_key(recording.identity().seed);
  known_.resize(p.variables.size());
  known_[program::kTime] = known_[program::kSeed] = 1;
  for (const VarId id : wanted) want(id);
  add_edges();
  std::stable_sort(changes_.begin(), changes_.end(), [](const Change& a, const Change& b) { return a.at < b.at; });
}

/// False: it moved in a way that no event tells instant by instant.
bool Playback::parameter(VarId id) {
  const std::string& name = program_->variable(id).name;
  for (const RecordedEvent& e : recording_.events()) {
    if (e.subject != name) continue;
    if (e.is(observe::EventKind::command)) return false;
    if (e.is(observe::EventKind::change)) changes_.push_back({e.at, id, e.value});
  }
  return true;
}

VarId Playback::missing_for(VarId wanted) const {
  std::set<VarId> seen;
  std::vector<VarId> todo{wanted};
  const auto reads = [&](program::NodeId node) {
    for (const VarId id : program_->reads(node)) todo.push_back(id);
  };
  while (!todo.empty()) {
    const VarId id = todo.back();
    todo.pop_back();
    if (!seen.insert(id).second) continue;
    if (std::find(missing_.begin(), missing_.end(), id) != missing_.end()) return id;
    if (recording_.throughout(program_->variable(id).name)) continue;
    for (const program::Assignment& e : program_->equations) {
      if (e.target == id) reads(e.value);
    }
    for (const program::Delay& d : program_->delays) {
      if (d.out == id) reads(d.input), reads(d.lag);
    }
    for (const program::Edge& e : program_->edges) {
      if (e.previous == id) reads(e.now);
    }
  }
  return program::kNone;
}

/// Depth first, so that what an equation reads is computed before it.
void Playback::want(VarId id) {
  char& known = known_[static_cast<std::size_t>(id)];
  if (known != 0) return;
  known = 1;
  const program::Variable& v = program_->variable(id);
  if (recording_.throughout(v.name)) {
    if (auto values = recording_.signal(v.name)) {
      columns_.push_back({id, std::move(*values), &recording_.times_of(v.name)});
      if (recording_.period_of(v.name) >= period_) return;
      period_ = recording_.period_of(v.name);
      times_ = columns_.back().times;
      return;
    }
  }
  if (v.role == program::Role::param || v.role == program::Role::fixed_param) {
    if (!parameter(id)) missing_.push_back(id);
    return;
  }
  for (const program::Assignment& e : program_->equations) {
    if (e.target != id) continue;
    for (const VarId read : program_->reads(e.value)) want(read);
    computed_.push_back({id, engine::Evaluator(*program_, {e.value})});
    return;
  }
  for (const program::Delay& d : program_->delays) {
    if (d.out != id) continue;
    for (const program::NodeId node : {d.input, d.lag}) {
      for (const VarId read : program_->reads(node)) want(read);
    }
    computed_.push_back({id, engine::Evaluator(*program_, {d.input, d.lag}), &d});
    return;
  }
  missing_.push_back(id);
}

void Playback::add_edges() {
  for (const Column& c : columns_) {
    if (c.times == times_ || !recording_.at_edges(program_->variable(c.id).name)) continue;
    std::vector<std::int64_t> all;
    all.reserve(times_->size() + c.times->size());
    std::size_t i = 0, k = 0;
    while (i < times_->size() || k < c.times->size()) {
      const bool own = k == c.times->size() || (i < times_->size() && (*times_)[i] <= (*c.times)[k]);
      const std::int64_t at = own ? (*times_)[i] : (*c.times)[k];
      if (i < times_->size() && (*times_)[i] == at) ++i;
      if (k < c.times->size() && (*c.times)[k] == at) ++k;
      all.push_back(at);
    }
    Instants merged(std::move(all));
    with_edges_ = std::move(merged);
    times_ = &with_edges_;
  }
}

double Playback::recall(Computed& c, double now) {
  c.past.emplace_back(now, c.value.value(0));
  const double at = now - std::min(c.value.value(1), to_seconds(c.delay->longest));
  while (c.past.size() > 2 && c.past[1].first <= now - to_seconds(c.delay->longest)) c.past.pop_front();
  const auto behind =
      std::upper_bound(c.past.begin(), c.past.end(), at + 0.5e-9, [](double t, const auto& p) { return t < p.first; });
  if (behind == c.past.begin()) return c.past.front().second;  // before the first: what was first
  const auto& [before, value] = *(behind - 1);
  if (c.delay->held || behind == c.past.end() || at <= before) return value;
  return value + (behind->second - value) * (at - before) / (behind->first - before);
}

void Playback::run(const std::function<void(const observe::Image&)>& see) {
  std::vector<program::NodeId> fronts;
  for (const program::Edge& e : program_->edges) fronts.push_back(e.now);
  engine::Evaluator edges(*program_, fronts);
  auto change = changes_.begin();
  for (std::size_t row = 0; row < times_->size(); ++row) {
    const std::int64_t now = (*times_)[row];
    image_[program::kTime] = to_seconds(Time{now});
    for (; change != changes_.end() && change->at.count() <= now; ++change)
      image_[static_cast<std::size_t>(change->id)] = change->value;
    for (Column& c : columns_) {
      while (c.next < c.values.size() && (*c.times)[c.next] <= now) ++c.next;
      if (c.next > 0) image_[static_cast<std::size_t>(c.id)] = c.values[c.next - 1];
    }
    for (Computed& c : computed_) {
      c.value.evaluate(image_.data());
      image_[static_cast<std::size_t>(c.id)] =
          c.delay == nullptr ? c.value.value(0) : recall(c, image_[program::kTime]);
    }
    see({Time{now}, image_.data()});
    edges.evaluate(image_.data());
    for (std::size_t i = 0; i < fronts.size(); ++i)
      image_[static_cast<std::size_t>(program_->edges[i].previous)] = edges.value(i);
  }
}

}  // namespace isodyne::record
