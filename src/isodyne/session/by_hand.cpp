#include "isodyne/session/by_hand.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/session/stored_state.h"

namespace isodyne::session {

using observe::Command;
using observe::CommandKind;
using record::RecordedEvent;
using record::Recording;

namespace {

/// `mark "a note" by a client`, `wait "level > 3 m" within 2 min by a client`.
std::optional<Deed> deed_about_run(const RecordedEvent& e) {
  Deed d;
  d.command.when = e.at;
  for (const CommandKind kind : {CommandKind::mark, CommandKind::wait}) {
    const std::string begin = fmt::format("{} \"", observe::command_word(kind));
    const std::size_t end = e.text.rfind('"');
    if (!e.text.starts_with(begin) || end < begin.size()) continue;
    d.command.kind = kind;
    d.words = e.text.substr(begin.size(), end - begin.size());
    const std::string rest = e.text.substr(end + 1), within = " within ";
    const std::size_t by = rest.rfind(" by ");
    if (rest.starts_with(within) && by != std::string::npos)
      d.command.over = read_span(rest.substr(within.size(), by - within.size())).value_or(Time{});
    return d;
  }
  return std::nullopt;  // that somebody made it stand changes nothing of what happens
}

}  // namespace

Result<std::vector<Deed>> deeds_of(const Recording& run, const program::Program& program) {
  std::vector<Deed> deeds;
  if (const auto& from = run.identity().piece_from; from && *from > Time{})
    return Failure{fmt::format("it is a piece of a longer recording, from {} on: what was done before is not in it",
                               format_instant(*from)),
                   "", ""};
  for (const RecordedEvent& e : run.events()) {
    std::optional<Command> c;
    if (e.is(observe::EventKind::change)) {
      c.emplace();
      c->when = e.at;
      c->target = program.find(e.subject);
      c->value = e.value;
      if (c->target == program::kNone) c.reset();
    } else if (!e.is(observe::EventKind::command)) {
      continue;
    } else {
      c = observe::command_of(program, e.at, e.subject, e.text, e.value);
      // About the run, and not about a quantity that is called so.
      if (!c && e.subject == "run") {
        if (auto deed = deed_about_run(e)) deeds.push_back(std::move(*deed));
        continue;
      }
    }
    if (!c)
      return Failure{fmt::format("at {} there was a command that cannot be given again: {} {}", format_instant(e.at),
                                 e.subject, e.text),
                     "", ""};
    deeds.push_back({*c, ""});
  }
  return deeds;
}

/// The last event may be behind the last row.
Time end_of(const Recording& run) {
  std::int64_t last = run.times().empty() ? 0 : run.times().back();
  for (const std::string& name : run.names()) {
    const record::Instants& times = run.times_of(name);
    if (!times.empty()) last = std::max(last, times.back());
  }
  for (const RecordedEvent& e : run.events()) last = std::max(last, e.at.count());
  return Time{last};
}

namespace {

/// "1.5 s", "20 ms": as the language reads it.
std::string span_text(Time t) {
  std::string text = format_span(t);
  if (const std::size_t micro = text.find("µ"); micro != std::string::npos)
    text.replace(micro, std::string("µ").size(), "u");
  return text;
}

/// A number with its unit that reads back as the very same double; nothing if there is none.
std::optional<std::string> exact_text(double si, const Unit& unit) {
  const auto back = [&](double number) { return number * unit.factor + unit.offset; };
  const auto text = [&](double number) { return format_exact(number) + (unit.text == "1" ? "" : " " + unit.text); };
  // What people would write comes first.
  const double read = unit.read(si);
  for (int digits = 6; digits <= 17; ++digits) {
    const double number = std::strtod(fmt::format("{:.{}g}", read, digits).c_str(), nullptr);
    if (back(number) == si) return text(number);
  }
  double below = read, above = read;
  for (int i = 0; i < 8; ++i) {
    below = std::nextafter(below, -HUGE_VAL), above = std::nextafter(above, HUGE_VAL);
    for (const double number : {below, above}) {
      if (back(number) == si) return text(number);
    }
  }
  return std::nullopt;
}

}  // namespace

std::string exact_value(const program::Program& p, program::VarId id, double si) {
  const program::Variable& v = p.variable(id);
  if (v.type.kind != program::Type::Kind::real) return p.format(id, si);
  // A model may have names of its own for units, which nobody knows outside of it.
  const auto known = parse_unit(v.unit.text);
  const bool usual = known && known->factor == v.unit.factor && known->offset == v.unit.offset;
  if (const auto text = usual ? exact_text(si, v.unit) : std::nullopt) return *text;
  Unit coherent = si_unit(v.unit.dimension);
  coherent.text = si_text(v.unit.dimension);
  return exact_text(si, coherent).value_or(format_exact(si) + " " + coherent.text);
}

namespace {

/// What was done by hand becomes lines of a scenario.
///
/// Most of it stands on one track, one thing after the other, with pauses between. What is still moving when the next
/// thing is done has a track of its own, which is stopped where it was. Where the operator waited, the
/// rest is a stretch of its own, whose times are counted from there.
class Writer {
 public:
  Writer(const program::Program& program, const std::vector<Deed>& deeds, Time end)
      : p_(program), deeds_(deeds), end_(end) {
    find_moves();
  }

