#include "isodyne/session/repeat.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/session/by_hand.h"

namespace isodyne::session {

using record::RecordedEvent;
using record::Recording;

namespace {

/// Whether the run was stopped, or killed, before it was over: it is repeated up to there.
bool broke_off(const Recording& was) {
  return was.ending().empty() || was.ending() == observe::ending_word(observe::Ending::interrupted);
}

/// The place of a name in a list of the Program; a Failure if it is not there.
template <typename List>
Result<std::int32_t> place_of(const List& list, const std::string& name, const char* what) {
  for (std::size_t i = 0; i < list.size(); ++i) {
    if (list[i].name == name) return static_cast<std::int32_t>(i);
  }
  return Failure{fmt::format("its bench has no {} `{}`", what, name), "", ""};
}

/// What was done to it by hand, in order.
Status add_commands(const Recording& was, const program::Program& program, std::vector<observe::Command>& commands) {
  const auto deeds = deeds_of(was, program);
  if (!deeds) return deeds.failure();
  for (const Deed& d : *deeds) {
    if (d.command.kind == observe::CommandKind::mark || d.command.kind == observe::CommandKind::wait) continue;
    commands.push_back(d.command);
    commands.back().who = observe::Giver::repeat;
  }
  return Done{};
}

/// Names become places of the Program.
Status read_plan(const record::RunIdentity& identity, const program::Program& program, bench::RunPlan& plan) {
  if (!identity.scenario.empty()) {
    const auto scenario = place_of(program.scenarios, identity.scenario, "scenario");
    if (!scenario) return scenario.failure();
    plan.scenario = *scenario;
  }
  for (const std::string& name : identity.faults) {
    const auto fault = place_of(program.faults, name, "fault");
    if (!fault) return fault.failure();
    plan.faults.push_back(*fault);
  }
  for (const record::Override& o : identity.overrides) {
    plan.overrides.emplace_back(program.find(o.name), o.value);
    if (plan.overrides.back().first == program::kNone)
      return Failure{fmt::format("its bench has no quantity `{}`", o.name), "", ""};
  }
  plan.seed = identity.seed;
  plan.setting = program.controllers.empty() ? "" : identity.setting;
  plan.reference = identity.made_by == record::MadeBy::reference;
  plan.native = engine::NativeSettings::usual();
  return Done{};
}

bool is_output(const program::Program& p, const std::string& name) {
  const program::VarId id = p.find(name);
  return id != program::kNone && p.variable(id).role == program::Role::controller_output;
}

/// The events of a run, without what its end itself brings where it broke off, and without what was said about its
/// course. A command that was given again is told by its words, not by who gave it.
std::vector<RecordedEvent> events_of(const Recording& r, bool with_end) {
  std::vector<RecordedEvent> events = r.events();
  std::erase_if(events, [&](const RecordedEvent& e) {
    const bool of_the_end = e.is(observe::EventKind::ended) || e.is(observe::EventKind::verdict);
    return e.is(observe::EventKind::command) || (!with_end && of_the_end);
  });
  for (RecordedEvent& e : events) {
    if (e.is(observe::EventKind::change)) e.text.resize(std::min(e.text.size(), e.text.rfind(" by ")));
  }
  return events;
}

}  // namespace

std::vector<const program::Setting*> code_of(const OpenRecording& run) {
  std::vector<const program::Setting*> all;
  for (const program::Controller& c : run.loaded.program->controllers) {
    const program::Setting* s = bench::setting_of(c, run.recording->identity().setting);
    if (s != nullptr && program::port_kind(s->kind).at == program::PortAt::file) all.push_back(s);
  }
  return all;
}

Result<RunRequest> request_of(const OpenRecording& run, const std::string& path, const std::string& folder) {
  const Recording& was = *run.recording;
  const record::RunIdentity& identity = was.identity();
  const auto not_so = [&](const std::string& why) {
    return Failure{"cannot repeat", path, why, Failure::Kind::wrong_input};
  };
  if (identity.made_by == record::MadeBy::others)
    return not_so("it was measured elsewhere, so there is nothing to run again");
  if (identity.pace)
    return not_so("it kept to the wall clock: it can be compared with another run, but not repeated to the bit");
  RunRequest request;
  request.bench =
      bench_of(run.loaded, folder.empty() || folder.ends_with('/') ? folder : folder + "/", identity.harness);
  request.evidence.in_catalogue = false;  // nobody asked for this run
  request.evidence.judged = true;
  const Status planned = read_plan(identity, *run.loaded.program, request.plan);
  if (!planned) return not_so(planned.failure().text());
  if (!identity.state.empty()) {
    auto state = parse_state(identity.state, path);
    if (!state) return state.failure();
    const Status goes_on = go_on_from(request, std::move(*state));
    if (!goes_on) return not_so(goes_on.failure().text());
  }
  const Status given = add_commands(was, *run.loaded.program, request.plan.commands);
  if (!given) return not_so(given.failure().text());
  request.plan.longest = broke_off(was) ? std::optional(end_of(was)) : identity.longest;
  if (request.plan.scenario == program::kNone && !request.plan.longest)
    return not_so("it says neither a scenario nor a time, so it would never end");
  if (const auto trouble = bench::trouble_with(*run.loaded.program, request.plan)) return not_so(trouble->text());
  return request;
}

Repeated compared(const OpenRecording& run, const Recording& is, const std::string& folder) {
  const Recording& was = *run.recording;
  Repeated o;
  o.part = broke_off(was);
  const auto events_were = events_of(was, !o.part);
  auto events_are = events_of(is, !o.part);
  if (was.ending().empty()) events_are.resize(std::min(events_are.size(), events_were.size()));
  o.instants = was.times().size();
  o.events = was.events().size();
  for (const std::string& name : record::names_of_both(was, is)) {
    ++o.signals;
    const record::SignalDifference d = record::difference(was, is, name, Time{}, {});
    if (d.verdict == record::SignalDifference::Verdict::equal) {
      ++o.equal;
    } else if (!o.first || d.from.value_or(Time::max()) < o.first->from.value_or(Time::max())) {
      o.first = d;
    }
  }
  const auto same_event = [](const RecordedEvent& x, const RecordedEvent& y) {
    return x.at == y.at && x.kind == y.kind && x.subject == y.subject && x.text == y.text;
  };
  if (o.part ? is.times().size() < was.times().size() : !(was.times() == is.times())) {
    o.unlike = fmt::format("it has {} instants and had {}", is.times().size(), was.times().size());
  } else if (!std::equal(events_were.begin(), events_were.end(), events_are.begin(), events_are.end(), same_event)) {
    o.unlike = "its events are others";
  } else if (!o.part && was.ending() != is.ending()) {
    o.unlike = fmt::format("it ended as `{}` and had ended as `{}`", is.ending(), was.ending());
  }
  if (o.identical()) return o;
  if (is.ending() == observe::ending_word(observe::Ending::controller_failed) && was.ending() != is.ending())
    o.causes.push_back("a controller failed: they are looked for in " + folder + ", and --folder names another place");
  for (const std::string& d : record::other_differences(was, is)) {
    const bool of_the_end = d.starts_with("time given:") || d.starts_with("ending:");
    if (!o.part || !of_the_end) o.causes.push_back(d);
  }
  if (o.first && is_output(*run.loaded.program, o.first->name))
    o.causes.push_back("the controller answers differently: it is another one, or it is not repeatable");
  if (o.causes.empty())
    o.causes.push_back("the compiler of the plant or the processor; or somebody changed the recording");
  return o;
}

}  // namespace isodyne::session
