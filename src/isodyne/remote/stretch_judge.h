#pragma once
// Requirements judged anew over a stretch of a run, as if it had begun there: what a change has brought for them.
//
// The stretch begins with the instant of the bench before the one at which it is wanted, so that what becomes true
// there is seen to become so. Not synchronised: whoever has it has a lock.

#include <memory>
#include <optional>
#include <vector>

#include "isodyne/judge/judge.h"

namespace isodyne::remote {

class StretchJudge {
 public:
  StretchJudge(std::shared_ptr<const program::Program> program, std::vector<std::int32_t> requirements)
      : program_(std::move(program)), requirements_(std::move(requirements)) {}

  bool any() const { return !requirements_.empty(); }
  bool on() const { return judge_ != nullptr; }
  /// From the next image on it is judged; the one before and what was between belong to it.
  void begin() { wanted_ = true; }

  // In the order in which a run shows it:
  void image(const observe::Image& image);
  void rows(const observe::Rows& rows);
  void edges(const observe::Edges& edges);

  struct Verdicts {
    Time from{}, to{};
    std::vector<judge::Verdict> all;  ///< in the order of the program
  };
  /// Of the stretch up to the last image; the next begin() is another one's. Nothing: none was judged.
  std::optional<Verdicts> end();

 private:
  /// Since the image before, as it was handed over.
  struct Block {
    bool edges = false;
    observe::Rows rows;
    std::vector<program::VarId> columns;
    std::vector<double> values;
    std::vector<observe::EdgeSeen> list;
  };

  std::shared_ptr<const program::Program> program_;
  std::vector<std::int32_t> requirements_;
  std::unique_ptr<judge::Judge> judge_;
  bool wanted_ = false;
  std::vector<double> last_;
  std::optional<Time> at_;
  Time from_{};
  std::vector<Block> since_;
};

}  // namespace isodyne::remote
