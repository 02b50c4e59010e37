#include "isodyne/check/plant/networks.h"

#include <algorithm>
#include <numeric>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/program/elements.h"

namespace isodyne::check {

void check_elements(Check& check) {
  for (const lang::ModelDecl& m : check.document.models) {
    if (!m.element) continue;
    const ElementKind* kind = element_kind(m.name.text);
    if (kind == nullptr) {
      std::vector<std::string> known;
      for (const ElementKind& k : element_kinds()) known.emplace_back(k.name);
      check.error(Code::wrong_kind, m.name.span, fmt::format("no solver brings an element `{}`", m.name.text),
                  did_you_mean(m.name.text, known).value_or("what is made of elements is a `model`"));
    }
    const bool more = !m.parts.empty() || !m.equations.empty() || !m.modes.empty() || !m.periodic_tasks.empty() ||
                      !m.events.empty() || !m.solves.empty() || !m.loops.empty() || !m.variants.empty() ||
                      !m.rated.empty() || !m.units.empty();
    if (more)
      check.error(Code::wrong_kind, m.name.span,
                  fmt::format("element `{}` has more than terminals, parameters, inputs and outputs", m.name.text),
                  "its equations are those of the solver; what has equations of its own is a `model`");
    for (const lang::VarDecl& v : m.variables) {
      const bool outside = v.kind == lang::VarKind::param || v.kind == lang::VarKind::fixed_param ||
                           v.kind == lang::VarKind::input || v.is_output;
      if (outside) continue;
      check.error(Code::wrong_kind, v.name.span,
                  fmt::format("`{}` is neither parameter, input nor output of element `{}`", v.name.text, m.name.text));
    }
    for (const lang::PlaceDecl& p : m.places) {
      if (p.terminal) continue;
      check.error(Code::wrong_kind, p.name.span,
                  fmt::format("an element has no nodes of its own, so `{}` is a terminal", p.name.text));
    }
  }
}

namespace {

/// Sets that grow together.
class Sets {
 public:
  explicit Sets(std::size_t size) : parent_(size) { std::iota(parent_.begin(), parent_.end(), 0); }
  std::int32_t of(std::int32_t i) {
    while (parent_[static_cast<std::size_t>(i)] != i) {
      auto& up = parent_[static_cast<std::size_t>(i)];
      up = parent_[static_cast<std::size_t>(up)];
      i = up;
    }
    return i;
  }
  /// False: they were one already.
  bool join(std::int32_t a, std::int32_t b) {
    a = of(a);
    b = of(b);
    if (a == b) return false;
    parent_[static_cast<std::size_t>(std::max(a, b))] = std::min(a, b);  // the first in the text stands for all
    return true;
  }

 private:
  std::vector<std::int32_t> parent_;
};

/// The places of an element's terminals, vectors element by element.
std::vector<std::int32_t> places_of(const Instance& element) {
  std::vector<std::int32_t> all;
  for (const auto& p : element.members.places) {
    const auto found = element.places.find(p.decl->name.text);
    if (found == element.places.end()) continue;
    for (int k = 0; k < found->second.count(); ++k) all.push_back(found->second.first + k);
  }
  return all;
}

/// Terminals of elements inside the part at whose terminal we stand.
std::vector<std::int32_t> ends_inside(const Check& check, std::int32_t terminal) {
  std::vector<std::int32_t> ends, waiting{terminal};
  while (!waiting.empty()) {
    const std::int32_t at_place = waiting.back();
    waiting.pop_back();
    const Place& p = at(check.places, at_place);
    if (p.of_element) ends.push_back(at_place);
    waiting.insert(waiting.end(), p.inside.begin(), p.inside.end());
    // What lies beside an inner part, at its terminal, is inside as well; but not what lies beside ours.
    if (at_place != terminal) waiting.insert(waiting.end(), p.outside.begin(), p.outside.end());
  }
  return ends;
}

/// Places that are one node, and nodes that are one network: those with an element between them. Through `ground`
/// nothing hangs together; only what flows into a terminal that lies there is asked of one solver.
class Joined {
 public:
  explicit Joined(const Check& check) : check_(check), nodes_(check.places.size()), networks_(check.places.size()) {
    std::set<std::int32_t> cut;
    for (const Check::FaultContact& f : check.fault_contacts) {
      if (f.opens) cut.insert(f.a);
    }
    for (std::size_t i = 0; i < check.places.size(); ++i) {
      const auto place = static_cast<std::int32_t>(i);
      if (check.places[i].lies_at != kNone && !cut.contains(place)) nodes_.join(place, check.places[i].lies_at);
    }
    for (const Instance* e : check.elements) {
      for (const std::int32_t p : places_of(*e)) {
        if (!at_ground(p)) networks_.join(anchor(*e), node_of(p));
      }
    }
    for (std::size_t i = 0; i < check.places.size(); ++i) {
      const auto place = static_cast<std::int32_t>(i);
      if (check.places[i].current == kNone || !at_ground(place)) continue;
      const std::vector<std::int32_t> ends = ends_inside(check, place);
      for (const std::int32_t end : ends) networks_.join(network_of(ends.front()), network_of(end));
    }
    for (const Check::FaultContact& f : check.fault_contacts) {
      if (!at_ground(f.a) && !at_ground(f.b)) networks_.join(network_of(f.a), network_of(f.b));
    }
  }
  std::int32_t node_of(std::int32_t place) { return nodes_.of(place); }
  /// One place stands for all of a network.
  std::int32_t network_of(std::int32_t place) {
    if (at(check_.places, place).of_element) return networks_.of(anchor(*at(check_.places, place).owner));
    if (!at_ground(place)) return networks_.of(node_of(place));
    const std::vector<std::int32_t> ends = ends_inside(check_, place);
    return ends.empty() ? 0 : network_of(ends.front());
  }

