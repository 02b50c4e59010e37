// The picture of a bench. Parts at the top level are boxes, sensors and actuators the small things between
// them and the controllers; an arrow is labelled with the inputs that it feeds. Everything flows to the right. Parts
// that lie at one node are joined there by lines without arrows.

#include <atomic>
#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/process.h"
#include "isodyne/core/text.h"
#include "isodyne/present/inquiry.h"
#include "isodyne/session/summary.h"

namespace isodyne::present {

using program::kNone;
using program::Program;
using program::Role;
using program::VarId;

namespace {

std::string dot_text(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return out + "\"";
}

/// The name of the bench, and below it what the colours mean.
std::string heading(const std::string& name, bool networks) {
  std::string escaped;
  for (const char c : name) escaped += c == '<' ? "&lt;" : c == '>' ? "&gt;" : c == '&' ? "&amp;" : std::string(1, c);
  std::string cells;
  std::vector<std::pair<const char*, const char*>> meanings = {
      std::pair{"#eef3f5", "part"},
      std::pair{"#e3f1ea", "sensor"},
      std::pair{"#fbeee2", "actuator"},
      std::pair{"#e6e9f5", "controller"},
      std::pair{"#f4f5fb", "what a controller reads (the way back is not drawn)"},
      std::pair{"#ffffff", "words on arrows: inputs that they feed"}};
  if (networks) meanings.emplace_back("#ffffff", "lines: joined at a node");
  for (const auto& [colour, what] : meanings)
    cells += fmt::format("<td bgcolor=\"{}\"><font point-size=\"10\">{}</font></td>", colour, what);
  return fmt::format(
      "<<table border=\"0\" cellborder=\"0\" cellspacing=\"6\" cellpadding=\"3\"><tr><td "
      "colspan=\"{}\">{}</td></tr><tr>{}</tr></table>>",
      meanings.size(), escaped, cells);
}

class Structure {
 public:
  explicit Structure(const Program& p) : p_(p) {
    for (const program::Assignment& e : p.equations) equation_[e.target] = e.value;
    for (const program::ImplicitEquation& s : p.solves) equation_[s.x] = s.residual;
    for (const program::PartInfo& part : p.parts) {
      if (part.path.find('.') == std::string::npos) parts_[part.path] = part.model;
    }
  }

  std::string dot() {
    for (const auto& [target, value] : equation_) {
      const std::string to = owner(target);
      if (parts_.contains(to)) feed(to, short_name(target), value);
    }
    std::string out =
        "digraph bench {\n  rankdir=LR; nodesep=0.16; ranksep=0.7; size=\"13.2,8.2\"; splines=true;\n"
        "  node [fontname=\"DejaVu Sans\", fontsize=11, color=\"#3a4750\"];\n"
        "  edge [fontname=\"DejaVu Sans\", fontsize=9, color=\"#6b7780\", fontcolor=\"#3a4750\", arrowsize=0.7];\n";
    out += fmt::format("  label={}; labelloc=t; fontname=\"DejaVu Sans\"; fontsize=15;\n",
                       heading(p_.name, !p_.networks.empty()));
    for (const program::PeriodicTask& s : p_.periodic_tasks) {
      const std::string name = s.body.empty() ? "" : owner(s.body.front().target);
      if (parts_.contains(name)) parts_[name] += "\\nevery " + format_span(s.period);
    }
    for (const auto& [name, kind] : parts_)
      out += node(name, "shape=box, style=\"filled\", fillcolor=\"#eef3f5\"", kind);
    nodes();
    channels();
    for (const auto& [name, drawn] : free_) out += node(name, "shape=plain, fontcolor=\"#5b4a00\"", drawn);
    out += channel_nodes_ + joints_;
    for (const auto& [ends, labels] : edges_) {
      std::string label;
      std::size_t shown = 0;
      for (const std::string& l : labels) {
        if (++shown <= 4) label += (label.empty() ? "" : "\\n") + l;
      }
      if (shown > 4) label += fmt::format("\\n… {} more", shown - 4);
      out += fmt::format("  {} -> {} [label=\"{}\"];\n", dot_text(ends.first), dot_text(ends.second), label);
    }
    return out + "}\n";
  }

 private:
  static std::string node(const std::string& name, const char* style, const std::string& second) {
    return fmt::format("  {} [{}, label=\"{}{}{}\"];\n", dot_text(name), style, name, second.empty() ? "" : "\\n",
                       second);
  }

  std::string owner(VarId id) const {
    const std::string& name = p_.variable(id).name;
    const std::size_t dot = name.find('.');
    return dot == std::string::npos ? "" : name.substr(0, dot);
  }
  std::string short_name(VarId id) const {
    const std::string& name = p_.variable(id).name;
    const std::size_t dot = name.find('.');
    return dot == std::string::npos ? name : name.substr(dot + 1);
  }

