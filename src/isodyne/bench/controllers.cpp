#include <algorithm>
#include <thread>

#include <fmt/format.h>

#include "isodyne/bench/controllers.h"
#include "isodyne/core/text.h"

namespace isodyne::bench {

using ports::Pace;
using ports::Standing;

namespace {

double seconds_since(std::chrono::steady_clock::time_point begin) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

}  // namespace

Controllers::Controllers(const program::Program& program, const RunPlan& plan, const PortMaker& make_port,
                         const FaultPlayer& faults, MessagePlayer& messages, Channels& channels,
                         engine::PlantState& state)
    : program_(program), paced_(plan.pace.has_value()), messages_(messages), channels_(channels), state_(state) {
  for (const program::Controller& c : program.controllers) {
    Wired wired;
    wired.controller = &c;
    wired.setting = setting_of(c, plan.setting);
    wired.port = make_port(c, *wired.setting);
    wired.reads.resize(c.reads.size());
    wired.writes.resize(c.answer_size());
    wired.edges.resize(c.answer_size() - c.writes.size());
    wired.kept.resize(c.writes.size());
    std::vector<program::VarId> given;
    for (const program::ControllerWrite& w : c.writes) {
      given.push_back(w.value);
      wired.valid.push_back(program.writable(w.value));
    }
    given.resize(c.answer_size(), program::kNone);
    const auto number = static_cast<std::int32_t>(controllers_.size());
    wired.to = std::make_unique<FaultyLine>(program, faults.on_messages(number, true), c.reads, c.period, plan.seed);
    wired.from = std::make_unique<FaultyLine>(program, faults.on_messages(number, false), given, c.period, plan.seed);
    if (!wired.to->any()) wired.to.reset();
    if (!wired.from->any()) wired.from.reset();
    wired.report.name = c.name;
    wired.report.setting = wired.setting->name;
    controllers_.push_back(std::move(wired));
  }
  losses_.reserve(controllers_.size());
}

void Controllers::tell_of(std::size_t controller, observe::ControllerNews news) {
  seen_->event({state_.now, observe::EventKind::controller, static_cast<std::int32_t>(controller), news, 0});
}

/// The run cannot go on without it.
std::optional<Reason> Controllers::failed(std::size_t controller, const Failure& failure) {
  tell_of(controller, observe::kControllerFailed);
  return Reason{observe::Ending::controller_failed, failure.text(), {}, false};
}

std::optional<Reason> Controllers::open() {
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    const Status opened = controllers_[i].port->open(controllers_[i].controller->period);
    if (!opened) return failed(i, opened.failure());
  }
  return std::nullopt;
}

/// The plant stands at its start until every controller is ready; then they all begin.
std::optional<Reason> Controllers::bring_up(const std::atomic<bool>& stop, observe::Observer& told) {
  const auto begin = std::chrono::steady_clock::now();
  std::vector<Standing> standing(controllers_.size(), Standing::offline);
  for (Wired& c : controllers_) {
    for (std::size_t w = 0; w < c.valid.size(); ++w) c.writes[w] = state_[c.valid[w]];
  }
  for (double before = 0, last_told = 0;;) {
    if (auto useless = look_at_all(standing)) return useless;
    const double waited = seconds_since(begin);
    note_standing(standing, waited - before);
    before = waited;
    if (std::all_of(standing.begin(), standing.end(), [](Standing s) { return s == Standing::ready; })) break;
    if (stop.load(std::memory_order_relaxed))  // relaxed: the flag publishes no other data
      return Reason{observe::Ending::interrupted, "interrupted before the controllers were ready", {}, false};
    if (auto late = too_late(standing, waited)) return late;
    if (waited > last_told + 0.1) told.waits(standing_of_all(standing)), last_told = waited;
    std::this_thread::sleep_for(std::chrono::microseconds(200));
  }
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    const Status began = controllers_[i].port->begin();
    if (!began) return failed(i, began.failure());
    tell_of(i, observe::kControllerReady);
  }
  return std::nullopt;
}

