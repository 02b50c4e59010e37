#pragma once
// Which faults a run would trigger: found by running it healthy and watching what they wait for.

#include <optional>
#include <vector>

#include "isodyne/engine/code.h"
#include "isodyne/engine/quick_images.h"
#include "isodyne/observe/events.h"

namespace isodyne::bench {

class TriggerWatch : public observe::Observer {
 public:
  explicit TriggerWatch(const program::Program& program);

  void image(const observe::Image& image) override;
  void rows(const observe::Rows& rows) override;
  void event(const observe::Event& event) override;
  /// Per fault the instant at which its trigger came first.
  const std::vector<std::optional<Time>>& reached() const { return reached_; }

 private:
  void look(Time at, const double* variables);

  const program::Program& program_;
  engine::Evaluator conditions_;
  engine::QuickImages between_;
  std::vector<std::optional<Time>> reached_;
};

}  // namespace isodyne::bench
