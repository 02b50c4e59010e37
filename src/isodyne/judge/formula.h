#pragma once
// Formulas over time, from instant to instant: what each says of an instant comes as soon as it is certain.
//
// Semantics: signal temporal logic over the instants of images (Maler and Nickovic, "Monitoring Temporal Properties of
// Continuous Signals", 2004), with the distances of Fainekos and Pappas (2009). At the end of a run what lies ahead of
// it is unknown: an instant then has a worst and a best case.
//
// Memory: an operator keeps as many instants as its time holds. Time: constant an instant on average.

#include <variant>
#include <vector>

#include "isodyne/core/time.h"
#include "isodyne/engine/code.h"
#include "isodyne/judge/sliding_fold.h"
#include "isodyne/model/program.h"

namespace isodyne::judge {

/// What a formula says of an instant, at worst and at best: the same before the end of a run.
struct Value {
  double low = 0, high = 0;                ///< distance from changing, SI; ±infinity where there is none
  bool certain = false, possible = false;  ///< whether it holds

  bool decided() const { return certain == possible; }
};

struct Sample {
  Time at{};
  Value value;
};

class Formula {
 public:
  /// The expressions that it needs: two for each node.
  static void collect(const model::Requirement& r, std::vector<model::NodeId>& expressions);
  /// `first`: where its expressions begin among those of an evaluator.
  Formula(const model::Requirement& r, std::size_t first);

  /// The next image, whose expressions are evaluated.
  void image(Time at, const engine::Evaluator& expressions);
  /// There are no more images: everything that is left is said, with its worst and best case.
  void finish();

  /// The next instant of which everything is said; false if there is none. Without a trigger that always holds.
  bool next(Time& at, Value& trigger, Value& check);

 private:
  struct Least {
    Value operator()(const Value& a, const Value& b) const;
  };
  struct Greatest {
    Value operator()(const Value& a, const Value& b) const;
  };
  /// Of a stretch of instants: whether a holds in all of it, and whether b comes with a up to there.
  struct Stretch {
    Value all, reached;
  };
  struct Join {
    Stretch operator()(const Stretch& first, const Stretch& then) const;
  };

  struct Truth {};
  struct Edge {
    bool begun = false;
    double before = 0;
  };
  struct Logic {};
  template <typename Element, typename Operation>
  struct Ahead {  ///< within, stays, until
    SlidingFold<Element, Operation> window;
    Queue<Time> waiting;  ///< instants whose windows are open
  };
  template <typename Operation>
  struct Behind {  ///< held, last
    SlidingFold<Value, Operation> window;
    Queue<Time> times;
    bool begun = false;
    Time begin{};
  };
  struct Since {
    bool begun = false;
    Value before;
  };

  struct Node {
    model::FormulaNode node;
    std::variant<Truth, Edge, Logic, Ahead<Value, Greatest>, Ahead<Value, Least>, Ahead<Stretch, Join>, Behind<Least>,
                 Behind<Greatest>, Since>
        memory;
    Queue<Sample> said;  ///< and not yet taken by what it is an operand of
  };

  void look(Node& node, std::size_t expression, Time at, const engine::Evaluator& expressions);
  void take(Node& node);
  void take_logic(Node& node);
  template <typename Element, typename Operation>
  void take_ahead(Node& node, Ahead<Element, Operation>& memory);
  template <typename Element, typename Operation>
  void finish_ahead(Node& node, Ahead<Element, Operation>& memory);
  template <typename Operation>
  void take_behind(Node& node, Behind<Operation>& memory);
  void take_since(Node& node, Since& memory);
  bool operands(const Node& node) const;
  Sample operand(std::int32_t place);

  std::vector<Node> nodes_;
  std::int32_t trigger_, check_;
  std::size_t first_;
};

}  // namespace isodyne::judge