 private:
  bool at_ground(std::int32_t place) { return node_of(place) == node_of(0); }
  /// The first node of an element that is not `ground`.
  std::int32_t anchor(const Instance& element) {
    for (const std::int32_t p : places_of(element)) {
      if (!at_ground(p)) return node_of(p);
    }
    return 0;
  }

  const Check& check_;
  Sets nodes_, networks_;
};

class NetworkMaking {
 public:
  explicit NetworkMaking(Check& check) : check_(check), joined_(check) {}

  void run() {
    lying_nowhere();
    for (const Instance* e : check_.elements) elements_.push_back(element_of(*e));
    for (const Check::FaultContact& f : check_.fault_contacts) contact(f);
    gather();
    if (check_.diagnostics.has_errors()) return;
    for (std::size_t n = 0; n < check_.program.networks.size(); ++n) examine(n);
  }

 private:
  struct Made {
    std::vector<std::int32_t> places;  ///< of its terminals
    Network::Element element;
  };

  Place& place(std::int32_t i) { return check_.places[static_cast<std::size_t>(i)]; }

  void lying_nowhere() {
    for (const Place& p : check_.places) {
      const bool root = p.owner == &check_.root || p.owner == nullptr;
      if (!p.terminal || p.open || p.lies_at != kNone || !p.outside.empty() || p.owner->misplaced) continue;
      if (root) {
        if (check_.alone) continue;
        check_.error(Code::wrong_kind, p.span,
                     fmt::format("a bench has no outside, so `{}` cannot be a terminal", p.path), "declare a `node`");
        continue;
      }
      const std::string name = p.path.substr(p.owner->prefix.size());
      const std::string part = p.owner->prefix.substr(0, p.owner->prefix.size() - 1);
      check_.error(Code::open_terminal, p.owner->part->name.span,
                   fmt::format("nothing lies at terminal `{}` of `{}`", name, part),
                   fmt::format("give it a place, or let `{}` declare it `= open`", p.owner->decl->name.text));
    }
  }

  Made element_of(const Instance& e) {
    Made made;
    made.element.model = e.decl->name.text;
    made.element.path = e.prefix.substr(0, e.prefix.size() - 1);
    made.element.span = e.part->name.span;
    made.places = places_of(e);
    take_curve(e, made);
    for (const auto& v : e.members.variables) {
      const std::string& name = v.decl->name.text;
      auto& list = v.decl->is_output                      ? made.element.outputs
                   : v.decl->kind == lang::VarKind::input ? made.element.inputs
                                                          : made.element.parameters;
      const auto vector = e.vectors.find(name);
      if (vector == e.vectors.end()) {
        const auto one = e.variables.find(name);
        if (one != e.variables.end()) list.push_back({name, one->second});
        continue;
      }
      for (int k = 0; k < vector->second.size; ++k)
        list.push_back({fmt::format("{}[{}]", name, k + 1), vector->second.first + k});
    }
    return made;
  }

