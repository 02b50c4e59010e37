#include "isodyne/record/differences.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <cstring>
#include <deque>
#include <functional>
#include <map>
#include <unordered_set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/core/units.h"

namespace isodyne::record {

namespace {

using Verdict = SignalDifference::Verdict;

/// A signal at any instant, asked in the order of time.
class Between {
 public:
  Between(const Instants& times, const std::vector<double>& values, bool held)
      : times_(times), values_(values), held_(held) {}
  double at(std::int64_t t) {
    while (next_ < times_.size() && times_[next_] <= t) ++next_;
    if (next_ == 0) return values_.front();
    const std::size_t before = next_ - 1;
    if (held_ || times_[before] == t || next_ == times_.size()) return values_[before];
    const double share = static_cast<double>(t - times_[before]) / static_cast<double>(times_[next_] - times_[before]);
    return values_[before] + share * (values_[next_] - values_[before]);
  }

 private:
  const Instants& times_;
  const std::vector<double>& values_;
  bool held_;
  std::size_t next_ = 0;  ///< the first instant after the one that was asked for
};

/// The least and the greatest value around an instant, asked in the order of time.
class Around {
 public:
  Around(const Instants& times, const std::vector<double>& values, bool held, std::int64_t reach)
      : times_(times), values_(values), reach_(reach), begin_(times, values, held), end_(times, values, held) {}
  std::pair<double, double> at(std::int64_t t) {
    for (; next_ < times_.size() && times_[next_] <= t + reach_; ++next_) {
      const double v = values_[next_];
      while (!low_.empty() && !(values_[low_.back()] < v)) low_.pop_back();
      while (!high_.empty() && !(values_[high_.back()] > v)) high_.pop_back();
      low_.push_back(next_);
      high_.push_back(next_);
    }
    for (auto* all : {&low_, &high_}) {
      while (!all->empty() && times_[all->front()] < t - reach_) all->pop_front();
    }
    // Where the stretch begins and ends between instants.
    const double first = begin_.at(t - reach_), last = end_.at(t + reach_);
    std::pair range{std::min(first, last), std::max(first, last)};
    if (!low_.empty()) range.first = std::min(range.first, values_[low_.front()]);
    if (!high_.empty()) range.second = std::max(range.second, values_[high_.front()]);
    return range;
  }

