#include "isodyne/judge/measurer.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace isodyne::judge {

using program::MeasureKind;
using Window = program::Measure::Window;

namespace {

constexpr double kNever = std::numeric_limits<double>::quiet_NaN();

bool has_waves(MeasureKind kind) {
  return kind == MeasureKind::harmonic || kind == MeasureKind::thd || kind == MeasureKind::phase;
}
bool of_truth(MeasureKind kind) {
  return kind == MeasureKind::duty || kind == MeasureKind::count || kind == MeasureKind::longest ||
         kind == MeasureKind::shortest;
}

/// Integrals of a straight line from x to y over a time of 1.
double mean_of(double x, double y) {
  return (x + y) / 2;
}
double mean_square_of(double x, double y) {
  return (x * x + x * y + y * y) / 3;
}

/// Of |x| along a straight line over [from, to], and of t |x|: cut where it crosses zero.
struct Absolute {
  double area = 0, weighted = 0;
};
Absolute absolute_of(double from, double to, double x, double y) {
  if ((x < 0 && y > 0) || (x > 0 && y < 0)) {
    const double zero = from + (to - from) * (x / (x - y));
    const Absolute a = absolute_of(from, zero, x, 0), b = absolute_of(zero, to, 0, y);
    return {a.area + b.area, a.weighted + b.weighted};
  }
  const double dt = to - from, a = std::abs(x), b = std::abs(y);
  return {dt * mean_of(a, b), dt * (from * mean_of(a, b) + dt * (a + 2 * b) / 6)};
}

/// Integral of a straight line times exp(-i w t) over [from, to]: by parts, so that no frequency is too high for the
/// distance of the instants (a sum over them would see aliases of it). `turn`: cosine and sine of w (from + to) / 2.
struct Wave {
  double cosine = 0, sine = 0;
};
Wave wave_of(double w, double from, double to, double x, double y, const Wave& turn) {
  const double half = (to - from) / 2, phase = w * half;
  // Around the middle: the mean times the even part, the slope times the odd one.
  const double mean = (x + y) / 2, rise = (y - x) / 2;
  double even = 0, odd = 0;
  if (std::abs(phase) < 0.05) {
    const double p2 = phase * phase;
    even = 2 * half * (1 - p2 / 6 + p2 * p2 / 120 - p2 * p2 * p2 / 5040);
    odd = 2 * half * phase * (1.0 / 3 - p2 / 30 + p2 * p2 / 840);
  } else {
    even = 2 * half * std::sin(phase) / phase;
    odd = 2 * half * (std::sin(phase) / phase - std::cos(phase)) / phase;
  }
  const double c = turn.cosine, s = turn.sine;
  return {mean * even * c - rise * odd * s, mean * even * s + rise * odd * c};
}

/// Straight lines between instants cut the tops off a wave: of its amplitude sinc²(share) is left, where `share` is the
/// part of a period from one instant to the next. The other way round; nothing is left of a wave that goes up and down
/// within two instants, which they cannot show.
double whole_wave(double share) {
  if (share >= 0.5) return 0;
  const double x = std::numbers::pi * share, sinc = x < 1e-4 ? 1 - x * x / 6 : std::sin(x) / x;
  return 1 / (sinc * sinc);
}

/// Where a straight line from (0, a) to (1, b) comes to `level`.
double share_at(double a, double b, double level) {
  return b == a ? 0 : (level - a) / (b - a);
}

}  // namespace

Measurer::Measurer(std::shared_ptr<const program::Program> program, std::vector<std::int32_t> measures)
    : program_(std::move(program)), states_(measures.size()), expressions_(*program_, expressions(measures)) {
  fresh_.reserve(states_.size());
}

/// Six for each: of, to, within, against, event, until.
std::vector<program::NodeId> Measurer::expressions(const std::vector<std::int32_t>& measures) {
  std::vector<program::NodeId> all;
  for (std::size_t i = 0; i < states_.size(); ++i) {
    const program::Measure& m = program::at(program_->measures, measures[i]);
    states_[i].measure = measures[i];
    states_[i].first = all.size();
    all.insert(all.end(), {m.of, m.to, m.within, m.against, m.event, m.until});
    const int waves = m.kind == MeasureKind::thd ? kHarmonics : m.kind == MeasureKind::phase ? 2 : 1;
    if (has_waves(m.kind)) {
      states_[i].stretch.waves.resize(static_cast<std::size_t>(2 * waves));
      states_[i].stretch.whole_waves.resize(static_cast<std::size_t>(2 * waves));
    }
  }
  return all;
}

const std::vector<Measured>& Measurer::image(const observe::Image& image) {
  fresh_.clear();
  if (states_.empty()) return fresh_;
  expressions_.evaluate(image.variables);
  for (State& s : states_) look(s, image.at);
  return fresh_;
}

