#include "isodyne/exchange/open_psa.h"

#include <algorithm>
#include <cmath>
#include <set>
#include <variant>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/exchange/xml.h"

namespace isodyne::exchange {

using program::TreeGate;
using program::TreeInput;
using trees::FaultTree;

namespace {

constexpr std::size_t kMostDefinitions = 1'000'000;
constexpr int kMostNested = 200;

/// What a formula comes to: a truth that is known, or a gate or an event.
using Value = std::variant<bool, TreeInput>;

std::string named_attribute(const pugi::xml_node& n) {
  return printable(n.attribute("name").value());
}

/// A number of an event, and whether it came from a rate over a time.
struct Number {
  double value = 0;
  std::optional<double> rate, over_s;  ///< 1/s, s
};

class OpenPsaReader {
 public:
  OpenPsaReader(std::string file, std::optional<double> over_s) : file_(std::move(file)), over_s_(over_s) {}

  Result<ExchangedTrees> run(const pugi::xml_node& root) {
    try {
      definitions(root);
      if (gates_.empty()) fail("there is no `define-gate` in it");
      events();
      for (const auto& [name, node] : in_order_) (void)gate(name);
      tops();
      remarks();
      return std::move(made_);
    } catch (const Refused& refused) {
      return Failure{"cannot read", file_, refused.why, Failure::Kind::wrong_input};
    }
  }

 private:
  struct Refused {
    std::string why;
  };
  [[noreturn]] static void fail(std::string why) { throw Refused{std::move(why)}; }

  /// Containers may lie in each other, so it is a list and no recursion.
  void definitions(const pugi::xml_node& root) {
    std::vector<pugi::xml_node> open{root};
    std::size_t all = 0;
    while (!open.empty()) {
      const pugi::xml_node parent = open.back();
      open.pop_back();
      for (const pugi::xml_node& n : parent.children()) {
        if (n.type() != pugi::node_element) continue;
        const std::string_view kind = local_name(n);
        if (++all > kMostDefinitions) fail(fmt::format("it has more than {} definitions", kMostDefinitions));
        if (kind == "define-fault-tree" || kind == "define-component" || kind == "model-data")
          open.push_back(n);
        else if (kind == "define-gate")
          define(gates_, n, "gates"), in_order_.emplace_back(named_attribute(n), n);
        else if (kind == "define-basic-event")
          define(events_, n, "basic events"), events_in_order_.push_back(named_attribute(n));
        else if (kind == "define-house-event")
          define(houses_, n, "house events");
        else if (kind == "define-parameter")
          define(parameters_, n, "parameters");
        else if (kind == "define-CCF-group")
          fail(
              fmt::format("common-cause group {} is not read, and without it the top would look less probable than it "
                          "is: make a basic event of the common cause",
                          named_attribute(n)));
        else if (kind == "include")
          fail(fmt::format("it takes {} in, and no file that a file names is opened: put them into one",
                           printable(n.attribute("file").value())));
        else if (kind != "label" && kind != "attributes")
          ++unread_[std::string(kind)];
      }
    }
  }

  static void define(std::map<std::string, pugi::xml_node>& into, const pugi::xml_node& n, const char* what) {
    const std::string name = named_attribute(n);
    if (name.empty()) fail(fmt::format("one of its {} has no name", what));
    if (!into.emplace(name, n).second)
      fail(fmt::format("there are two {} called {}; names of different trees are not told apart", what, name));
  }

  // --- probabilities ---

  static double number_in(const pugi::xml_node& n) {
    const std::string text = n.attribute("value").value();
    const auto number = csv_number(text, false);
    if (!number) fail(fmt::format("`{}` is no number", printable(text)));
    return *number;
  }

  /// Factors to 1/s and s, of the units that the format has for parameters.
  static double factor(const std::string& unit, bool rate) {
    static const std::map<std::string, double> kTimes = {
        {"seconds", 1}, {"hours", trees::kHour}, {"years", 8760 * trees::kHour}, {"", trees::kHour}};
    const std::string bare = unit.ends_with("-1") ? unit.substr(0, unit.size() - 2) : unit;
    const auto it = kTimes.find(bare);
    const bool fits = it != kTimes.end() && (unit.empty() || unit.ends_with("-1") == rate);
    if (!fits) fail(fmt::format("`{}` is no unit of a {}", printable(unit), rate ? "rate" : "time"));
    return rate ? 1 / it->second : it->second;
  }

