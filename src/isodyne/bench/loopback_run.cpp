#include "isodyne/bench/loopback_run.h"

#include <algorithm>
#include <cmath>
#include <thread>

#include <fmt/format.h>

#include "isodyne/bench/channels.h"

namespace isodyne::bench {

namespace {

using program::ChannelForm;
using program::kNone;
using program::Linear;
using program::Program;
using program::VarId;

constexpr std::size_t kSamples = 4;  // of each level, to see noise

using io::back;
using io::forth;

/// The values at both ends of a channel.
std::pair<double, double> ends_of(const ChannelForm& f) {
  if (f.range) return *f.range;
  if (!f.to_counts) return {0, 1};
  return {back(*f.to_counts, f.word.lowest), back(*f.to_counts, f.word.highest)};
}

double level_of(const ChannelForm& f, double value) {
  const auto [low, high] = ends_of(f);
  return (value - low) / (high - low);
}
double value_at(const ChannelForm& f, double level) {
  const auto [low, high] = ends_of(f);
  return low + level * (high - low);
}

/// How far apart two values are that the channel can tell apart, as a share of the way between its ends.
double resolution_of(const ChannelForm& f) {
  if (!f.to_counts) return 0;
  const auto [low, high] = ends_of(f);
  return std::abs(1 / (forth(*f.to_counts, high) - forth(*f.to_counts, low)));
}

bool is_line(const Program& p, VarId id) {
  return p.variable(id).type.kind == program::Type::Kind::boolean;
}

/// Where a channel stands among what a controller exchanges.
struct Place {
  std::size_t index = 0;
  bool raw = false;
};

std::optional<Place> place_of(const Program& p, const program::Controller& c, const program::Sensor& s) {
  for (std::size_t i = 0; i < c.reads.size(); ++i) {
    if (c.reads[i] == s.value) return Place{i, false};
  }
  for (const program::FrameUse& use : c.read_frames) {
    const auto& fields = at(p.frames, use.frame).fields;
    for (std::size_t i = 0; i < fields.size(); ++i) {
      if (fields[i].of != kNone && (fields[i].of == s.counts || fields[i].of == s.value))
        return Place{use.first + i, true};
    }
  }
  return std::nullopt;
}

std::optional<Place> place_of(const Program&, const program::Controller& c, std::int32_t actuator) {
  for (std::size_t i = 0; i < c.writes.size(); ++i) {
    if (c.writes[i].actuator == actuator) return Place{i, c.writes[i].in_frame};
  }
  return std::nullopt;
}

}  // namespace

program::Wiring faultless(const Program& program, std::int32_t cables) {
  program::Wiring w;
  w.cables = cables;
  for (const program::Cable& c : at(program.cables, cables).cables)
    w.wires.push_back({c.sensor, c.actuator, false, 1, 0, {}});
  return w;
}

WiringPort::WiringPort(const Program& program, const program::Controller& controller, const program::Wiring& wiring,
                       std::uint64_t seed)
    : program_(program) {
  for (const program::Wire& w : wiring.wires) {
    if (w.actuator == kNone) continue;
    const program::Sensor& s = at(program.sensors, w.sensor);
    const auto from = place_of(program, controller, s);
    const auto to = place_of(program, controller, w.actuator);
    if (!from || !to) continue;
    const bool counts = s.to_counts.has_value();
    strands_.push_back({w, from->index, to->index, from->raw && counts,
                        to->raw && at(program.actuators, w.actuator).to_counts.has_value(), is_line(program, s.value),
                        RandomStream(seed, "wire " + s.name)});
  }
}

double WiringPort::carry(Strand& s, double read) {
  const program::Wire& w = s.wire;
  const program::Sensor& from = at(program_.sensors, w.sensor);
  const program::Actuator& to = at(program_.actuators, w.actuator);
  if (s.line) {
    if (w.stuck) return *w.stuck > 0.5 ? 1 : 0;
    double level = w.inverted ? 1 - read : read;
    if (w.noise > 0 && s.noise.uniform() < w.noise) level = 1 - level;
    return level;
  }
  const double value = s.raw_in ? back(*from.to_counts, read) : read;
  double level = level_of(from, value);
  if (w.inverted) level = 1 - level;
  level *= w.times;
  if (w.noise > 0) level += w.noise * s.noise.normal();
  if (w.stuck) level = *w.stuck;
  // Two electrical forms meet on the wire itself, whatever either side calls its ends.
  double arrives = value_at(to, level);
  if (from.to_signal && to.to_signal) arrives = back(*to.to_signal, forth(*from.to_signal, value_at(from, level)));
  if (!s.raw_out) return arrives;
  return std::clamp(std::round(forth(*to.to_counts, arrives)), to.word.lowest, to.word.highest);
}

/// Where nothing is connected there is no current and no voltage, a line is false, a word is 0.
Status WiringPort::exchange(Time, std::span<const double> reads, std::span<double> writes) {
  std::fill(writes.begin(), writes.end(), 0.0);
  for (Strand& s : strands_) writes[s.write] = carry(s, reads[s.read]);
  return Done{};
}

Result<std::int32_t> controller_of(const Program& program, std::int32_t cables) {
  std::string lacking = "it has no cables";
  for (std::size_t i = 0; i < program.controllers.size(); ++i) {
    const program::Controller& c = program.controllers[i];
    lacking.clear();
    for (const program::Cable& cable : at(program.cables, cables).cables) {
      const program::Sensor& s = at(program.sensors, cable.sensor);
      if (!place_of(program, c, s)) lacking = fmt::format("{} does not read {}", c.name, s.name);
      if (!place_of(program, c, cable.actuator))
        lacking = fmt::format("{} does not write {}", c.name, at(program.actuators, cable.actuator).name);
    }
    if (lacking.empty()) return static_cast<std::int32_t>(i);
  }
  return Failure{
      fmt::format("no controller exchanges all channels of cable list `{}`", at(program.cables, cables).name), "",
      lacking};
}

namespace {

/// The channels of both sides, walked level by level.
class Walk {
 public:
  Walk(const std::shared_ptr<const Program>& program, std::int32_t cables, const program::Controller& controller,
       ports::ControllerPort& port, std::uint64_t seed)
      : p_(*program),
        cables_(at(program->cables, cables).cables),
        c_(controller),
        port_(port),
        plant_(program),
        seed_(seed),
        channels_(p_, state_, nobody_) {
    for (const program::Sensor& s : p_.sensors) sensors_.emplace_back(s, seed);
    reads_.resize(c_.reads.size());
    writes_.resize(c_.answer_size());
    state_ = plant_.start({});
  }

