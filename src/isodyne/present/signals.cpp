#include "isodyne/present/signals.h"

#include <algorithm>
#include <cmath>
#include <optional>

#include "isodyne/core/text.h"
#include "isodyne/present/figure.h"
#include "isodyne/session/run_folder.h"

namespace isodyne::present {

Result<std::vector<std::string>> chosen_signals(const record::Recording& recording,
                                                const std::vector<std::string>& words) {
  const std::vector<std::string> all = recording.names();
  std::vector<std::string> chosen;
  for (const std::string& word : words) {
    bool any = false;
    for (const std::string& name : all) {
      if (!matches(word, name) && !is_element_of(name, word)) continue;
      any = true;
      if (std::find(chosen.begin(), chosen.end(), name) == chosen.end()) chosen.push_back(name);
    }
    if (any) continue;
    const auto meant = did_you_mean(word, all);
    return Failure{"the recording has no signal called", word, meant.value_or("")};
  }
  return chosen;
}

std::vector<std::string> usual_signals(const std::string& run, const record::Recording& recording, std::size_t most) {
  std::vector<std::string> names, all = recording.names();
  if (const auto opened = session::open_recording(run); opened && opened->loaded.program != nullptr) {
    const program::Program& program = *opened->loaded.program;
    for (const program::Figure& f : figures_of(program)) {
      for (const auto& panel : f.panels) {
        for (const program::VarId id : panel) names.push_back(program.variable(id).name);
      }
    }
    std::erase_if(names, [&](const std::string& n) { return std::find(all.begin(), all.end(), n) == all.end(); });
  }
  if (names.empty()) names = std::move(all);
  if (names.size() > most) names.resize(most);
  return names;
}

std::vector<std::string> labels_of(const record::SignalUnit& unit) {
  if (unit.si.find('|') == std::string::npos) return {};
  std::vector<std::string> labels(1);
  for (const char c : unit.si) {
    if (c == '|') {
      labels.emplace_back();
    } else {
      labels.back() += c;
    }
  }
  return labels;
}

void detail::add_of_column(const double* v, std::size_t begin, std::size_t end, std::vector<std::size_t>& chosen) {
  constexpr std::size_t kNowhere = SIZE_MAX;
  std::size_t low = kNowhere, high = kNowhere, hole = kNowhere;
  double least = INFINITY, most = -INFINITY;
  for (std::size_t i = begin; i < end; ++i) {
    if (v[i] < least) least = v[i], low = i;
    if (v[i] > most) most = v[i], high = i;
    if (v[i] != v[i] && hole == kNowhere) hole = i;
  }
  const std::size_t before = chosen.size();
  for (const std::size_t i : {begin, low, high, hole, end - 1}) {
    if (i != kNowhere) chosen.push_back(i);
  }
  const auto from = chosen.begin() + static_cast<std::ptrdiff_t>(before);
  std::sort(from, chosen.end());
  chosen.erase(std::unique(from, chosen.end()), chosen.end());
}

namespace {

std::int64_t to_ns(double seconds) {
  constexpr double kMost = 9e18;
  return static_cast<std::int64_t>(std::clamp(std::round(seconds * 1e9), -kMost, kMost));
}

/// Columns of equal length from the first row of a stretch to its last.
class Columns {
 public:
  Columns(const record::Instants& times, std::size_t first, std::size_t last, std::size_t columns)
      : times_(times), begin_(times[first]) {
    length_ = std::max<std::int64_t>(1, (times[last - 1] - begin_) / static_cast<std::int64_t>(columns));
  }
  double seconds() const { return to_seconds(Time{length_}); }
  /// The row behind those of the column of this one.
  std::size_t end_of(std::size_t row, std::size_t most) const {
    const std::int64_t column = (times_[row] - begin_) / length_;
    return std::clamp(times_.before(begin_ + (column + 1) * length_), row + 1, most);
  }

