#pragma once
// Requirements to verdicts, from a stream of images: the same while a run goes on and afterwards.
//
// A requirement is asked at the instants of the quickest group of which it reads something, a measure taken there; most
// are asked at those of the bench; what is about gates alone at each of their edges. There is a RateJudge for each rate
// that occurs.

#include <memory>
#include <vector>

#include "isodyne/engine/quick_images.h"
#include "isodyne/judge/rate_judge.h"

namespace isodyne::judge {

class Judge {
 public:
  using Where = RateJudge::Where;
  /// `only`: these requirements, with what they measure; none: all of the program.
  explicit Judge(std::shared_ptr<const program::Program> program, Where where = Where::here,
                 const std::vector<std::int32_t>& only = {});

  /// Takes the next image, of an instant of the bench or one between (as a recording has them). Returns what turned out
  /// to be broken first in images up to it (valid until the next call).
  const std::vector<Broken>& image(const observe::Image& image);
  /// Takes what quick groups did between the image before and the next one. Returns the same.
  const std::vector<Broken>& rows(const observe::Rows& rows);
  /// Takes edges of gates between the image before and the next one. Returns the same.
  const std::vector<Broken>& edges(const observe::Edges& edges);
  /// Looks at everything that it has taken. Returns the same.
  const std::vector<Broken>& flush();
  /// Values of measures whose stretch was over by what was taken last, or at the end.
  const std::vector<Measured>& measured() const;

  /// Verdicts after the last image, in the order of the requirements; once.
  std::vector<Verdict> verdicts(observe::Ending ending);
  /// After the verdicts: what was looked at around where each requirement was broken first and where it was worst.
  observe::Witnessed witnessed() const;

 private:
  struct Rate {
    Time every{};  ///< 0: at edges, and at instants of the bench
    std::unique_ptr<RateJudge> judge;
  };
  RateJudge& of_bench() { return *rates_.front().judge; }
  static bool asks(const Rate& rate, Time at) {
    return rate.every.count() == 0 || at.count() % rate.every.count() == 0;
  }
  void see(Rate& rate, const observe::Image& image);
  void note(const std::vector<Broken>& broken) { broken_.insert(broken_.end(), broken.begin(), broken.end()); }
  void begin();
  const std::vector<Broken>& found();

  Time step_;
  bool gates_;
  std::vector<Rate> rates_;  ///< that of the bench first
  engine::QuickImages between_;
  std::vector<double> at_edge_;  ///< the image before, with gates as they are at an edge
  std::vector<Broken> broken_;
  std::vector<Measured> measured_;
};

}  // namespace isodyne::judge