  Result<LoopbackResult> run() {
    const Status started = ports::bring_up(port_, c_.period, reads_, writes_, std::chrono::seconds(10));
    if (!started) return started.failure();
    prepare();
    for (std::size_t level = 0; level < io::kLevels; ++level) {
      const Status walked = walk(level);
      if (!walked) return walked.failure();
    }
    port_.close();
    for (std::size_t i = 0; i < inputs_.size(); ++i)
      inputs_[i].noise = std::sqrt(square_[i] / static_cast<double>(io::kLevels * (kSamples - 1)));
    return LoopbackResult{io::judge_wires(sent_, inputs_), exchanges_};
  }

 private:
  void prepare() {
    square_.resize(cables_.size());
    for (std::size_t i = 0; i < cables_.size(); ++i) {
      const program::Sensor& s = at(p_.sensors, cables_[i].sensor);
      const program::Actuator& a = at(p_.actuators, cables_[i].actuator);
      io::Wired in;
      in.output = i;
      in.line = is_line(p_, s.value);
      in.nothing = in.line ? 0 : level_of(a, nothing_at(a, cables_[i].actuator));
      in.resolution = in.line ? 0 : resolution_of(s) + resolution_of(a);
      const auto [low, high] = ends_of(s);
      in.known_noise = in.line ? 0 : s.noise / std::abs(high - low);
      inputs_.push_back(in);
      const double zero = in.line ? 0 : level_of(s, 0);
      sent_.push_back(io::levels_of(i, in.line, zero > 0 && zero < 1 ? zero : 0, seed_));
      if (s.filter.count() > 0)
        settle_ =
            std::max(settle_, static_cast<std::size_t>(std::ceil(8 * to_seconds(s.filter) / to_seconds(s.period))));
    }
  }

