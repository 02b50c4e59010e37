#include "isodyne/record/recorder.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <numeric>
#include <optional>

#include "isodyne/engine/code.h"
#include "isodyne/program/quick.h"

namespace isodyne::record {

namespace {

constexpr std::size_t kMostFull = 3;  ///< blocks of a group that wait for the disk; then the run waits too
constexpr auto kTick = std::chrono::milliseconds(100);
constexpr auto kQuick = std::chrono::microseconds(100);
constexpr std::size_t kStagedRows = 128;  ///< divides the rows of a chunk

GroupHead head_of(const program::Program& program, const program::RecordGroup& group) {
  GroupHead head{group.name, group.period, group.single, group.compressed, group.text, group.judged, {}};
  for (const program::VarId id : group.signals) {
    const program::Variable& v = program.variable(id);
    const bool real = v.type.kind == program::Type::Kind::real;
    head.columns.push_back({v.name, real ? si_text(v.type.dimension) : program.type_text(v), v.unit.text, v.doc,
                            program.sources->place(v.span), v.unit.factor, v.unit.offset, program.held(id)});
  }
  return head;
}

}  // namespace

struct Recorder::Group {
  const program::RecordGroup& of;
  std::size_t index, room;
  Time next{};  ///< instant of the next row
  std::optional<KeptWindows> windows;
  std::optional<engine::Evaluator> when;
  bool was = false;                        ///< what `when` was at the instant before
  bool quick = false;                      ///< has rows between two instants of the bench
  bool quick_when = false;                 ///< and what it waits for is looked at there
  std::vector<program::VarId> row_places;  ///< of its signals among the columns of such a row
  std::vector<double> levels;              ///< of gates that are recorded at their edges

  /// Filled by the run, read by the writer up to its rows.
  std::atomic<Block*> filling{nullptr};
  std::unique_ptr<Block> filling_owner;
  std::vector<std::unique_ptr<Block>> free;  ///< under the mutex
  std::size_t waiting = 0;                   ///< blocks that are full, under the mutex

  /// Of quick groups rows are gathered here first, as they come, and turned into columns many at a time: a row spread
  /// over as many places of memory as it has values costs several times as much.
  std::vector<double> staged;
  std::vector<std::int64_t> staged_times;
  std::size_t staged_rows = 0;

  // Of the writer:
  const Block* noted = nullptr;
  std::size_t noted_rows = 0;  ///< of this block are in the tail

