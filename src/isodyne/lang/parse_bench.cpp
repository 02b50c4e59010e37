// Rules of a bench: step, sensors, actuators, controllers.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/lang/parser_rules.h"

namespace isodyne::lang {

// bench = "bench" name "{" { member | bench_member | use | condition | fault | scenario | … } "}"
void Parser::bench(const std::string& doc) {
  t_.take();
  BenchDecl b;
  b.doc = doc;
  b.name = t_.expect_name("the name of the bench");
  block("and what the bench is made of", [&] {
    const std::string member_doc = docs();
    if (bench_member(b, member_doc)) return;
    // An equation may begin with any of these words, because they are free as names.
    if (!equation_follows() && t_.at("use")) return use();
    if (!equation_follows() && judged_declaration(member_doc)) return;
    if (!member(b, member_doc)) t_.fail("a declaration or a connection", unknown_statement(kMembers));
  });
  document_.benches.push_back(std::move(b));
}

bool Parser::bench_member(BenchDecl& b, const std::string& doc) {
  if (equation_follows()) return false;
  if (t_.at("step")) return step(b), true;
  if (t_.at("record")) return record(b), true;
  if (t_.at("sensor")) return sensor(b, doc), true;
  if (t_.at("actuator")) return actuator(b, doc), true;
  if (t_.at("frame")) return frame(b, doc), true;
  if (t_.at("rack")) return rack(b, doc), true;
  if (t_.at("controller")) return controller(b, doc), true;
  if (t_.at("messages")) return messages(b, doc), true;
  if (t_.at("rated")) return rated(b, doc, true), true;
  return false;
}

// step = "step" sum [ "method" name ]
void Parser::step(BenchDecl& b) {
  const Span span = t_.take().span;
  if (b.step) t_.diagnostics().error(Code::duplicate, span, "the step of this bench is given twice");
  b.step = x_.sum();
  if (t_.accept("method")) b.method = t_.expect_name("the name of an integration method, such as `rk4`");
  t_.expect_statement_end();
}

// record = "record" [ pattern { "," pattern } ]
//          ( "never" | "every" "edge" [ "compressed" ] | "every" sum [ "as" "float32" ] [ "compressed" ] [ kept ] )
void Parser::record(BenchDecl& b) {
  RecordDecl r;
  r.span = t_.take().span;
  if (!t_.at("every") && !t_.at("never")) {
    do r.what.push_back(pattern());
    while (t_.accept(","));
  }
  if (!t_.accept("never")) {
    t_.expect("every", "and the period of the recording, `edge`, or `never`");
    r.edges = t_.accept("edge");
    if (!r.edges) r.every = x_.sum();
    if (!r.edges && t_.accept("as")) {
      t_.expect("float32", "which is the other form a value can have");
      r.single = true;
    }
    r.compressed = t_.accept("compressed");
    const Span when = t_.peek().span;
    if (!r.edges && t_.accept("when")) {
      kept_around(r);
      r.around = join(when, t_.last_span());
    }
  }
  r.span = join(r.span, t_.last_span());
  t_.expect_statement_end();
  b.records.push_back(std::move(r));
}

// kept = "when" ( "broken" { label } | expression [ "rises" ] ) [ "with" sum "before" [ "and" sum "after" ] ]
void Parser::kept_around(RecordDecl& r) {
  if (t_.accept("broken")) {
    r.broken = true;
    while (!t_.at("with") && !t_.at(TokenKind::newline) && !t_.at("}") && !t_.at_end()) {
      r.requirements.push_back(label());
      if (!t_.accept(",")) break;
    }
  } else {
    r.when = x_.expression();
    r.rises = t_.accept("rises");
  }
  if (!t_.accept("with")) return;
  ExprPtr first = x_.sum();
  if (t_.accept("before")) {
    r.before = std::move(first);
    if (!t_.accept("and")) return;
    first = x_.sum();
  }
  t_.expect("after", "as in `with 20 ms before and 100 ms after`");
  r.after = std::move(first);
}

/// Names and stars up to the next blank or comma, or a text in quotes.
Name Parser::pattern() {
  const Span begin = t_.peek().span;
  if (t_.at(TokenKind::text)) {
    const std::string text = t_.expect_text("a name");
    return {text, begin};
  }
  if (!t_.at(TokenKind::name) && !t_.at("*")) t_.fail("a name, a pattern such as `motor.*`, or `every`");
  Span span = t_.take().span;
  while (!t_.at(",") && !t_.at_end() && !t_.at(TokenKind::newline) && t_.peek().span.begin == span.end)
    span = join(span, t_.take().span);
  return {std::string(sources_.covered(span)), span};
}

// interval = sum ".." sum
Interval Parser::interval() {
  Interval i;
  i.low = x_.sum();
  t_.expect("..", "between the two ends");
  i.high = x_.sum();
  return i;
}

// per = sum "per" type [ "from" sum ], the sum already read
PerUnit Parser::per_unit(ExprPtr factor) {
  PerUnit p;
  p.factor = std::move(factor);
  t_.expect("per", "and the unit that so many counts stand for");
  p.unit = x_.type();
  if (t_.accept("from")) p.from = x_.sum();
  return p;
}

// word = "word" number "bit" [ "signed" ] [ "wraps" ]
WordDecl Parser::word() {
  WordDecl w;
  w.bits = x_.sum();
  while (true) {
    if (t_.accept("signed")) {
      w.is_signed = true;
    } else if (t_.accept("wraps")) {
      w.wraps = true;
    } else {
      return w;
    }
  }
}

// scale = interval | per
void Parser::scale(ChannelDecl& c) {
  ExprPtr first = x_.sum();
  if (t_.at("per")) {
    c.per = per_unit(std::move(first));
    return;
  }
  Interval i;
  i.low = std::move(first);
  t_.expect("..", "between the two ends, or `per` and a unit");
  i.high = x_.sum();
  c.counts = std::move(i);
}

// electrical = interval | name
void Parser::electrical(ChannelDecl& c) {
  const bool curve = t_.at(TokenKind::name) && !t_.peek(1).is("..") && !t_.peek(1).is("(") && !t_.peek(1).is(".");
  if (curve)
    c.curve = t_.expect_name("the electrical form at both ends, or a function or table");
  else
    c.electrical = interval();
}

// channel_clause = "range" interval | "as" electrical | "limits" interval | "counts" scale | "word" word
bool Parser::channel_clause(ChannelDecl& c) {
  if (t_.accept("range")) {
    c.range = interval();
  } else if (t_.accept("as")) {
    electrical(c);
  } else if (t_.accept("limits")) {
    c.limits = interval();
  } else if (t_.accept("counts")) {
    scale(c);
  } else if (t_.accept("word")) {
    c.word = word();
  } else {
    return false;
  }
  return true;
}

// sensor = "sensor" name "{" "of" expression { channel_clause | "pulses" per } ( "every" sum [ "offset" sum ] | "at"
// path )
//          [ "filter" sum ] [ "noise" sum ] "}"
void Parser::sensor(BenchDecl& b, const std::string& doc) {
  t_.take();
  SensorDecl s;
  s.doc = doc;
  s.name = t_.expect_name("the name of the sensor");
  block("and the channel of the sensor", [&] {
    if (t_.accept("of")) {
      s.of = x_.expression();
    } else if (t_.accept("pulses")) {
      s.pulses = per_unit(x_.sum());
    } else if (t_.accept("every")) {
      s.every = x_.sum();
      if (t_.accept("offset")) s.offset = x_.sum();
    } else if (t_.accept("at")) {
      s.at = x_.path("the gate at whose edges it samples");
    } else if (t_.accept("filter")) {
      s.filter = x_.sum();
    } else if (t_.accept("noise")) {
      s.noise = x_.sum();
    } else if (!channel_clause(s)) {
      t_.fail("`of`, `range`, `as`, `limits`, `counts`, `pulses`, `word`, `every`, `at`, `filter` or `noise`");
    }
  });
  b.sensors.push_back(std::move(s));
}

// actuator = "actuator" name ":" type [ "{" { channel_clause | "clock" sum | "latency" sum } [ "start" sum ]
//            [ "lost" ( "hold" | sum ) ] "}" ]
void Parser::actuator(BenchDecl& b, const std::string& doc) {
  t_.take();
  ActuatorDecl a;
  a.doc = doc;
  a.name = t_.expect_name("the name of the actuator");
  t_.expect(":", "and the unit or choice it takes");
  a.type = x_.type();
  if (t_.at("{")) {
    block("and the channel of the actuator", [&] {
      if (t_.accept("start")) {
        a.start = x_.sum();
      } else if (t_.accept("lost")) {
        a.holds_lost = t_.accept("hold");
        if (!a.holds_lost) a.safe = x_.sum();
      } else if (t_.accept("clock")) {
        a.clock = x_.sum();
      } else if (t_.accept("latency")) {
        a.latency = x_.sum();
      } else if (!channel_clause(a)) {
        t_.fail("`range`, `as`, `limits`, `counts`, `word`, `clock`, `latency`, `start` or `lost`");
      }
    });
  } else {
    t_.expect_statement_end();
  }
  b.actuators.push_back(std::move(a));
}

// frame = "frame" name "{" "words" sum "bits" "from" ( "low" | "high" ) "bytes" "from" ( "low" | "high" )
//         { frame_field } "}"
void Parser::frame(BenchDecl& b, const std::string& doc) {
  t_.take();
  FrameDecl f;
  f.doc = doc;
  f.name = t_.expect_name("the name of the frame");
  block("and the bits of the frame", [&] {
    const std::string field_doc = docs();
    if (t_.accept("words")) {
      f.words = x_.sum();
    } else if (t_.accept("bits")) {
      f.bits_from_high = from_high();
    } else if (t_.accept("bytes")) {
      f.bytes_from_high = from_high();
    } else if (!frame_field(f, field_doc)) {
      t_.fail("`words`, `bits`, `bytes`, `field`, `port`, `spare`, `time` or `counter`");
    }
  });
  b.frames.push_back(std::move(f));
}

bool Parser::from_high() {
  t_.expect("from", "and the end that comes first: `low` or `high`");
  if (t_.accept("high")) return true;
  t_.expect("low", "or `high`: the end that comes first");
  return false;
}

// frame_field = "field" name [ ":" type ] place [ "signed" ] [ "=" sum ] | "port" name place | "spare" place
//             | "time" place "in" type | "counter" place
bool Parser::frame_field(FrameDecl& f, const std::string& doc) {
  using Kind = FrameDecl::Field::Kind;
  FrameDecl::Field field;
  field.doc = doc;
  if (t_.accept("field")) {
    field.name = element("a sensor, an actuator, an input of the bench, or a name of its own");
    if (t_.accept(":")) field.type = x_.type();
  } else if (t_.accept("port")) {
    field.kind = Kind::port;
    field.name = t_.expect_name("the name of the port");
  } else if (t_.accept("spare")) {
    field.kind = Kind::spare;
  } else if (t_.at("time") || t_.at("counter")) {
    field.kind = t_.at("time") ? Kind::time : Kind::counter;
    const Token& word = t_.take();
    field.name = {word.text, word.span};
  } else {
    return false;
  }
  field.place = bit_place();
  if (field.kind == Kind::field) field.is_signed = t_.accept("signed");
  if (field.kind == Kind::field && t_.accept("=")) field.constant = x_.sum();
  if (field.kind == Kind::time) {
    t_.expect("in", "and the unit in which time is counted");
    field.unit = x_.type();
  }
  t_.expect_statement_end();
  f.fields.push_back(std::move(field));
  return true;
}

// place = [ "bit" sum "of" | "bits" sum ".." sum "of" ] "word" sum
BitPlace Parser::bit_place() {
  BitPlace place;
  const Span begin = t_.peek().span;
  if (t_.accept("bit")) {
    place.first = x_.sum();
    t_.expect("of", "and the word that the bit is in");
  } else if (t_.accept("bits")) {
    place.first = x_.sum();
    t_.expect("..", "between the first and the last bit");
    place.last = x_.sum();
    t_.expect("of", "and the word that the bits are in");
  }
  t_.expect("word", "with its number, or `bits 0 .. 7 of word` and its number");
  place.word = x_.sum();
  place.span = join(begin, place.word->span);
  return place;
}

namespace {
/// What a statement of a controller begins with.
constexpr const char* kControllerWords[] = {"every", "reads", "writes", "shares", "lost", "tags", "setting"};
}  // namespace

// controller = "controller" name "{" "every" sum "reads" paths "writes" writes [ "lost" ( "stop" | "safe" ) ] { setting
// } "}"
void Parser::controller(BenchDecl& b, const std::string& doc) {
  t_.take();
  ControllerDecl c;
  c.doc = doc;
  c.name = t_.expect_name("the name of the controller");
  if (t_.accept("[")) {
    c.count = x_.sum();
    t_.expect("]", "after the number of controllers");
  }
  block("and what the controller exchanges", [&] {
    if (t_.accept("every")) {
      c.every = x_.sum();
    } else if (t_.accept("reads")) {
      do {
        ControllerDecl::Read r{x_.path("a sensor or input"), std::nullopt};
        if (t_.accept("over")) r.over = t_.expect_name("the `messages` that carry the value");
        c.reads.push_back(std::move(r));
      } while (t_.accept(","));
    } else if (t_.accept("writes")) {
      do {
        ControllerDecl::Write w;
        w.name = t_.expect_name("an actuator, or a name with its unit");
        if (t_.accept("[")) {
          w.index = x_.sum();
          t_.expect("]", "after the number of the element");
        } else if (t_.accept(":")) {
          w.type = x_.type();
        }
        c.writes.push_back(std::move(w));
      } while (t_.accept(","));
    } else if (t_.accept("setting")) {
      setting(c);
    } else if (t_.accept("shares")) {
      do c.shares.push_back(x_.path("a parameter of the plant"));
      while (t_.accept(","));
    } else if (t_.at("tags")) {
      tags(c);
    } else if (t_.accept("lost")) {
      c.lost = t_.expect_name("`stop`, `hold` or `safe`: what the run does when the controller is lost");
    } else {
      t_.fail("`every`, `reads`, `writes`, `shares`, `lost`, `tags` or `setting`");
    }
  });
  b.controllers.push_back(std::move(c));
}

// messages = "messages" name "{" { "latency" sum | "jitter" sum | "loss" sum | "cut" "when" path } "}"
void Parser::messages(BenchDecl& b, const std::string& doc) {
  t_.take();
  MessagesDecl m;
  m.doc = doc;
  m.name = t_.expect_name("a name for what carries the messages");
  block("and how it carries them", [&] {
    if (t_.accept("latency")) {
      m.latency = x_.sum();
    } else if (t_.accept("jitter")) {
      m.jitter = x_.sum();
    } else if (t_.accept("loss")) {
      m.loss = x_.sum();
    } else if (t_.accept("cut")) {
      t_.expect("when", "and a quantity that is true or false");
      m.cut = x_.path("a quantity that is true or false");
    } else {
      t_.fail("`latency`, `jitter`, `loss` or `cut when`");
    }
  });
  b.messages.push_back(std::move(m));
}

// tags = "tags" text { ( "name" | "address" | "type" | "unit" | "comment" ) text }
void Parser::tags(ControllerDecl& c) {
  t_.take();
  c.tags = t_.expect_text("the file with the controller's tag list, such as \"tags.csv\"");
  c.tags_span = t_.last_span();
  while (t_.at(TokenKind::name) && t_.peek(1).kind == TokenKind::text) {
    const Name column = t_.expect_name("a column");
    c.tag_columns.emplace_back(column, t_.expect_text("the title of the column"));
  }
  t_.expect_statement_end();
}

// setting = "setting" name "=" ( "part" name [ "(" arguments ")" ] | "library" text | "program" text | "link" text
//           | "modbus" ( "server" | "client" ) text | "mqtt" text ) { clause }
void Parser::setting(ControllerDecl& c) {
  ControllerDecl::Setting s;
  s.name = t_.expect_name("the name of the setting");
  t_.expect("=", "and where the controller is");
  s.kind = t_.expect_name("`part`, `library`, `program`, `link`, `modbus` or `mqtt`");
  if (s.kind.text == "part") {
    s.logic.name = s.name;
    s.logic.model = t_.expect_name("the name of the model with the controller's logic");
    if (t_.accept("(") && !t_.accept(")")) {
      part_arguments(s.logic);
      t_.expect(")", "after the parameters");
    }
  } else {
    if (s.kind.text == "modbus") s.role = t_.expect_name("`server` or `client`: which of them the bench is");
    s.address = t_.expect_text(s.kind.text == "library"   ? "the file of the library"
                               : s.kind.text == "program" ? "the program's file, and arguments behind it"
                                                          : "an address such as \"127.0.0.1:1502\"");
    s.address_span = t_.last_span();
  }
  const auto goes_on = [&] {  // with the next statement of the controller, in the same line
    return std::any_of(std::begin(kControllerWords), std::end(kControllerWords),
                       [&](const char* w) { return t_.at(w); });
  };
  while (t_.at(TokenKind::name) && !goes_on()) s.clauses.push_back(setting_clause());
  s.span = {s.kind.span.source, s.kind.span.begin, t_.last_span().end};
  if (!goes_on()) t_.expect_statement_end();
  c.settings.push_back(std::move(s));
}

// clause = "map" text | "topic" text | "over" name | "parity" name | "unit" number | "rate" number
//          | "restart" number "times" | "ready" "within" time
ControllerDecl::Setting::Clause Parser::setting_clause() {
  ControllerDecl::Setting::Clause clause;
  clause.word = t_.expect_name("a clause");
  const std::string& word = clause.word.text;
  if (word == "map") {
    clause.text = t_.expect_text("the file that says which channel has which address");
  } else if (word == "topic") {
    clause.text = t_.expect_text("what the names of all topics begin with");
  } else if (word == "over" || word == "parity" || word == "as") {
    clause.choice = t_.expect_name("a choice");
  } else if (word == "unit" || word == "rate") {
    clause.value = x_.sum();
  } else if (word == "restart") {
    clause.value = x_.sum();
    t_.expect("times", "after how many times");
  } else if (word == "ready") {
    t_.expect("within", "and the longest time that the start-up may take");
    clause.value = x_.sum();
  } else {
    t_.fail("`map`, `topic`, `as`, `over`, `unit`, `rate`, `parity`, `restart` or `ready within`");
  }
  return clause;
}

}  // namespace isodyne::lang
