#include "isodyne/bench/number_watch.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/engine/block.h"
#include "isodyne/program/numbering.h"

namespace isodyne::bench {

namespace {

constexpr const char* kAdvice =
    "guard it: `if … then … else …` around what is not defined there, or `max(…, least)` below what it divides by";

std::vector<const program::Watch*> chosen(const program::Program& p, const std::vector<std::int32_t>& faults,
                                          std::int32_t scenario, bool by_itself) {
  std::vector<const program::Watch*> all;
  for (const program::Watch& w : p.watches) {
    if (by_itself && !w.by_itself) continue;
    if (w.fault != program::kNone && std::find(faults.begin(), faults.end(), w.fault) == faults.end()) continue;
    if (w.scenario != program::kNone && w.scenario != scenario) continue;
    all.push_back(&w);
  }
  return all;
}

std::vector<program::NodeId> nodes_of(const std::vector<const program::Watch*>& watches) {
  std::vector<program::NodeId> nodes;
  for (const program::Watch* w : watches) nodes.push_back(w->node);
  return nodes;
}

/// Whether all are finite; several sums, so that they need not wait for each other.
ISODYNE_WIDE bool all_finite(const double* v, std::size_t count) {
  constexpr std::size_t kSums = 8;
  double sums[kSums] = {};
  std::size_t i = 0;
  for (; i + kSums <= count; i += kSums) {
    for (std::size_t k = 0; k < kSums; ++k) sums[k] += v[i + k] * 0;
  }
  for (; i < count; ++i) sums[0] += v[i] * 0;
  double sum = 0;
  for (const double s : sums) sum += s;
  return sum == 0;
}

std::string number_text(double value) {
  return std::isnan(value) ? "not a number" : value > 0 ? "infinite" : "infinite, negative";
}

}  // namespace

NumberWatch::NumberWatch(const program::Program& program, const std::vector<std::int32_t>& faults,
                         std::int32_t scenario, bool between)
    : program_(program),
      always_(chosen(program, faults, scenario, true)),
      all_(chosen(program, faults, scenario, false)),
      always_values_(program, nodes_of(always_)),
      all_values_(program, nodes_of(all_)),
      between_(between),
      noted_(program.variables.size(), 0) {
  for (std::size_t i = 0; i < program.variables.size(); ++i) {
    if (program::may_be_no_number(program.variables[i])) looked_at_ = i + 1;
  }
  for (const program::RecordGroup& g : program.recorded)
    if (!g.judged) recorded_.insert(recorded_.end(), g.signals.begin(), g.signals.end());
  missing_.reserve(recorded_.size());
}

std::optional<NumberWatch::Story> NumberWatch::look(double* image, Time now, const ScenarioPlayer& scenario) {
  const bool finite = all_finite(image, looked_at_);
  if (finite && always_.empty()) return std::nullopt;
  if (const program::Watch* w = find(finite ? always_ : all_, finite ? always_values_ : all_values_, image, scenario))
    return explain(*w, image, now);
  if (finite) return std::nullopt;
  if (const program::QuickWatch* w = between_ ? find_between(image, now) : nullptr) return explain(*w, image);
  note_missing(image, now);
  return std::nullopt;
}

const program::Watch* NumberWatch::find(const std::vector<const program::Watch*>& watches, engine::Evaluator& values,
                                        const double* image, const ScenarioPlayer& scenario) {
  values.evaluate(image);
  for (std::size_t i = 0; i < watches.size(); ++i) {
    const program::Watch& w = *watches[i];
    if (values.value(i) == 0 || (w.step != program::kNone && !scenario.stands_at(static_cast<std::size_t>(w.step))))
      continue;
    return &w;
  }
  return nullptr;
}

Time NumberWatch::instant_of(const program::QuickWatch& w, const double* image) const {
  return *time_from_seconds(image[w.good]) + program::at(program_.groups, w.group).step;
}

/// Instants of the bench themselves are solved more than once, and what stands at their end was looked at: there the
/// sum begins anew.
const program::QuickWatch* NumberWatch::find_between(double* image, Time now) const {
  for (const program::QuickWatch& w : program_.quick_watches) {
    if (image[w.sum] == 0) continue;
    if (instant_of(w, image) < now) return &w;
    image[w.sum] = 0;
    image[w.good] = to_seconds(now);
  }
  return nullptr;
}

void NumberWatch::note_missing(const double* image, Time now) {
  for (const program::VarId id : recorded_) {
    char& noted = noted_[static_cast<std::size_t>(id)];
    if (noted != 0 || std::isfinite(image[id])) continue;
    noted = 1;
    missing_.push_back({id, now});
  }
}

std::optional<program::NodeId> NumberWatch::equation_of(program::VarId id, Span& span) const {
  for (const program::Assignment& e : program_.equations) {
    if (e.target == id) return span = e.span, e.value;
  }
  return std::nullopt;
}

/// What a sensor of that value, signal or word samples.
program::VarId NumberWatch::truth_behind(program::VarId id) const {
  for (const program::Sensor& s : program_.sensors) {
    if (id == s.value || id == s.signal || id == s.counts) return s.truth;
  }
  return program::kNone;
}

/// Back along what was computed, to the first that is no number although all that it reads are.
program::VarId NumberWatch::maker_of_trouble(program::VarId id, const double* image) const {
  for (std::size_t most = program_.variables.size(); most > 0; --most) {
    Span span;
    const auto value = equation_of(id, span);
    if (!value) {
      const program::VarId truth = truth_behind(id);
      if (truth == program::kNone || std::isfinite(image[truth])) return id;
      id = truth;
      continue;
    }
    const auto reads = program_.reads(*value);
    const auto bad =
        std::find_if(reads.begin(), reads.end(), [&](program::VarId read) { return !std::isfinite(image[read]); });
    if (bad == reads.end()) return id;
    id = *bad;
  }
  return id;
}

NumberWatch::Story NumberWatch::explain(const program::Watch& watch, const double* image, Time now) const {
  Story story;
  story.at = now;
  const auto reads = program_.reads(watch.node);
  const auto bad =
      std::find_if(reads.begin(), reads.end(), [&](program::VarId read) { return !std::isfinite(image[read]); });
  const auto say_reads = [&](const std::vector<program::VarId>& all) {
    for (const program::VarId id : all)
      story.details.push_back(
          fmt::format("there {} is {}", program_.variable(id).name, program_.format(id, image[id])));
  };
  if (bad == reads.end()) {
    story.what = fmt::format("{} compares what is no finite number", watch.reader);
    if (watch.span.known())
      story.details.push_back(
          fmt::format("{}: {}", program_.sources->place(watch.span), program_.sources->in_one_line(watch.span)));
    say_reads(reads);
    story.details.push_back(kAdvice);
    return story;
  }
  const program::VarId made = maker_of_trouble(*bad, image);
  story.what = fmt::format("`{}` is {}, and {} reads {}", program_.variable(made).name, number_text(image[made]),
                           watch.reader, made == *bad ? "it" : "`" + program_.variable(*bad).name + "`");
  Span span = program_.variable(made).span;
  if (const auto value = equation_of(made, span)) {
    story.details.push_back(
        fmt::format("its equation is in {}: {}", program_.sources->place(span), program_.sources->in_one_line(span)));
    say_reads(program_.reads(*value));
  } else if (span.known()) {
    story.details.push_back(fmt::format("it is declared in {}", program_.sources->place(span)));
  }
  story.details.push_back(kAdvice);
  return story;
}

NumberWatch::Story NumberWatch::explain(const program::QuickWatch& w, const double* image) const {
  const Time step = program::at(program_.groups, w.group).step;
  Story story;
  story.at = instant_of(w, image);
  story.what = fmt::format("{} read what is no finite number", w.reader);
  if (w.span.known())
    story.details.push_back(
        fmt::format("{}: {}", program_.sources->place(w.span), program_.sources->in_one_line(w.span)));
  story.details.push_back(
      fmt::format("that was between two instants of the bench, in a step of {}; with that step for "
                  "the whole bench, a run names the quantity",
                  format_span(step)));
  story.details.push_back(kAdvice);
  return story;
}

}  // namespace isodyne::bench