  /// What an actuator reads when nothing is connected.
  double nothing_at(const program::Actuator& a, std::int32_t index) {
    io::Sample got;
    io::ActuatorChannel channel(a);
    const bool raw = place_of(p_, c_, index)->raw;
    return raw ? channel.take(0, {}, {}, got) : channel.pass(0, {}, {}, got);
  }

  Status walk(std::size_t level) {
    std::vector<std::vector<double>> seen(cables_.size());
    for (std::size_t n = 0; n < settle_ + kSamples; ++n) {
      const Status exchanged = exchange(level);
      if (!exchanged) return exchanged;
      if (n < settle_) continue;
      for (std::size_t i = 0; i < cables_.size(); ++i) seen[i].push_back(read(i));
    }
    for (std::size_t i = 0; i < cables_.size(); ++i) {
      double mean = 0;
      for (const double x : seen[i]) mean += x / static_cast<double>(kSamples);
      for (const double x : seen[i]) square_[i] += (x - mean) * (x - mean);
      inputs_[i].level.push_back(mean);
    }
    return Done{};
  }

  Status exchange(std::size_t level) {
    for (std::size_t i = 0; i < cables_.size(); ++i) {
      const program::Sensor& s = at(p_.sensors, cables_[i].sensor);
      const double sent = sent_[i][level];
      const double value = inputs_[i].line ? sent : value_at(s, sent);
      const io::Sample got = sensors_[static_cast<std::size_t>(cables_[i].sensor)].sample(value, state_.now, {});
      state_[s.value] = got.value;
      if (s.counts != kNone) state_[s.counts] = got.counts;
    }
    for (const program::FrameUse& use : c_.read_frames) channels_.gather_frame(static_cast<std::size_t>(use.frame));
    for (std::size_t r = 0; r < reads_.size(); ++r) reads_[r] = state_[c_.reads[r]];
    state_.now += c_.period;
    ++exchanges_;
    const Status exchanged = port_.exchange(state_.now - c_.period, reads_, writes_);
    if (!exchanged || port_.pace() != ports::Pace::free) return exchanged;
    // A device that runs by its own clock gets two periods to fetch and to answer.
    std::this_thread::sleep_for(2 * c_.period);
    return port_.exchange(state_.now - c_.period, reads_, writes_);
  }

  /// The level that the actuator of a cable reads.
  double read(std::size_t cable) {
    const std::int32_t index = cables_[cable].actuator;
    const Place place = *place_of(p_, c_, index);
    const double value = channels_.pass(static_cast<std::size_t>(index), writes_[place.index], place.raw);
    return inputs_[cable].line ? value : level_of(at(p_.actuators, index), value);
  }

  const Program& p_;
  const std::vector<program::Cable>& cables_;
  const program::Controller& c_;
  ports::ControllerPort& port_;
  engine::RunningPlant plant_;
  engine::PlantState state_;
  std::uint64_t seed_;
  std::vector<io::SensorChannel> sensors_;
  observe::Observer nobody_;
  Channels channels_;
  std::vector<double> reads_, writes_, square_;
  std::vector<std::vector<double>> sent_;
  std::vector<io::Wired> inputs_;
  std::size_t settle_ = 3, exchanges_ = 0;
};

}  // namespace

Result<LoopbackResult> run_loopback(const std::shared_ptr<const Program>& program, std::int32_t cables,
                                    const program::Controller& controller, ports::ControllerPort& port,
                                    std::uint64_t seed) {
  return Walk(program, cables, controller, port, seed).run();
}

}  // namespace isodyne::bench