const std::vector<Measured>& Measurer::finish() {
  fresh_.clear();
  for (State& s : states_) {
    const program::Measure& m = measure(s);
    // With the end of the last stretch of `per` no other one has begun yet.
    if (m.window == Window::per && s.occurrences > 0 && s.stretch.last == s.stretch.begin) s.stretch.open = false;
    const bool endless = m.window == Window::whole_run || m.window == Window::while_ ||
                         (m.window == Window::after && m.end.count() == 0 && m.until == program::kNone);
    if (s.stretch.open) close(s, endless);
  }
  return fresh_;
}

/// Both signals at an instant that is at this image, or between the one before and this.
Measurer::Point Measurer::at(const State& s, const Point& now, Time when) const {
  if (now.at == when || !s.begun) return now;
  if (of_truth(measure(s).kind)) return {when, s.previous_x, s.previous_y};
  const double share =
      static_cast<double>((when - s.previous).count()) / static_cast<double>((now.at - s.previous).count());
  return {when, s.previous_x + share * (now.x - s.previous_x), s.previous_y + share * (now.y - s.previous_y)};
}

void Measurer::look(State& s, Time when) {
  const program::Measure& m = measure(s);
  const Point now{when, expressions_.value(s.first), expressions_.value(s.first + 3)};
  const bool event = m.event != program::kNone && expressions_.value(s.first + 4) != 0;
  switch (m.window) {
    case Window::whole_run:
      s.stretch.open ? add(s, now) : open(s, now);
      break;
    case Window::over:
      over(s, now);
      break;
    case Window::per:
      per(s, now);
      break;
    case Window::while_:
      if (event) {
        s.stretch.open ? add(s, now) : open(s, now);
      } else if (s.stretch.open) {
        hold(s, when);
        close(s, true);
      }
      break;
    case Window::after:
      if (s.stretch.open) after(s, now);
      if (!s.stretch.open && event && !s.before) open(s, now);
      break;
  }
  s.before = event;
  s.begun = true;
  s.was = now.x != 0;
  s.previous = when;
  s.previous_x = now.x;
  s.previous_y = now.y;
}

/// A stretch that ends at a time ends there, not at the next image.
void Measurer::end_at(State& s, const Point& now, Time end) {
  add(s, at(s, now, end));
  close(s, true);
}

void Measurer::over(State& s, const Point& now) {
  const program::Measure& m = measure(s);
  if (!s.stretch.open && !s.done && now.at >= m.begin && (s.begun || now.at == m.begin)) {
    s.done = true;
    const Point begin = at(s, now, m.begin);
    open(s, begin);
    if (begin.at != now.at) add(s, now);
    if (now.at >= m.end) end_at(s, now, m.end);
  } else if (s.stretch.open) {
    now.at >= m.end ? end_at(s, now, m.end) : add(s, now);
  }
}

void Measurer::per(State& s, const Point& now) {
  if (!s.stretch.open) open(s, now);
  const Time length = measure(s).end;
  while (now.at >= s.stretch.begin + length) {
    const Point end = at(s, now, s.stretch.begin + length);
    add(s, end);
    close(s, true);
    open(s, end);
  }
  if (now.at > s.stretch.last) add(s, now);
}

void Measurer::after(State& s, const Point& now) {
  const program::Measure& m = measure(s);
  const Time end = s.stretch.begin + m.end;
  if (m.end.count() > 0 && now.at >= end) return end_at(s, now, end);
  add(s, now);
  if (m.until != program::kNone && expressions_.value(s.first + 5) != 0) close(s, true);
}

void Measurer::open(State& s, const Point& p) {
  const auto [at, x, y] = p;
  WindowSums fresh;
  fresh.waves.swap(s.stretch.waves);
  fresh.whole_waves.swap(s.stretch.whole_waves);
  std::fill(fresh.waves.begin(), fresh.waves.end(), 0.0);
  std::fill(fresh.whole_waves.begin(), fresh.whole_waves.end(), 0.0);
  fresh.open = true;
  fresh.begin = fresh.last = at;
  fresh.first = fresh.x = fresh.least = fresh.most = x;
  fresh.y = y;
  fresh.samples = 1;
  fresh.target = expressions_.value(s.first + 1);
  fresh.within = expressions_.value(s.first + 2);
  fresh.ready = x < -fresh.within || (fresh.within == 0 && x < 0);
  // Far outside already, and never near.
  if (std::abs(x - fresh.target) > fresh.within) fresh.outside_at = 0;
  if (x != 0 && s.begun && !s.was) fresh.rises = 1;
  s.stretch = std::move(fresh);
}

void Measurer::add(State& s, const Point& p) {
  const auto [at, x, y] = p;
  WindowSums& w = s.stretch;
  const double from = to_seconds(w.last - w.begin), to = to_seconds(at - w.begin);
  if (to > from) add_piece(s, from, to, x, y);
  w.last = at;
  w.x = x;
  w.y = y;
  ++w.samples;
  w.least = std::min(w.least, x);
  w.most = std::max(w.most, x);
}