  /// A parameter that nobody can name or change.
  Network::Quantity constant(const std::string& of, const char* name, double value, const char* unit,
                             std::int32_t group, Span span) {
    const VarId id =
        check_.define_hidden(fmt::format("{} {}", of, name), {Type::Kind::real, parse_unit(unit)->dimension, kNone},
                             *parse_unit(unit), group);
    Node node;
    node.value = value;
    check_.program.nodes.push_back(node);
    check_.program.start.push_back({id, static_cast<NodeId>(check_.program.nodes.size() - 1), span});
    return {name, id};
  }

  /// The flux over the current of a core: straight pieces that rise, also beyond the ends.
  void take_curve(const Instance& e, Made& made) {
    const auto given = e.tables.find("curve");
    if (given == e.tables.end() || given->second == nullptr) return;
    const auto known = check_.tables.find(given->second->name.text);
    if (known == check_.tables.end()) return;  // reported with the table
    const LookupTable& t = check_.program.tables[static_cast<std::size_t>(known->second)];
    const auto refuse = [&](std::string why, std::string advice) {
      check_
          .error(Code::bad_table, e.part->name.span,
                 fmt::format("`{}` cannot be the curve of `{}`: {}", t.name, made.element.path, why), std::move(advice))
          .notes.push_back({t.span, "the table is here"});
    };
    constexpr std::size_t kMostPoints = 32;
    if (t.method != LookupTable::Method::linear || t.outside != LookupTable::Outside::extended)
      return refuse("flux goes on in straight pieces, and never stops rising", "write `linear outside extended`");
    if (t.x.size() > kMostPoints)
      return refuse(fmt::format("it has {} points, and {} is most", t.x.size(), kMostPoints),
                    "few points where it is straight are as good");
    double steepest = 0;
    for (std::size_t i = 0; i + 1 < t.x.size(); ++i) {
      const double slope = (t.z[i + 1] - t.z[i]) / (t.x[i + 1] - t.x[i]);
      if (!(slope > 0))
        return refuse(
            fmt::format("from {} A to {} A the flux does not rise", format_number(t.x[i]), format_number(t.x[i + 1])),
            "air alone has some inductance: let it rise a little");
      steepest = std::max(steepest, slope);
    }
    made.element.curve = known->second;
    made.element.parameters.push_back(
        constant(made.element.path, "inductance", steepest, "H", e.group, e.part->name.span));
  }

  /// What a fault puts into the network: a contact of two places, which nobody can name.
  void contact(const Check::FaultContact& f) {
    constexpr double kOpen = 1e10;  // ohm
    const std::int32_t where = joined_.node_of(f.a) == joined_.node_of(0) ? f.b : f.a;
    const auto beside = std::find_if(elements_.begin(), elements_.end(), [&](const Made& m) {
      return !m.places.empty() && joined_.network_of(m.places.front()) == joined_.network_of(where);
    });
    if (beside == elements_.end()) {
      check_.error(Code::does_nothing, f.span, fmt::format("no element lies at `{}`", place(where).path));
      return;
    }
    const std::int32_t group = group_of(*beside);
    const auto parameter = [&](const char* name, double value) {
      return constant(f.fault, name, value, "ohm", group, f.span);
    };
    Made made;
    made.element.model = f.opens ? "FaultOpen" : "FaultShort";
    made.element.path = "fault " + f.fault;
    made.element.span = f.span;
    made.places = {f.a, f.b};
    made.element.inputs = {{"close", f.active}};
    made.element.parameters = {parameter("closed_resistance", f.resistance), parameter("open_resistance", kOpen)};
    elements_.push_back(std::move(made));
  }

  void gather() {
    std::map<std::int32_t, std::size_t> network_of;
    for (Made& e : elements_) {
      if (e.places.empty()) {
        if (element_kind(e.element.model)->tie != Tie::none) continue;
        begin(e);
        add(e, check_.program.networks.size() - 1);
        continue;
      }
      const auto [known, fresh] =
          network_of.try_emplace(joined_.network_of(e.places.front()), check_.program.networks.size());
      if (fresh) begin(e);
      add(e, known->second);
    }
    probes(network_of);
    for (Network& n : check_.program.networks) n.list_quantities();
  }

  void begin(const Made& first) {
    Network n;
    n.kind = first.places.empty() ? element_kind(first.element.model)->network : place(first.places.front()).kind;
    n.nodes = {"ground"};
    n.span = first.element.span;
    n.group = group_of(first);
    check_.program.networks.push_back(std::move(n));
    nodes_.push_back({{joined_.node_of(0), 0}});
    first_of_.push_back(&first);
  }

  std::int32_t group_of(const Made& e) const {
    const auto& quantities = e.element.outputs.empty() ? e.element.parameters : e.element.outputs;
    return quantities.empty() ? 0 : check_.program.variable(quantities.front().id).group;
  }

