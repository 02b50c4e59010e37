#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/exchange/open_psa.h"
#include "isodyne/lang/token.h"

namespace isodyne::exchange {

using program::TreeGate;
using program::TreeInput;
using trees::FaultTree;

namespace {

/// Names of the language for names of another.
class TreeNames {
 public:
  std::string of(const std::string& wanted, const char* first) {
    std::string name;
    for (const char c : wanted) {
      const bool letter = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z');
      name += letter || c == '_' || (c >= '0' && c <= '9') ? c : '_';
    }
    const bool good =
        !name.empty() && !(name[0] >= '0' && name[0] <= '9') && !lang::is_reserved(name) && !lang::is_clause_word(name);
    if (!good) name = first + std::string("_") + name;
    const std::string plain = name;
    for (int n = 2; !taken_.insert(name).second; ++n) name = fmt::format("{}_{}", plain, n);
    return name;
  }

 private:
  std::set<std::string> taken_;
};

class TreeText {
 public:
  TreeText(const FaultTree& tree, const std::vector<std::string>& faults) : tree_(tree), faults_(faults) {}

  std::string run(const std::string& from) {
    const std::string name = names_.of(tree_.name, "hazard");
    for (const auto& e : tree_.events) events_.push_back(names_.of(e.name, "event"));
    for (const auto& g : tree_.gates) gates_.push_back(g.name.empty() ? "" : names_.of(g.name, "gate"));
    std::string text = fmt::format("# A fault tree taken over from {}.\n\n", printable(one_line(from)));
    for (std::size_t e = 0; e < events_.size(); ++e) text += event(e);
    text += "\n" + doc(tree_.doc, name, tree_.name, "") + fmt::format("hazard {} {{\n", name);
    if (tree_.over_s) text += fmt::format("  over {} h\n", format_exact(*tree_.over_s / trees::kHour));
    // A gate with one input is a name of another thing, and the language has `or` of two.
    for (std::size_t g = 0; g < gates_.size(); ++g) {
      if (gates_[g].empty() || is_top(g)) continue;
      text += doc(tree_.gates[g].doc, gates_[g], tree_.gates[g].name, "  ") +
              fmt::format("  gate {} = {}\n", gates_[g], formula(g));
    }
    const auto top = static_cast<std::size_t>(tree_.top.index);
    return text + fmt::format("  top = {}\n}}\n", tree_.top.gate ? formula(top) : events_[top]);
  }

 private:
  bool is_top(std::size_t gate) const { return tree_.top.gate && static_cast<std::size_t>(tree_.top.index) == gate; }

  static std::string doc(const std::string& text, const std::string& name, const std::string& was, const char* indent) {
    std::string all = one_line(text);
    if (name != was) all += (all.empty() ? "" : "; ") + fmt::format("called {}", one_line(was));
    return all.empty() ? "" : fmt::format("{}## {}\n", indent, all);
  }

  std::string event(std::size_t e) const {
    const FaultTree::Event& of = tree_.events[e];
    std::string text = doc(of.doc, events_[e], of.name, "") + fmt::format("basic_event {} {{", events_[e]);
    if (of.rate)
      text += fmt::format(" rate {} 1/h", format_exact(*of.rate * trees::kHour));
    else if (of.probability)
      text += fmt::format(" probability {}", format_exact(*of.probability));
    if (e < faults_.size() && !faults_[e].empty()) text += fmt::format("  fault {}", faults_[e]);
    return text + " }\n";
  }

  std::string input(const TreeInput& in) const {
    const auto i = static_cast<std::size_t>(in.index);
    if (!in.gate) return events_[i];
    return gates_[i].empty() ? "(" + formula(i) + ")" : gates_[i];
  }

  std::string formula(std::size_t gate) const {
    const program::TreeGate& g = tree_.gates[gate];
    const bool some = g.kind == TreeGate::Kind::at_least;
    const char* between = some                            ? ", "
                          : g.kind == TreeGate::Kind::any ? " or "
                          : g.kind == TreeGate::Kind::all ? " and "
                                                          : " given ";
    std::string text;
    for (const TreeInput& in : g.of) text += (text.empty() ? "" : between) + input(in);
    return some ? fmt::format("{} of ({})", g.least, text) : text;
  }

  const FaultTree& tree_;
  const std::vector<std::string>& faults_;
  TreeNames names_;
  std::vector<std::string> events_, gates_;
};

}  // namespace

std::string tree_text(const FaultTree& tree, const std::vector<std::string>& faults, const std::string& from) {
  return TreeText(tree, faults).run(from);
}

}  // namespace isodyne::exchange
