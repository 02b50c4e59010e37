// What clients command: from what they say to a command of the door, and what came of it.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/remote/open_run.h"
#include "isodyne/remote/values.h"
#include "isodyne/session/worker.h"

namespace isodyne::remote {

using observe::Command;
using observe::CommandKind;

namespace {

constexpr std::size_t kMostNote = 10'000, kMostLoaded = 10'000;
/// Outcomes of the run's inbox, of which there is room for a few more.
constexpr std::int64_t kMostGiven = 1000;

const char* refusal_word(observe::Refusal refusal) {
  switch (refusal) {
#define WORD(which)             \
  case observe::Refusal::which: \
    return #which;
    WORD(none)
    WORD(not_settable)
    WORD(outside_limits)
    WORD(not_a_number)
    WORD(not_of_type)
    WORD(not_chosen)
    WORD(not_by_hand)
    WORD(no_trigger)
    WORD(acting)
    WORD(unknown)
    WORD(only_lockstep)
    WORD(not_moving)
    WORD(too_many)
    WORD(no_steps)
    WORD(not_storable)
    WORD(run_over)
    WORD(failed)
#undef WORD
  }
  return "unknown";
}

}  // namespace

std::string OpenRun::find_target(const Json& params, Command& command) const {
  const std::string name = text_in(params, "name");
  command.target = name.empty() ? program::kNone : program_->find(name);
  // Others are refused by the run; those that it does not count are none at all.
  if (command.target > program::kSeed && program::role_text(program_->variable(command.target).role) != nullptr)
    return {};
  if (name.empty()) return "\"name\" is the name of an input or a parameter";
  std::vector<std::string> known;
  for (const program::VarId id : program_->listed) {
    const program::Variable& v = program_->variable(id);
    if (v.role == program::Role::param || v.role == program::Role::input) known.push_back(v.name);
  }
  const auto meant = did_you_mean(name.substr(0, 200), known);
  return fmt::format("there is no input or parameter `{}`{}", name.substr(0, 200), meant ? "; " + *meant : "");
}

/// What is wrong with the parameters; empty: nothing.
std::string OpenRun::fill(Command& c, const Json& params) {
  const bool about_value = c.kind == CommandKind::set || c.kind == CommandKind::ramp;
  if (about_value || c.kind == CommandKind::press || c.kind == CommandKind::release || c.kind == CommandKind::play) {
    if (std::string wrong = find_target(params, c); !wrong.empty()) return wrong;
  }
  if (about_value) {
    const auto value = read_value(*program_, c.target, params.value("value", Json()));
    if (!value) return value.failure().text();
    c.value = *value;
  }
  if (c.kind == CommandKind::press) {
    if (program_->variable(c.target).type.kind != program::Type::Kind::boolean)
      return fmt::format("`{}` is no truth that could be pressed", program_->variable(c.target).name);
    c.value = 1;
  }
  if (c.kind == CommandKind::ramp || c.kind == CommandKind::press) {
    const auto over = read_span(text_in(params, "over"));
    if (!over) return "\"over\" is a time, such as \"20 s\"";
    c.over = *over;
  }
  if (c.kind == CommandKind::play) {
    if (std::string wrong = fill_play(c, params); !wrong.empty()) return wrong;
  }
  if (c.kind == CommandKind::load) return fill_load(c, params);
  if (c.kind == CommandKind::save) {
    const std::string file = text_in(params, "file");
    if (file.empty() || file.size() > kMostNote) return "\"file\" is where the state is to be stored";
    texts_.push_back(file);
    c.text = texts_.back().c_str();
  }
  if (observe::about_fault(c.kind)) {
    const std::string name = text_in(params, "fault");
    std::vector<std::string> known;
    for (std::size_t f = 0; f < program_->faults.size(); ++f) {
      known.push_back(program_->faults[f].name);
      if (known.back() == name) c.index = static_cast<std::int32_t>(f);
    }
    const auto meant = did_you_mean(name.substr(0, 200), known);
    if (c.index == program::kNone)
      return fmt::format("there is no fault `{}`; {}", name.substr(0, 200),
                         meant ? *meant : "the bench has: " + listed(known, "none"));
  }
  if (c.kind == CommandKind::mark) {
    const std::string note = printable(one_line(text_in(params, "note")));
    if (note.empty() || note.size() > kMostNote)
      return fmt::format("\"note\" is a text of 1 to {} characters", kMostNote);
    texts_.push_back(note);
    c.text = texts_.back().c_str();
  }
  if (c.kind == CommandKind::step) {
    const Json steps = params.value("steps", Json(1));
    if (!steps.is_number_integer() || steps.get<std::int64_t>() < 1) return "\"steps\" is a whole number from 1 on";
    c.steps = steps.get<std::int64_t>();
  }
  return {};
}

/// A table of the bench, to its end if nothing is said.
std::string OpenRun::fill_play(Command& c, const Json& params) const {
  const std::string name = text_in(params, "table");
  std::vector<std::string> known;
  for (std::size_t i = 0; i < program_->tables.size(); ++i) {
    const program::LookupTable& table = program_->tables[i];
    if (!table.y.empty() || table.x.empty()) continue;
    known.push_back(table.name);
    if (table.name != name) continue;
    c.index = static_cast<std::int32_t>(i);
    c.over = time_from_seconds(std::max(0.0, table.x.back())).value_or(Time{});
  }
  const auto meant = did_you_mean(name.substr(0, 200), known);
  if (c.index == program::kNone)
    return fmt::format("there is no table `{}` with one argument; {}", name.substr(0, 200),
                       meant ? *meant : "the bench has: " + listed(known, "none"));
  return span_in(params, "over", c.over);
}

/// A set of the bench, whose values are those of now; or values, each as for `set`.
std::string OpenRun::fill_load(Command& c, const Json& params) {
  auto values = std::make_unique<observe::ValueSet>();
  std::string of = text_in(params, "set");
  const Json given = params.value("values", Json());
  if (given.is_object() == !of.empty())
    return "\"set\" is a set of values of the bench, or \"values\" are names with values";
  if (given.is_object()) {
    if (given.empty() || given.size() > kMostLoaded) return fmt::format("these are 1 to {} values", kMostLoaded);
    for (const auto& [name, value] : given.items()) {
      Command one;
      if (std::string wrong = find_target({{"name", name}}, one); !wrong.empty()) return wrong;
      const auto read = read_value(*program_, one.target, value);
      if (!read) return read.failure().text();
      values->values.emplace_back(one.target, *read);
    }
    of = printable(one_line(text_in(params, "from"))).substr(0, 200);
  } else if (std::string wrong = values_of_set(of, *values); !wrong.empty()) {
    return wrong;
  }
  texts_.push_back(of.empty() ? "values" : of);
  c.text = texts_.back().c_str();
  sets_.push_back(std::move(values));
  c.values = sets_.back().get();
  return {};
}

std::string OpenRun::values_of_set(const std::string& name, observe::ValueSet& to) {
  std::vector<std::string> known;
  for (const program::NamedValues& set : program_->value_sets) {
    known.push_back(set.name);
    if (set.name != name) continue;
    std::vector<program::NodeId> nodes;
    for (const program::Assignment& a : set.values) nodes.push_back(a.value);
    std::vector<double> image;
    {
      const std::lock_guard lock(mutex_);
      image = newest_;
    }
    engine::Evaluator values(*program_, nodes);
    values.evaluate(image.data());
    for (std::size_t i = 0; i < nodes.size(); ++i) {
      const program::Variable& v = program_->variable(set.values[i].target);
      if (v.role != program::Role::input && v.role != program::Role::param)
        return fmt::format(
            "`{}` sets `{}`, which is a channel: only inputs and parameters can be set while a bench runs", name,
            v.name);
      to.values.emplace_back(set.values[i].target, values.value(i));
    }
    return {};
  }
  const auto meant = did_you_mean(name.substr(0, 200), known);
  return fmt::format("there is no set of values `{}`; {}", name.substr(0, 200),
                     meant ? *meant : "the bench has: " + listed(known, "none"));
}

/// One of the run's own: nobody waits for what comes of it.
void OpenRun::give(Command c) {
  c.who = observe::Giver::client;
  c.ticket = ++ticket_;
  waiting_.push_back(c);
  give_waiting();
}

void OpenRun::command(CommandKind kind, const Json& params, const Asked& asked) {
  Command c;
  c.kind = kind;
  c.who = observe::Giver::client;
  if (std::string wrong = fill(c, params); !wrong.empty()) return refuse(asked, RpcError::wrong_params, wrong);
  c.ticket = ++ticket_;
  // What a run that stands is told it does at its next instant, and who knows when that is.
  const bool later = stands_ && !observe::about_course(kind);
  asked_.emplace(c.ticket, later ? Asked{asked.client, std::nullopt, nullptr, asked.id.has_value()} : asked);
  if (later) result(asked, {{"ticket", c.ticket}, {"waits", true}});
  ++pending_;
  waiting_.push_back(c);
  give_waiting();
}

/// Why a command was not carried out, with what it was about.
std::string OpenRun::why_not(const observe::CommandOutcome& o) const {
  const Command& c = o.command;
  const bool about_quantity = c.target != program::kNone;
  if (!about_quantity && !observe::about_fault(c.kind)) return observe::refusal_text(o.refusal);
  if (!about_quantity)
    return fmt::format("`{}`: {}", at(program_->faults, c.index).name, observe::refusal_text(o.refusal));
  const program::Variable& v = program_->variable(c.target);
  if (o.refusal == observe::Refusal::outside_limits && v.limits)
    return fmt::format("`{}` is from {} to {}, and {} is outside of that", v.name,
                       program_->format(c.target, v.limits->first), program_->format(c.target, v.limits->second),
                       program_->format(c.target, c.value));
  return fmt::format("`{}`: {}", v.name, observe::refusal_text(o.refusal));
}

/// In the order in which they came, as the run takes them; and no more at once than there is room for what comes of
/// them.
void OpenRun::give_waiting() {
  while (!waiting_.empty() && given_ < kMostGiven && inbox_->put(waiting_.front())) {
    waiting_.pop_front();
    ++given_;
  }
}

/// What came of a command is told when its instant has been shown: who reads then sees it.
void OpenRun::take_outcomes() {
  for (observe::CommandOutcome o; inbox_->outcome(o); --given_) unseen_.push_back(o);
  give_waiting();
  Time shown{};
  {
    const std::lock_guard lock(mutex_);
    if (any_) shown = at_;
  }
  const bool all = over_.load();
  while (!unseen_.empty() &&
         (all || unseen_.front().refusal != observe::Refusal::none || unseen_.front().at <= shown)) {
    const observe::CommandOutcome o = unseen_.front();
    unseen_.pop_front();
    came_of(o);
  }
}

void OpenRun::came_of(const observe::CommandOutcome& o) {
  const auto found = asked_.find(o.command.ticket);
  if (o.command.who != observe::Giver::client || found == asked_.end()) return;
  const Asked asked = found->second;
  asked_.erase(found);
  --pending_;
  const CommandKind kind = o.command.kind;
  const bool done = o.refusal == observe::Refusal::none;
  if (done && observe::about_course(kind)) {
    // A run that stands does not hang.
    stands_ = kind == CommandKind::pause || kind == CommandKind::step;
    session::WorkerBoard::waits(stands_);
  }
  Json came{{"ticket", o.command.ticket}, {"at_s", to_seconds(o.at)}};
  if (!asked.id) {
    if (!asked.told_later) return;
    came["done"] = done;
    if (!done) came["why"] = why_not(o);
    return clients_->send(asked.client, line_of(notification("outcome", std::move(came))));
  }
  if (done) return result(asked, std::move(came));
  refuse(asked, o.refusal == observe::Refusal::run_over ? RpcError::over : RpcError::refused, why_not(o),
         refusal_word(o.refusal));
}

}  // namespace isodyne::remote