  std::int32_t node_of(std::int32_t place_id, std::size_t network) {
    const std::int32_t set = joined_.node_of(place_id);
    Network& n = check_.program.networks[network];
    const auto [known, fresh] = nodes_[network].try_emplace(set, static_cast<std::int32_t>(n.nodes.size()));
    if (fresh) n.nodes.push_back(place(set).path);
    return known->second;
  }

  void add(Made& e, std::size_t network) {
    Network& n = check_.program.networks[network];
    const Group &mine = at(check_.program.groups, group_of(e)), &others = at(check_.program.groups, n.group);
    if (group_of(e) != n.group) {
      const Made& first = *first_of_[network];
      const auto of = [](const Made& m) { return m.element.path; };
      if (mine.step != others.step) {
        check_.error(Code::bad_period, e.element.span,
                     fmt::format("`{}` is stepped every {}, `{}` every {}, and they are one network", of(first),
                                 format_span(others.step), of(e), format_span(mine.step)),
                     "one step for both, or a `Cut` between them");
      } else if (mine.core != others.core) {
        check_.error(Code::bad_period, e.element.span,
                     fmt::format("`{}` is stepped on core {}, `{}` on core {}, and they are one network", of(first),
                                 others.core, of(e), mine.core),
                     "one core for both, or a `Cut` between them");
      }
    }
    for (const std::int32_t p : e.places) e.element.nodes.push_back(node_of(p, network));
    for (std::size_t t = 0; t < e.places.size(); ++t)
      end_of_[e.places[t]] = {static_cast<std::int32_t>(n.elements.size()), static_cast<std::int32_t>(t)};
    n.elements.push_back(e.element);
  }

  /// What is to be read at nodes and terminals. Where no element lies nobody would give it: it would be 0 for ever.
  void probes(const std::map<std::int32_t, std::size_t>& network_of) {
    for (std::size_t i = 0; i < check_.places.size(); ++i) {
      const Place& p = check_.places[i];
      if (p.voltage == kNone) continue;
      const auto network = network_of.find(joined_.network_of(static_cast<std::int32_t>(i)));
      if (network == network_of.end()) {
        check_.error(Code::does_nothing, p.span, fmt::format("no element lies at `{}`", p.path),
                     "take it away, or let a part lie there");
        continue;
      }
      Network& n = check_.program.networks[network->second];
      Network::Probe v;
      v.node = node_of(static_cast<std::int32_t>(i), network->second);
      v.id = p.voltage;
      n.probes.push_back(v);
      if (p.current == kNone) continue;
      Network::Probe current;
      current.id = p.current;
      for (const std::int32_t end : ends_inside(check_, static_cast<std::int32_t>(i)))
        current.ends.push_back(end_of_.at(end));
      n.probes.push_back(current);
    }
  }

  // ---- can it be solved? ------------------------------------------------------------------------------------

  static Tie tie_of(const Network::Element& e) { return element_kind(e.model)->tie; }

  /// Calls with the two nodes of each way through an element.
  template <typename Visit>
  static void ways(const Network::Element& e, Visit visit) {
    const std::size_t half = e.nodes.size() / 2;
    for (std::size_t k = 0; k < half; ++k) visit(e.nodes[k], e.nodes[half + k]);
  }

  void examine(std::size_t network) {
    const Network& n = check_.program.networks[network];
    for (const Network::Element& e : n.elements) ends_at_one_node(n, e);
    floating(n);
    voltages(n);
    currents(n);
  }

  void ends_at_one_node(const Network& n, const Network::Element& e) {
    ways(e, [&](std::int32_t a, std::int32_t b) {
      if (a != b) return;
      check_.error(Code::does_nothing, e.span,
                   fmt::format("both ends of `{}` lie at `{}`", e.path, n.nodes[static_cast<std::size_t>(a)]));
    });
  }

