#include "isodyne/bench/messages.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace isodyne::bench {

MessagePlayer::MessagePlayer(const model::Program& program, std::uint64_t seed) {
  for (const model::Messages& m : program.messages) {
    for (const model::Messages::Line& l : m.lines) {
      Line line;
      line.messages = &m;
      line.line = &l;
      line.random = RandomStream(
          seed, fmt::format("messages {} {} {}", m.name, program.controllers[static_cast<std::size_t>(l.from)].name,
                            program.controllers[static_cast<std::size_t>(l.to)].name));
      line.underway.resize(kMostUnderway);
      line.values.resize(kMostUnderway * l.values.size());
      lines_.push_back(std::move(line));
    }
  }
}

void MessagePlayer::send(std::size_t controller, const engine::PlantState& state) {
  for (Line& l : lines_) {
    if (l.line->from != static_cast<std::int32_t>(controller)) continue;
    ++sent_;
    const model::Messages& m = *l.messages;
    // Drawn for every message, so that a cut does not change what happens to the later ones.
    const double fate = l.random.uniform(), delay = l.random.uniform();
    if (fate < m.loss || (m.cut != model::kNone && state[m.cut] != 0)) {
      ++lost_;
      continue;
    }
    const std::size_t place = static_cast<std::size_t>(l.sent % kMostUnderway);
    if (l.underway[place].due != Time::max()) ++lost_;
    l.underway[place] = {state.now + m.latency + Time(std::llround(delay * static_cast<double>(m.jitter.count()))),
                         l.sent++};
    for (std::size_t i = 0; i < l.line->values.size(); ++i)
      l.values[place * l.line->values.size() + i] = state[l.line->values[i].first];
    l.next = std::min(l.next, l.underway[place].due);
  }
}

void MessagePlayer::deliver(engine::PlantState& state) {
  for (Line& l : lines_) {
    while (l.next <= state.now) arrive(l, state);
  }
}

/// The one that is due first; of two at once the one that was sent first.
void MessagePlayer::arrive(Line& l, engine::PlantState& state) {
  const auto first = std::min_element(l.underway.begin(), l.underway.end(), [](const Underway& a, const Underway& b) {
    return a.due != b.due ? a.due < b.due : a.number < b.number;
  });
  const auto place = static_cast<std::size_t>(first - l.underway.begin());
  for (std::size_t i = 0; i < l.line->values.size(); ++i)
    state[l.line->values[i].second] = l.values[place * l.line->values.size() + i];
  *first = {};
  l.next = std::min_element(l.underway.begin(), l.underway.end(), [](const Underway& a, const Underway& b) {
             return a.due < b.due;
           })->due;
}

}  // namespace isodyne::bench