/// How far each is. A reason: one will never be ready.
std::optional<Reason> Controllers::look_at_all(std::vector<Standing>& standing) {
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    Wired& c = controllers_[i];
    for (std::size_t r = 0; r < c.reads.size(); ++r) c.reads[r] = state_[c.controller->reads[r]];
    const auto looked = c.port->look(c.reads, c.writes);
    if (!looked) {
      auto reason = failed(i, looked.failure());
      reason->shown = true;
      return reason;
    }
    standing[i] = *looked;
  }
  return std::nullopt;
}

void Controllers::note_standing(const std::vector<Standing>& standing, double for_s) {
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    ControllerReport& r = controllers_[i].report;
    (standing[i] == Standing::offline     ? r.offline_s
     : standing[i] == Standing::answering ? r.answering_s
                                          : r.ready_s) += for_s;
  }
}

/// "controller `plc` is offline: nobody has connected to 127.0.0.1:1502; `crane` is ready"
std::string Controllers::standing_of_all(const std::vector<Standing>& standing) const {
  std::string text;
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    const std::string missing = standing[i] == Standing::ready ? "" : controllers_[i].port->missing();
    text += fmt::format("{}`{}` is {}{}{}", text.empty() ? "controller " : "; ", controllers_[i].controller->name,
                        ports::standing_word(standing[i]), missing.empty() ? "" : ": ", missing);
  }
  return text;
}

/// Says who is missing, when a controller has had its time.
std::optional<Reason> Controllers::too_late(const std::vector<Standing>& standing, double waited_s) {
  bool over = false;
  for (std::size_t i = 0; i < controllers_.size(); ++i)
    over = over || (standing[i] != Standing::ready && waited_s > to_seconds(controllers_[i].setting->ready_within));
  if (!over) return std::nullopt;
  Reason reason{observe::Ending::controller_failed, "", {}, true};
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    const Wired& c = controllers_[i];
    if (standing[i] == Standing::ready) continue;
    tell_of(i, observe::kControllerFailed);
    const std::string missing = c.port->missing();
    std::string text = fmt::format("controller `{}` is {} after {:.1f} s{}{}", c.controller->name,
                                   ports::standing_word(standing[i]), waited_s, missing.empty() ? "" : ": ", missing);
    if (reason.text.empty())
      reason.text = std::move(text);
    else
      reason.details.push_back(std::move(text));
  }
  reason.details.push_back("the plant stayed at its start; `ready within 1 min` in the setting gives more time");
  return reason;
}

std::optional<Reason> Controllers::take_answers() {
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    Wired& c = controllers_[i];
    if (c.async && !c.lost) {
      const auto news = c.async->take(c.answers, c.writes);
      if (news == ports::AsyncPort::News::answer) receive(i);
      if (news == ports::AsyncPort::News::failed) {
        if (auto reason = lose(i, c.async->failure())) return reason;
      }
    }
    if (!answer_is_due(c)) continue;
    use_answer(c);
    messages_.send(i, state_);
  }
  messages_.deliver(state_);
  return std::nullopt;
}

/// What came lies where answers wait until they are valid.
void Controllers::receive(std::size_t i) {
  Wired& c = controllers_[i];
  c.silent = c.from && !c.from->pass(state_.now, c.writes);
  for (std::size_t w = 0; w < c.valid.size(); ++w) state_[c.controller->writes[w].pending] = c.writes[w];
  std::copy(c.writes.begin() + static_cast<std::ptrdiff_t>(c.valid.size()), c.writes.end(), c.edges.begin());
  c.answered = c.fresh = true;
  if (const std::int64_t restarts = c.port->restarts(); restarts != c.restarts) {
    c.restarts = restarts;
    tell_of(i, observe::kControllerRestarted);
  }
}

