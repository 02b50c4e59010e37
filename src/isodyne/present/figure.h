#pragma once
// Figures: stacked panels over one time axis, drawn by gnuplot from what gather() has collected.

#include <memory>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/record/recording.h"
#include "isodyne/session/summary.h"

namespace isodyne::present {

struct Curve {
  std::string label;
  std::vector<std::pair<double, double>> points;  ///< seconds, value in the panel's unit
  bool steps = false;                             ///< holds its value between points
  std::string remark{};                           ///< behind the label, whole: " = 6 m" of a constant
  double column_s = 0;                            ///< see SignalView
};

struct LimitMark {
  std::string label;  ///< of the requirement
  double value = 0;
};

/// A place on a curve with a few words beside it.
struct PointMark {
  double at = 0, value = 0;  ///< seconds, in the panel's unit
  std::string text;
};

struct Panel {
  std::string unit;                 ///< axis text
  std::vector<std::string> labels;  ///< of a choice: the names of 0, 1, 2 …
  bool lanes = false;               ///< truth values, one lane each
  std::vector<Curve> curves;
  std::vector<LimitMark> limits;
  std::vector<std::string> notes{};  ///< lines of text in the panel
  std::vector<PointMark> points{};
};

/// When a fault acted, or a requirement was broken.
struct Band {
  double begin = 0, end = 0;  ///< seconds
  std::string label;
  std::optional<std::set<std::string>> about{};  ///< signals that it is about; nothing: whatever is drawn

  /// Whether a panel shows something that it is about.
  bool concerns(const Panel& panel) const;
};

struct Mark {
  double at = 0;  ///< seconds
  std::string text;
};

struct FigureData {
  std::string name, title, subtitle;
  double begin = 0, end = 0;  ///< seconds
  std::vector<Panel> panels;
  std::vector<Band> faults, breaches;
  std::vector<Mark> marks;
  std::size_t unmarked = 0;            ///< actions that there was no room for
  std::shared_ptr<FigureData> closer;  ///< the same panels over a short stretch, to be drawn inside these
};

/// Columns that a curve is thinned to: two for each of the picture.
constexpr std::size_t kColumns = 1960;

/// Adds when faults were active, when requirements were broken, and what the scenario did. `program` tells which panels
/// that is about; without one it is all of them.
void add_story(FigureData& data, const program::Program* program, const record::Recording& recording,
               const session::Summary& summary);

/// Of a curve that holds its values: only where they change, and the end.
void drop_repeated(Curve& curve);

/// Leaves out what does not lie within the figure's time.
void clip(FigureData& data);

/// Collects what a figure of the bench shows of one run.
FigureData gather(const program::Program& program, const program::Figure& figure, const record::Recording& recording,
                  const session::Summary& summary, std::size_t columns = kColumns);

/// The least and the greatest value that the axis of a panel shows; nothing if no curve has a finite value.
std::optional<std::pair<double, double>> range_of(const Panel& panel);

/// Colours of the curves of a panel, told apart by the colour-blind too (Okabe and Ito, 2008).
std::vector<std::string> curve_colours();

/// The figures a bench declares, or one made of its states if it declares none.
std::vector<program::Figure> figures_of(const program::Program& program);

/// Draws into FOLDER/NAME.svg and FOLDER/NAME.png, and if wanted FOLDER/NAME.pdf.
Status draw(const FigureData& data, const std::string& folder, bool pdf = false);

}  // namespace isodyne::present