 private:
  const Instants& times_;
  const std::vector<double>& values_;
  std::int64_t reach_;
  Between begin_, end_;
  std::size_t next_ = 0;
  std::deque<std::size_t> low_, high_;
};

bool same(double a, double b) {
  return a == b || (std::isnan(a) && std::isnan(b));
}

/// The two values of every instant that is compared.
template <typename Each>
void pairs(const Instants& times_a, const Instants& times_b, const std::vector<double>& in_a,
           const std::vector<double>& in_b, bool held, const Alignment& how, Each each) {
  const Instants& times = how.by_a ? times_a : times_b;
  const std::int64_t own = how.by_a ? 0 : how.shift.count(), other = how.shift.count() - own;
  Between between(how.by_a ? times_b : times_a, how.by_a ? in_b : in_a, held);
  const std::vector<double>& exact = how.by_a ? in_a : in_b;
  const std::int64_t begin = how.begin.count() + own, end = how.end.count() + own;
  for (std::size_t i = 0; i < times.size(); ++i) {
    if (times[i] < begin || times[i] > end) continue;
    const std::int64_t at = times[i] - own;  // in a's time
    const double there = between.at(how.by_a ? times[i] + other : at);
    each(at, how.by_a ? exact[i] : there, how.by_a ? there : exact[i]);
  }
}

void note(SignalDifference& d, std::int64_t at, double x, double y) {
  const double gap = std::isnan(x) || std::isnan(y) ? INFINITY : std::abs(x - y);
  if (gap <= d.largest) return;
  d.largest = gap;
  d.largest_at = Time{at};
}

/// To the bit, block by block: most signals of two runs that should be equal are.
bool equal_throughout(const Recording& a, const Recording& b, const std::string& name, std::size_t rows) {
  constexpr std::size_t kBlock = 1 << 17;
  std::vector<double> in_a(std::min(rows, kBlock)), in_b(in_a.size());
  for (std::size_t first = 0; first < rows; first += kBlock) {
    const std::size_t count = std::min(kBlock, rows - first);
    if (!a.read(name, first, count, in_a.data()) || !b.read(name, first, count, in_b.data()) ||
        std::memcmp(in_a.data(), in_b.data(), count * sizeof(double)) != 0)
      return false;
  }
  return true;
}

}  // namespace

std::vector<std::string> names_of_both(const Recording& a, const Recording& b) {
  std::vector<std::string> names = a.names();
  const std::unordered_set<std::string> known(names.begin(), names.end());
  for (const std::string& n : b.names()) {
    if (!known.contains(n)) names.push_back(n);
  }
  return names;
}

Alignment align(const Recording& a, const Recording& b, Time shift, const std::string& name) {
  const Instants &in_a = name.empty() ? a.times() : a.times_of(name),
                 &in_b = name.empty() ? b.times() : b.times_of(name);
  Alignment how;
  how.shift = shift;
  if (in_a.empty() || in_b.empty()) return how;
  how.begin = Time{std::max(in_a.front(), in_b.front() - shift.count())};
  how.end = Time{std::min(in_a.back(), in_b.back() - shift.count())};
  const std::size_t a1 = in_a.before(how.begin.count()), a2 = std::max(a1, in_a.until(how.end.count()));
  const std::size_t b1 = in_b.before(how.begin.count() + shift.count()),
                    b2 = std::max(b1, in_b.until(how.end.count() + shift.count()));
  how.by_a = a2 - a1 <= b2 - b1;
  how.compared = how.by_a ? a2 - a1 : b2 - b1;
  how.same_instants = a2 - a1 == b2 - b1;
  if (shift.count() == 0 && in_a == in_b) return how;
  for (std::size_t i = 0; how.same_instants && i < a2 - a1; ++i)
    how.same_instants = in_a[a1 + i] + shift.count() == in_b[b1 + i];
  return how;
}

SignalDifference difference(const Recording& a, const Recording& b, const std::string& name, Time shift,
                            const Allowed& allowed) {
  SignalDifference d;
  d.name = name;
  const bool has_a = a.has(name), has_b = b.has(name);
  if (!has_a || !has_b) {
    d.verdict = has_a ? Verdict::only_a : Verdict::only_b;
    return d;
  }
  const SignalUnit unit = a.unit(name);
  if (unit.si != b.unit(name).si) {
    d.verdict = Verdict::other_kind;
    return d;
  }
  const Alignment how = align(a, b, shift, name);
  const Instants &times_a = a.times_of(name), &times_b = b.times_of(name);
  const bool whole = how.same_instants && how.compared == times_a.size() && how.compared == times_b.size();
  if (whole && equal_throughout(a, b, name, how.compared)) return d;
  const auto in_a = a.signal(name), in_b = b.signal(name);
  if (!in_a || !in_b) {
    d.verdict = Verdict::other_kind;
    return d;
  }

  const bool held = unit.held;
  bool equal = true;
  std::optional<std::int64_t> from;
  Around around_b(times_b, *in_b, held, allowed.time.count());
  Around around_a(times_a, *in_a, held, allowed.time.count());
  pairs(times_a, times_b, *in_a, *in_b, held, how, [&](std::int64_t at, double x, double y) {
    if (same(x, y)) return;
    equal = false;
    note(d, at, x, y);
    if (from) return;
    const auto reached = [&](double v, std::pair<double, double> range) {
      return v >= range.first - allowed.value && v <= range.second + allowed.value;
    };
    // Either may be the one that is early.
    const bool good = reached(x, around_b.at(at + shift.count())) && reached(y, around_a.at(at));
    if (good) return;
    from = at;
    d.a_there = x;
    d.b_there = y;
  });
  d.verdict = equal ? Verdict::equal : from ? Verdict::differs : Verdict::within;
  if (from) d.from = Time{*from};
  return d;
}

namespace {

std::optional<Time> first_where(const Recording& recording, const std::string& name,
                                const std::function<bool(double)>& so) {
  const auto values = recording.signal(name);
  for (std::size_t i = 0; values && i < values->size(); ++i) {
    if (so((*values)[i])) return Time{recording.times_of(name)[i]};
  }
  return std::nullopt;
}

/// "SIGNAL > VALUE UNIT".
struct Level {
  std::string signal;
  bool above = true;
  double value = 0;  ///< SI
};

std::optional<Level> level_of(const Recording& recording, const std::string& text) {
  const std::size_t sign = text.find_first_of("<>");
  if (sign == std::string::npos) return std::nullopt;
  const std::string name = one_line(text.substr(0, sign)), amount = one_line(text.substr(sign + 1));
  if (!recording.has(name)) return std::nullopt;
  double value = 0;
  const auto read = std::from_chars(amount.data(), amount.data() + amount.size(), value);
  if (read.ec != std::errc{}) return std::nullopt;
  const auto parsed = [](const std::string& unit) { return parse_unit(unit.empty() ? "1" : unit); };
  const auto unit = parsed(one_line(read.ptr)), own = parsed(recording.unit(name).read_in);
  if (!unit || !own || !(unit->dimension == own->dimension)) return std::nullopt;
  return Level{name, text[sign] == '>', value * unit->factor + unit->offset};
}

}  // namespace

std::optional<Time> first_time_of(const Recording& recording, const std::string& what) {
  if (const auto level = level_of(recording, what))
    return first_where(recording, level->signal,
                       [&](double v) { return level->above ? v > level->value : v < level->value; });
  if (recording.has(what) && recording.unit(what).si == "bool") {
    if (const auto at = first_where(recording, what, [](double v) { return v != 0; })) return at;
  }
  for (const RecordedEvent& e : recording.events()) {
    if (e.subject == what) return e.at;
  }
  return std::nullopt;
}

namespace {

/// The first line in which two texts differ: "line 3: `x = 1` and `x = 2`".
std::string first_line(const std::string& a, const std::string& b) {
  std::size_t i = 0, j = 0;
  for (std::size_t line = 1;; ++line) {
    const std::size_t end_a = std::min(a.find('\n', i), a.size()), end_b = std::min(b.find('\n', j), b.size());
    const std::string in_a = a.substr(std::min(i, a.size()), end_a - std::min(i, a.size())),
                      in_b = b.substr(std::min(j, b.size()), end_b - std::min(j, b.size()));
    if (in_a != in_b) {
      constexpr std::size_t kMost = 60;
      return fmt::format("line {}: `{}`, and `{}`", line, first_columns(one_line(in_a), kMost),
                         first_columns(one_line(in_b), kMost));
    }
    if (end_a >= a.size() && end_b >= b.size()) return "their ends";
    i = end_a + 1;
    j = end_b + 1;
  }
}

}  // namespace

std::vector<std::string> extent_differences(const Recording& a, const Recording& b, Time shift) {
  std::vector<std::string> found;
  const auto told = [](const std::string& text) { return text.empty() ? std::string("was never closed") : text; };
  if (a.times().empty() || b.times().empty()) {
    if (a.times().empty() != b.times().empty()) found.emplace_back("one of them is empty");
    return found;
  }
  const auto instant = [](std::int64_t ns) { return format_instant(Time{ns}); };
  // Within a row of each other they are the same: the last row of a run need not lie on the beat.
  const std::int64_t row = std::max(a.period_of("").count(), b.period_of("").count());
  // Aligned by what happens in both they cannot begin and end together.
  const auto apart = [&](std::int64_t x, std::int64_t y) { return shift.count() == 0 && std::abs(x - y) > row; };
  if (apart(a.times().front(), b.times().front()))
    found.push_back(
        fmt::format("beginnings: at {}, and at {}", instant(a.times().front()), instant(b.times().front())));
  if (apart(a.times().back(), b.times().back()))
    found.push_back(fmt::format("ends: at {}, and at {}", instant(a.times().back()), instant(b.times().back())));
  // What was measured or imported ended as it was written.
  const bool both_ran = !a.identity().sources.empty() && !b.identity().sources.empty();
  if (both_ran && a.ending() != b.ending())
    found.push_back(fmt::format("endings: {}, and {}", told(a.ending()), told(b.ending())));
  std::map<std::string, std::vector<std::string>> periods;
  for (const std::string& name : a.names()) {
    if (!b.has(name) || a.period_of(name) == b.period_of(name)) continue;
    periods[fmt::format("recorded every {}, and every {}", format_span(a.period_of(name)),
                        format_span(b.period_of(name)))]
        .push_back(name);
  }
  for (const auto& [text, names] : periods)
    found.push_back(
        fmt::format("{}: {}", names.size() == 1 ? names.front() : fmt::format("{} signals", names.size()), text));
  return found;
}

std::vector<std::string> other_differences(const Recording& a, const Recording& b) {
  std::vector<std::string> found;
  const RunIdentity &x = a.identity(), &y = b.identity();
  const auto told = [](const std::string& text) {
    std::string spaced;
    for (const char c : text) {
      if (!spaced.empty() && spaced.back() == ',' && c != ' ') spaced += ' ';
      spaced += c;
    }
    return text.empty() ? "none" : spaced;
  };
  const auto compare = [&](const char* what, const std::string& in_a, const std::string& in_b) {
    if (in_a != in_b) found.push_back(fmt::format("{}: {}, and {}", what, told(in_a), told(in_b)));
  };
  for (const IdentityField& f : identity_fields()) compare(f.words, f.text(x), f.text(y));
  for (const auto& [name, text] : x.sources) {
    const auto other =
        std::find_if(y.sources.begin(), y.sources.end(), [&, n = name](const auto& s) { return s.first == n; });
    if (other == y.sources.end()) {
      found.push_back(fmt::format("file {}: only in the first", name));
    } else if (other->second != text) {
      found.push_back(fmt::format("file {}, {}", name, first_line(text, other->second)));
    }
  }
  for (const auto& [name, text] : y.sources) {
    if (std::none_of(x.sources.begin(), x.sources.end(), [&, n = name](const auto& s) { return s.first == n; }))
      found.push_back(fmt::format("file {}: only in the second", name));
  }
  return found;
}

}  // namespace isodyne::record
