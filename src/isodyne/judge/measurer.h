#pragma once
// Measures over the stretches of a run: image by image, with bounded memory. Between two images a signal is a straight
// line, of which every integral is exact; a truth holds.
//
// Fourier sums (harmonic, thd, phase) are over the whole periods of a stretch, from its beginning; formulas as in
// Oppenheim and Schafer, "Discrete-Time Signal Processing" (2009), 8; thd as in IEC 61000-4-7 with 40 harmonics.

#include <limits>
#include <memory>
#include <vector>

#include "isodyne/engine/code.h"
#include "isodyne/observe/events.h"
#include "isodyne/program/program.h"

namespace isodyne::judge {

/// Of a distortion, the fundamental among them.
constexpr int kHarmonics = 40;

/// Whether instants `between` seconds apart can show that harmonic of a frequency: more than two in one of its periods.
constexpr bool shows_harmonic(int number, double frequency, double between) {
  return number * frequency * between < 0.5;
}

struct Measured {
  std::int32_t measure = 0;
  std::int64_t occurrence = 0;  ///< from 1
  Time begin{}, end{};
  double value = 0;   ///< SI; not a number: it did not happen (a rise that never came)
  bool whole = true;  ///< false: the run ended before the stretch did
};

class Measurer {
 public:
  /// Of these measures of the program.
  Measurer(std::shared_ptr<const program::Program> program, std::vector<std::int32_t> measures);

  bool any() const { return !states_.empty(); }
  /// The measures whose stretch was over by this image (valid until the next call).
  const std::vector<Measured>& image(const observe::Image& image);
  /// There are no more images.
  const std::vector<Measured>& finish();

 private:
  /// What one stretch has come to.
  struct WindowSums {
    bool open = false;
    Time begin{}, last{};
    double first = 0, x = 0, y = 0;  ///< x, y: at `last`
    double target = 0, within = 0;
    std::int64_t samples = 0;
    double sum = 0, squares = 0, absolute = 0, weighted = 0;  ///< times time
    double spread = 0;                                        ///< squared distance from the mean so far, times time
    double least = 0, most = 0;
    double low_at = -1, high_at = -1, moved_at = -1, outside_at = -1;  ///< s since the begin; −1: never
    double furthest = 0, wrong = 0;                                    ///< shares of the way
    bool ready = false;                                                ///< for the next crossing of zero
    std::int64_t crossings = 0;
    double first_crossing = 0, last_crossing = 0;
    std::vector<double> waves, whole_waves;  ///< cosine and sine sums; those of whole periods
    std::int64_t periods = 0;
    double widest = 0;  ///< s from one image to the next
    double true_for = 0, run = 0, longest_run = 0, shortest_run = std::numeric_limits<double>::infinity();
    bool run_began = false;  ///< what is true now became so within the stretch
    std::int64_t rises = 0;
  };
  struct State {
    std::int32_t measure = 0;
    std::size_t first = 0;  ///< of its expressions
    WindowSums stretch;
    std::int64_t occurrences = 0;
    bool before = false, begun = false, done = false;  ///< before: the event at the last image
    bool was = false;                                  ///< a truth, at the last image
    Time previous{};
    double previous_x = 0, previous_y = 0;
  };
  std::vector<program::NodeId> expressions(const std::vector<std::int32_t>& measures);
  const program::Measure& measure(const State& s) const {
    return program_->measures[static_cast<std::size_t>(s.measure)];
  }
  /// Both signals at an instant.
  struct Point {
    Time at{};
    double x = 0, y = 0;
  };
  void look(State& s, Time when);
  Point at(const State& s, const Point& now, Time when) const;
  void end_at(State& s, const Point& now, Time end);
  void over(State& s, const Point& now);
  void per(State& s, const Point& now);
  void after(State& s, const Point& now);
  void open(State& s, const Point& p);
  void add(State& s, const Point& p);
  void hold(State& s, Time at);
  void add_piece(State& s, double from, double to, double x, double y);
  /// A straight piece of both signals.
  struct Piece {
    double from = 0, to = 0;  ///< s since the begin
    double x0 = 0, y0 = 0, x1 = 0, y1 = 0;
  };
  void add_waves(State& s, const Piece& whole);
  void add_wave(State& s, const Piece& p);
  void add_way(State& s, double from, double to, double x);
  void close(State& s, bool whole);
  double value(const State& s) const;
  double wave_value(const State& s) const;

  std::shared_ptr<const program::Program> program_;
  std::vector<State> states_;
  engine::Evaluator expressions_;
  std::vector<Measured> fresh_;
};

}  // namespace isodyne::judge
