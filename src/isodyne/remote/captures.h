#pragma once
// What is waited for in a run that goes on, and what was around it: conditions that come true, requirements that are
// broken; and, if asked for, rows of quantities from before it until after it.
//
// Quantities of quick groups are seen at their own instants where somebody looks at them there (program::quick_view()),
// else at those of the bench. Not synchronised: whoever has it has a lock. What is kept is bounded.

#include <deque>
#include <memory>
#include <optional>
#include <vector>

#include "isodyne/engine/quick_images.h"
#include "isodyne/observe/events.h"
#include "isodyne/remote/stretch_judge.h"
#include "isodyne/session/typed.h"

namespace isodyne::remote {

class Captures {
 public:
  /// Numbers that one capture may keep.
  static constexpr std::size_t kMostNumbers = 4'000'000;

  struct Wish {
    std::unique_ptr<session::Probe> condition;  ///< that is waited for; null: see `requirement`
    std::int32_t requirement = program::kNone;  ///< that is broken; kNone, and no condition: at once
    bool becomes = true;                        ///< the condition has to become true; else it may be true already
    std::vector<program::VarId> ids;            ///< to be kept
    Time before{}, after{};
    std::optional<Time> within;          ///< of simulated time, from the first instant that it sees; else it gives up
    bool again = false;                  ///< once more, when one is whole
    std::vector<std::int32_t> judged{};  ///< requirements: anew from where it came to its end, in instants of the bench
  };
  /// What came of it, once or each time.
  struct Take {
    std::int64_t number = 0;  ///< of the capture
    bool came = false;        ///< else it was given up, or the run was over before
    bool over = false;        ///< the run ended before all of it was there
    bool whole = true;        ///< all rows that were asked for are there
    std::string lacks{};      ///< else why some are not, in a line
    Time at{};                ///< when it came
    std::vector<Time> times;
    std::vector<double> values;  ///< a row for each time: those of the ids, in their order
    std::optional<StretchJudge::Verdicts> judged;
  };

  explicit Captures(std::shared_ptr<const program::Program> program);

  /// How often it sees a quantity.
  Time every(program::VarId id) const;
  /// How many numbers would be kept.
  double numbers(const Wish& wish) const;
  /// `newest`: the image that was shown last; nothing before the first. What becomes true has not been so there.
  std::int64_t add(Wish wish, std::optional<observe::Image> newest = {});
  bool remove(std::int64_t number);
  bool any() const { return !all_.empty(); }

  // In the order in which a run shows it:
  void image(const observe::Image& image);
  void rows(const observe::Rows& rows);
  void edges(const observe::Edges& edges);
  void event(const observe::Event& event);
  void over();

  /// What has come since this was last asked.
  std::vector<Take> done();
  bool any_done() const { return !done_.empty(); }

 private:
  /// A breach is known later than it is seen: so many rows more are kept.
  static constexpr std::size_t kLateRows = 2000;
  struct One {
    std::int64_t number = 0;
    Wish wish;
    bool quick = false;  ///< rows between two instants of the bench, too
    bool was = true, looked = false;
    bool looked_before = false;  ///< at the image before the first that it sees
    Time since{};
    std::optional<Time> came;
    std::deque<Time> times;
    std::deque<double> values;
    std::unique_ptr<StretchJudge> judge;
  };
  void see(One& one, Time at, const double* image, const observe::Image* of_bench);
  static void keep(One& one, Time at, const double* image);
  void finish(One& one, bool came, Time newest, bool over = false);

  std::shared_ptr<const program::Program> program_;
  program::QuickView view_;
  std::optional<engine::QuickImages> between_;  ///< while there are any
  std::vector<One> all_;
  std::vector<Take> done_;
  std::int64_t last_ = 0;
};

}  // namespace isodyne::remote
