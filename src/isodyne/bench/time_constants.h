#pragma once
// Time constants of the parts of a plant: 1/|λ| of the linearisation of each part's own states, λ its eigenvalues.

#include <cstddef>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/engine/running_plant.h"
#include "isodyne/observe/events.h"

namespace isodyne::bench {

/// The time constants of one part's own states, the shortest met along the run.
struct PartPace {
  std::string part;
  double shortest = 0;  ///< s
  double longest = 0;
  Time at{};
  bool oscillates = false;
};

/// Follows the eigenvalues of every part's own states along a run.
class Paces {
 public:
  explicit Paces(const program::Plant& program);
  void look(const observe::Image& image);

  std::vector<PartPace> found;

 private:
  void part(std::size_t k, Time at);

  std::shared_ptr<const program::Plant> program_;
  std::unique_ptr<engine::Plan> plan_;
  std::unique_ptr<engine::Interpreter> interpreter_;
  engine::PlantState state_;
  std::vector<std::vector<std::size_t>> states_;  ///< of each part
  std::vector<double> jacobian_, df_dt_;
};

/// The quickest part of a plant at an image; nothing where no slope is a finite number.
std::optional<PartPace> quickest_part(const program::Plant& program, const observe::Image& image);

}  // namespace isodyne::bench
