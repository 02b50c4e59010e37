#include "isodyne/bench/quick_rows.h"

#include <algorithm>

namespace isodyne::bench {

QuickRows::QuickRows(const program::Program& program, const engine::RunningPlant& plant, ScenarioPlayer& scenario,
                     FaultPlayer& faults)
    : view_(program::quick_view(program)),
      networks_(plant.networks()),
      scenario_(scenario),
      faults_(faults),
      cores_(plant.cores()) {
  if (!view_.any()) return;
  if (scenario_.quick() || faults_.quick()) images_.emplace(program, view_);
  most_ = static_cast<std::size_t>(program.step / view_.period);
  for (std::size_t c = 0; c < cores_.size(); ++c) {
    Core& core = cores_[c];
    for (std::size_t i = 0; i < view_.columns.size(); ++i) {
      const std::int32_t group = program.variable(view_.columns[i]).group;
      if (!plant.plan(c).groups[static_cast<std::size_t>(group)].here) continue;
      core.columns.push_back(view_.columns[i]);
      core.places.push_back(i);
    }
    core.before.resize(core.columns.size());
    core.rows.resize(most_ * core.columns.size());
    core.times.resize(most_);
  }
  if (cores_.size() > 1) all_.resize(most_ * view_.columns.size());
}

void QuickRows::find_noted() {
  for (Core& core : cores_) {
    for (std::size_t i = 0; i < core.columns.size(); ++i) {
      const engine::Networks::Place at = networks_.seen_at(core.columns[i]);
      if (at.network == program::kNone) {
        core.copied.push_back(i);
        continue;
      }
      auto of = std::find_if(core.noted.begin(), core.noted.end(),
                             [&](const Core::Noted& n) { return n.network == at.network; });
      if (of == core.noted.end()) of = core.noted.insert(of, {at.network, {}, {}});
      of->columns.push_back(i);
      of->places.push_back(static_cast<std::size_t>(at.place));
    }
  }
}

void QuickRows::begin(const double* values) {
  if (images_) images_->image(values);
  for (Core& core : cores_) {
    core.count = 0;
    for (std::size_t i = 0; i < core.columns.size(); ++i) core.before[i] = values[core.columns[i]];
  }
}

void QuickRows::instant(std::int32_t number, Time now, const double* values) {
  if (number == 0 && at_instant_) at_instant_();
  Core& core = cores_[static_cast<std::size_t>(number)];
  if (core.columns.empty() || now.count() % view_.period.count() != 0) return;
  double* const to = core.rows.data() + core.count * core.columns.size();
  for (const std::size_t i : core.copied) to[i] = values[core.columns[i]];
  core.times[core.count++] = now;
}

/// Rows that a network noted down, at its own instants, as columns of a core's rows; there are no more of these than of
/// the network's.
void QuickRows::fetch(Core& core, const Core::Noted& noted) {
  const engine::Networks::Seen seen = networks_.seen(noted.network);
  std::size_t next = 0;  // as many rows of the network have been
  Time then = seen.begin + seen.period;
  for (std::size_t r = 0; r < core.count; ++r) {
    for (; then <= core.times[r]; then += seen.period) ++next;
    if (next > seen.count) {
      core.count = r;
      return;
    }
    double* const to = core.rows.data() + r * core.columns.size();
    for (std::size_t k = 0; k < noted.columns.size(); ++k) {
      const std::size_t column = noted.columns[k];
      to[column] = next == 0 ? core.before[column] : seen.rows[(next - 1) * seen.width + noted.places[k]];
    }
  }
}

/// Of each core what it had last.
const double* QuickRows::joined(Time first, std::size_t count) {
  const std::size_t width = view_.columns.size();
  for (const Core& core : cores_) {
    std::size_t next = 0;
    for (std::size_t r = 0; r < count; ++r) {
      const Time at = first + view_.period * static_cast<std::int64_t>(r);
      while (next < core.count && core.times[next] <= at) ++next;
      const double* from = next == 0 ? core.before.data() : core.rows.data() + (next - 1) * core.columns.size();
      for (std::size_t i = 0; i < core.places.size(); ++i) all_[r * width + core.places[i]] = from[i];
    }
  }
  return all_.data();
}

void QuickRows::hand_over(observe::Observer& observer, Time last) {
  observe::Rows rows;
  rows.period = view_.period;
  rows.columns = view_.columns;
  Time first = Time::max(), end{};
  for (Core& core : cores_) {
    for (const Core::Noted& noted : core.noted) fetch(core, noted);
    if (core.count == 0) continue;
    first = std::min(first, core.times.front());
    end = std::max(end, core.times[core.count - 1]);
  }
  end = std::min(end, last);
  if (end < first) return;
  rows.first = first;
  rows.count = static_cast<std::size_t>((end - first) / view_.period) + 1;
  rows.values = cores_.size() == 1 ? cores_.front().rows.data() : joined(first, rows.count);
  observer.rows(rows);
  for (std::size_t i = 0; images_ && i < rows.count; ++i) {
    const double* image = images_->row(to_seconds(rows.at(i)), rows.row(i));
    scenario_.between(image, rows.at(i));
    faults_.between(image);
  }
}

}  // namespace isodyne::bench
