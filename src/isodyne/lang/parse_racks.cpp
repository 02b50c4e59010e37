// Rules of racks: kinds of modules, slots, and which channel carries what.

#include <cmath>

#include <fmt/format.h>

#include "isodyne/lang/parser_rules.h"

namespace isodyne::lang {

// module = "module" name "{" { ( "inputs" | "outputs" ) sum [ "of" ( "bool" | "gate" ) ]
//          { channel_clause | "clock" sum | "latency" sum } } "}"
void Parser::module(const std::string& doc) {
  t_.take();
  ModuleDecl m;
  m.doc = doc;
  m.name = t_.expect_name("the name of the kind of module");
  block("and the channels of the module", [&] {
    ModuleDecl::Channels c;
    c.span = t_.peek().span;
    c.inputs = t_.accept("inputs");
    if (!c.inputs) t_.expect("outputs", "or `inputs`, and how many channels there are");
    c.count = x_.sum();
    if (t_.accept("of")) {
      c.gates = t_.accept("gate");
      if (!c.gates)
        t_.expect("bool", "for lines that are true or false, or `gate`; channels of quantities need no `of`");
      c.lines = true;
    }
    for (;;) {
      if (c.gates && t_.accept("clock")) {
        c.clock = x_.sum();
      } else if (c.gates && t_.accept("latency")) {
        c.latency = x_.sum();
      } else if (!channel_clause(c)) {
        break;
      }
    }
    c.span = join(c.span, t_.last_span());
    m.channels.push_back(std::move(c));
  });
  document_.modules.push_back(std::move(m));
}

// rack = "rack" name "{" [ "every" sum ] { slot } "}"
void Parser::rack(BenchDecl& b, const std::string& doc) {
  t_.take();
  RackDecl r;
  r.doc = doc;
  r.name = t_.expect_name("the name of the rack");
  block("and the slots of the rack", [&] {
    const std::string slot_doc = docs();
    if (t_.accept("every")) {
      r.every = x_.sum();
      return;
    }
    RackDecl::Slot s = slot();
    s.doc = slot_doc;
    r.slots.push_back(std::move(s));
  });
  b.racks.push_back(std::move(r));
}

// slot = "slot" sum ":" name "{" { rack_channel } "}"
RackDecl::Slot Parser::slot() {
  RackDecl::Slot s;
  s.span = t_.peek().span;
  t_.expect("slot", "and its number, or `every` and the period of what the rack measures itself");
  s.number = x_.sum();
  t_.expect(":", "and the kind of module in the slot");
  s.module = t_.expect_name("a kind of module, such as `CurrentIn8`");
  s.span = join(s.span, s.module.span);
  s.inside = t_.peek().span;
  block("and the channels in use", [&] {
    const std::string doc = docs();
    s.channels.push_back(rack_channel());
    s.channels.back().doc = doc;
  });
  s.inside = join(s.inside, t_.last_span());
  return s;
}

// element = name [ "[" number "]" ]
/// Where nothing has a value yet: the number is written down.
Name Parser::element(const char* what) {
  Name name = t_.expect_name(what);
  if (!t_.accept("[")) return name;
  const ExprPtr number = x_.sum();
  const bool plain = number->kind == ExprKind::number && number->word.empty() && number->value >= 1 &&
                     number->value <= 1e6 && number->value == std::floor(number->value);
  t_.expect("]", "after the number of the element");
  name.span = join(name.span, t_.last_span());
  if (!plain) {
    t_.diagnostics().error(Code::out_of_limits, number->span,
                           "the number of an element is a whole number from 1 on here");
    return name;
  }
  name.text = fmt::format("{}[{:.0f}]", name.text, number->value);
  return name;
}

// rack_channel = "channel" sum ":" element [ "=" expression [ "range" interval ] ] [ "off" ] [ "in" name { "," name } ]
RackDecl::Channel Parser::rack_channel() {
  RackDecl::Channel c;
  c.span = t_.peek().span;
  t_.expect("channel", "and its number");
  c.number = x_.sum();
  t_.expect(":", "and what is on the channel");
  c.name = element("the sensor or actuator on the channel");
  if (t_.accept("=")) {
    c.value = x_.expression();
    if (t_.accept("range")) c.range = interval();
  }
  c.off = t_.accept("off");
  if (t_.accept("in")) {
    do c.groups.push_back(t_.expect_name("the name of a group"));
    while (t_.accept(","));
  }
  c.span = join(c.span, t_.last_span());
  t_.expect_statement_end();
  return c;
}

}  // namespace isodyne::lang
