#pragma once
// Figures over other axes than time: one signal over another, spectra, histograms.

#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/present/signals.h"
#include "isodyne/record/recording.h"

namespace isodyne::present {

struct AxesPanel {
  std::string x_text, y_text;
  bool log_x = false, log_y = false;
  bool boxes = false;  ///< of a histogram; the width of one is box
  double box = 0;
  std::string note;  ///< what a reader has to know: "constant", "no values"
  struct Line {
    std::string label;
    std::vector<std::pair<double, double>> points;
  };
  std::vector<Line> curves;
};

struct AxesFigure {
  std::string name, title, subtitle;
  std::vector<AxesPanel> panels;
};

/// The others over the first, in a panel for each unit. They have to be recorded at the same instants.
Result<AxesFigure> figure_over(const record::Recording& recording, const std::vector<std::string>& names,
                               const TimeRange& stretch);

/// Amplitudes over frequency: single-sided, of the values less their mean, under a Hann window (Harris, Proceedings of
/// the IEEE 66, 1978), so that a sine of amplitude A that fits the stretch has a line of height A.
Result<AxesFigure> spectrum_figure(const record::Recording& recording, const std::vector<std::string>& names,
                                   const TimeRange& stretch);
struct Spectrum {
  std::size_t values =
      0;  ///< that it is made of: the first of those given, a few less where their number has a large prime factor
  double step_hz = 0;
  std::vector<double> amplitude;  ///< at 0, step_hz, 2 step_hz …
};
/// `values` are `step_s` apart; at least 4 of them, all finite.
Spectrum spectrum_of(const std::vector<double>& values, double step_s);

/// How often values come, as shares of all. The width of the bins is that of Freedman and Diaconis (1981), at most 200.
Result<AxesFigure> histogram_figure(const record::Recording& recording, const std::vector<std::string>& names,
                                    const TimeRange& stretch);

/// Draws FOLDER/NAME.svg, .png and .pdf.
Status draw(const AxesFigure& figure, const std::string& folder);

}  // namespace isodyne::present
