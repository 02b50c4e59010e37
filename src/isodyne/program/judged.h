#pragma once
// What is asked of a plant: requirements, formulas over time, measures, and what is recorded to show it.

#include <algorithm>
#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/program/answer.h"
#include "isodyne/program/plant.h"

namespace isodyne::program {

/// A horizontal line that a requirement draws for a variable.
struct LimitLine {
  VarId variable = kNone;
  double value = 0;
};

/// A node of a formula over time; operands are places in Requirement::nodes. At an instant t, over instants of images:
struct FormulaNode {
  enum class Kind {
    truth,    ///< `value`, with its distance `margin` (kNone: none)
    lnot,     ///< not a
    land,     ///< a and b
    lor,      ///< a or b
    within,   ///< a at some instant in [t, t + time]
    stays,    ///< a at all instants in [t, t + time]
    until,    ///< b at some t' in [t, t + time], and a at all instants in [t, t')
    held,     ///< a at all instants in [t − time, t], and the run has lasted that long
    last,     ///< a at some instant in [t − time, t]
    since,    ///< b at some t' <= t, and a at all instants in (t', t]
    rises,    ///< `value` is more than at the instant before (a truth: true, and false before)
    falls,    ///< less
    changes,  ///< another
  };
  Kind kind = Kind::truth;
  std::int32_t a = kNone, b = kNone;
  NodeId value = kNone, margin = kNone;
  bool number = false;  ///< of rises, falls, changes: the difference is the margin
  Time time{};
};

enum class MeasureKind {
#define MEASURE(id, word, signal, clauses, result, meaning) id,
#include "isodyne/program/measures.def"
#undef MEASURE
};

const char* measure_word(MeasureKind kind);

/// What is made of a signal over a stretch of the run: the whole of it; from begin to end; from when `event` becomes
/// true for `end`, or until `until`; while `event`; or every `end`.
struct Measure {
  enum class Window { whole_run, over, after, while_, per };
  std::string name, doc, text;
  VarId value = kNone;
  MeasureKind kind = MeasureKind::mean;
  NodeId of = kNone, to = kNone, within = kNone, against = kNone;
  double low = 0.1, high = 0.9;  ///< shares of the way of a rise
  double at = 0;                 ///< frequency, Hz
  int number = 1;                ///< of a harmonic
  Window window = Window::whole_run;
  Time begin{}, end{};
  NodeId event = kNone, until = kNone;
  Span span;
};

struct Requirement {
  /// What is asked of the instants: that `check` holds wherever `trigger` does, or at one of them, or that it holds at
  /// the first (of a formula `A until B` without a time: `trigger` is A, `check` is B).
  enum class Form { always, eventually, until };
  std::string name, doc, source;
  std::string id;                      ///< in the exchange file that it came from; may be empty
  std::string formula;                 ///< as written
  bool by_review = false;              ///< people judge it: no run puts it to the test
  std::string level;                   ///< of integrity, as people write it; may be empty
  std::vector<std::string> allocated;  ///< parts and controllers that see to it
  Form form = Form::always;
  NodeId trigger = kNone;      ///< counts only where this holds; kNone: everywhere
  NodeId check = kNone;        ///< must hold …
  std::optional<Time> within;  ///< … at some instant within this time
  NodeId margin = kNone;       ///< distance to the breach; kNone: the formula has no common unit
  Unit margin_unit;            ///< "of the limit" where units mix
  /// Where operators over time are used: operands before what they belong to; then `trigger`, `check` and `margin` are
  /// unused, and these are their roots.
  std::vector<FormulaNode> nodes;
  std::int32_t trigger_root = kNone, check_root = kNone;
  /// Measures that it reads: it is asked whenever one of them has a new value. Indices into Program::measures.
  std::vector<std::int32_t> measures;
  bool has_margin() const {
    return margin != kNone || within ||
           std::any_of(nodes.begin(), nodes.end(), [](const FormulaNode& n) { return n.margin != kNone || n.number; });
  }
  std::vector<LimitLine> limits;
  Span span;
};

/// Signals that are recorded together: as often, in the same form, at the same times.
struct RecordGroup {
  std::string name;  ///< "1ms": its place in the recording; the first has none
  Time period{};
  bool single = false;  ///< as float32
  bool compressed = false;
  bool windows = false;  ///< only around the instants when `when` is true, or a requirement is broken
  NodeId when = kNone;
  bool rises = false;                      ///< only when it becomes true
  std::vector<std::int32_t> requirements;  ///< without `when`: of which a breach counts; empty: of any
  Time before{}, after{};
  std::string text;  ///< "when trip rises with 20 ms before"
  /// What requirements read, at every instant around where each was broken first or worst: beside the rows of other
  /// groups, and known only at the end of the run.
  bool judged = false;
  bool edges = false;  ///< gates, at each of their edges and at the instants of the bench
  std::vector<VarId> signals;
};

struct Judged {
  std::vector<Requirement> requirements;
  std::vector<Measure> measures;
  /// The first is of everything that no statement names. Its times are there without signals too: those of the run.
  std::vector<RecordGroup> recorded{1};
  bool live = false;  ///< others are let in while it runs, and may change parameters, which are recorded then

  Time record_period() const { return recorded.front().period; }
};

}  // namespace isodyne::program