  /// `ends`: the run was over at its end, whatever else goes on. `faults_apart`: what was said to faults comes behind
  /// what the plan says to them at the same instant, as it did.
  std::vector<std::string> lines(const std::string& planned, bool ends, bool faults_apart) {
    planned_ = planned;
    ends_ = ends;
    faults_apart_ = faults_apart;
    return stretch(0, Time{});
  }

 private:
  struct Move {
    std::size_t deed = 0;
    Time begin{}, finish{};   ///< finish: the instant at which it has arrived
    std::optional<Time> cut;  ///< it was stopped then
  };

  bool moves(const Deed& d) const { return d.command.kind == CommandKind::ramp || d.command.kind == CommandKind::play; }
  Time instant_after(Time t) const {
    const std::int64_t step = p_.step.count();
    return Time{(t.count() + step - 1) / step * step};
  }

  void find_moves() {
    std::map<program::VarId, std::size_t> moving;
    for (std::size_t i = 0; i < deeds_.size(); ++i) {
      const Command& c = deeds_[i].command;
      if (c.target == program::kNone) continue;
      const auto found = moving.find(c.target);
      if (found != moving.end() && c.when <= moves_[found->second].finish) moves_[found->second].cut = c.when;
      moving.erase(c.target);
      if (!moves(deeds_[i])) continue;
      moving[c.target] = moves_.size();
      moves_.push_back({i, c.when, instant_after(c.when + c.over), std::nullopt});
    }
  }
  const Move* move_of(std::size_t deed) const {
    const auto found = std::find_if(moves_.begin(), moves_.end(), [&](const Move& m) { return m.deed == deed; });
    return found == moves_.end() ? nullptr : &*found;
  }
  /// What this stops, and was moving before this instant.
  const Move* stopped_by(const Command& c) const {
    const auto found = std::find_if(moves_.begin(), moves_.end(), [&](const Move& m) {
      return m.cut == c.when && m.begin < c.when && deeds_[m.deed].command.target == c.target;
    });
    return found == moves_.end() ? nullptr : &*found;
  }
  std::string track_of(const Move& m) const {
    return fmt::format("{}_{}", observe::command_word(deeds_[m.deed].command.kind), &m - moves_.data() + 1);
  }
  /// It has arrived before anything else is done, so it stands among the rest.
  bool fits(const Move& m) const {
    if (m.cut) return false;
    std::size_t next = m.deed + 1;
    while (next < deeds_.size() && deeds_[next].command.kind == CommandKind::mark) ++next;
    return next < deeds_.size() ? m.finish < deeds_[next].command.when : m.finish <= end_;
  }