  /// Edges into `to` from everything that `value` is made of; quantities of the bench itself are looked through.
  void feed(const std::string& to, const std::string& label, program::NodeId value) {
    std::set<VarId> seen;
    std::vector<VarId> todo = p_.reads(value);
    while (!todo.empty()) {
      const VarId id = todo.back();
      todo.pop_back();
      if (!seen.insert(id).second) continue;
      const std::string from = owner(id);
      const Role role = p_.variable(id).role;
      if (role == Role::network && !parts_.contains(from)) {
        edges_[{from.substr(0, from.find('[')) + " node", to}].insert(label);
      } else if (parts_.contains(from)) {
        if (from != to) edges_[{from, to}].insert(label);
      } else if (role == Role::actuator || role == Role::sensor) {
        edges_[{p_.variable(id).name, to}].insert(label);
      } else if (role == Role::controller_output) {
        edges_[{from, to}].insert(label);  // what a controller writes and the plant reads without a channel
      } else if (role == Role::input) {
        free_[p_.variable(id).name] = "input";
        edges_[{p_.variable(id).name, to}].insert(label);
      } else if (const auto through = equation_.find(id); through != equation_.end()) {
        for (const VarId next : p_.reads(through->second)) todo.push_back(next);
      }
    }
  }

  /// Nodes at which several parts of the top level lie; those of a vector are one line.
  void nodes() {
    const auto top = [](const std::string& path) { return path.substr(0, path.find_first_of(".")); };
    std::map<std::string, std::set<std::string>> lying;
    for (const program::Network& n : p_.networks) {
      for (const program::Network::Element& e : n.elements) {
        if (!parts_.contains(top(e.path))) continue;  // what a fault would put there
        for (const std::int32_t node : e.nodes) {
          const std::string& name = n.nodes[static_cast<std::size_t>(node)];
          lying[name.substr(0, name.rfind('['))].insert(top(e.path));
        }
      }
    }
    for (const auto& [name, parts] : lying) {
      if (parts.size() < 2 && name != "ground") continue;
      joints_ += fmt::format("  {} [shape=plain, fontsize=10, fontcolor=\"#3a4750\", label={}];\n",
                             dot_text(name + " node"), dot_text(name));
      for (const std::string& part : parts)
        joints_ += fmt::format("  {} -> {} [dir=none];\n", dot_text(name + " node"), dot_text(part));
    }
  }

  void channels() {
    for (const program::Sensor& s : p_.sensors) {
      channel_nodes_ +=
          node(s.name, "shape=ellipse, style=\"filled\", fillcolor=\"#e3f1ea\", fontsize=10", p_.sampling_text(s));
      feed(s.name, "", equation_.at(s.truth));
    }
    for (const program::Actuator& a : p_.actuators)
      channel_nodes_ += node(a.name, "shape=hexagon, style=\"filled\", fillcolor=\"#fbeee2\", fontsize=10", "");
    for (const program::Controller& c : p_.controllers) {
      channel_nodes_ += node(c.name, "shape=box, style=\"filled,rounded\", fillcolor=\"#e6e9f5\", penwidth=1.6",
                             "every " + format_span(c.period));
      // A controller stands twice, at the beginning and at the end: the way back would cross everything.
      channel_nodes_ +=
          fmt::format("  {} [shape=box, style=\"filled,rounded,dashed\", fillcolor=\"#f4f5fb\", label={}];\n",
                      dot_text(c.name + " reads"), dot_text(c.name));
      for (const VarId id : c.knows) {
        const program::Variable& v = p_.variable(id);
        if (v.role == Role::input) free_[v.name] = "input";
        edges_[{v.name, c.name + " reads"}];
      }
      for (const VarId id : c.drives) {
        if (p_.variable(id).role == Role::actuator) edges_[{c.name, p_.variable(id).name}];
      }
    }
  }

  const Program& p_;
  std::map<VarId, program::NodeId> equation_;
  std::map<std::string, std::string> parts_, free_;
  std::map<std::pair<std::string, std::string>, std::set<std::string>> edges_;
  std::string channel_nodes_, joints_;
};

}  // namespace

std::string structure_dot(const Program& program) {
  return Structure(program).dot();
}

Status draw_structure(const Program& program, const std::string& file) {
  std::string ending = std::filesystem::path(file).extension().string();
  if (ending.empty()) ending = ".svg";
  if (ending != ".svg" && ending != ".png" && ending != ".pdf")
    return Failure{"cannot draw", file, "pictures are .svg, .png or .pdf"};
  const std::string dot = on_path("dot");
  if (dot.empty()) return Failure{"cannot draw", file, "Graphviz (`dot`) is not installed"};
  const TemporaryFolder folder;
  if (folder.path().empty()) return folder.trouble();
  const auto inside = [&](const char* name) { return (folder.path() / name).string(); };
  const std::string out = inside("bench.picture");
  Status written = write_file(inside("bench.dot"), structure_dot(program));
  const std::atomic<bool> stop{false};
  const auto drawn = run_program("dot", {dot, "-T" + ending.substr(1), "-o", out, inside("bench.dot")},
                                 inside("messages"), std::chrono::minutes(5), stop);
  const Result<std::string> svg = read_file(out);
  if (!written) return written;
  if (!drawn) return drawn.failure();
  if (*drawn != 0 || !svg || svg->empty()) return Failure{"cannot draw", file, "`dot` failed"};
  return write_file(file, *svg);
}

}  // namespace isodyne::present
