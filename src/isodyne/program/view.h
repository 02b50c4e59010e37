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
};

}  // namespace isodyne::program