/// An answer is valid one period after its question. One that has to be waited for may come later.
bool Controllers::answer_is_due(Wired& c) {
  if (!c.answered || !c.fresh) return false;
  if (!c.async || c.lost) return state_.now == c.next;
  const Time due = c.answers + c.controller->period;
  if (state_.now < due) return false;
  if (state_.now > due) ++c.report.late;
  c.report.age.add((state_.now - c.answers).count());
  return true;
}

void Controllers::use_answer(Wired& c) {
  c.fresh = false;
  for (std::size_t i = 0; i < c.valid.size(); ++i) {
    const program::ControllerWrite& w = c.controller->writes[i];
    const double answer = state_[w.pending];
    if (w.edges != 0) {
      use_gate(c, w);
    } else if (w.actuator == program::kNone || w.in_frame) {
      state_[c.valid[i]] = answer;
    } else {
      channels_.drive(static_cast<std::size_t>(w.actuator), answer, false);
    }
  }
  for (const program::FrameUse& use : c.controller->write_frames)
    channels_.take_frame(static_cast<std::size_t>(use.frame));
}

void Controllers::use_gate(Wired& c, const program::ControllerWrite& w) {
  const auto actuator = static_cast<std::size_t>(w.actuator);
  if (!c.lost) {
    if (c.silent) return;
    const auto edges = std::span<const double>(c.edges).subspan(w.edges - c.valid.size(), program::kEdgeNumbers);
    return channels_.drive_gate(actuator, state_[w.pending] != 0, edges);
  }
  const program::Actuator& a = program_.actuators[actuator];
  if (c.controller->when_lost == program::WhenLost::safe && a.safe)
    return channels_.drive_gate(actuator, *a.safe != 0, {});
  const auto write = static_cast<std::size_t>(&w - c.controller->writes.data());
  for (Loss& loss : losses_) {  // it stays as its last edge has left it
    if (controllers_[loss.controller].controller == c.controller) loss.values[write] = state_[c.valid[write]];
  }
}

std::string Controllers::not_to_copy() const {
  std::string all;
  for (const Wired& c : controllers_) {
    if (!c.lost && !c.port->can_be_copied()) list_on(all, "`" + c.controller->name + "`");
  }
  return all;
}

Status Controllers::copied() {
  for (Wired& c : controllers_) {
    const Status told = c.lost ? Status(Done{}) : c.port->copied();
    if (!told) return told;
  }
  return Done{};
}

bool Controllers::due() const {
  return std::any_of(controllers_.begin(), controllers_.end(), [&](const Wired& c) { return c.next == state_.now; });
}

std::optional<Reason> Controllers::exchange() {
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    Wired& c = controllers_[i];
    if (state_.now != c.next) continue;
    c.next = c.lost ? Time::max() : c.next + c.controller->period;
    if (c.lost) continue;  // its last words have become valid at this instant
    if (auto reason = exchange_with(i)) return reason;
  }
  return std::nullopt;
}

std::optional<Reason> Controllers::exchange_with(std::size_t i) {
  Wired& c = controllers_[i];
  for (const program::FrameUse& use : c.controller->read_frames)
    channels_.gather_frame(static_cast<std::size_t>(use.frame));
  for (std::size_t r = 0; r < c.reads.size(); ++r) c.reads[r] = state_[c.controller->reads[r]];
  if (c.to) c.to->pass(state_.now, c.reads);
  ++c.report.exchanges;
  if (c.async) {
    if (c.report.exchanges > 1 && c.answers < c.asked) ++c.report.missed;
    c.asked = state_.now;
    c.async->offer(state_.now, c.reads);
    return std::nullopt;
  }
  const Status exchanged = [&] {
    const IsoUnflushed plain(plain_numbers_);  // the controller computes as it does anywhere
    return c.port->exchange(state_.now, c.reads, c.writes);
  }();
  if (!exchanged) return lose(i, exchanged.failure());
  if (paced_ && c.port->pace() == Pace::free && c.port->heard() != ports::ControllerPort::Wall::time_point{})
    c.report.age.add((ports::ControllerPort::Wall::now() - c.port->heard()).count());
  receive(i);
  return std::nullopt;
}

