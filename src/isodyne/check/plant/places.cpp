// Terminals and nodes, and what lies at them. What is joined here becomes networks in networks.cpp.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/check/plant/flatten.h"
#include "isodyne/core/text.h"
#include "isodyne/program/elements.h"

namespace isodyne::check {

namespace {
const lang::PlaceDecl* place_declared(const Instance& part, const std::string& name) {
  for (const auto& p : part.members.places) {
    if (p.decl->terminal && p.decl->name.text == name) return p.decl;
  }
  return nullptr;
}

/// Terminals in the order of their declaration; those that may stay open only if they are asked for.
std::vector<const lang::PlaceDecl*> terminals(const Instance& part, bool open_too) {
  std::vector<const lang::PlaceDecl*> all;
  for (const auto& p : part.members.places) {
    if (p.decl->terminal && (open_too || !p.decl->open)) all.push_back(p.decl);
  }
  return all;
}

std::string named(const std::vector<const lang::PlaceDecl*>& terminals) {
  std::string all;
  for (const lang::PlaceDecl* t : terminals) list_on(all, t->name.text);
  return all;
}
}  // namespace

// ---- names ------------------------------------------------------------------------------------------------

void Flattener::declare_place(Instance& instance, const lang::PlaceDecl& d, const Env* env) {
  const std::string& name = d.name.text;
  if (!is_network_kind(d.kind.text)) {
    std::vector<std::string> known;
    for (const ElementKind& kind : element_kinds()) {
      if (is_network_kind(kind.network) && std::find(known.begin(), known.end(), kind.network) == known.end())
        known.emplace_back(kind.network);
    }
    check_.error(Code::unknown_name, d.kind.span, fmt::format("there is no kind of network `{}`", d.kind.text),
                 did_you_mean(d.kind.text, known).value_or("the kinds are: " + listed(known)));
    return;
  }
  if (own(instance, name).first != kNone || instance.parts.contains(name) || instance.arrays.contains(name)) {
    check_.error(Code::duplicate, d.name.span, fmt::format("`{}` is defined twice", name), "rename one of them");
    return;
  }
  Places places{static_cast<std::int32_t>(check_.places.size()), 0};
  if (d.size) {
    const auto size = check_.whole_number(*d.size, &instance, env, "the number of places");
    if (!size) return;
    if (*size < 1 || *size > Check::kMostElements) {
      check_.error(Code::out_of_limits, d.size->span,
                   fmt::format("a vector has 1 to {} places, not {:.0f}", Check::kMostElements, *size));
      return;
    }
    places.size = static_cast<int>(*size);
  }
  if (check_.places.size() + static_cast<std::size_t>(places.count()) > Check::kMostVariables) {
    check_.error(Code::too_large, d.name.span,
                 fmt::format("this bench has more than {} places", Check::kMostVariables));
    check_.overflow = true;
    return;
  }
  instance.places[name] = places;
  const bool readable = !instance.decl->element;  // an element gives its own quantities
  if (places.size > 0 && readable) instance.arrays[name] = places.size;
  for (int k = 0; k < places.count(); ++k) {
    const std::string own_name = places.size == 0 ? name : fmt::format("{}[{}]", name, k + 1);
    Place place;
    place.path = instance.prefix + own_name;
    place.kind = d.kind.text;
    place.owner = &instance;
    place.terminal = d.terminal;
    place.open = d.open;
    place.of_element = instance.decl->element;
    place.span = d.name.span;
    if (readable) {
      auto child = std::make_unique<Instance>();
      child->prefix = place.path + ".";
      child->parent = &instance;
      child->group = instance.group;
      const auto reading = [&](const char* quantity, const char* unit, const std::string& doc) {
        Variable v;
        v.role = Role::network;
        v.unit = *parse_unit(unit);
        v.type = {Type::Kind::real, v.unit.dimension, kNone};
        v.doc = doc;
        return check_.define(*child, {quantity, d.name.span}, std::move(v));
      };
      place.voltage = reading("v", "V", d.doc.empty() ? "voltage against ground" : d.doc);
      if (d.terminal) place.current = reading("i", "A", "current into its part");
      instance.parts[own_name] = std::move(child);
    }
    check_.places.push_back(std::move(place));
  }
}

std::optional<PlacesMeant> Check::places_in(const Instance& at, const lang::PathStep& step, const Instance& from,
                                            const Env* env, const std::string& so_far) {
  const auto found = at.places.find(step.text);
  if (found == at.places.end()) {
    std::vector<std::string> known;
    for (const auto& [name, some] : at.places) {
      if (&at == &from || check::place_declared(at, name) != nullptr) known.push_back(name);
    }
    if (&at == &root) known.emplace_back("ground");
    if (step.text == "ground" && &at == &from && at.decl != nullptr) {
      error(Code::wrong_kind, step.span,
            fmt::format("`ground` is a place of benches: lead a terminal out of `{}`", at.decl->name.text),
            "for example `terminal earth : electric`, which the bench puts `earth = ground`");
      return std::nullopt;
    }
    const bool other = at.variables.contains(step.text) || at.vectors.contains(step.text) ||
                       at.parts.contains(step.text) || at.arrays.contains(step.text);
    const auto meant = did_you_mean(step.text, known);
    error(other ? Code::wrong_kind : Code::unknown_name, step.span,
          other ? fmt::format("`{}{}` is no node and no terminal", so_far, step.text)
                : fmt::format("no node and no terminal here is called `{}{}`", so_far, step.text),
          meant           ? *meant
          : known.empty() ? std::string{}
                          : "there are: " + listed(known));
    return std::nullopt;
  }
  const Places& meant_places = found->second;
  PlacesMeant meant;
  if (!step.index) {
    meant.vector = meant_places.size > 0;
    if (step.all && meant_places.size == 0) {
      error(Code::wrong_kind, step.span, fmt::format("`{}` is one place, and has no elements", step.text));
      return std::nullopt;
    }
    for (int k = 0; k < meant_places.count(); ++k) meant.ids.push_back(meant_places.first + k);
    return meant;
  }
  const auto index = whole_number(*step.index, &from, env, "the number of a place");
  if (!index) return std::nullopt;
  if (meant_places.size == 0) {
    error(Code::wrong_kind, step.span, fmt::format("`{}` is one place, and has no elements", step.text));
    return std::nullopt;
  }
  if (*index < 1 || *index > meant_places.size) {
    error(Code::out_of_limits, step.span,
          fmt::format("`{}[{:.0f}]` is not there: `{}` has {}", step.text, *index, step.text,
                      counted(static_cast<std::size_t>(meant_places.size), "place")),
          fmt::format("count from 1 to {}", meant_places.size));
    return std::nullopt;
  }
  meant.ids.push_back(meant_places.first + static_cast<std::int32_t>(*index) - 1);
  return meant;
}

std::optional<PlacesMeant> Check::resolve_places(const Instance& from, const lang::Path& path, const Env* env) {
  const lang::PathStep& last = path.parts.back();
  if (path.plain() && last.text == "ground" && &from == &root && !root.places.contains("ground"))
    return PlacesMeant{{0}, false};
  std::vector<const Instance*> at{&from};
  bool many = false;
  std::string so_far;
  for (std::size_t i = 0; i + 1 < path.parts.size(); ++i) {
    const lang::PathStep& step = path.parts[i];
    const auto wanted = key(step, from, env);
    if (!wanted) return std::nullopt;
    std::vector<const Instance*> next;
    for (const Instance* instance : at) {
      const auto array = instance->arrays.find(step.text);
      if (step.all && array != instance->arrays.end() && !instance->places.contains(step.text)) {
        many = true;
        for (int e = 1; e <= array->second; ++e)
          next.push_back(instance->parts.at(fmt::format("{}[{}]", step.text, e)).get());
        continue;
      }
      const auto part = step.all ? instance->parts.end() : instance->parts.find(*wanted);
      if (part == instance->parts.end() || part->second->decl == nullptr) {
        report_unknown(Step{path, i, so_far, *wanted}, *instance);
        return std::nullopt;
      }
      next.push_back(part->second.get());
    }
    at = std::move(next);
    so_far += *wanted + ".";
  }
  PlacesMeant all;
  for (const Instance* instance : at) {
    const auto some = places_in(*instance, last, from, env, so_far);
    if (!some) return std::nullopt;
    all.vector = all.vector || some->vector || many;
    all.ids.insert(all.ids.end(), some->ids.begin(), some->ids.end());
  }
  return all;
}

bool Check::knows_place(const lang::Path& path) const {
  const Instance* at = &root;
  for (std::size_t i = 0; i + 1 < path.parts.size(); ++i) {
    const std::string& name = path.parts[i].text;
    const auto part = at->parts.find(at->arrays.contains(name) ? name + "[1]" : name);
    if (part == at->parts.end()) return false;
    at = part->second.get();
  }
  return at->places.contains(path.parts.back().text);
}

// ---- what lies where --------------------------------------------------------------------------------------

void Flattener::lie(Instance& instance, const Placed<lang::PartDecl>& placed) {
  const lang::PartDecl& p = *placed.decl;
  const auto array = instance.arrays.find(p.name.text);
  const int count = array == instance.arrays.end() ? 0 : array->second;
  for (int k = count == 0 ? 0 : 1; k <= count; ++k) {
    const auto part = instance.parts.find(count == 0 ? p.name.text : fmt::format("{}[{}]", p.name.text, k));
    if (part == instance.parts.end() || part->second->part != &p) continue;
    const Env* env = placed.env;
    if (count > 0) env = &check_.environments.emplace_back(Env{placed.env, "index", static_cast<double>(k)});
    lie(instance, p, *part->second, env);
  }
}

void Flattener::lie(Instance& instance, const lang::PartDecl& p, Instance& part, const Env* env) {
  if (p.lies.empty()) return;  // what lies nowhere is told when all is known
  const std::size_t before = check_.diagnostics.errors();
  lie_each(instance, p, part, env);
  part.misplaced = check_.diagnostics.errors() > before;
}

void Flattener::lie_each(Instance& instance, const lang::PartDecl& p, Instance& part, const Env* env) {
  std::set<const lang::PlaceDecl*> given;
  for (std::size_t i = 0; i < p.lies.size(); ++i) {
    const lang::PlaceDecl* terminal = terminal_of(p, part, p.lies[i], i);
    if (terminal == nullptr) return;
    if (!given.insert(terminal).second) {
      check_.error(Code::duplicate, p.lies[i].span, fmt::format("`{}` gets two places", terminal->name.text),
                   "a terminal lies at one place; what lies at the same place is joined");
      return;
    }
    tie(instance, part, *terminal, p.lies[i], env);
  }
}

/// Which terminal a clause is about: the one that it names, or the next of those that have to lie somewhere.
const lang::PlaceDecl* Flattener::terminal_of(const lang::PartDecl& p, const Instance& part,
                                              const lang::PartDecl::Lies& lies, std::size_t which) {
  const std::string& model = part.decl->name.text;
  const auto all = terminals(part, true);
  if (lies.terminal) {
    if (const lang::PlaceDecl* found = place_declared(part, lies.terminal->text)) return found;
    std::vector<std::string> known;
    for (const lang::PlaceDecl* t : all) known.push_back(t->name.text);
    const auto meant = did_you_mean(lies.terminal->text, known);
    check_.error(Code::wrong_arguments, lies.terminal->span,
                 fmt::format("`{}` has no terminal `{}`", model, lies.terminal->text),
                 meant.value_or(known.empty() ? "" : "its terminals are: " + listed(known)));
    return nullptr;
  }
  const auto needed = terminals(part, false);
  const bool at = p.lies.size() == 1;
  if (needed.size() == (at ? 1U : 2U) && p.lies.size() <= 2) return needed[which];
  std::string advice;
  if (needed.size() == 1) {
    advice = "write `at` and one place";
  } else if (needed.size() == 2) {
    advice = fmt::format("write `between` and two places, for {}", named(needed));
  } else if (!all.empty()) {
    std::string clause;
    for (const lang::PlaceDecl* t : needed.empty() ? all : needed) list_on(clause, t->name.text + " = …");
    advice = fmt::format("name them: `between {}`", clause);
  }
  const std::string count = counted(needed.size(), "terminal");
  check_.error(Code::wrong_arguments, p.placed,
               all.empty()      ? fmt::format("`{}` has no terminals, so it lies nowhere", model)
               : needed.empty() ? fmt::format("all terminals of `{}` may stay open: {}", model, named(all))
                                : fmt::format("`{}` has {}, {}", model, count, named(needed)),
               advice);
  return nullptr;
}

std::optional<PlacesMeant> Flattener::places_of(const Instance& instance, const lang::PartDecl::Lies& lies,
                                                const Env* env) {
  PlacesMeant all;
  all.vector = lies.list;
  for (const lang::Path& path : lies.places) {
    const auto some = check_.resolve_places(instance, path, env);
    if (!some) return std::nullopt;
    if (lies.list && some->vector) {
      check_.error(Code::type_mismatch, path.span, fmt::format("`{}` is a vector inside a vector", path.text()),
                   "name its elements one by one");
      return std::nullopt;
    }
    all.vector = all.vector || some->vector;
    all.ids.insert(all.ids.end(), some->ids.begin(), some->ids.end());
  }
  return all;
}

void Flattener::tie(Instance& instance, Instance& part, const lang::PlaceDecl& terminal,
                    const lang::PartDecl::Lies& lies, const Env* env) {
  const auto own_places = part.places.find(terminal.name.text);
  if (own_places == part.places.end()) return;  // its declaration was reported
  const auto meant = places_of(instance, lies, env);
  if (!meant) return;
  const Places& own_side = own_places->second;
  const std::string there = lies.list ? "what stands in brackets" : fmt::format("`{}`", lies.places.front().text());
  const auto one_or_many = [](bool vector, std::size_t count) {
    return vector ? counted(count, "place") : std::string("one place");
  };
  if (meant->vector != (own_side.size > 0) || meant->ids.size() != static_cast<std::size_t>(own_side.count())) {
    const std::string advice =
        meant->vector && own_side.size == 0 && !lies.list
            ? fmt::format("name one, `{}[1]`, or declare `{} : {}[{}]`", lies.places.front().text(), terminal.name.text,
                          terminal.kind.text, meant->ids.size())
            : std::string("vectors are joined element by element, and have the same size");
    check_.error(Code::type_mismatch, lies.span,
                 fmt::format("{} is {}, `{}` of `{}` is {}", there, one_or_many(meant->vector, meant->ids.size()),
                             terminal.name.text, part.decl->name.text,
                             one_or_many(own_side.size > 0, static_cast<std::size_t>(own_side.count()))),
                 advice);
    return;
  }
  for (int k = 0; k < own_side.count(); ++k) {
    const std::int32_t inner = own_side.first + k, outer = meant->ids[static_cast<std::size_t>(k)];
    Place& mine = check_.places[static_cast<std::size_t>(inner)];
    Place& other = check_.places[static_cast<std::size_t>(outer)];
    if (inner == outer) {
      check_.error(Code::does_nothing, lies.span, fmt::format("`{}` lies at itself", mine.path));
      return;
    }
    mine.lies_at = outer;
    (other.owner == &instance || other.owner == nullptr ? other.inside : other.outside).push_back(inner);
  }
}

}  // namespace isodyne::check
