#pragma once
// What people look at: figures, and panels of a bench that runs.

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::program {

struct Figure {
  std::string name, title;
  std::vector<std::vector<VarId>> panels;
};

/// A thing on a panel, about one quantity or several.
struct PanelItem {
  enum class Kind {
    show,    ///< as text
    bar,     ///< a number between two ends
    lamp,    ///< a truth
    choose,  ///< one of several choices
    press,   ///< a truth while it is held
    toggle,  ///< a truth that stays
    slide,   ///< a number between two ends
    trace    ///< over time
  };
  Kind kind = Kind::show;
  std::vector<VarId> ids;
  std::string label;  ///< empty: their names
  std::optional<std::pair<double, double>> range;  ///< of bar and slide, SI
  double step = 0;                                 ///< of slide, SI; 0: a fiftieth of its range
  Time over{};                                     ///< of trace; 0: as it is usual
};
const char* panel_word(PanelItem::Kind kind);

/// What somebody who operates a running bench has before them.
struct Panel {
  std::string name, title, doc;
  std::vector<PanelItem> items;
};

struct View {
  std::vector<Figure> figures;
  std::vector<Panel> panels;
  /// What somebody who watches a run looks at beside that. In a copy of the Program, made before the run.
  std::vector<VarId> looked_at;
};

}  // namespace isodyne::program