/// What was last seen holds until now: the event was true until this instant, which is not in the stretch any more.
void Measurer::hold(State& s, Time at) {
  WindowSums& w = s.stretch;
  const double from = to_seconds(w.last - w.begin), to = to_seconds(at - w.begin);
  if (to > from) add_piece(s, from, to, w.x, w.y);
  w.last = at;
}

void Measurer::add_piece(State& s, double from, double to, double x, double y) {
  WindowSums& w = s.stretch;
  const program::Measure& m = measure(s);
  const double dt = to - from;
  if (of_truth(m.kind)) {
    if (w.x != 0) {
      w.true_for += dt;
      w.run += dt;
      w.longest_run = std::max(w.longest_run, w.run);
    }
    if (x == 0) {
      if (w.x != 0 && w.run_began) w.shortest_run = std::min(w.shortest_run, w.run);
      w.run = 0;
    }
    if (x != 0 && w.x == 0) ++w.rises, w.run_began = true;
    return;
  }
  const double mean = mean_of(w.x, x);
  // About the mean so far, not about zero: two large squares would cancel (Chan, Golub and LeVeque 1983).
  const double beside = from > 0 ? mean - w.sum / from : 0;
  w.spread += dt * ((x - w.x) * (x - w.x) / 12 + beside * beside * from / to);
  w.sum += dt * mean;
  w.squares += dt * mean_square_of(w.x, x);
  const Absolute absolute = absolute_of(from, to, w.x, x);
  w.absolute += absolute.area;
  w.weighted += absolute.weighted;
  if (m.to != program::kNone) add_way(s, from, to, x);
  if (m.kind == MeasureKind::frequency) {
    if (w.x < -w.within || (w.within == 0 && w.x < 0)) w.ready = true;
    if (w.ready && x >= 0) {
      const double at = from + dt * share_at(w.x, x, 0);
      if (w.crossings++ == 0) w.first_crossing = at;
      w.last_crossing = at;
      w.ready = false;
    }
  }
  w.widest = std::max(w.widest, dt);
  if (has_waves(m.kind)) add_waves(s, {from, to, w.x, w.y, x, y});
}

/// Cut at the ends of whole periods, so that the sums up to there are known.
void Measurer::add_waves(State& s, const Piece& whole) {
  WindowSums& w = s.stretch;
  const double dt = whole.to - whole.from;
  Piece rest = whole;
  for (;;) {
    const double end = static_cast<double>(w.periods + 1) / measure(s).at;
    if (end > whole.to * (1 + 1e-12)) break;
    const double cut = std::min(end, whole.to), share = (cut - whole.from) / dt;
    const double x = whole.x0 + share * (whole.x1 - whole.x0), y = whole.y0 + share * (whole.y1 - whole.y0);
    add_wave(s, {rest.from, cut, rest.x0, rest.y0, x, y});
    w.whole_waves = w.waves;
    ++w.periods;
    rest = {cut, whole.to, x, y, whole.x1, whole.y1};
  }
  add_wave(s, rest);
}

void Measurer::add_wave(State& s, const Piece& p) {
  WindowSums& w = s.stretch;
  const program::Measure& m = measure(s);
  const double first = 2 * std::numbers::pi * m.at * (m.kind == MeasureKind::harmonic ? m.number : 1),
               angle = first * (p.from + p.to) / 2;
  // Harmonics turn by once more the angle of the first, each after the other.
  const Wave once{std::cos(angle), std::sin(angle)};
  Wave turn = once;
  for (std::size_t i = 0; i + 1 < w.waves.size(); i += 2) {
    const bool second = m.kind == MeasureKind::phase && i == 2, next = m.kind == MeasureKind::thd && i > 0;
    if (next)
      turn = {turn.cosine * once.cosine - turn.sine * once.sine, turn.sine * once.cosine + turn.cosine * once.sine};
    const double order = m.kind == MeasureKind::thd ? static_cast<double>(i / 2 + 1) : 1;
    const Wave wave = wave_of(first * order, p.from, p.to, second ? p.y0 : p.x0, second ? p.y1 : p.x1, turn);
    w.waves[i] += wave.cosine;
    w.waves[i + 1] += wave.sine;
  }
}

