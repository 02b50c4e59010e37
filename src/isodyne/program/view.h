#pragma once
// What people look at: figures.

#include <string>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::program {

struct Figure {
  std::string name, title;
  std::vector<std::vector<VarId>> panels;
};

struct View {
  std::vector<Figure> figures;
  /// What somebody who watches a run looks at beside that. In a copy of the Program, made before the run.
  std::vector<VarId> looked_at;
};

}  // namespace isodyne::program
