#include "isodyne/observe/events.h"

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/core/units.h"
#include "isodyne/program/answer.h"

namespace isodyne::observe {

const char* event_word(EventKind kind) {
  switch (kind) {
#define EVENT(id, word) \
  case EventKind::id:   \
    return word;
#include "isodyne/observe/events.def"
#undef EVENT
  }
  return "?";
}

const char* ending_word(Ending ending) {
  switch (ending) {
    case Ending::completed:
      return "completed";
    case Ending::cut_short:
      return "cut short";
    case Ending::interrupted:
      return "interrupted";
    case Ending::wait_timed_out:
      return "wait timed out";
    case Ending::controller_failed:
      return "controller failed";
    case Ending::diverged:
      return "diverged";
    case Ending::not_recorded:
      return "not recorded";
    case Ending::broken_off:
      return "broken off";
    case Ending::cut_off:
      return "cut off";
  }
  return "?";
}

std::optional<Ending> ending_named(std::string_view word) {
  for (int i = 0; i <= static_cast<int>(Ending::cut_off); ++i) {
    if (word == ending_word(static_cast<Ending>(i))) return static_cast<Ending>(i);
  }
  return std::nullopt;
}

namespace {

/// "scenarios.dyne:12": where the bench lies is no part of what happened.
std::string short_place(const program::Program& p, Span span) {
  const std::string& file = p.sources->name(span.source);
  return fmt::format("{}:{}", file.substr(file.rfind('/') + 1), p.sources->position(span).line);
}

/// What it was set to, or what is written; and where it is written.
std::string action_text(const program::Program& p, const Event& e) {
  const program::ScenarioStep& step = at(at(p.scenarios, e.detail).steps, e.subject);
  using Kind = program::ScenarioStep::Kind;
  const auto said = [&] {
    switch (step.kind) {
      case Kind::set:
      case Kind::step:
        return fmt::format("set to {}", p.format(step.target, e.value));
      case Kind::ramp:
        return fmt::format("ramp to {} over {}", p.format(step.target, e.value), format_span(step.duration));
      case Kind::play:
        return fmt::format("{}; the scenario goes on in {}", step.text, format_span(step.duration));
      case Kind::release:
        return std::string("released");
      case Kind::inject:
        return std::string("injected by the scenario");
      case Kind::clear:
        return std::string("cleared by the scenario");
      case Kind::arm:
        return std::string("armed by the scenario");
      case Kind::disarm:
        return std::string("disarmed by the scenario");
      case Kind::stop:
        return step.text + (e.value != 0 ? "" : ", which was over");
      case Kind::either:
        return fmt::format("either: alternative {} of {}", static_cast<int>(e.value) + 1, step.places.size());
      case Kind::repeat:
        return step.whole ? std::string("repeat") : fmt::format("repeat {} times", e.value);
      default:
        return step.text;
    }
  }();
  return fmt::format("{} ({})", said, short_place(p, step.span));
}

constexpr int kGiverAt = 8;  // in the detail of a command's event, above its kind

std::string command_subject(const program::Program& p, const Event& e) {
  if (e.subject == program::kNone) return "run";
  return about_fault(*command_kind(e)) ? at(p.faults, e.subject).name : p.variable(e.subject).name;
}

constexpr std::string_view kOver = " over ", kBy = " by ", kPlay = "play ";

/// "ramp to 3 m over 2 s by a client"
std::string command_text(const program::Program& p, const Event& e) {
  const CommandKind kind = *command_kind(e);
  std::string text = command_word(kind);
  if (kind == CommandKind::ramp) text += " to " + p.format(e.subject, e.value);
  if (kind == CommandKind::play) text += " " + at(p.tables, e.table).name;
  if (kind == CommandKind::ramp || kind == CommandKind::play) text += std::string(kOver) + format_span(e.over);
  if (e.note != nullptr) text += fmt::format(" \"{}\"", e.note);
  if (kind == CommandKind::wait && e.over > Time{}) text += " within " + format_span(e.over);
  return fmt::format("{} by {}", text, giver_word(static_cast<Giver>(e.detail >> kGiverAt)));
}

}  // namespace

std::optional<CommandKind> command_kind(const Event& e) {
  if (e.kind != EventKind::command) return std::nullopt;
  return static_cast<CommandKind>(e.detail & ((1 << kGiverAt) - 1));
}

Event event_of(const Command& c, Time at) {
  Event e;
  e.at = at;
  e.kind = EventKind::command;
  e.subject = about_fault(c.kind) ? c.index : c.target;
  e.detail = static_cast<std::int32_t>(c.kind) | static_cast<std::int32_t>(c.who) << kGiverAt;
  e.value = c.value;
  e.note = c.text;
  e.over = c.over;
  e.table = c.kind == CommandKind::play ? c.index : program::kNone;
  return e;
}

std::optional<Command> command_of(const program::Program& p, Time when, const std::string& subject,
                                  const std::string& text, double value) {
  Command c;
  c.when = when;
  c.value = value;
  const std::size_t by = text.rfind(kBy), over = text.rfind(kOver, by);
  for (const CommandKind kind : {CommandKind::ramp, CommandKind::play, CommandKind::release, CommandKind::inject,
                                 CommandKind::clear, CommandKind::arm, CommandKind::disarm}) {
    const std::string word = command_word(kind);
    if (by == std::string::npos || !text.starts_with(word) || text.find(' ') != word.size()) continue;
    c.kind = kind;
    if (about_fault(kind)) {
      for (std::size_t f = 0; f < p.faults.size(); ++f) {
        if (p.faults[f].name == subject) c.index = static_cast<std::int32_t>(f);
      }
      return c.index == program::kNone ? std::nullopt : std::optional(c);
    }
    c.target = p.find(subject);
    if (c.target == program::kNone) return std::nullopt;
    if (kind == CommandKind::release) return c;
    if (over == std::string::npos) return std::nullopt;
    const auto span = read_span(text.substr(over + kOver.size(), by - over - kOver.size()));
    if (!span) return std::nullopt;
    c.over = *span;
    if (kind == CommandKind::ramp) return c;
    const std::string table = text.substr(kPlay.size(), over - kPlay.size());
    for (std::size_t i = 0; i < p.tables.size(); ++i) {
      if (p.tables[i].name == table) c.index = static_cast<std::int32_t>(i);
    }
    return c.index == program::kNone ? std::nullopt : std::optional(c);
  }
  return std::nullopt;
}

std::string subject_text(const program::Program& p, const Event& e) {
  switch (e.kind) {
    case EventKind::expected:
    case EventKind::action: {
      const program::ScenarioStep& step = at(at(p.scenarios, e.detail).steps, e.subject);
      return step.target == program::kNone ? at(p.scenarios, e.detail).name : p.variable(step.target).name;
    }
    case EventKind::change:
    case EventKind::lost:
      return p.variable(e.subject).name;
    case EventKind::command:
      return command_subject(p, e);
    case EventKind::fault_on:
    case EventKind::fault_off:
      return at(p.faults, e.subject).name;
    case EventKind::mode:
      return p.variable(at(p.machines, e.subject).mode).name;
    case EventKind::saturated:
      return p.variable(program::value_of_channel(p, e.subject)).name;
    case EventKind::controller:
      return at(p.controllers, e.subject).name;
    case EventKind::overrun:
      return "steps";
    case EventKind::broken:
    case EventKind::verdict:
      return at(p.requirements, e.subject).name;
    case EventKind::ended:
      return "run";
  }
  return {};
}

std::string event_text(const program::Program& p, const Event& e) {
  switch (e.kind) {
    case EventKind::action:
      return action_text(p, e);
    case EventKind::change:
      return fmt::format("set to {} by {}", p.format(e.subject, e.value), giver_word(static_cast<Giver>(e.detail)));
    case EventKind::command:
      return command_text(p, e);
    case EventKind::expected:
      return fmt::format("{}: {}", e.value != 0 ? "came true" : "did not come true", action_text(p, e));
    case EventKind::fault_on:
      return "becomes active";
    case EventKind::fault_off:
      return "is over";
    case EventKind::mode: {
      const program::StateMachine& machine = at(p.machines, e.subject);
      const program::Transition& t = at(machine.transitions, e.detail);
      return fmt::format("{} -> {}", p.format(machine.mode, t.from), p.format(machine.mode, t.to));
    }
    case EventKind::saturated:
      return fmt::format("leaves its range at {}", p.format(program::value_of_channel(p, e.subject), e.value));
    case EventKind::lost:
      return fmt::format("falls from {} to nothing at once", p.format(e.subject, e.value));
    case EventKind::controller:
      return e.detail == kControllerReady ? "ready" : e.detail == kControllerFailed ? "failed" : "started again";
    case EventKind::overrun:
      return fmt::format("{} late from here on, the worst by {}", counted(static_cast<std::size_t>(e.subject), "step"),
                         format_span(Time(static_cast<std::int64_t>(e.value))));
    case EventKind::broken:
      return at(p.requirements, e.subject).formula;
    case EventKind::verdict:
      return program::answer_word(static_cast<program::Answer>(e.detail));
    case EventKind::ended:
      return ending_word(static_cast<Ending>(e.subject));
  }
  return {};
}

}  // namespace isodyne::observe
