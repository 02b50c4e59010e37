#pragma once
// Takes the images of a run and hands them, in blocks, to a thread that writes the file.
//
// What is recorded, how often and around which instants is Program::recorded. Every tenth of a second the thread also
// writes down what is in no full block yet, so that a kill loses no more than that.

#include <atomic>
#include <condition_variable>
#include <deque>
#include <memory>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/engine/quick_images.h"
#include "isodyne/observe/events.h"
#include "isodyne/observe/witnessed.h"
#include "isodyne/program/program.h"
#include "isodyne/record/identity.h"
#include "isodyne/record/kept_windows.h"
#include "isodyne/record/recording_file.h"

namespace isodyne::record {

class Recorder {
 public:
  /// `verdicts_late`: that something is broken may be told so many images after it (judge::kMostImagesLate).
  static Result<std::unique_ptr<Recorder>> create(const std::string& file,
                                                  std::shared_ptr<const program::Program> program,
                                                  const RunIdentity& identity, std::int64_t verdicts_late);
  ~Recorder();

  // Of one thread:
  /// Takes of the image what is due at its instant.
  void image(const observe::Image& image);
  /// Takes of the rows between two images what is due at their instants.
  void rows(const observe::Rows& rows);
  /// Takes edges of gates that are recorded one by one.
  void edges(const observe::Edges& edges);
  /// Takes the image whatever its instant: the last one of a run.
  void last_image(const observe::Image& image);
  void event(const observe::Event& event);
  /// After the last image: what was judged at every instant around some.
  void judged(const observe::Witnessed& witnessed);

  /// False once something could not be written; trouble() says what, and recorded_until() up to when it was.
  bool good() const { return good_.load(std::memory_order_acquire); }
  const Failure& trouble() const { return trouble_; }
  Time recorded_until() const { return recorded_until_; }

  /// Writes what is left, how the run ended, and closes the file.
  Status close(observe::Ending ending);

 private:
  struct Group;
  Recorder(std::shared_ptr<const program::Program> program, std::unique_ptr<RecordingFile> file,
           std::int64_t verdicts_late);

  void look_when(Group& group, Time at, const double* variables);
  void take(Group& group, Time at, const double* values, const program::VarId* columns);
  void put(Group& group, Time at, const double* values, const program::VarId* columns);
  void unstage(Group& group);
  void show_staged();
  void hand_over(Group& group);
  void keep_around(const observe::Event& event);

  // Of the thread that writes:
  void work();
  void write_first(std::unique_lock<std::mutex>& lock);
  void tick();
  void note_rows();
  void note_trouble();
  std::vector<EventRow> rows_of(const std::vector<observe::Event>& events) const;

  std::shared_ptr<const program::Program> program_;
  engine::QuickImages between_;
  std::unique_ptr<RecordingFile> file_;
  std::vector<std::unique_ptr<Group>> groups_;
  Time taken_at_{-1}, recorded_until_{};
  bool closed_ = false;

  std::atomic<bool> good_{true};
  std::atomic<bool> tick_due_{false};  ///< the writer wants to see the rows that are staged
  Failure trouble_;                    ///< written before good_ becomes false

  std::mutex mutex_;  ///< of what follows
  std::condition_variable work_there_, room_there_;
  std::deque<std::pair<std::size_t, std::unique_ptr<Block>>> full_;
  std::vector<observe::Event> events_;
  bool leave_ = false;
  std::thread writer_;
};

}  // namespace isodyne::record
