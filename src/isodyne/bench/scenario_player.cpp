#include "isodyne/bench/scenario_player.h"

#include <algorithm>
#include <cmath>

#include "isodyne/core/random.h"
#include "isodyne/core/text.h"
#include "isodyne/program/quick.h"
#include "isodyne/program/tables.h"

namespace isodyne::bench {

using Kind = program::ScenarioStep::Kind;

namespace {

std::vector<program::NodeId> ends_of(const program::Program& program, std::int32_t scenario) {
  std::vector<program::NodeId> nodes;
  if (scenario == program::kNone) return nodes;
  for (const program::Scenario::End& e : program.scenarios[static_cast<std::size_t>(scenario)].ends)
    nodes.push_back(e.when);
  return nodes;
}

/// Steps that people do not see happen.
bool silent(Kind kind) {
  return kind == Kind::again || kind == Kind::join || kind == Kind::jump || kind == Kind::fork;
}

}  // namespace

ScenarioPlayer::ScenarioPlayer(const program::Program& program, std::int32_t scenario, std::uint64_t seed,
                               const std::vector<std::pair<program::VarId, double>>& overrides)
    : scenario_(scenario),
      seed_(random_key(seed)),
      tables_(engine::tables_of(program)),
      ends_(program, ends_of(program, scenario)) {
  if (scenario == program::kNone) {
    start_values_ = overrides;
    return;
  }
  const program::Scenario& played = program.scenarios[static_cast<std::size_t>(scenario)];
  end_count_ = played.ends.size();
  settled_ = played.settled.known();
  for (const program::Scenario::Start& s : played.start) start_values_.emplace_back(s.target, s.value);
  start_values_.insert(start_values_.end(), overrides.begin(), overrides.end());  // the last one counts
  const program::QuickParts quick(program);
  quick_ends_ = quick.seen_every(ends_of(program, scenario)) < program.step;
  std::size_t tracks = 1;
  for (const program::ScenarioStep& s : played.steps) {
    Step made{&s, engine::Evaluator(program, {s.value, s.margin}), program::kNone, tracks, 0, 0, 0, Time{-1}, false,
              {}};
    if (s.kind == Kind::either) made.key = random_key(fnv1a("scenario " + s.written_in));
    if (s.tap == program::kNone) made.write_to = program.writable(s.target);
    made.expected.step = static_cast<std::int32_t>(steps_.size());
    made.quick =
        (s.kind == Kind::wait || s.kind == Kind::expect) && quick.seen_every({s.value, s.margin}) < program.step;
    steps_.push_back(std::move(made));
    if (s.kind == Kind::fork) tracks += s.places.size() - 1;
  }
  tracks_.resize(tracks);
  tracks_[0].alive = true;
  writes_.reserve(steps_.size() + 1);
  writers_.reserve(steps_.size() + 1);
  events_.reserve(2 * steps_.size() + 2);
  commands_.reserve(steps_.size() + 1);
}

void ScenarioPlayer::write(const Track& t, double value) {
  const Step& s = step_of(t);
  observe::Command c;
  c.kind = s.step->kind == Kind::release ? observe::CommandKind::release : observe::CommandKind::set;
  c.who = observe::Giver::scenario;
  c.target = s.step->target;
  c.value = value;
  writes_.push_back(c);
  writers_.push_back(number_of(t));
}

/// Whether one track goes on where the other does, and not beside it.
bool ScenarioPlayer::in_line(std::size_t one, std::size_t other) const {
  const auto from = [&](std::size_t track, std::size_t begin) {
    while (track != begin && track != 0) track = tracks_[track].parent;
    return track == begin;
  };
  return from(one, other) || from(other, one);
}

/// What the target of a step has by now: what this track has written at this instant already, or what the image shows.
/// What other tracks do at the same instant it does not see, whatever their order.
double ScenarioPlayer::present(const Track& t, const double* image) const {
  const Step& s = step_of(t);
  for (std::size_t i = writes_.size(); i-- > 0;) {
    const observe::Command& c = writes_[i];
    if (c.target == s.step->target && in_line(writers_[i], number_of(t)) && c.kind != observe::CommandKind::release)
      return c.value;
  }
  return s.step->tap == program::kNone ? image[s.write_to] : image[s.step->target];
}

void ScenarioPlayer::begin(Track& t, const double* image, Time next) {
  Step& s = step_of(t);
  t.begun = true;
  t.since = next;
  t.failed = t.came = false;
  t.worst = std::numeric_limits<double>::infinity();
  s.value.evaluate(image);
  t.to = s.value.value(0);
  double told = t.to;
  switch (s.step->kind) {
    case Kind::ramp:
      t.from = present(t, image);
      break;
    case Kind::set:
      write(t, t.to);
      break;
    case Kind::step:
      told = present(t, image) + t.to;
      write(t, told);
      break;
    case Kind::release:
      write(t, 0);
      break;
    case Kind::stop: {
      const std::size_t track =
          steps_[static_cast<std::size_t>(s.step->places[0])].first_track + static_cast<std::size_t>(s.step->places[1]);
      told = tracks_[track].alive ? 1 : 0;
      stop(track);
      break;
    }
    case Kind::inject:
      commands_.push_back({s.step->fault, observe::CommandKind::inject});
      break;
    case Kind::clear:
      commands_.push_back({s.step->fault, observe::CommandKind::clear});
      break;
    case Kind::arm:
      commands_.push_back({s.step->fault, observe::CommandKind::arm});
      break;
    case Kind::disarm:
      commands_.push_back({s.step->fault, observe::CommandKind::disarm});
      break;
    case Kind::fork:
      t.waits_for = static_cast<int>(s.step->places.size()) - 1;
      for (std::size_t i = 0; i + 1 < s.step->places.size(); ++i) {
        Track& made = tracks_[s.first_track + i];
        made = {};
        made.alive = true;
        made.at = static_cast<std::size_t>(s.step->places[i]);
        made.parent = static_cast<std::size_t>(&t - tracks_.data());
      }
      break;
    case Kind::either: {
      const double at = s.step->draw + static_cast<double>(s.times++) * 1e6;
      const double share = random_uniform(s.key, seed_, at);
      told = std::floor(share * static_cast<double>(s.step->places.size()));
      t.to = told;
      break;
    }
    default:
      break;
  }
  if (silent(s.step->kind) || (s.step->kind == Kind::repeat && s.rounds > 0)) return;
  events_.push_back({next, observe::EventKind::action, static_cast<std::int32_t>(t.at), scenario_, told});
}

/// A track is over where it stands, and so are those that it waits for.
void ScenarioPlayer::stop(std::size_t track) {
  Track& t = tracks_[track];
  if (!t.alive) return;
  t.alive = false;
  --tracks_[t.parent].waits_for;
  for (std::size_t i = track + 1; i < tracks_.size(); ++i) {
    if (tracks_[i].alive && tracks_[i].parent == track) stop(i);
  }
}

bool ScenarioPlayer::is_over(Track& t, const double* image, Time next) {
  Step& s = step_of(t);
  const Time elapsed = next - t.since;
  switch (s.step->kind) {
    case Kind::hold:
      return elapsed >= s.step->duration;
    case Kind::ramp: {
      const double share = std::min(1.0, to_seconds(elapsed) / to_seconds(s.step->duration));
      write(t, elapsed >= s.step->duration ? t.to : t.from + share * (t.to - t.from));
      return elapsed >= s.step->duration;
    }
    case Kind::play:
      write(t, program::look_up(program::Op::table1, tables_[static_cast<std::size_t>(s.step->table)],
                                to_seconds(elapsed), 0));
      return elapsed >= s.step->duration;
    case Kind::wait:
      s.value.evaluate(image);
      if (t.came || s.value.value(0) != 0) return true;
      if (elapsed > s.step->duration) timed_out_ = s.step;
      return false;
    case Kind::expect:
      if (t.came) return true;
      s.value.evaluate(image);
      return expectation(t, s, next);
    case Kind::again:  // a round takes a step at least, so that nothing turns for ever within an instant
      return next > steps_[static_cast<std::size_t>(s.step->places[0])].round_began;
    case Kind::fork:
      return t.waits_for == 0;
    default:
      return true;
  }
}

/// At once; or within the duration; or throughout it.
bool ScenarioPlayer::expectation(Track& t, Step& s, Time next) {
  const bool holds = s.value.value(0) != 0;
  const bool due = next - t.since >= s.step->duration;
  if (s.step->margin != program::kNone) {
    const double margin = s.value.value(1);
    if (!s.step->whole && s.step->timed) {
      t.worst = std::isfinite(t.worst) ? std::max(t.worst, margin) : margin;  // the best moment counts
    } else {
      t.worst = std::min(t.worst, margin);
    }
  }
  if (s.step->whole) {
    t.failed = t.failed || !holds;
    if (!due && !t.failed) return false;
    return conclude(t, s, !t.failed, next), true;
  }
  if (!holds && s.step->timed && !due) return false;
  return conclude(t, s, holds, next), true;
}

void ScenarioPlayer::conclude(Track& t, Step& s, bool met, Time next) {
  Expected& e = s.expected;
  ++(met ? e.met : e.missed);
  if (!met && !e.first_missed) e.first_missed = next;
  if (t.worst < e.worst) {
    e.worst = t.worst;
    e.worst_at = next;
  }
  events_.push_back({next, observe::EventKind::expected, static_cast<std::int32_t>(t.at), scenario_, met ? 1.0 : 0.0});
}

/// Where the track goes on.
std::size_t ScenarioPlayer::after(Track& t, Time next) {
  Step& s = step_of(t);
  const auto place = [&](std::size_t i) { return static_cast<std::size_t>(s.step->places[i]); };
  switch (s.step->kind) {
    case Kind::repeat: {
      const bool enough = s.step->whole ? t.to != 0 : s.rounds >= std::llround(t.to);
      s.rounds = enough ? 0 : s.rounds + 1;
      s.round_began = next;
      return enough ? place(0) : t.at + 1;
    }
    case Kind::again:
    case Kind::jump:
      return place(0);
    case Kind::either:
      return place(static_cast<std::size_t>(t.to));
    case Kind::fork:
      return place(s.step->places.size() - 1);
    case Kind::join:
      t.alive = false;
      --tracks_[t.parent].waits_for;
      return t.at;
    case Kind::end:
      ended_ = true;
      return t.at;
    default:
      return t.at + 1;
  }
}

/// As far as the track comes at this instant; to its next fork.
void ScenarioPlayer::advance(Track& t, const double* image, Time next) {
  while (t.alive && t.at < steps_.size() && !ended_ && timed_out_ == nullptr) {
    if (!t.begun) {
      begin(t, image, next);
      if (step_of(t).step->kind == Kind::fork) return;
    }
    if (!is_over(t, image, next)) return;
    t.at = after(t, next);
    t.begun = false;
  }
}

/// A track and those that it waits for, in the order of the text. When the last of them is over it goes on at the same
/// instant.
void ScenarioPlayer::visit(Track& t, const double* image, Time next) {
  do {
    advance(t, image, next);
    if (!t.alive || !t.begun || t.at >= steps_.size() || step_of(t).step->kind != Kind::fork) return;
    const Step& fork = step_of(t);
    for (std::size_t i = 0; i + 1 < fork.step->places.size(); ++i) {
      Track& track = tracks_[fork.first_track + i];
      if (track.alive && !finished()) visit(track, image, next);
    }
  } while (t.alive && t.waits_for == 0 && !finished());
}

bool ScenarioPlayer::quick() const {
  return quick_ends_ || std::any_of(steps_.begin(), steps_.end(), [](const Step& s) { return s.quick; });
}

/// It acts at instants of the bench, but what it waits for may come and go before.
void ScenarioPlayer::between(const double* image, Time at) {
  if (quick_ends_) {
    ends_.evaluate(image);
    for (std::size_t i = 0; i < end_count_; ++i) ended_ = ended_ || ends_.value(i) != 0;
  }
  for (Track& t : tracks_) {
    if (!t.alive || !t.begun || t.came || t.at >= steps_.size() || !step_of(t).quick) continue;
    Step& s = step_of(t);
    s.value.evaluate(image);
    t.came = s.step->kind == Kind::wait ? s.value.value(0) != 0 : expectation(t, s, at);
  }
}

void ScenarioPlayer::plan(const double* image, Time next) {
  writes_.clear();
  writers_.clear();
  events_.clear();
  commands_.clear();
  if (end_count_ > 0) ends_.evaluate(image);
  for (std::size_t i = 0; i < end_count_; ++i) ended_ = ended_ || ends_.value(i) != 0;
  if (!tracks_.empty() && !finished()) visit(tracks_[0], image, next);
}

std::vector<Expected> ScenarioPlayer::expected() const {
  std::vector<Expected> all;
  for (const Step& s : steps_) {
    if (s.step->kind != Kind::expect) continue;
    all.push_back(s.expected);
    for (const Track& t : tracks_) {
      if (t.alive && t.begun && t.at < steps_.size() && &steps_[t.at] == &s) all.back().open = true;
    }
  }
  return all;
}

}  // namespace isodyne::bench
