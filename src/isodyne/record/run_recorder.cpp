#include "isodyne/record/run_recorder.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>

#include <fcntl.h>
#include <malloc.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/record/tail.h"

namespace isodyne::record {

namespace fs = std::filesystem;

namespace {

constexpr std::size_t kMostClosing = 4;
constexpr std::int64_t kLookEvery = 1024;  // images, at the size of what is written
constexpr Time kTryAgain = std::chrono::seconds(60);

std::uint64_t size_of(const std::string& file) {
  std::error_code none;
  const auto size = fs::file_size(file, none);
  return none ? 0 : size;
}

/// "000017.h5"
bool is_piece(const fs::path& file) {
  const std::string stem = file.stem().string();
  return file.extension() == ".h5" && stem.size() == 6 && stem.find_first_not_of("0123456789") == std::string::npos;
}

/// Whether a folder is that of a run in pieces: nobody else's files are dropped.
bool in_pieces(const fs::path& run) {
  std::error_code none;
  const fs::path newest = fs::read_symlink(run / "recording.h5", none);
  return !none && newest.parent_path() == "pieces" && is_piece(newest) && fs::exists(run / "events.csv", none);
}

/// It and what a kill has left beside it.
std::uint64_t drop(const std::string& file) {
  const std::uint64_t bytes = size_of(file);
  std::error_code none;
  fs::remove(file, none);
  fs::remove(tail_of(file), none);
  return bytes;
}

}  // namespace

Result<std::unique_ptr<RunRecorder>> RunRecorder::create(const std::string& folder,
                                                         std::shared_ptr<const program::Program> program,
                                                         const RunIdentity& identity, std::int64_t verdicts_late,
                                                         const PiecePlan& plan, bool go_on) {
  std::unique_ptr<RunRecorder> made(new RunRecorder(folder, std::move(program), identity, verdicts_late, plan, go_on));
  if (plan.any()) {
    std::error_code error;
    fs::create_directory(fs::path(folder) / "pieces", error);
    if (error) return Failure{"cannot create the folder", folder + "/pieces", error.message()};
    const std::string events = (fs::path(folder) / "events.csv").string();
    made->events_ = Descriptor(::open(events.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0666));
    if (!made->events_.good()) return Failure{"cannot write", events, std::strerror(errno)};
    const std::string head = csv_line({"t [s]", "kind", "subject", "text"});
    if (::write(made->events_.number(), head.data(), head.size()) < 0)
      return Failure{"cannot write", events, std::strerror(errno)};
  }
  const Status begun = made->begin_piece(Time{});
  if (!begun) return begun.failure();
  return made;
}

RunRecorder::RunRecorder(std::string folder, std::shared_ptr<const program::Program> program, RunIdentity identity,
                         std::int64_t verdicts_late, PiecePlan plan, bool go_on)
    : folder_(std::move(folder)),
      program_(std::move(program)),
      identity_(std::move(identity)),
      verdicts_late_(verdicts_late),
      plan_(std::move(plan)),
      go_on_(go_on) {}

RunRecorder::~RunRecorder() {
  take_closed(true);
}

std::string RunRecorder::file_of(std::size_t number) const {
  return (fs::path(folder_) / "pieces" / fmt::format("{:06}.h5", number)).string();
}

/// The one that is written so far goes on until the next is there.
Status RunRecorder::begin_piece(Time at) {
  const std::string whole = (fs::path(folder_) / "recording.h5").string();
  RunIdentity identity = identity_;
  if (plan_.any()) identity.piece_from = at;
  auto next = Recorder::create(plan_.any() ? file_of(number_ + 1) : whole, program_, identity, verdicts_late_);
  if (!next) return next.failure();
  if (plan_.any()) {
    // In one stroke, for those who open it meanwhile.
    std::error_code error;
    fs::remove(whole + ".new", error);
    fs::create_symlink(fs::path("pieces") / fmt::format("{:06}.h5", number_ + 1), whole + ".new", error);
    if (!error) fs::rename(whole + ".new", whole, error);
    if (error) return Failure{"cannot write", whole, error.message()};
  }
  close_beside();
  ++number_;
  now_ = std::move(*next);
  since_ = at;
  return Done{};
}

void RunRecorder::close_beside() {
  if (!now_) return;
  if (!now_->good())
    list_on(
        gaps_,
        fmt::format("piece {} ends at {}: {}", number_, format_instant(now_->recorded_until()), now_->trouble().reason),
        "; ");
  const Time until = now_->recorded_until();
  closing_.push_back({number_, until, std::async(std::launch::async, [r = std::move(now_)] {
                        return r->close(observe::Ending::cut_short);
                      })});
}

/// Those that are closed by now; a disk that does not keep up makes its run's observers wait here, as a full block
/// does.
void RunRecorder::take_closed(bool all) {
  while (!closing_.empty()) {
    Closing& first = closing_.front();
    const bool wait = all || closing_.size() > kMostClosing;
    if (!wait && first.done.wait_for(std::chrono::seconds(0)) != std::future_status::ready) return;
    const Status closed = first.done.get();
    if (!closed && !go_on_ && trouble_.operation.empty()) trouble_ = closed.failure();
    ended_.emplace_back(first.number, first.until);
    closing_.pop_front();
    ::malloc_trim(0);  // each had threads of its own, whose free memory would stay with nobody
  }
}

bool RunRecorder::full(Time at) {
  if (!now_->good()) {  // perhaps there is room again
    if (!go_on_ || at - tried_ < kTryAgain) return false;
    return true;
  }
  if (plan_.every > Time{} && at - since_ >= plan_.every) return true;
  return plan_.bytes > 0 && ++images_ % kLookEvery == 0 && size_of(file_of(number_)) >= plan_.bytes;
}

void RunRecorder::image(const observe::Image& image) {
  if (plan_.any() && full(image.at)) {
    tried_ = image.at;
    take_closed(false);
    drop_old(image.at);
    const Status begun = begin_piece(image.at);
    if (!begun && !go_on_) trouble_ = begun.failure();
  }
  now_->image(image);
}

void RunRecorder::event(const observe::Event& event) {
  now_->event(event);
  if (!events_.good()) return;
  const std::string line =
      csv_line({format_exact(to_seconds(event.at)), observe::event_word(event.kind),
                observe::subject_text(*program_, event), one_line(observe::event_text(*program_, event))});
  if (::write(events_.number(), line.data(), line.size()) != static_cast<ssize_t>(line.size()) &&
      gaps_.find("events.csv") == std::string::npos)
    list_on(gaps_, fmt::format("events.csv lacks some from {} on", format_instant(event.at)), "; ");
}

/// Of this run by simulated time, of those before by the wall clock; and the oldest of all while there are too many
/// bytes.
void RunRecorder::drop_old(Time now) {
  while (!ended_.empty() && plan_.keep > Time{} && now - ended_.front().second > plan_.keep) {
    drop(file_of(ended_.front().first));
    ended_.pop_front();
    ++dropped_;
  }
  struct Piece {
    fs::file_time_type ended;
    std::string file;
    std::uint64_t bytes;
  };
  std::vector<Piece> others;
  std::error_code none;
  const std::string own = fs::weakly_canonical(folder_, none).string();
  for (const auto& run : plan_.among.empty() ? fs::directory_iterator() : fs::directory_iterator(plan_.among, none)) {
    if (fs::weakly_canonical(run.path(), none).string() == own || !in_pieces(run.path())) continue;
    for (const auto& piece : fs::directory_iterator(run.path() / "pieces", none)) {
      if (!is_piece(piece.path()) || tail_grows(tail_of(piece.path().string()))) continue;
      others.push_back(
          {fs::last_write_time(piece.path(), none), piece.path().string(), size_of(piece.path().string())});
    }
  }
  std::sort(others.begin(), others.end(), [](const Piece& a, const Piece& b) { return a.ended < b.ended; });
  const auto clock = fs::file_time_type::clock::now();
  std::size_t gone = 0;
  for (; gone < others.size() && plan_.keep > Time{} && clock - others[gone].ended > plan_.keep; ++gone)
    drop(others[gone].file);
  if (plan_.keep_bytes == 0) return;
  std::uint64_t bytes = size_of(file_of(number_));
  for (const auto& [number, until] : ended_) bytes += size_of(file_of(number));
  for (const Closing& c : closing_) bytes += size_of(file_of(c.number));
  for (std::size_t i = gone; i < others.size(); ++i) bytes += others[i].bytes;
  for (; bytes > plan_.keep_bytes && gone < others.size(); ++gone) bytes -= std::min(bytes, drop(others[gone].file));
  for (; bytes > plan_.keep_bytes && !ended_.empty(); ended_.pop_front(), ++dropped_)
    bytes -= std::min(bytes, drop(file_of(ended_.front().first)));
}

Status RunRecorder::close(observe::Ending ending) {
  take_closed(true);
  drop_old(now_->recorded_until());
  const Status closed = now_->close(ending);
  if (!trouble_.operation.empty()) return trouble_;
  return closed;
}

}  // namespace isodyne::record