/// By the controller's rule the run goes on with safe or held values, valid when its answer would have been; or it
/// ends, and this is why.
std::optional<Reason> Controllers::lose(std::size_t i, Failure failure) {
  Wired& c = controllers_[i];
  tell_of(i, observe::kControllerFailed);
  if (c.controller->when_lost != program::WhenLost::stop) return go_on_without(i, std::move(failure)), std::nullopt;
  Reason reason{observe::Ending::controller_failed, "", {}, true};  // the recording keeps the instant of the failure
  reason.text = fmt::format("{} at {}", failure.text(), format_instant(state_.now));
  for (std::size_t r = 0; r < c.reads.size(); ++r) {
    const program::VarId id = c.controller->reads[r];
    reason.details.push_back(
        fmt::format("it read {} = {}", program_.variable(id).name, program_.format(id, c.reads[r])));
  }
  return reason;
}

void Controllers::go_on_without(std::size_t i, Failure failure) {
  Wired& c = controllers_[i];
  Loss& loss = losses_.emplace_back(Loss{i, state_.now, std::move(failure), faulty(c), std::move(c.kept)});
  c.lost = c.answered = c.fresh = true;
  for (std::size_t w = 0; w < c.valid.size(); ++w) {
    const program::ControllerWrite& write = c.controller->writes[w];
    if (write.actuator == program::kNone) continue;
    const program::Actuator& actuator = at(program_.actuators, write.actuator);
    loss.values[w] = state_[program_.writable(actuator.value)];
    if (c.controller->when_lost != program::WhenLost::safe || !actuator.safe) continue;
    loss.values[w] = *actuator.safe;
    const io::ActuatorChannel& channel = channels_.actuator(static_cast<std::size_t>(write.actuator));
    state_[write.pending] = write.in_frame ? channel.counts_of(*actuator.safe) : *actuator.safe;
  }
}

bool Controllers::faulty(const Wired& c) {
  return (c.to && c.to->acts()) || (c.from && c.from->acts());
}

void Controllers::list_losses(RunResult& result) const {
  for (const Loss& loss : losses_) {
    const program::Controller& c = *controllers_[loss.controller].controller;
    std::string left;
    for (std::size_t w = 0; w < c.writes.size(); ++w) {
      if (c.writes[w].actuator == program::kNone) continue;
      const program::Actuator& actuator = at(program_.actuators, c.writes[w].actuator);
      const bool safe = c.when_lost == program::WhenLost::safe && actuator.safe;
      left += fmt::format("{} {} {} {}", left.empty() ? "" : ",", actuator.name, safe ? "takes" : "holds",
                          program_.format(actuator.value, loss.values[w]));
    }
    const std::string text = fmt::format("{} at {}", loss.failure.text(), format_instant(loss.at));
    if (!loss.by_fault) result.lost.push_back({c.name, text, loss.at});
    result.remarks.push_back(fmt::format("Lost {}{}; the run went on:{}.", text,
                                         loss.by_fault ? ", while a fault acted on its messages" : "",
                                         left.empty() ? " no actuator" : left));
  }
}

void Controllers::keep_beside(void (*prepare)()) {
  for (Wired& c : controllers_) {
    if (c.port->pace() == Pace::waits)
      c.async = std::make_unique<ports::AsyncPort>(*c.port, c.reads.size(), c.writes.size(), prepare);
  }
}

void Controllers::close(RunResult& result) {
  for (Wired& c : controllers_) {
    if (c.async) c.async->stop();
    c.port->close();
    c.report.traffic = c.port->traffic();
    result.controllers.push_back(c.report);
  }
  list_losses(result);
}

std::vector<const ControllerReport*> Controllers::reports() const {
  std::vector<const ControllerReport*> all;
  for (const Wired& c : controllers_) all.push_back(&c.report);
  return all;
}

}  // namespace isodyne::bench