  void floating(const Network& n) {
    Sets tied(n.nodes.size());
    for (const Network::Element& e : n.elements) {
      if (tie_of(e) == Tie::current) continue;
      ways(e, [&](std::int32_t a, std::int32_t b) { tied.join(a, b); });
    }
    std::map<std::int32_t, std::vector<std::string>> loose;
    for (std::size_t i = 1; i < n.nodes.size(); ++i) {
      const std::int32_t set = tied.of(static_cast<std::int32_t>(i));
      if (set != tied.of(0)) loose[set].push_back(n.nodes[i]);
    }
    for (const auto& [set, names] : loose) {
      constexpr std::size_t kMost = 6;
      std::vector<std::string> shown(names.begin(),
                                     names.begin() + static_cast<std::ptrdiff_t>(std::min(kMost, names.size())));
      if (names.size() > kMost) shown.push_back(fmt::format("{} more", names.size() - kMost));
      check_.error(Code::floating, at_node(n, set),
                   fmt::format("nothing ties {} to `ground`: the way there leads over no winding to another and "
                               "through no current source",
                               listed(shown)),
                   "let one of them lie at `ground`");
    }
  }

  /// The element of which a node is the first in the text.
  static Span at_node(const Network& n, std::int32_t node) {
    for (const Network::Element& e : n.elements) {
      if (std::find(e.nodes.begin(), e.nodes.end(), node) != e.nodes.end()) return e.span;
    }
    return n.span;
  }

  void voltages(const Network& n) {
    Sets forced(n.nodes.size());
    std::vector<const Network::Element*> before;
    for (const Network::Element& e : n.elements) {
      if (tie_of(e) != Tie::voltage) continue;
      if (!forced.join(e.nodes[0], e.nodes[1])) {
        std::string others;
        for (const Network::Element* other : before) {
          if (forced.of(other->nodes[0]) == forced.of(e.nodes[0])) list_on(others, fmt::format("`{}`", other->path));
        }
        check_.error(Code::source_loop, e.span,
                     fmt::format("{} and `{}` close a loop of voltage sources without resistance", others, e.path),
                     "put a resistance between them, such as that of the cable");
      }
      before.push_back(&e);
    }
  }

  /// Where only inductors and current sources lead out of a part of the network, the sources force the inductors.
  void currents(const Network& n) {
    Sets held(n.nodes.size());
    for (const Network::Element& e : n.elements) {
      const Tie tie = tie_of(e);
      if (tie == Tie::current || tie == Tie::inductive) continue;
      ways(e, [&](std::int32_t a, std::int32_t b) { held.join(a, b); });
    }
    for (const Network::Element& source : n.elements) {
      if (tie_of(source) != Tie::current) continue;
      for (const std::int32_t end : {source.nodes[0], source.nodes[1]}) {
        const std::int32_t set = held.of(end);
        if (set == held.of(0) || held.of(source.nodes[0]) == held.of(source.nodes[1])) continue;
        for (const Network::Element& e : n.elements) {
          if (tie_of(e) != Tie::inductive) continue;
          const bool leads_out = (held.of(e.nodes[0]) == set) != (held.of(e.nodes[1]) == set);
          if (!leads_out) continue;
          check_.error(Code::source_loop, source.span,
                       fmt::format("`{}` forces its current through `{}`", source.path, e.path),
                       "an inductor decides about its current itself: put a resistor or a capacitor beside the source");
          return;
        }
      }
    }
  }

  Check& check_;
  Joined joined_;
  std::vector<Made> elements_;
  std::vector<std::map<std::int32_t, std::int32_t>> nodes_;  ///< per network: joined places → node
  std::vector<const Made*> first_of_;
  std::unordered_map<std::int32_t, Network::Probe::End> end_of_;
};

}  // namespace

bool has_terminals(const lang::Members& m) {
  return std::any_of(m.places.begin(), m.places.end(), [](const lang::PlaceDecl& p) { return p.terminal; }) ||
         std::any_of(m.variants.begin(), m.variants.end(), [](const lang::VariantDecl& v) {
           return has_terminals(*v.yes) || (v.no != nullptr && has_terminals(*v.no));
         });
}

void step_places(Check& check) {
  if (check.elements.empty()) return;
  Joined joined(check);
  std::map<std::int32_t, std::int32_t> group_of;
  for (const Instance* e : check.elements) {
    const std::vector<std::int32_t> places = places_of(*e);
    if (!places.empty()) group_of.try_emplace(joined.network_of(places.front()), e->group);
  }
  for (std::size_t i = 0; i < check.places.size(); ++i) {
    const Place& p = check.places[i];
    const auto group = group_of.find(joined.network_of(static_cast<std::int32_t>(i)));
    if (group == group_of.end()) continue;
    for (const VarId id : {p.voltage, p.current}) {
      if (id != kNone) check.program.variables[static_cast<std::size_t>(id)].group = group->second;
    }
  }
}

void define_networks(Check& check) {
  if (check.places.size() > 1 || !check.elements.empty()) NetworkMaking(check).run();
}

}  // namespace isodyne::check
