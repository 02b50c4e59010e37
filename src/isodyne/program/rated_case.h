#pragma once
// Nameplate checks: does a model at its rated conditions match its data sheet?
//
// Every `rated` block becomes a small bench of its own, with one part of the model under the given
// conditions, and for a part of a bench with the parameters of that part.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/program/program.h"

namespace isodyne::program {

struct RatedCase {
  struct Expect {
    std::string quantity;  ///< as written
    NodeId value = kNone, expected = kNone, tolerance = kNone;
    bool relative = false;  ///< the tolerance is a share of the expected value
    Type type;
    Unit unit;  ///< how people read the value
    Span span;
  };
  std::string part;  ///< of the bench; empty: the model with its usual parameters
  std::string model, source, doc;
  std::shared_ptr<const Program> program;
  std::optional<Time> after;  ///< nothing: when nothing changes any more
  std::vector<Expect> expected;
};

}  // namespace isodyne::program