  /// The move with a track of its own that begins at the same instant with what this sets.
  const Move* before_move(std::size_t deed) const {
    const Command& c = deeds_[deed].command;
    if (c.kind != CommandKind::set) return nullptr;
    const auto found = std::find_if(moves_.begin(), moves_.end(), [&](const Move& m) {
      return m.deed > deed && m.begin == c.when && m.cut != m.begin && deeds_[m.deed].command.target == c.target;
    });
    return found == moves_.end() || fits(*found) ? nullptr : &*found;
  }

  std::string text_of(const Deed& d) const {
    const Command& c = d.command;
    if (observe::about_fault(c.kind))
      return fmt::format("{} {}", observe::command_word(c.kind), program::at(p_.faults, c.index).name);
    if (c.kind == CommandKind::mark) return fmt::format("# {}: {}", format_instant(c.when), d.words);
    const std::string& name = p_.variable(c.target).name;
    if (c.kind == CommandKind::ramp)
      return fmt::format("ramp {} to {} over {}", name, exact_value(p_, c.target, c.value), span_text(c.over));
    if (c.kind == CommandKind::play)
      return fmt::format("play {} onto {} for {}", program::at(p_.tables, c.index).name, name, span_text(c.over));
    return fmt::format("set {} = {}", name, exact_value(p_, c.target, c.value));
  }

  /// From a deed on, at an instant from which times are counted: to the end, or to where the operator waited.
  std::vector<std::string> stretch(std::size_t first, Time since) {
    std::vector<std::string> by_hand, tracks, to_faults;
    Time now = since, faults_now = since;
    std::size_t i = first;
    const auto hold_until = [&](Time t) {
      if (t > now) by_hand.push_back("hold " + span_text(t - now));
      now = std::max(now, t);
    };
    bool waits = false;
    for (; i < deeds_.size() && !waits; ++i) {
      const Deed& d = deeds_[i];
      const Command& c = d.command;
      if (c.kind == CommandKind::wait) {
        by_hand.push_back(fmt::format("wait until {} within {}", d.words, span_text(patience(c, now))));
        now = c.when;
        waits = true;
        continue;
      }
      if (c.kind == CommandKind::mark) {
        by_hand.push_back(text_of(d));
        continue;
      }
      if (faults_apart_ && observe::about_fault(c.kind)) {
        if (c.when > faults_now) to_faults.push_back("hold " + span_text(c.when - faults_now));
        faults_now = c.when;
        to_faults.push_back(text_of(d));
        continue;
      }
      const auto then = [&](const std::string& line) {
        hold_until(c.when);
        by_hand.push_back(line);
      };
      if (const Move* m = stopped_by(c)) then("stop " + track_of(*m));
      if (c.kind == CommandKind::release) continue;
      if (before_move(i) != nullptr) continue;
      const Move* m = moves(d) ? move_of(i) : nullptr;
      if (m == nullptr) {
        then(text_of(d));
      } else if (fits(*m)) {
        then(text_of(d));
        now = m->finish;
      } else if (m->cut != m->begin) {
        tracks.push_back("track " + track_of(*m));
        tracks.push_back("{");
        if (m->begin > since) tracks.push_back("hold " + span_text(m->begin - since));
        for (std::size_t k = first; k < i; ++k) {
          if (before_move(k) == m) tracks.push_back(text_of(deeds_[k]));
        }
        tracks.push_back(text_of(d));
        tracks.push_back("}");
      }
    }
    const bool last = !waits;
    if (waits) {
      for (std::string& line : stretch(i, now)) by_hand.push_back(std::move(line));
    } else if (ends_ && tracks.empty() && planned_.empty()) {
      hold_until(end_);
    }
    const bool top = first == 0;
    const bool over_with_plan = !ends_ && !moves_.empty() && !faults_apart_;
    const bool must_end = last && (ends_ ? !(tracks.empty() && planned_.empty()) : faults_apart_);
    if (tracks.empty() && !(top && !planned_.empty()) && !must_end) return by_hand;
    std::vector<std::string> all{"together", "{",
                                 fmt::format("track {}", top ? "by_hand" : fmt::format("then_{}", first)), "{"};
    all.insert(all.end(), by_hand.begin(), by_hand.end());
    all.push_back("}");
    all.insert(all.end(), tracks.begin(), tracks.end());
    const auto track = [&](const char* name, const std::vector<std::string>& lines) {
      all.insert(all.end(), {fmt::format("track {}", name), "{"});
      all.insert(all.end(), lines.begin(), lines.end());
      all.push_back("}");
    };
    // What still moves when the plan is over does not make it longer.
    if (top && !planned_.empty() && over_with_plan) track("as_planned", {"do " + planned_, "end"});
    if (top && !planned_.empty() && !over_with_plan) track("as_planned", {"do " + planned_});
    if (!to_faults.empty()) track("to_faults", to_faults);
    if (must_end && end_ > since) track("the_end", {"hold " + span_text(end_ - since), "end"});
    if (must_end && end_ <= since) track("the_end", {"end"});
    all.push_back("}");
    return all;
  }