/// On the way from the first value to the target.
void Measurer::add_way(State& s, double from, double to, double x) {
  WindowSums& w = s.stretch;
  const program::Measure& m = measure(s);
  const double way = w.target - w.first, dt = to - from;
  const double far = std::abs(x - w.target), near = std::abs(w.x - w.target);
  if (m.kind == MeasureKind::settling_time && far <= w.within && near > w.within)
    w.outside_at = from + dt * share_at(near, far, w.within);
  if (m.kind == MeasureKind::settling_time && far > w.within) w.outside_at = to;
  if (m.kind == MeasureKind::dead_time && w.moved_at < 0) {
    const double enough = m.within != program::kNone ? w.within : 0.02 * std::abs(way);
    const double a = std::abs(w.x - w.first), b = std::abs(x - w.first);
    if (b >= enough && b > 0) w.moved_at = from + dt * std::clamp(share_at(a, b, enough), 0.0, 1.0);
  }
  if (way == 0) return;
  const double a = (w.x - w.first) / way, b = (x - w.first) / way;
  if (w.low_at < 0 && b >= m.low) w.low_at = from + dt * std::clamp(share_at(a, b, m.low), 0.0, 1.0);
  if (w.high_at < 0 && b >= m.high) w.high_at = from + dt * std::clamp(share_at(a, b, m.high), 0.0, 1.0);
  w.furthest = std::max(w.furthest, b - 1);
  w.wrong = std::max(w.wrong, -b);
}

void Measurer::close(State& s, bool whole) {
  fresh_.push_back({s.measure, ++s.occurrences, s.stretch.begin, s.stretch.last, value(s), whole});
  s.stretch.open = false;
}

double Measurer::value(const State& s) const {
  const WindowSums& w = s.stretch;
  const double time = to_seconds(w.last - w.begin);
  const bool way = w.target != w.first;
  switch (measure(s).kind) {
    case MeasureKind::mean:
      return time > 0 ? w.sum / time : w.x;
    case MeasureKind::rms:
      return time > 0 ? std::sqrt(w.squares / time) : std::abs(w.x);
    case MeasureKind::least:
      return w.least;
    case MeasureKind::most:
      return w.most;
    case MeasureKind::ripple:
      return w.most - w.least;
    case MeasureKind::deviation:
      return time > 0 ? std::sqrt(w.spread / time) : 0;
    case MeasureKind::integral:
    case MeasureKind::energy:
      return w.sum;
    case MeasureKind::iae:
      return w.absolute;
    case MeasureKind::ise:
      return w.squares;
    case MeasureKind::itae:
      return w.weighted;
    case MeasureKind::rise_time:
      return w.high_at >= 0 && w.low_at >= 0 ? w.high_at - w.low_at : kNever;
    case MeasureKind::dead_time:
      return w.moved_at >= 0 ? w.moved_at : kNever;
    case MeasureKind::settling_time:
      return std::abs(w.x - w.target) > w.within ? kNever : std::max(0.0, w.outside_at);
    case MeasureKind::overshoot:
      return way ? w.furthest : kNever;
    case MeasureKind::undershoot:
      return way ? w.wrong : kNever;
    case MeasureKind::steady_error:
      return w.x - w.target;
    case MeasureKind::frequency:
      return w.crossings > 1 ? static_cast<double>(w.crossings - 1) / (w.last_crossing - w.first_crossing) : kNever;
    case MeasureKind::harmonic:
    case MeasureKind::thd:
    case MeasureKind::phase:
      return wave_value(s);
    case MeasureKind::duty:
      return time > 0 ? w.true_for / time : kNever;
    case MeasureKind::count:
      return static_cast<double>(w.rises);
    case MeasureKind::longest:
      return w.longest_run;
    case MeasureKind::shortest:
      return std::isfinite(w.shortest_run) ? w.shortest_run : kNever;
  }
  return kNever;
}

double Measurer::wave_value(const State& s) const {
  const WindowSums& w = s.stretch;
  const program::Measure& m = measure(s);
  if (w.periods == 0) return kNever;
  const double time = static_cast<double>(w.periods) / m.at;
  const auto amplitude = [&](std::size_t i, double order) {
    return 2 / time * std::hypot(w.whole_waves[2 * i], w.whole_waves[2 * i + 1]) * whole_wave(order * m.at * w.widest);
  };
  if (m.kind == MeasureKind::harmonic)
    return shows_harmonic(m.number, m.at, w.widest) ? amplitude(0, m.number) : kNever;
  if (m.kind == MeasureKind::thd) {
    double squares = 0;
    for (std::size_t i = 1; i < kHarmonics; ++i) {
      const double a = amplitude(i, static_cast<double>(i + 1));
      squares += a * a;
    }
    const double fundamental = amplitude(0, 1);
    return fundamental > 0 ? std::sqrt(squares) / fundamental : kNever;
  }
  // x = cos(2 pi f t + angle) gives the sums (cos(angle), -sin(angle)) times half the time.
  const double own = std::atan2(-w.whole_waves[1], w.whole_waves[0]),
               other = std::atan2(-w.whole_waves[3], w.whole_waves[2]);
  return std::remainder(own - other, 2 * std::numbers::pi);
}

}  // namespace isodyne::judge