  /// A number with the unit of the parameter that it is from. Nothing: it is uncertain, or of a kind that is not read.
  std::optional<std::pair<double, std::string>> quantity(const pugi::xml_node& n, int depth) {
    const std::string_view kind = local_name(n);
    if (depth > kMostNested) fail(fmt::format("parameters lead to each other more than {} deep", kMostNested));
    if (kind == "float" || kind == "int") return std::pair{number_in(n), std::string()};
    if (kind != "parameter") return std::nullopt;
    const std::string name = named_attribute(n);
    const auto it = parameters_.find(name);
    if (it == parameters_.end()) fail(fmt::format("there is no parameter called {}", name));
    const auto inner = quantity(expression_of(it->second), depth + 1);
    if (!inner) return std::nullopt;
    const std::string unit = it->second.attribute("unit").value();
    return std::pair{inner->first, unit.empty() ? inner->second : unit};
  }

  static pugi::xml_node expression_of(const pugi::xml_node& definition) {
    for (const pugi::xml_node& n : definition.children()) {
      if (n.type() == pugi::node_element && local_name(n) != "label" && local_name(n) != "attributes") return n;
    }
    return {};
  }

  std::optional<Number> number(const pugi::xml_node& n) {
    if (local_name(n) != "exponential") {
      const auto plain = quantity(n, 0);
      return plain ? std::optional(Number{plain->first, {}, {}}) : std::nullopt;
    }
    std::vector<pugi::xml_node> arguments;
    for (const pugi::xml_node& a : n.children()) {
      if (a.type() == pugi::node_element) arguments.push_back(a);
    }
    if (arguments.size() != 2) fail("an `exponential` has a rate and a time");
    const auto rate = quantity(arguments[0], 0);
    if (!rate) return std::nullopt;
    Number made;
    made.rate = rate->first * factor(rate->second, true);
    if (!(*made.rate >= 0)) fail("a rate is below 0");
    if (local_name(arguments[1]) == "system-mission-time") {
      made.over_s = over_s_;
      mission_ = true;
    } else {
      const auto time = quantity(arguments[1], 0);
      if (!time) return std::nullopt;
      made.over_s = time->first * factor(time->second, false);
      if (!(*made.over_s >= 0)) fail("a time is below 0");
    }
    if (made.over_s) made.value = trees::probability_within(*made.rate, *made.over_s);
    return made;
  }

  void events() {
    std::set<double> times;
    std::vector<std::pair<std::size_t, Number>> timed;
    for (const std::string& name : events_in_order_) {
      const pugi::xml_node& n = events_.at(name);
      event_of_[name] = static_cast<std::int32_t>(made_.all.events.size());
      made_.all.events.push_back({name, label(n), {}, {}, program::kNone});
      FaultTree::Event& e = made_.all.events.back();
      for (const pugi::xml_node& a : child_called(n, "attributes").children()) {
        if (named_attribute(a) == "fault") made_.faults[name] = printable(a.attribute("value").value());
      }
      const pugi::xml_node expression = expression_of(n);
      if (!expression) continue;
      const auto read = number(expression);
      if (!read) {
        list_on(uncertain_, fmt::format("{} ({})", name, local_name(expression)));
        continue;
      }
      if (!read->rate || read->over_s) e.probability = read->value;
      if (e.probability && !(*e.probability >= 0 && *e.probability <= 1))
        fail(fmt::format("the probability of {} is {}, and one is 0 to 1", name, format_number(*e.probability)));
      if (!read->rate) continue;
      timed.emplace_back(made_.all.events.size() - 1, *read);
      if (read->over_s) times.insert(*read->over_s);
    }
    // One time for all, or the probabilities by themselves.
    if (times.size() == 1) made_.all.over_s = *times.begin();
    for (const auto& [i, read] : timed) {
      if (times.size() < 2) made_.all.events[i].rate = read.rate;
    }
  }

  static std::string label(const pugi::xml_node& n) {
    return printable(one_line(child_called(n, "label").text().get()));
  }

  // --- gates ---