  Group(const program::RecordGroup& g, std::size_t i, std::size_t rows) : of(g), index(i), room(rows) {
    filling_owner = std::make_unique<Block>(room, g.signals.size());
    filling.store(filling_owner.get());
    if (g.windows || g.period >= kQuick || g.signals.empty()) return;
    staged.resize(kStagedRows * g.signals.size());
    staged_times.resize(kStagedRows);
  }
};

Recorder::Recorder(std::shared_ptr<const program::Program> program, std::unique_ptr<RecordingFile> file,
                   std::int64_t verdicts_late)
    : program_(std::move(program)), between_(*program_, program::quick_view(*program_)), file_(std::move(file)) {
  const program::QuickParts quick(*program_);
  for (const program::RecordGroup& g : program_->recorded) {
    groups_.push_back(std::make_unique<Group>(g, groups_.size(), file_->head().groups[groups_.size()].chunk_rows()));
    Group& made = *groups_.back();
    made.quick = !g.judged && g.period < program_->step;
    if (g.edges) {
      made.levels.resize(g.signals.size());
      made.row_places.resize(g.signals.size());
      std::iota(made.row_places.begin(), made.row_places.end(), 0);
    }
    if (made.quick) made.row_places = between_.places_of(g.signals);
    made.quick_when = g.when != program::kNone && quick.seen_every({g.when}) < program_->step;
    if (g.judged) made.next = Time::max();  // its rows come at the end
    if (!g.windows || g.judged) continue;
    const std::int64_t late = g.when == program::kNone ? verdicts_late * program_->step.count() : 0;
    const auto rows = static_cast<std::size_t>((g.before.count() + late) / g.period.count() + 2);
    made.windows.emplace(g.before.count(), g.after.count(), late, rows, g.signals.size());
    if (g.when != program::kNone) made.when.emplace(*program_, std::vector<program::NodeId>{g.when});
  }
  writer_ = std::thread([this] { work(); });
}

Recorder::~Recorder() {
  if (!closed_) (void)close(observe::Ending::not_recorded);
}

Result<std::unique_ptr<Recorder>> Recorder::create(const std::string& file,
                                                   std::shared_ptr<const program::Program> program,
                                                   const RunIdentity& identity, std::int64_t verdicts_late) {
  RecordingHead head{identity, program->name, program->step, {}};
  for (const program::RecordGroup& g : program->recorded) head.groups.push_back(head_of(*program, g));
  auto made = RecordingFile::create(file, std::move(head));
  if (!made) return made.failure();
  return std::unique_ptr<Recorder>(new Recorder(std::move(program), std::move(*made), verdicts_late));
}

// ---- on the thread of the run ---------------------------------------------------------------------------

void Recorder::image(const observe::Image& image) {
  if (!good()) return;
  if (tick_due_.load(std::memory_order_relaxed)) show_staged();
  recorded_until_ = image.at;
  const double* const held = between_.image(image.variables);
  for (const auto& g : groups_) {
    if (g->when) look_when(*g, image.at, g->quick_when ? held : image.variables);
    if (image.at < g->next) continue;
    if (image.at != g->next && image.at.count() % g->of.period.count() != 0) continue;
    g->next = image.at + g->of.period;
    take(*g, image.at, image.variables, g->of.signals.data());
    for (std::size_t i = 0; i < g->levels.size(); ++i)
      g->levels[i] = image.variables[static_cast<std::size_t>(g->of.signals[i])];
  }
  taken_at_ = image.at;
}

void Recorder::edges(const observe::Edges& edges) {
  if (!good()) return;
  for (const auto& g : groups_) {
    if (g->levels.empty()) continue;
    for (std::size_t i = 0; i < edges.list.size();) {
      const Time at = edges.list[i].at;
      bool any = false;
      for (; i < edges.list.size() && edges.list[i].at == at; ++i) {
        const auto signal = std::find(g->of.signals.begin(), g->of.signals.end(), edges.list[i].gate);
        if (signal == g->of.signals.end()) continue;
        g->levels[static_cast<std::size_t>(signal - g->of.signals.begin())] = edges.list[i].to ? 1 : 0;
        any = true;
      }
      if (any) take(*g, at, g->levels.data(), g->row_places.data());
    }
  }
}

void Recorder::rows(const observe::Rows& rows) {
  if (!good()) return;
  const bool any_when = std::any_of(groups_.begin(), groups_.end(), [](const auto& g) { return g->quick_when; });
  for (std::size_t i = 0; i < rows.count; ++i) {
    const Time at = rows.at(i);
    const double* const held = any_when ? between_.row(to_seconds(at), rows.row(i)) : nullptr;
    for (const auto& g : groups_) {
      if (g->quick_when) look_when(*g, at, held);
      if (!g->quick || at < g->next) continue;
      if (at != g->next && at.count() % g->of.period.count() != 0) continue;
      g->next = at + g->of.period;
      take(*g, at, rows.row(i), g->row_places.data());
    }
    recorded_until_ = taken_at_ = at;
  }
}

void Recorder::look_when(Group& g, Time at, const double* variables) {
  g.when->evaluate(variables);
  const bool is = g.when->value(0) != 0;
  if (is && !(g.of.rises && g.was)) g.windows->keep_around(at.count());
  g.was = is;
}

void Recorder::last_image(const observe::Image& image) {
  if (!good()) return;
  recorded_until_ = image.at;
  for (const auto& g : groups_) {
    if (!g->of.judged && g->next - g->of.period < image.at)  // not taken yet
      take(*g, image.at, image.variables, g->of.signals.data());
  }
}

/// `columns`: where in `values` each of its signals stands.
void Recorder::take(Group& g, Time at, const double* values, const program::VarId* columns) {
  if (!g.staged.empty()) {
    const std::size_t count = g.of.signals.size();
    double* to = g.staged.data() + g.staged_rows * count;
    for (std::size_t c = 0; c < count; ++c) to[c] = values[columns[c]];
    g.staged_times[g.staged_rows] = at.count();
    if (++g.staged_rows == kStagedRows) unstage(g);
    return;
  }
  if (!g.windows) return put(g, at, values, columns);
  double* to = g.windows->add(at.count());
  for (std::size_t c = 0; c < g.of.signals.size(); ++c) to[c] = values[columns[c]];
  g.windows->settle(at.count(), false,
                    [&](std::int64_t then, const double* kept) { put(g, Time{then}, kept, nullptr); });
}

/// Staged rows become columns of the block.
void Recorder::unstage(Group& g) {
  const std::size_t count = g.of.signals.size();
  for (std::size_t first = 0; first < g.staged_rows;) {
    Block& block = *g.filling_owner;
    const std::size_t row = block.rows.load(std::memory_order_relaxed),
                      rows = std::min(g.staged_rows - first, g.room - row);
    std::copy_n(&g.staged_times[first], rows, &block.times[row]);
    for (std::size_t c = 0; c < count; ++c) {
      const double* from = &g.staged[first * count + c];
      double* to = block.column(c) + row;
      for (std::size_t i = 0; i < rows; ++i, from += count) to[i] = *from;
    }
    block.rows.store(row + rows, std::memory_order_release);
    if (row + rows == g.room) hand_over(g);
    first += rows;
  }
  g.staged_rows = 0;
}

void Recorder::show_staged() {
  for (const auto& g : groups_) unstage(*g);
  tick_due_.store(false, std::memory_order_relaxed);
}

/// `columns`: where in `values` each value stands; null: in order.
void Recorder::put(Group& g, Time at, const double* values, const program::VarId* columns) {
  Block& block = *g.filling_owner;
  const std::size_t row = block.rows.load(std::memory_order_relaxed), count = g.of.signals.size();
  block.times[row] = at.count();
  double* to = block.column(0) + row;
  const std::size_t stride = block.stride();
  if (columns != nullptr) {
    for (std::size_t c = 0; c < count; ++c, to += stride) *to = values[columns[c]];
  } else {
    for (std::size_t c = 0; c < count; ++c, to += stride) *to = values[c];
  }
  block.rows.store(row + 1, std::memory_order_release);
  if (row + 1 == g.room) hand_over(g);
}

void Recorder::hand_over(Group& g) {
  const std::uint64_t next = g.filling_owner->first + g.room;
  std::unique_lock lock(mutex_);
  full_.emplace_back(g.index, std::move(g.filling_owner));
  ++g.waiting;
  work_there_.notify_one();
  room_there_.wait(lock, [&] { return g.waiting <= kMostFull || !good(); });
  if (g.free.empty()) {
    g.filling_owner = std::make_unique<Block>(g.room, g.of.signals.size());
  } else {
    g.filling_owner = std::move(g.free.back());
    g.free.pop_back();
  }
  g.filling_owner->first = next;
  g.filling.store(g.filling_owner.get(), std::memory_order_release);
}

void Recorder::event(const observe::Event& event) {
  if (!good()) return;
  keep_around(event);
  const std::lock_guard lock(mutex_);
  events_.push_back(event);
}

void Recorder::judged(const observe::Witnessed& w) {
  for (const auto& g : groups_) {
    if (!g->of.judged || !good()) continue;
    std::vector<std::ptrdiff_t> places;
    for (const program::VarId id : g->of.signals) {
      const auto found = std::find(w.columns.begin(), w.columns.end(), id);
      places.push_back(found == w.columns.end() ? -1 : found - w.columns.begin());
    }
    std::vector<double> row(places.size());
    for (std::size_t i = 0; i < w.times.size(); ++i) {
      const double* from = w.rows.data() + i * w.columns.size();
      for (std::size_t c = 0; c < row.size(); ++c) row[c] = places[c] < 0 ? NAN : from[places[c]];
      put(*g, w.times[i], row.data(), nullptr);
    }
  }
}

void Recorder::keep_around(const observe::Event& event) {
  if (event.kind != observe::EventKind::broken) return;
  for (const auto& g : groups_) {
    if (!g->windows || g->when) continue;
    const auto& of = g->of.requirements;
    if (of.empty() || std::find(of.begin(), of.end(), event.subject) != of.end())
      g->windows->keep_around(event.at.count());
  }
}

Status Recorder::close(observe::Ending ending) {
  closed_ = true;
  if (good()) show_staged();
  for (const auto& g : groups_) {
    if (g->windows && good())
      g->windows->settle(0, true, [&](std::int64_t at, const double* values) { put(*g, Time{at}, values, nullptr); });
  }
  {
    const std::lock_guard lock(mutex_);
    leave_ = true;
  }
  work_there_.notify_one();
  writer_.join();
  std::vector<Block*> rest;
  for (const auto& g : groups_) rest.push_back(g->filling_owner.get());
  const Status closed = file_->close(observe::ending_word(good() ? ending : observe::Ending::not_recorded), rest);
  if (!good()) return trouble_;
  if (!closed) {
    trouble_ = closed.failure();
    good_.store(false, std::memory_order_release);
  }
  return closed;
}

// ---- on the thread that writes --------------------------------------------------------------------------

void Recorder::work() {
  auto last = std::chrono::steady_clock::now();
  std::unique_lock lock(mutex_);
  while (true) {
    work_there_.wait_until(lock, last + kTick, [&] { return leave_ || !full_.empty(); });
    if (!full_.empty()) write_first(lock);
    const auto now = std::chrono::steady_clock::now();
    const bool leave = leave_ && full_.empty();
    if (leave || now - last >= kTick) {
      lock.unlock();
      tick();
      last = now;
      lock.lock();
    }
    if (leave) return;
  }
}

void Recorder::write_first(std::unique_lock<std::mutex>& lock) {
  auto [index, block] = std::move(full_.front());
  full_.pop_front();
  lock.unlock();
  file_->chunk(index, *block);
  note_trouble();
  lock.lock();
  Group& g = *groups_[index];
  if (g.noted == block.get()) g.noted = nullptr;
  block->rows.store(0, std::memory_order_relaxed);
  g.free.push_back(std::move(block));
  --g.waiting;
  room_there_.notify_one();
}

void Recorder::note_trouble() {
  if (file_->good() || !good()) return;
  trouble_ = file_->trouble();
  good_.store(false, std::memory_order_release);
}

/// What is in no full block yet goes into the tail, and what is in the file is shown to others.
void Recorder::tick() {
  tick_due_.store(true, std::memory_order_relaxed);  // what is staged now is there at the next tick
  std::vector<observe::Event> events;
  bool waiting = false;
  {
    const std::lock_guard lock(mutex_);
    waiting = !full_.empty();
    if (!waiting) std::swap(events, events_);
  }
  // Full blocks come first, and at once; what comes behind them in the file is for a later tick.
  if (!waiting) note_rows();
  if (!events.empty()) file_->events(rows_of(events));
  file_->flush();
  note_trouble();
}

void Recorder::note_rows() {
  for (const auto& g : groups_) {
    const Block* block = g->filling.load(std::memory_order_acquire);
    if (g->noted != block) {
      g->noted = block;
      g->noted_rows = 0;
    }
    const std::size_t rows = block->rows.load(std::memory_order_acquire);
    if (rows > g->noted_rows && file_->rows(g->index, *block, g->noted_rows, rows)) g->noted_rows = rows;
  }
}

std::vector<EventRow> Recorder::rows_of(const std::vector<observe::Event>& events) const {
  std::vector<EventRow> rows;
  for (const observe::Event& e : events) {
    rows.push_back(event_row(e.at.count(), e.value, observe::event_word(e.kind), observe::subject_text(*program_, e),
                             observe::event_text(*program_, e)));
  }
  return rows;
}

}  // namespace isodyne::record
