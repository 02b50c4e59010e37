#include "isodyne/program/program.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/program/tables.h"

namespace isodyne::program {

int arity(Op op) {
  switch (op) {
    case Op::constant:
    case Op::variable:
      return 0;
#define OP(id, count, text) \
  case Op::id:              \
    return count;
#define LOOKUP(id, count, text) OP(id, count, text)
#define FUNCTION(id, count, word, rule) OP(id, count, word)
#include "isodyne/program/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
  }
  return 0;
}

const char* fault_word(FaultKind kind) {
  switch (kind) {
#define FAULT(id, word, amount, where, meaning) \
  case FaultKind::id:                           \
    return word;
#include "isodyne/program/fault_kinds.def"
#undef FAULT
  }
  return "?";
}

const char* measure_word(MeasureKind kind) {
  switch (kind) {
#define MEASURE(id, word, signal, clauses, result, meaning) \
  case MeasureKind::id:                                     \
    return word;
#include "isodyne/program/measures.def"
#undef MEASURE
  }
  return "?";
}

const char* step_word(ScenarioStep::Kind kind) {
  static constexpr const char* kWords[] = {"set",      "step",   "ramp",   "play", "release", "wait until", "hold",
                                           "expect",   "inject", "clear",  "arm",  "disarm",  "repeat",     "again",
                                           "together", "join",   "either", "jump", "stop",    "end"};
  return kWords[static_cast<std::size_t>(kind)];
}

const char* coverage_word(CoverageKind kind) {
  switch (kind) {
    case CoverageKind::modes:
      return "modes";
    case CoverageKind::transitions:
      return "transitions";
    case CoverageKind::labels:
      return "labels";
    case CoverageKind::truths:
      return "truths";
    case CoverageKind::faults:
      return "faults";
    case CoverageKind::faults_in_modes:
      return "faults_in_modes";
    case CoverageKind::requirements:
      return "requirements";
    case CoverageKind::pairs:
      return "pairs";
    case CoverageKind::ends:
      return "ends";
  }
  return "?";
}

const char* gate_word(TreeGate::Kind kind) {
  switch (kind) {
    case TreeGate::Kind::all:
      return "and";
    case TreeGate::Kind::any:
      return "or";
    case TreeGate::Kind::at_least:
      return "of";
    default:
      return "given";
  }
}

const char* draw_word(Campaign::Draw draw) {
  switch (draw) {
    case Campaign::Draw::all:
      return "all";
    case Campaign::Draw::random:
      return "random";
    case Campaign::Draw::latin_hypercube:
      return "latin_hypercube";
    case Campaign::Draw::sobol:
      return "sobol";
    case Campaign::Draw::grid:
      return "grid";
    case Campaign::Draw::pairwise:
      return "pairwise";
  }
  return "?";
}

const char* keep_word(Campaign::Keep keep) {
  switch (keep) {
    case Campaign::Keep::none:
      return "none";
    case Campaign::Keep::broken:
      return "broken";
    case Campaign::Keep::all:
      return "all";
    case Campaign::Keep::worst:
      return "worst";
  }
  return "?";
}

const char* panel_word(PanelItem::Kind kind) {
  static constexpr const char* kWords[] = {"show", "bar", "lamp", "choose", "press", "toggle", "slide", "trace"};
  return kWords[static_cast<std::size_t>(kind)];
}

double Characteristic::forth(double quantity) const {
  const double pieces = static_cast<double>(signal.size() - 1), at = (quantity - first) / (last - first) * pieces;
  if (!std::isfinite(at)) return at;
  const double piece = std::clamp(std::floor(at), 0.0, pieces - 1);
  const auto i = static_cast<std::size_t>(piece);
  return signal[i] + (at - piece) * (signal[i + 1] - signal[i]);
}

double Characteristic::back(double of_signal) const {
  const bool rises = signal.back() > signal.front();
  const auto beyond = std::upper_bound(signal.begin(), signal.end(), of_signal,
                                       [&](double x, double point) { return rises ? x < point : x > point; });
  const auto after =
      std::clamp<std::ptrdiff_t>(beyond - signal.begin(), 1, static_cast<std::ptrdiff_t>(signal.size()) - 1);
  const auto i = static_cast<std::size_t>(after - 1);
  const double at = static_cast<double>(i) + (of_signal - signal[i]) / (signal[i + 1] - signal[i]);
  return first + at * (last - first) / static_cast<double>(signal.size() - 1);
}

std::string Frame::text(const BitRange& bits) const {
  if (bits.width == 64) return fmt::format("word {}", bits.word);
  const int first = bits_from_high ? 64 - bits.shift - bits.width : bits.shift;
  if (bits.width == 1) return fmt::format("bit {} of word {}", first, bits.word);
  return fmt::format("bits {} .. {} of word {}", first, first + bits.width - 1, bits.word);
}

std::span<const PortKind> port_kinds() {
  static constexpr PortKind kAll[] = {
#define PORT(id, words, at, pace, clauses) {Setting::Kind::id, words, PortAt::at, Pace::pace, clauses},
#include "isodyne/program/port_kinds.def"
#undef PORT
  };
  return kAll;
}

const PortKind& port_kind(Setting::Kind kind) {
  return port_kinds()[static_cast<std::size_t>(kind)];
}

std::string flat_name(const std::string& name) {
  std::string text;
  for (std::size_t i = 0; i < name.size(); ++i) {
    const bool closes = name[i] == ']' && i + 1 < name.size();  // "load[2].power" → "load_2_power"
    const bool opens = name[i] == '[' && name.find('.', i) != std::string::npos;
    if (!closes) text += name[i] == '.' || opens ? '_' : name[i];
  }
  return text;
}

std::size_t Controller::answer_size() const {
  std::size_t size = writes.size();
  for (const ControllerWrite& w : writes) size = w.edges == 0 ? size : std::max(size, w.edges + kEdgeNumbers);
  return size;
}

std::string own_name(const Controller& controller, VarId id, const std::string& name) {
  for (const auto& [known, as] : controller.known_as) {
    if (known == id) return as;
  }
  const std::string prefix = controller.name + ".";
  return flat_name(name.starts_with(prefix) ? name.substr(prefix.size()) : name);
}

std::size_t Stimulus::rank_of_fault(std::int32_t fault) const {
  for (const Composition& c : compositions) {
    const auto found = std::find(c.faults.begin(), c.faults.end(), fault);
    if (found != c.faults.end()) return static_cast<std::size_t>(found - c.faults.begin());
  }
  return 0;
}

std::int32_t channel_of_actuator(const Plant& plant, std::size_t actuator) {
  return static_cast<std::int32_t>(plant.sensors.size() + actuator);
}

std::int32_t channel_of_field(const Program& program, std::size_t frame, std::size_t field) {
  std::size_t before = program.sensors.size() + program.actuators.size();
  for (std::size_t f = 0; f < frame; ++f) before += program.frames[f].fields.size();
  return static_cast<std::int32_t>(before + field);
}

VarId value_of_channel(const Program& program, std::int32_t channel) {
  auto i = static_cast<std::size_t>(channel);
  if (i < program.sensors.size()) return program.sensors[i].value;
  i -= program.sensors.size();
  if (i < program.actuators.size()) return program.actuators[i].value;
  i -= program.actuators.size();
  for (const Frame& f : program.frames) {
    if (i < f.fields.size()) return f.fields[i].raw;
    i -= f.fields.size();
  }
  return kTime;
}

std::int32_t fault_of_setting(const Program& p, VarId id) {
  if (p.variable(id).role != Role::fault_setting) return kNone;
  for (std::size_t i = 0; i < p.faults.size(); ++i) {
    const Fault& f = p.faults[i];
    const bool amount = f.amount != kNone && p.node(f.amount).op == Op::variable && p.node(f.amount).variable == id;
    if (amount || f.begin_given == id || f.lasting_given == id) return static_cast<std::int32_t>(i);
  }
  return kNone;
}

std::string place_of(const Program& program, const Fault& f) {
  if (f.controller != kNone)
    return program.controllers[static_cast<std::size_t>(f.controller)].name + (f.to_controller ? ".reads" : ".writes");
  if (!f.place.empty()) return f.place;
  if (!f.of_all.empty()) return f.of_all;
  if (!f.gates.empty()) return program.variable(f.gates.front()).name;
  if (f.messages != kNone) return program.messages[static_cast<std::size_t>(f.messages)].name;
  return program.variable(program.taps[static_cast<std::size_t>(f.tap)].target).name;
}

VarId Plant::find(std::string_view wanted) const {
  for (std::size_t i = 0; i < variables.size(); ++i) {
    if (variables[i].name == wanted) return static_cast<VarId>(i);
  }
  return kNone;
}

bool Plant::held(VarId id) const {
  const Variable& v = variable(id);
  if (v.type.kind != Type::Kind::real) return true;
  switch (v.role) {
    case Role::time:
    case Role::state:
    case Role::equation:
    case Role::sensor_true:
    case Role::network:
    case Role::hidden:
      return false;
    default:
      return true;
  }
}

bool Plant::startable(VarId id) const {
  switch (variable(id).role) {
    case Role::input:
    case Role::param:
    case Role::state:
    case Role::sampled:
    case Role::mode:
    case Role::fault_setting:
      return true;
    case Role::network:  // a state of its solver, if it is given a first value
      return std::any_of(start.begin(), start.end(), [&](const Assignment& a) { return a.target == id; });
    default:
      return false;
  }
}

VarId Plant::writable(VarId id) const {
  for (const Actuator& a : actuators) {
    if (a.value == id && a.line != kNone) return a.line;
  }
  for (const Tap& tap : taps) {
    if (tap.target == id && tap.healthy != kNone) return tap.healthy;
  }
  return id;
}

std::int32_t Plant::gate_of(VarId id) const {
  const auto found = std::find_if(gates.begin(), gates.end(), [&](const Gate& g) {
    return g.id == id || std::find(g.same.begin(), g.same.end(), id) != g.same.end();
  });
  return found == gates.end() ? kNone : static_cast<std::int32_t>(found - gates.begin());
}

std::string Plant::sampling_text(const Sensor& s) const {
  return s.at == kNone ? "every " + format_span(s.period) : "at " + variable(s.at).name;
}

std::string Plant::format(const Type& type, const Unit& unit, double value) const {
  switch (type.kind) {
    case Type::Kind::boolean:
      return value != 0 ? "true" : "false";
    case Type::Kind::choice: {
      const auto& labels = choices[static_cast<std::size_t>(type.choice)].labels;
      const auto index = static_cast<std::size_t>(std::max(0.0, value));
      return index < labels.size() ? labels[index] : fmt::format("#{}", value);
    }
    case Type::Kind::integer:
      return fmt::format("{:.0f}", value);
    case Type::Kind::real:
    case Type::Kind::invalid:
      break;
  }
  return format_value(value, unit);
}

std::string Plant::format(VarId id, double value) const {
  const Variable& v = variable(id);
  return format(v.type, v.unit, value);
}

const char* role_text(Role role) {
  switch (role) {
    case Role::time:
      return "time";
    case Role::param:
      return "parameter";
    case Role::fixed_param:
      return "fixed parameter";
    case Role::fault_setting:
      return "setting of a fault";
    case Role::input:
      return "input";
    case Role::state:
      return "state";
    case Role::equation:
      return "computed";
    case Role::network:
      return "network quantity";
    case Role::sampled:
      return "sampled";
    case Role::mode:
      return "mode";
    case Role::sensor:
      return "sensor";
    case Role::sensor_true:
      return "quantity a sensor measures";
    case Role::counts:
      return "raw word";
    case Role::signal:
      return "electrical signal";
    case Role::field:
      return "number in a frame";
    case Role::actuator:
      return "actuator";
    case Role::controller_output:
      return "written by a controller";
    case Role::condition:
      return "condition";
    case Role::fault:
      return "fault: true while active";
    case Role::measure:  // no quantity of the run
    case Role::hidden:
      break;
  }
  return nullptr;
}

std::string Plant::type_text(const Variable& v) const {
  switch (v.type.kind) {
    case Type::Kind::boolean:
      return "bool";
    case Type::Kind::integer:
      return "int";
    case Type::Kind::choice: {
      std::string text;
      for (const std::string& label : choices[static_cast<std::size_t>(v.type.choice)].labels) {
        text += (text.empty() ? "" : "|") + label;
      }
      return text;
    }
    case Type::Kind::real:
    case Type::Kind::invalid:
      break;
  }
  return v.unit.text;
}

namespace {
/// Calls `visit` once for every node below `root`, operands first. Nodes are shared, so a plain recursion
/// could take exponential time; their numbers grow from operands to results, which gives the order.
template <typename Visit>
void visit_below(const Plant& program, NodeId root, Visit visit) {
  if (root == kNone) return;
  std::vector<NodeId> todo{root};
  std::set<NodeId> below{root};
  while (!todo.empty()) {
    const Node& n = program.node(todo.back());
    todo.pop_back();
    for (const NodeId operand : {n.a, n.b, n.c}) {
      if (operand != kNone && below.insert(operand).second) todo.push_back(operand);
    }
  }
  for (const NodeId id : below) visit(id);
}
}  // namespace

std::vector<VarId> Plant::reads(NodeId root) const {
  std::vector<VarId> found;
  std::set<VarId> seen;
  visit_below(*this, root, [&](NodeId id) {
    const Node& n = node(id);
    if (n.op == Op::variable && seen.insert(n.variable).second) found.push_back(n.variable);
  });
  return found;
}

std::optional<double> fold(const Plant& program, NodeId root,
                           const std::function<std::optional<double>(VarId)>& known) {
  std::map<NodeId, std::optional<double>> values;
  visit_below(program, root, [&](NodeId id) {
    const Node& n = program.node(id);
    std::optional<double>& result = values[id];
    if (n.op == Op::constant) {
      result = n.value;
    } else if (n.op == Op::variable) {
      result = known(n.variable);
    } else {
      double operands[3] = {0, 0, 0};
      const NodeId ids[3] = {n.a, n.b, n.c};
      for (int i = 0; i < arity(n.op); ++i) {
        if (!values[ids[i]]) return;
        operands[i] = *values[ids[i]];
      }
      const bool from_table = n.op >= Op::table1 && n.op <= Op::slope2y;
      result = from_table
                   ? look_up(n.op, plain(program.tables[static_cast<std::size_t>(n.unit)]), operands[0], operands[1])
                   : apply(n.op, operands[0], operands[1], operands[2]);
    }
  });
  return root == kNone ? std::nullopt : values[root];
}

}  // namespace isodyne::program
