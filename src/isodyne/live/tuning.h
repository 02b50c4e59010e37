#pragma once
// Gains are stepped up and down by keys; after each change the setpoint makes a step, every instant of the answer is
// captured, and what it brought is measured. The best so far is kept.

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/live/grid.h"
#include "isodyne/live/keys.h"
#include "isodyne/live/mirror.h"
#include "isodyne/live/response.h"

namespace isodyne::live {

class Tuning {
 public:
  struct Plan {
    std::vector<std::string> gains;
    std::string signal, setpoint, by, within;  ///< by: "0.1 m"; within: "20 s"
    std::vector<std::string> requirements;     ///< judged anew in each trial
  };
  /// `kp ki of level by setpoint "0.1 m" within "20 s" judge calm`
  static Result<Plan> read(const std::vector<std::string>& words, const Mirror& run);

  bool on() const { return !plan_.gains.empty(); }
  void begin(Plan plan, Mirror& run);
  bool key(const Key& key, Mirror& run, std::string& write);
  void draw(Grid& grid, const Area& area, const Mirror& run);
  /// What is to be looked at.
  std::vector<std::string> names() const;
  /// `values tuned { … }` of the best so far; nothing if there is none.
  std::optional<std::string> best_as_values(const Mirror& run) const;

 private:
  struct Trial {
    std::map<std::string, double> gains;
    std::optional<StepAnswer> answer;
    std::vector<Captured::Judged> judged;
    std::string trouble;
  };
  void change(Mirror& run, double factor);
  void set_gains(Mirror& run, const std::map<std::string, double>& to);
  void try_it(Mirror& run);
  void tried(Mirror& run, const Captured& rows);
  static double cost(const Trial& trial);
  static bool better(const Trial& a, const Trial& b);
  bool at_rest(const Mirror& run) const;
  std::string line_of(const Mirror& run, const Trial& trial) const;
  std::string text_of(const Mirror& run, const std::string& name, double si) const;

  Plan plan_;
  std::size_t chosen_ = 0;
  double factor_ = 1.2;
  bool busy_ = false, up_ = true;
  bool rested_ = true;        ///< it stood still before the step
  std::int64_t attempt_ = 0;  ///< what comes of an older one is none of ours
  double step_ = 0;           ///< of the setpoint, in its unit
  std::vector<Trial> trials_;
  std::optional<std::size_t> best_;
  std::optional<Captured> last_;
};

}  // namespace isodyne::live
