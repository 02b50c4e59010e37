#include "isodyne/bench/message_lines.h"

#include <algorithm>
#include <bit>
#include <cmath>

#include <fmt/format.h>

namespace isodyne::bench {

bool InFlight::send(Time due, const std::vector<double>& values, bool overtaken) {
  // A free place; without one the oldest message goes.
  const auto place = std::min_element(messages_.begin(), messages_.end(), [](const Message& a, const Message& b) {
    const bool free_a = a.due == Time::max(), free_b = b.due == Time::max();
    return free_a != free_b ? free_a : a.order < b.order;
  });
  const bool free = place->due == Time::max();
  // Orders are even, so that one that is overtaken finds room behind the next.
  *place = {due, 2 * sent_++ + (overtaken ? 3U : 0U)};
  std::copy(values.begin(), values.end(),
            rows_.begin() + static_cast<std::ptrdiff_t>(values_ * static_cast<std::size_t>(place - messages_.begin())));
  next_ = std::min(next_, due);
  return free;
}

bool InFlight::arrive(Time now, std::vector<double>& values) {
  if (next_ > now) return false;
  const auto earlier = [](const Message& a, const Message& b) {
    return a.due != b.due ? a.due < b.due : a.order < b.order;
  };
  const auto first = std::min_element(messages_.begin(), messages_.end(), earlier);
  const auto begin =
      rows_.begin() + static_cast<std::ptrdiff_t>(values_ * static_cast<std::size_t>(first - messages_.begin()));
  std::copy(begin, begin + static_cast<std::ptrdiff_t>(values_), values.begin());
  *first = {};
  next_ = std::min_element(messages_.begin(), messages_.end(), earlier)->due;
  return true;
}

MessageFaults::MessageFaults(const program::Program& program, std::vector<const FaultActivity*> faults,
                             std::vector<program::VarId> what, std::uint64_t seed)
    : program_(program), what_(std::move(what)) {
  while (named_ < what_.size() && what_[named_] != program::kNone) ++named_;
  for (const FaultActivity* a : faults) {
    const program::Fault& f = program.faults[static_cast<std::size_t>(a->fault)];
    faults_.push_back({a, &f, RandomStream(seed, "fault " + f.name), std::vector<double>(what_.size()), false});
  }
}

bool MessageFaults::active() const {
  return std::any_of(faults_.begin(), faults_.end(), [](const One& f) { return f.activity->active; });
}

MessageFaults::Fate MessageFaults::meet(std::vector<double>& values) {
  using program::FaultKind;
  Fate fate;
  for (One& f : faults_) {
    if (!f.activity->active) {
      f.holding = false;
      continue;
    }
    const double amount = f.activity->amount;
    switch (f.fault->kind) {
      case FaultKind::loss:
        fate.lost = f.random.uniform() < amount || fate.lost;
        break;
      case FaultKind::delay:
        fate.late += f.fault->lag;
        break;
      case FaultKind::jitter:
        fate.late += Time(std::llround(f.random.uniform() * static_cast<double>(f.fault->lag.count())));
        break;
      case FaultKind::repeats:
        fate.repeated = f.random.uniform() < amount || fate.repeated;
        break;
      case FaultKind::reorder:
        fate.overtaken = f.random.uniform() < amount || fate.overtaken;
        break;
      case FaultKind::corrupt:
        if (f.random.uniform() < amount) corrupt(f.random, values);
        break;
      case FaultKind::freeze:
        if (!f.holding) f.frozen = values;
        f.holding = true;
        values = f.frozen;
        break;
      default:
        break;
    }
  }
  return fate;
}

/// One bit of one value: a truth turns round, whole numbers and raw words are seen as such, others as they are stored.
void MessageFaults::corrupt(RandomStream& random, std::vector<double>& values) const {
  if (named_ == 0) return;
  const auto below = [&](std::uint64_t n) {
    return static_cast<std::uint64_t>(random.uniform() * static_cast<double>(n));
  };
  const std::size_t i = below(named_);
  const program::Variable& v = program_.variable(what_[i]);
  using Kind = program::Type::Kind;
  const bool raw = v.role == program::Role::field || v.role == program::Role::counts;
  if (v.type.kind == Kind::boolean) {
    values[i] = values[i] == 0 ? 1 : 0;
  } else if (v.type.kind == Kind::choice) {
    const auto labels = program_.choices[static_cast<std::size_t>(v.type.choice)].labels.size();
    values[i] = static_cast<double>((static_cast<std::uint64_t>(values[i]) + 1 + below(labels - 1)) % labels);
  } else if (raw || v.type.kind == Kind::integer) {
    values[i] =
        static_cast<double>(static_cast<std::int64_t>(std::llround(values[i])) ^ (std::int64_t{1} << below(12)));
  } else {
    const double flipped =
        std::bit_cast<double>(std::bit_cast<std::uint64_t>(values[i]) ^ (std::uint64_t{1} << below(64)));
    values[i] = std::isfinite(flipped) ? flipped : -values[i];
  }
}

void MessageFaults::let_pass() {
  for (One& f : faults_) f.holding = false;
}

bool FaultyLine::pass(Time now, std::vector<double>& values) {
  if (!begun_) there_ = values;
  begun_ = true;
  if (!faults_.active() && in_flight_.empty()) {  // as it is, and at once
    faults_.let_pass();
    there_ = values;
    return true;
  }
  const MessageFaults::Fate fate = faults_.meet(values);
  if (!fate.lost) {
    if (!fate.overtaken) in_flight_.send(now + fate.late, values);
    if (fate.overtaken || fate.repeated) in_flight_.send(now + fate.late + period_, values, true);
  }
  bool arrived = false;
  while (in_flight_.arrive(now, there_)) arrived = true;
  values = there_;
  return arrived;
}

MessagePlayer::MessagePlayer(const program::Program& program, const FaultPlayer& faults, std::uint64_t seed) {
  for (std::size_t i = 0; i < program.messages.size(); ++i) {
    const program::Messages& m = program.messages[i];
    for (const program::Messages::Line& l : m.lines) {
      const program::Controller& from = program.controllers[static_cast<std::size_t>(l.from)];
      const program::Controller& to = program.controllers[static_cast<std::size_t>(l.to)];
      std::vector<program::VarId> what;
      for (const auto& [sent, read] : l.values) what.push_back(sent);
      lines_.push_back({&m, &l, RandomStream(seed, fmt::format("messages {} {} {}", m.name, from.name, to.name)),
                        MessageFaults(program, faults.on_messages(static_cast<std::int32_t>(i)), what, seed),
                        InFlight(what.size()), from.period, std::vector<double>(what.size())});
    }
  }
}

void MessagePlayer::send(std::size_t controller, const engine::PlantState& state) {
  for (Line& l : lines_) {
    if (l.line->from != static_cast<std::int32_t>(controller)) continue;
    ++sent_;
    const program::Messages& m = *l.messages;
    // Drawn for every message, so that a cut does not change what happens to the later ones.
    const double fate = l.random.uniform(), delay = l.random.uniform();
    for (std::size_t i = 0; i < l.values.size(); ++i) l.values[i] = state[l.line->values[i].first];
    const MessageFaults::Fate faulted = l.faults.meet(l.values);
    if (fate < m.loss || (m.cut != program::kNone && state[m.cut] != 0) || faulted.lost) {
      ++lost_;
      continue;
    }
    const Time due =
        state.now + m.latency + Time(std::llround(delay * static_cast<double>(m.jitter.count()))) + faulted.late;
    if (!faulted.overtaken && !l.in_flight.send(due, l.values)) ++lost_;
    if ((faulted.overtaken || faulted.repeated) && !l.in_flight.send(due + l.period, l.values, true)) ++lost_;
  }
}

void MessagePlayer::deliver(engine::PlantState& state) {
  for (Line& l : lines_) {
    while (l.in_flight.arrive(state.now, l.values)) {
      for (std::size_t i = 0; i < l.values.size(); ++i) state[l.line->values[i].second] = l.values[i];
    }
  }
}

}  // namespace isodyne::bench
