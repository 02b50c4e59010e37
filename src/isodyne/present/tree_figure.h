#pragma once
// The picture of a fault tree, with the usual symbols (IEC 61025), its cut sets, and what runs said to them.

#include <string>

#include "isodyne/session/tree_proof.h"
#include "isodyne/trees/cut_sets.h"

namespace isodyne::present {

struct TreeDrawing {
  const trees::FaultTree* tree = nullptr;
  const trees::CutSets* sets = nullptr;
  const session::TreeProof* proof = nullptr;  ///< null: no run was made
  const program::Program* program = nullptr;  ///< for names of faults; null: the tree is of a file
};

/// SVG. Of a large tree what is near the top is drawn, and said how much is not.
std::string tree_svg(const TreeDrawing& drawing);

}  // namespace isodyne::present
