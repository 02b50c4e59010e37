#include "isodyne/check/judged/panels.h"

#include <algorithm>

#include <fmt/format.h>

namespace isodyne::check {

using Thing = program::PanelItem::Kind;

namespace {

Thing kind_of(const std::string& word) {
  for (const Thing kind :
       {Thing::show, Thing::bar, Thing::lamp, Thing::choose, Thing::press, Thing::toggle, Thing::slide, Thing::trace}) {
    if (word == program::panel_word(kind)) return kind;
  }
  return Thing::show;  // the parser knows no other words
}

bool operates(Thing kind) {
  return kind == Thing::choose || kind == Thing::press || kind == Thing::toggle || kind == Thing::slide;
}

}  // namespace

void Panels::define() {
  for (const lang::PanelDecl& p : check_.document.panels) panel(p);
}

void Panels::panel(const lang::PanelDecl& p) {
  for (const lang::PanelDecl& other : check_.document.panels) {
    if (&other == &p) break;
    if (other.name.text != p.name.text) continue;
    check_.error(Code::duplicate, p.name.span, fmt::format("panel `{}` is defined twice", p.name.text))
        .notes.push_back({other.name.span, "the first is here"});
    return;
  }
  program::Panel made;
  made.name = p.name.text;
  made.title = p.title.empty() ? p.name.text : p.title;
  made.doc = p.doc;
  for (const lang::PanelDecl::Item& i : p.items) item(i, made);
  check_.program.panels.push_back(std::move(made));
}

void Panels::item(const lang::PanelDecl::Item& i, program::Panel& panel) {
  Item made;
  made.kind = kind_of(i.word.text);
  made.label = i.label;
  bool good = true;
  for (const lang::Path& path : i.what) {
    for (const VarId id : check_.resolve(check_.root, path).ids) {
      good = fits(i, path, id, made) && good;
      made.ids.push_back(id);
    }
  }
  if (!good || made.ids.empty()) return;
  const bool has_ends = made.kind == Thing::bar || made.kind == Thing::slide;
  if (has_ends && !range(i, made.ids.front(), made)) return;
  if (i.from && !has_ends)
    check_.error(Code::unexpected, i.from->span, fmt::format("`{}` has no ends", i.word.text),
                 "`bar` and `slide` have them");
  if (i.by && made.kind != Thing::slide)
    check_.error(Code::unexpected, i.by->span, fmt::format("`{}` does not move by steps", i.word.text), "`slide` does");
  if (i.over && made.kind != Thing::trace)
    check_.error(Code::unexpected, i.over->span, fmt::format("`{}` is about now", i.word.text),
                 "`trace` shows what was, over a time");
  if (i.by) {
    const auto by = value(*i.by, made.ids.front(), true, "the step of a slider");
    if (by && !(*by > 0)) check_.error(Code::out_of_limits, i.by->span, "the step of a slider is above 0");
    made.step = by.value_or(0);
  }
  if (i.over) made.over = x_.check_span(*i.over, scope(), "the time of a trace").value_or(Time{});
  panel.items.push_back(std::move(made));
}

bool Panels::wrong_type(const lang::Path& path, VarId id, const char* word, const char* has_to_be) {
  check_.error(Code::type_mismatch, path.span,
               fmt::format("`{}` is {}, and what has a `{}` is {}", path.text(),
                           describe(check_.program, check_.program.variable(id).type), word, has_to_be));
  return false;
}

bool Panels::fits(const lang::PanelDecl::Item& i, const lang::Path& path, VarId id, const Item& item) {
  const Variable& v = check_.program.variable(id);
  const char* const word = i.word.text.c_str();
  const bool number = v.type.numeric(), truth = v.type.kind == Type::Kind::boolean;
  if (operates(item.kind) && v.role != Role::input && v.role != Role::param) {
    check_.error(Code::not_settable, path.span,
                 fmt::format("`{}` cannot be set: it is computed by the bench", path.text()),
                 "what is operated is a free input or a parameter; `show` and `lamp` show the rest");
    return false;
  }
  switch (item.kind) {
    case Thing::lamp:
    case Thing::press:
    case Thing::toggle:
      return truth || wrong_type(path, id, word, "true or false");
    case Thing::choose:
      return v.type.kind == Type::Kind::choice || wrong_type(path, id, word, "one of several choices");
    case Thing::bar:
    case Thing::slide:
      return number || wrong_type(path, id, word, "a number");
    case Thing::show:
    case Thing::trace:
      return true;
  }
  return true;
}

std::optional<double> Panels::value(const lang::Expr& e, VarId id, bool difference, const char* what) {
  Type type = check_.program.variable(id).type;
  if (difference) type.absolute = false;
  const NodeId node = x_.check_as(e, scope(), type, what);
  return node == kNone ? std::nullopt : check_.constant(node, e.span, what);
}

/// As it says, or else the limits of what it is about.
bool Panels::range(const lang::PanelDecl::Item& i, VarId id, Item& item) {
  const Variable v = check_.program.variable(id);
  if (!i.from) {
    item.range = v.limits;
    if (item.range) return true;
    check_.error(Code::missing, i.span,
                 fmt::format("`{}` has no limits, so a `{}` of it needs ends", v.name, i.word.text),
                 fmt::format("{} {} from A to B", i.word.text, v.name));
    return false;
  }
  const auto from = value(*i.from, id, false, "the lower end"), to = value(*i.to, id, false, "the upper end");
  if (!from || !to) return false;
  if (!(*from < *to)) {
    check_.error(Code::out_of_limits, i.to->span, "the upper end is not above the lower one");
    return false;
  }
  if (item.kind == Thing::slide && v.limits && (*from < v.limits->first || *to > v.limits->second)) {
    check_.error(Code::out_of_limits, i.from->span,
                 fmt::format("`{}` can be {} to {}, and this slider goes beyond", v.name,
                             check_.program.format(id, v.limits->first), check_.program.format(id, v.limits->second)));
    return false;
  }
  item.range = std::pair{*from, *to};
  return true;
}

}  // namespace isodyne::check