  /// The gate of this name, and first all that it takes: a list of its own, since trees may be deeper than a stack.
  Value gate(const std::string& wanted) {
    std::vector<std::string> open{wanted};
    while (!open.empty()) {
      const std::string name = open.back();
      if (known_.contains(name)) {
        open.pop_back();
        continue;
      }
      const pugi::xml_node formula = expression_of(gates_.at(name));
      if (!formula) fail(fmt::format("gate {} takes nothing", name));
      if (begun_.insert(name).second) {
        for (const std::string& below : gates_in(formula)) {
          taken_.insert(below);
          if (known_.contains(below)) continue;
          if (below == name) fail(fmt::format("gate {} takes itself", name));
          if (begun_.contains(below)) fail(fmt::format("gate {} takes itself, by way of others: {}", below, name));
          open.push_back(below);
        }
        if (open.back() != name) continue;
      }
      gate_ = name;
      Value value = formula_value(formula, 0);
      if (auto* input = std::get_if<TreeInput>(&value)) {
        // A gate that only passes another on keeps its name as a gate of its own.
        if (!input->gate || !made_.all.gates[static_cast<std::size_t>(input->index)].name.empty())
          *input = add({"", "", TreeGate::Kind::any, 0, {*input}});
        TreeGate& g = made_.all.gates[static_cast<std::size_t>(input->index)];
        g.name = name, g.doc = label(gates_.at(name));
        made_.gates[name] = *input;
      }
      known_.emplace(name, value);
      open.pop_back();
    }
    return known_.at(wanted);
  }

  /// Names of a reference may begin with those of what it lies in.
  std::string bare(const pugi::xml_node& n) const {
    const std::string name = named_attribute(n);
    if (gates_.contains(name) || events_.contains(name) || houses_.contains(name)) return name;
    const std::size_t dot = name.rfind('.');
    return dot == std::string::npos ? name : name.substr(dot + 1);
  }

  std::vector<std::string> gates_in(const pugi::xml_node& formula) const {
    std::vector<std::string> names;
    std::vector<pugi::xml_node> open{formula};
    while (!open.empty()) {
      const pugi::xml_node n = open.back();
      open.pop_back();
      const std::string_view kind = local_name(n);
      if ((kind == "gate" || kind == "event") && gates_.contains(bare(n))) names.push_back(bare(n));
      for (const pugi::xml_node& c : n.children()) open.push_back(c);
    }
    return names;
  }

  TreeInput add(TreeGate gate) {
    made_.all.gates.push_back(std::move(gate));
    return {true, static_cast<std::int32_t>(made_.all.gates.size()) - 1};
  }

  Value named_value(const pugi::xml_node& n, std::string_view kind) {
    const std::string name = bare(n);
    if ((kind == "gate" || kind == "event") && known_.contains(name)) return known_.at(name);
    if (kind == "gate") fail(fmt::format("gate {} takes gate {}, which is not there", gate_, name));
    if ((kind == "house-event" || kind == "event") && houses_.contains(name)) {
      const pugi::xml_node constant = child_called(houses_.at(name), "constant");
      return truth(constant);
    }
    if (kind == "house-event") fail(fmt::format("gate {} takes house event {}, which is not there", gate_, name));
    if (!event_of_.contains(name)) {  // one that is only named has no probability
      if (kind == "event") fail(fmt::format("gate {} takes {}, which is not there", gate_, name));
      event_of_[name] = static_cast<std::int32_t>(made_.all.events.size());
      made_.all.events.push_back({name, "", {}, {}, program::kNone});
    }
    return TreeInput{false, event_of_.at(name)};
  }

  bool truth(const pugi::xml_node& constant) const {
    const std::string_view value = constant.attribute("value").value();
    if (value != "true" && value != "false")
      fail(fmt::format("a constant that gate {} takes is neither true nor false", gate_));
    return value == "true";
  }

  Value formula_value(const pugi::xml_node& n, int depth) {
    const std::string_view kind = local_name(n);
    if (depth > kMostNested) fail(fmt::format("the formula of gate {} nests more than {} deep", gate_, kMostNested));
    if (kind == "gate" || kind == "event" || kind == "basic-event" || kind == "house-event")
      return named_value(n, kind);
    if (kind == "constant") return truth(n);
    std::vector<Value> of;
    for (const pugi::xml_node& c : n.children()) {
      if (c.type() == pugi::node_element) of.push_back(formula_value(c, depth + 1));
    }
    if (of.empty()) fail(fmt::format("a `{}` of gate {} takes nothing", kind, gate_));
    if (kind == "and") return gate_of(of, of.size());
    if (kind == "or") return gate_of(of, 1);
    if (kind == "atleast") {
      const auto least = csv_number(n.attribute("min").value(), false);
      if (!least || *least < 1 || *least > static_cast<double>(of.size()) || *least != std::floor(*least))
        fail(fmt::format("an `atleast` of gate {} takes {}, and its `min` is {}", gate_, of.size(),
                         printable(n.attribute("min").value())));
      return gate_of(of, static_cast<std::size_t>(*least));
    }
    if (kind == "not" && of.size() == 1 && std::holds_alternative<bool>(of[0])) return !std::get<bool>(of[0]);
    fail(
        fmt::format("gate {} is a `{}`: there something that happens can keep the top from being reached, and such "
                    "trees are not read",
                    gate_, printable(std::string(kind))));
  }

