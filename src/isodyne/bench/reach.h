#pragma once
// Which faults a run would trigger: found by running it healthy and watching what they wait for.

#include <optional>
#include <vector>

#include "isodyne/bench/events.h"
#include "isodyne/engine/code.h"

namespace isodyne::bench {

class TriggerWatch : public Observer {
 public:
  explicit TriggerWatch(const model::Program& program);

  void image(const Image& image) override;
  void event(const Event& event) override;
  /// Per fault the instant at which its trigger came first.
  const std::vector<std::optional<Time>>& reached() const { return reached_; }

 private:
  const model::Program& program_;
  engine::Evaluator conditions_;
  std::vector<std::optional<Time>> reached_;
};

}  // namespace isodyne::bench
