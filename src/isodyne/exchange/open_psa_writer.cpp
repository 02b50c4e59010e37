#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/exchange/open_psa.h"
#include "isodyne/exchange/xml.h"

namespace isodyne::exchange {

using program::TreeGate;
using program::TreeInput;
using trees::FaultTree;

namespace {

class OpenPsaWriter {
 public:
  OpenPsaWriter(const FaultTree& tree, const std::vector<std::string>& faults) : tree_(tree), faults_(faults) {}

  std::string run() {
    pugi::xml_document document;
    pugi::xml_node declaration = document.append_child(pugi::node_declaration);
    declaration.append_attribute("version") = "1.0";
    declaration.append_attribute("encoding") = "UTF-8";
    pugi::xml_node root = document.append_child("opsa-mef");
    pugi::xml_node tree = named(root, "define-fault-tree", tree_.name, tree_.doc);
    // Readers take the gate that no other takes for the top, by its place in the file too.
    bool top = false;
    for (std::size_t i = tree_.gates.size(); i-- > 0;) {
      const program::TreeGate& g = tree_.gates[i];
      const bool is_top = tree_.top.gate && static_cast<std::size_t>(tree_.top.index) == i;
      if (g.name.empty() && !is_top) continue;
      top = top || is_top;
      formula(named(tree, "define-gate", g.name.empty() ? tree_.name : g.name, g.doc), g);
    }
    if (!top) input(named(tree, "define-gate", tree_.name, tree_.doc), tree_.top);
    pugi::xml_node data = root.append_child("model-data");
    for (std::size_t e = 0; e < tree_.events.size(); ++e) event(data, e);
    if (timed_) {
      pugi::xml_node time = named(data, "define-parameter", kTime, "");
      time.append_attribute("unit") = "hours";
      time.append_child("float").append_attribute("value") = format_exact(*tree_.over_s / trees::kHour).c_str();
    }
    struct Text : pugi::xml_writer {
      std::string all;
      void write(const void* bytes, std::size_t size) override { all.append(static_cast<const char*>(bytes), size); }
    } text;
    document.save(text, "  ");
    return text.all;
  }

 private:
  static constexpr const char* kTime = "mission_time";

  static pugi::xml_node named(pugi::xml_node parent, const char* kind, const std::string& name,
                              const std::string& doc) {
    pugi::xml_node made = parent.append_child(kind);
    made.append_attribute("name") = printable(name).c_str();
    if (!doc.empty()) made.append_child("label").text() = printable(doc).c_str();
    return made;
  }

  void input(pugi::xml_node parent, const TreeInput& in) {
    const auto i = static_cast<std::size_t>(in.index);
    if (!in.gate) {
      parent.append_child("basic-event").append_attribute("name") = tree_.events[i].name.c_str();
    } else if (!tree_.gates[i].name.empty()) {
      parent.append_child("gate").append_attribute("name") = tree_.gates[i].name.c_str();
    } else {
      formula(parent, tree_.gates[i]);
    }
  }

  void formula(pugi::xml_node parent, const program::TreeGate& g) {
    if (g.of.size() == 1) return input(parent, g.of[0]);
    pugi::xml_node made = parent.append_child(g.kind == TreeGate::Kind::any        ? "or"
                                              : g.kind == TreeGate::Kind::at_least ? "atleast"
                                                                                   : "and");
    if (g.kind == TreeGate::Kind::at_least) made.append_attribute("min") = g.least;
    for (const TreeInput& in : g.of) input(made, in);
  }

  void event(pugi::xml_node data, std::size_t e) {
    const FaultTree::Event& of = tree_.events[e];
    pugi::xml_node made = named(data, "define-basic-event", of.name, of.doc);
    if (e < faults_.size() && !faults_[e].empty()) {
      pugi::xml_node a = made.append_child("attributes").append_child("attribute");
      a.append_attribute("name") = "fault";
      a.append_attribute("value") = faults_[e].c_str();
    }
    if (of.rate) {
      pugi::xml_node exponential = made.append_child("exponential");
      exponential.append_child("float").append_attribute("value") = format_exact(*of.rate * trees::kHour).c_str();
      timed_ = timed_ || tree_.over_s;
      if (tree_.over_s)
        exponential.append_child("parameter").append_attribute("name") = kTime;
      else
        exponential.append_child("system-mission-time");
    } else if (of.probability) {
      made.append_child("float").append_attribute("value") = format_exact(*of.probability).c_str();
    }
  }

  const FaultTree& tree_;
  const std::vector<std::string>& faults_;
  bool timed_ = false;
};

}  // namespace

std::string to_open_psa(const FaultTree& tree, const std::vector<std::string>& faults) {
  return OpenPsaWriter(tree, faults).run();
}

}  // namespace isodyne::exchange
