#pragma once
// Which faults a run would trigger: found by running it healthy and watching what they wait for.

#include <optional>
#include <vector>

#include "isodyne/engine/code.h"
#include "isodyne/observe/events.h"

namespace isodyne::bench {

class TriggerWatch : public observe::Observer {
 public:
  explicit TriggerWatch(const program::Program& program);

  void image(const observe::Image& image) override;
  void event(const observe::Event& event) override;
  /// Per fault the instant at which its trigger came first.
  const std::vector<std::optional<Time>>& reached() const { return reached_; }

 private:
  const program::Program& program_;
  engine::Evaluator conditions_;
  std::vector<std::optional<Time>> reached_;
};

}  // namespace isodyne::bench
