#pragma once
// What is typed about a bench that is loaded already: checked as a text of the bench would be, in a bench of its own.

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/engine/code.h"
#include "isodyne/session/run_service.h"

namespace isodyne::session {

/// The bench with one more text, which messages call `name`. With mistakes there is no Program.
check::Loaded loaded_with(const Bench& bench, const std::string& text, const std::string& name = "what was typed");

/// The quantities of both that have the same name: there, here.
std::vector<std::pair<program::VarId, program::VarId>> matched(const program::Program& there,
                                                               const program::Program& here);

/// A condition about a bench, evaluated on images of its run. Of one thread.
class Probe {
 public:
  /// What is wrong with it is in mistakes(), or it asks for a memory(), and it is then not good().
  Probe(const Bench& bench, const std::string& condition);
  bool good() const { return value_ != nullptr; }
  const check::Loaded& mistakes() const { return loaded_; }
  /// What it would have to remember from one instant to the next, as `delay` does, and nobody does; empty: nothing.
  const std::string& memory() const { return memory_; }
  /// What is wrong, in a line.
  std::string why_not() const;
  bool truth(const double* image);
  /// The quantities that it reads, of the bench's Program.
  const std::vector<program::VarId>& reads() const { return reads_; }

 private:
  check::Loaded loaded_;
  std::string memory_;
  std::unique_ptr<engine::Evaluator> value_;
  std::vector<std::pair<program::VarId, program::VarId>> same_;  ///< there, here
  std::vector<program::VarId> reads_;
  std::vector<double> image_;
};

}  // namespace isodyne::session