  /// Of these, so many: those that are known are not asked any more.
  Value gate_of(const std::vector<Value>& all, std::size_t least) {
    std::vector<TreeInput> of;
    for (const Value& v : all) {
      if (const auto* input = std::get_if<TreeInput>(&v))
        of.push_back(*input);
      else if (std::get<bool>(v))
        least -= std::min<std::size_t>(least, 1);
    }
    if (least == 0) return true;
    if (least > of.size()) return false;
    const bool all_of = least == of.size();
    if (all_of || least == 1) {  // the same once more says nothing new
      std::set<std::pair<bool, std::int32_t>> seen;
      std::erase_if(of, [&](const TreeInput& i) { return !seen.insert({i.gate, i.index}).second; });
    }
    if (of.size() == 1) return of[0];
    return add({"", "",
                all_of       ? TreeGate::Kind::all
                : least == 1 ? TreeGate::Kind::any
                             : TreeGate::Kind::at_least,
                static_cast<int>(least), std::move(of)});
  }

  void tops() {
    for (const auto& [name, node] : in_order_) {
      if (taken_.contains(name)) continue;
      if (const auto* known = std::get_if<bool>(&known_.at(name)))
        made_.remarks.push_back(fmt::format("gate {} is {} whatever happens", name, *known ? "true" : "false"));
      else
        made_.tops.push_back(name);
    }
    if (made_.tops.empty()) fail("whether its tops are reached depends on nothing");
  }

  void remarks() {
    if (!uncertain_.empty())
      made_.remarks.push_back("no probability was read where it is not a number, a parameter or an exponential: " +
                              uncertain_);
    if (mission_ && !over_s_)
      made_.remarks.push_back("events have rates and the file has no mission time: --mission \"1000 h\" says it");
    std::string unread;
    for (const auto& [kind, n] : unread_) list_on(unread, fmt::format("{} {}", n, printable(kind)));
    if (!unread.empty()) made_.remarks.push_back("not read: " + unread);
  }

  std::string file_;
  std::optional<double> over_s_;
  ExchangedTrees made_;
  std::map<std::string, pugi::xml_node> gates_, events_, houses_, parameters_;
  std::vector<std::pair<std::string, pugi::xml_node>> in_order_;
  std::vector<std::string> events_in_order_;
  std::map<std::string, std::int32_t> event_of_;
  std::map<std::string, Value> known_;
  std::set<std::string> begun_, taken_;
  std::map<std::string, std::size_t> unread_;
  std::string gate_, uncertain_;
  bool mission_ = false;
};

}  // namespace

Result<ExchangedTrees> from_open_psa(const std::string& file, const std::string& text, std::optional<double> over_s) {
  pugi::xml_document document;
  const Status read = read_xml(file, text, document);
  if (!read) return read.failure();
  const pugi::xml_node root = child_called(document, "opsa-mef");
  if (!root) return Failure{"cannot read", file, "it is XML, but no model of fault trees: there is no opsa-mef in it"};
  return OpenPsaReader(file, over_s).run(root);
}

FaultTree part_of(const ExchangedTrees& trees, const std::string& gate) {
  const FaultTree& all = trees.all;
  const TreeInput top = trees.gates.at(gate);
  std::vector<bool> gates(all.gates.size()), events(all.events.size());
  gates[static_cast<std::size_t>(top.index)] = true;
  for (std::size_t g = all.gates.size(); g-- > 0;) {
    if (!gates[g]) continue;
    for (const TreeInput& in : all.gates[g].of) (in.gate ? gates : events)[static_cast<std::size_t>(in.index)] = true;
  }
  FaultTree part;
  part.name = gate, part.over_s = all.over_s, part.doc = all.gates[static_cast<std::size_t>(top.index)].doc;
  std::vector<std::int32_t> gate_to(all.gates.size()), event_to(all.events.size());
  for (std::size_t e = 0; e < events.size(); ++e) {
    event_to[e] = static_cast<std::int32_t>(part.events.size());
    if (events[e]) part.events.push_back(all.events[e]);
  }
  for (std::size_t g = 0; g < gates.size(); ++g) {
    gate_to[g] = static_cast<std::int32_t>(part.gates.size());
    if (!gates[g]) continue;
    part.gates.push_back(all.gates[g]);
    for (TreeInput& in : part.gates.back().of)
      in.index = (in.gate ? gate_to : event_to)[static_cast<std::size_t>(in.index)];
  }
  part.top = {true, gate_to[static_cast<std::size_t>(top.index)]};
  return part;
}

}  // namespace isodyne::exchange