  /// What the operator allowed, or ten times what it took.
  Time patience(const Command& c, Time since) const {
    return c.over > Time{} ? c.over : std::max(10 * (c.when - since), 10 * p_.step);
  }

  const program::Program& p_;
  const std::vector<Deed>& deeds_;
  Time end_;
  std::vector<Move> moves_;
  std::string planned_;
  bool ends_ = true, faults_apart_ = false;
};

/// Two blanks for each block; "{" and what opens it on one line.
std::string laid_out(const std::string& head, const std::vector<std::string>& lines) {
  std::string text = head + " {\n";
  int depth = 1;
  for (std::size_t i = 0; i < lines.size(); ++i) {
    if (lines[i] == "{") continue;
    if (lines[i] == "}") --depth;
    const bool opens = i + 1 < lines.size() && lines[i + 1] == "{";
    text += std::string(static_cast<std::size_t>(2 * depth), ' ') + lines[i] + (opens ? " {\n" : "\n");
    depth += opens ? 1 : 0;
  }
  return text + "}\n";
}

/// How the run is had again, with the scenario in the place of what it played.
std::string command_line(const record::RunIdentity& identity, const std::string& scenario) {
  record::RunIdentity with = identity;
  with.scenario = scenario;
  with.longest.reset();
  with.live = false;
  std::string line = "isodyne";
  for (const std::string& word : record::command_words(with)) {
    const bool plain = !word.empty() && word.find_first_of(" *\"'$`\\;&|<>()") == std::string::npos;
    line += plain ? " " + word : " '" + word + "'";
  }
  return line;
}

bool by_itself(const Recording& r) {
  return r.ending() == observe::ending_word(observe::Ending::completed) && !r.identity().scenario.empty();
}

/// Whether the scenario and a hand said something to one fault at the same instant.
bool meet_at_faults(const Recording& r, const std::vector<Deed>& deeds, const program::Program& p) {
  return std::any_of(deeds.begin(), deeds.end(), [&](const Deed& d) {
    if (!observe::about_fault(d.command.kind)) return false;
    const std::string& about = program::at(p.faults, d.command.index).name;
    return std::any_of(r.events().begin(), r.events().end(), [&](const RecordedEvent& e) {
      return e.is(observe::EventKind::action) && e.subject == about && e.at == d.command.when;
    });
  });
}

}  // namespace

Result<HandText> scenario_of(const OpenRecording& run, const ScenarioWish& wish) {
  const Recording& r = *run.recording;
  const program::Program& p = *run.loaded.program;
  const record::RunIdentity& identity = r.identity();
  auto all = deeds_of(r, p);
  if (!all) return all.failure();
  std::vector<Deed> deeds = std::move(*all);
  if (!identity.state.empty()) {
    auto state = parse_state(identity.state, wish.of);
    if (!state) return state.failure();
    std::vector<Deed> before;
    for (std::size_t i = 0; i < state->changes.size(); ++i) {
      Command c;
      c.when = state->changes[i].at;
      c.target = p.find(state->changed[i]);
      c.value = state->changes[i].value;
      if (c.target == program::kNone) return Failure{"its bench has no quantity `" + state->changed[i] + "`", "", ""};
      before.push_back({c, ""});
    }
    deeds.insert(deeds.begin(), before.begin(), before.end());
  }
  if (!wish.on_events) std::erase_if(deeds, [](const Deed& d) { return d.command.kind == CommandKind::wait; });
  HandText made;
  const Time end = end_of(r);
  const auto act = std::count_if(deeds.begin(), deeds.end(), [](const Deed& d) {
    return d.command.kind != CommandKind::mark && d.command.kind != CommandKind::wait;
  });
  if (std::any_of(deeds.begin(), deeds.end(), [&](const Deed& d) { return d.command.when > end; }))
    return Failure{fmt::format("{} was over at {}, before all of it was done", wish.of, format_instant(end)), "", ""};
  if (act == 0) return Failure{"nothing was done by hand in " + wish.of, "", ""};
  const std::string head = fmt::format("## What was done by hand in {}.\n# {}\nscenario {}", wish.of,
                                       command_line(identity, wish.name), wish.name);
  const bool meet = meet_at_faults(r, deeds, p);
  const bool waits =
      std::any_of(deeds.begin(), deeds.end(), [](const Deed& d) { return d.command.kind == CommandKind::wait; });
  made.text = laid_out(head, Writer(p, deeds, end).lines(identity.scenario, !by_itself(r), meet && !waits));
  if (meet && waits)
    made.doubts.push_back("the scenario and a hand said something to one fault at once: compare what comes of it");
  const std::string& ending = r.ending();
  const bool usual = ending == observe::ending_word(observe::Ending::completed) ||
                     ending == observe::ending_word(observe::Ending::cut_short) ||
                     ending == observe::ending_word(observe::Ending::interrupted);
  if (!usual && !r.growing())
    made.doubts.push_back(fmt::format("the run ended as `{}`: the scenario goes as far as there is something of it",
                                      ending.empty() ? "cut off" : ending));
  if (identity.pace && !p.controllers.empty())
    made.doubts.push_back(
        "the run kept to the wall clock: the scenario does the same at the same instants, and what a controller "
        "answers "
        "may be another thing");
  return made;
}

Result<HandText> values_of(const OpenRecording& run, const std::string& name, const std::string& of) {
  const program::Program& p = *run.loaded.program;
  const auto deeds = deeds_of(*run.recording, p);
  if (!deeds) return deeds.failure();
  HandText made;
  std::vector<std::string> lines;
  std::vector<program::VarId> changed;
  for (const Deed& d : *deeds) {
    const program::VarId id = d.command.target;
    if (id != program::kNone && std::find(changed.begin(), changed.end(), id) == changed.end()) changed.push_back(id);
  }
  for (const program::VarId id : changed) {
    const std::string& quantity = p.variable(id).name;
    std::optional<double> last;
    bool moved = false;
    for (const Deed& d : *deeds) {
      if (d.command.target != id) continue;
      moved = d.command.kind != CommandKind::load && d.command.kind != CommandKind::set;
      if (!moved) last = d.command.value;
      for (const RecordedEvent& e : run.recording->events())
        moved = moved || (e.is(observe::EventKind::action) && e.subject == quantity && e.at >= d.command.when);
    }
    if (moved) {  // by a ramp, or by the scenario: where it has come to is in the recording
      const auto rows = run.recording->signal(quantity);
      if (!rows || rows->empty()) {
        made.doubts.push_back(fmt::format("`{}` was moved and is not recorded: it is left out", quantity));
        continue;
      }
      last = rows->back();
    }
    lines.push_back(fmt::format("{} = {}", quantity, exact_value(p, id, *last)));
  }
  if (lines.empty()) return Failure{"no value was changed by hand in " + of, "", ""};
  made.text =
      laid_out(fmt::format("## What was changed by hand in {}, as it was at the end.\nvalues {}", of, name), lines);
  return made;
}

}  // namespace isodyne::session