 private:
  const record::Instants& times_;
  std::int64_t begin_, length_ = 1;
};

}  // namespace

Result<SignalView> signal_view(const record::Recording& recording, const std::string& name, const TimeRange& stretch,
                               std::size_t columns) {
  const record::SignalUnit unit = recording.unit(name);
  SignalView v;
  v.name = name;
  v.steps = unit.held;
  if (unit.si == "bool") {
    v.lane = true;
  } else if (v.labels = labels_of(unit); !v.labels.empty()) {
    v.lane = true;
  } else if (unit.si != "int" && unit.read_in != "1") {
    v.unit = unit.read_in;
  }
  const record::Instants& times = recording.times_of(name);
  std::size_t first = times.before(to_ns(stretch.begin)), last = times.until(to_ns(stretch.end));
  if (stretch.neighbours && first > 0) --first;
  if (stretch.neighbours && last < times.size()) ++last;
  const std::int64_t longest = recording.throughout(name) ? 0 : recording.period_of(name).count() * 3 / 2;
  // In blocks, so that ten million values need no room for ten million.
  constexpr std::size_t kBlock = 1 << 18;
  const std::size_t rows = last > first ? last - first : 0;
  std::optional<Columns> thin;
  if (columns > 0 && rows > 4 * columns) thin.emplace(times, first, last, columns);
  if (thin) v.column_s = thin->seconds();
  std::vector<double> values(std::min(rows, kBlock));
  std::vector<std::size_t> chosen;
  for (std::size_t begin = first; begin < last; begin += kBlock) {
    const std::size_t count = std::min(kBlock, last - begin);
    if (!recording.read(name, begin, count, values.data()))
      return Failure{"cannot read the signal", name, "the recording is damaged there"};
    const auto gap = [&](std::size_t row) { return longest > 0 && row > 0 && times[row] - times[row - 1] > longest; };
    const auto take = [&](std::size_t row, double value) {
      v.seconds.push_back(to_seconds(Time{times[row]}));
      v.values.push_back((value - unit.offset) / unit.factor);
    };
    for (std::size_t i = begin, end = 0; i < begin + count; i = end) {
      end = thin ? thin->end_of(i, begin + count) : i + 1;
      for (std::size_t k = i + 1; longest > 0 && k < end; ++k) end = gap(k) ? k : end;
      if (gap(i)) take(i, NAN);
      chosen.clear();
      detail::add_of_column(values.data(), i - begin, end - begin, chosen);
      for (const std::size_t k : chosen) take(begin + k, values[k]);
    }
  }
  return v;
}

namespace {

/// What was judged at every instant belongs into the picture where there is more of it than rows.
void add_judged(const record::Recording& recording, const TimeRange& stretch, SignalView& v) {
  const auto judged = recording.judged_rows(v.name);
  if (judged.empty()) return;
  const record::SignalUnit unit = recording.unit(v.name);
  const std::int64_t begin = to_ns(stretch.begin), end = to_ns(stretch.end);
  SignalView all = v;
  all.seconds.clear();
  all.values.clear();
  std::size_t row = 0;
  const auto take_row = [&] {
    all.seconds.push_back(v.seconds[row]);
    all.values.push_back(v.values[row++]);
  };
  for (const auto& [at, value] : judged) {
    if (at < begin || at > end) continue;
    const double seconds = to_seconds(Time{at});
    while (row < v.seconds.size() && v.seconds[row] <= seconds) take_row();
    if (!all.seconds.empty() && all.seconds.back() == seconds) continue;  // it has a row
    all.seconds.push_back(seconds);
    all.values.push_back((value - unit.offset) / unit.factor);
  }
  while (row < v.seconds.size()) take_row();
  v = std::move(all);
}

}  // namespace

Result<SignalView> view_over_time(const record::Recording& recording, const std::string& name, const TimeRange& stretch,
                                  std::size_t columns) {
  auto v = signal_view(recording, name, stretch, columns);
  // Where rows are kept around some instants only, a line to what was judged would go over a gap.
  if (v && recording.throughout(name)) add_judged(recording, stretch, *v);
  return v;
}

}  // namespace isodyne::present
