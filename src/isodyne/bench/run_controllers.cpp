// The controllers of a run: how they come up, what is exchanged with them, and what happens when one is lost.

#include <algorithm>
#include <thread>

#include <fmt/format.h>

#include "isodyne/bench/run.h"
#include "isodyne/core/text.h"

namespace isodyne::bench {

using ports::Pace;
using ports::Standing;

namespace {

double seconds_since(std::chrono::steady_clock::time_point begin) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

}  // namespace

const program::Setting* setting_of(const program::Controller& c, const std::string& name) {
  if (name.empty()) return c.settings.empty() ? nullptr : &c.settings.front();
  const auto found =
      std::find_if(c.settings.begin(), c.settings.end(), [&](const program::Setting& s) { return s.name == name; });
  return found == c.settings.end() ? nullptr : &*found;
}

void Run::wire_controllers(const PortMaker& make_port) {
  for (const program::Controller& c : program_->controllers) {
    Wired wired;
    wired.controller = &c;
    wired.setting = setting_of(c, plan_.setting);
    wired.port = make_port(c, *wired.setting);
    wired.reads.resize(c.reads.size());
    wired.writes.resize(c.writes.size());
    wired.kept.resize(c.writes.size());
    for (const program::ControllerWrite& w : c.writes) wired.valid.push_back(program_->writable(w.value));
    const auto number = static_cast<std::int32_t>(controllers_.size());
    std::vector<program::VarId> given;
    for (const program::ControllerWrite& w : c.writes) given.push_back(w.value);
    wired.to =
        std::make_unique<FaultyLine>(*program_, faults_.on_messages(number, true), c.reads, c.period, plan_.seed);
    wired.from =
        std::make_unique<FaultyLine>(*program_, faults_.on_messages(number, false), given, c.period, plan_.seed);
    if (!wired.to->any()) wired.to.reset();
    if (!wired.from->any()) wired.from.reset();
    wired.report.name = c.name;
    wired.report.setting = wired.setting->name;
    controllers_.push_back(std::move(wired));
  }
  losses_.reserve(controllers_.size());
}

bool Run::open_controllers() {
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    const Status opened = controllers_[i].port->open(controllers_[i].controller->period);
    if (opened) continue;
    seen_->event(
        {state_.now, observe::EventKind::controller, static_cast<std::int32_t>(i), observe::kControllerFailed, 0});
    result_.ending = observe::Ending::controller_failed;
    result_.explanation = opened.failure().text();
    return false;
  }
  return true;
}

/// The plant stands at its start until every controller is ready; then they all begin.
bool Run::bring_up() {
  const auto begin = std::chrono::steady_clock::now();
  std::vector<Standing> standing(controllers_.size(), Standing::offline);
  for (Wired& c : controllers_) {
    for (std::size_t w = 0; w < c.writes.size(); ++w) c.writes[w] = state_[c.valid[w]];
  }
  double before = 0, told = 0;
  for (bool all_ready = false; !all_ready;) {
    all_ready = true;
    for (std::size_t i = 0; i < controllers_.size(); ++i) {
      Wired& c = controllers_[i];
      for (std::size_t r = 0; r < c.reads.size(); ++r) c.reads[r] = state_[c.controller->reads[r]];
      const auto looked = c.port->look(c.reads, c.writes);
      if (!looked) {
        seen_->event(
            {state_.now, observe::EventKind::controller, static_cast<std::int32_t>(i), observe::kControllerFailed, 0});
        result_.ending = observe::Ending::controller_failed;
        result_.explanation = looked.failure().text();
        finish_instant();
        return false;
      }
      standing[i] = *looked;
      all_ready = all_ready && *looked == Standing::ready;
    }
    const double waited = seconds_since(begin);
    for (std::size_t i = 0; i < controllers_.size(); ++i) {
      ControllerReport& r = controllers_[i].report;
      double& time = standing[i] == Standing::offline     ? r.offline_s
                     : standing[i] == Standing::answering ? r.answering_s
                                                          : r.ready_s;
      time += waited - before;
    }
    before = waited;
    if (all_ready) break;
    if (stop_->load(std::memory_order_relaxed)) {
      result_.ending = observe::Ending::interrupted;
      result_.explanation = "interrupted before the controllers were ready";
      return false;
    }
    if (!in_time(standing, waited)) return false;
    if (waited > told + 0.1) observer_.waits(standing_of_all(standing)), told = waited;
    std::this_thread::sleep_for(std::chrono::microseconds(200));
  }
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    const Status began = controllers_[i].port->begin();
    seen_->event({state_.now, observe::EventKind::controller, static_cast<std::int32_t>(i),
                  began ? observe::kControllerReady : observe::kControllerFailed, 0});
    if (began) continue;
    result_.ending = observe::Ending::controller_failed;
    result_.explanation = began.failure().text();
    return false;
  }
  started_ = true;
  start_crew();
  if (plan_.pace) begin_pace();
  return true;
}

/// "controller `plc` is offline: nobody has connected to 127.0.0.1:1502; `crane` is ready"
std::string Run::standing_of_all(const std::vector<Standing>& standing) const {
  std::string text;
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    const std::string missing = standing[i] == Standing::ready ? "" : controllers_[i].port->missing();
    text += fmt::format("{}`{}` is {}{}{}", text.empty() ? "controller " : "; ", controllers_[i].controller->name,
                        ports::standing_word(standing[i]), missing.empty() ? "" : ": ", missing);
  }
  return text;
}

/// False, and says who is missing, when a controller has had its time.
bool Run::in_time(const std::vector<Standing>& standing, double waited_s) {
  bool over = false;
  for (std::size_t i = 0; i < controllers_.size(); ++i)
    over = over || (standing[i] != Standing::ready && waited_s > to_seconds(controllers_[i].setting->ready_within));
  if (!over) return true;
  result_.ending = observe::Ending::controller_failed;
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    const Wired& c = controllers_[i];
    if (standing[i] == Standing::ready) continue;
    seen_->event(
        {state_.now, observe::EventKind::controller, static_cast<std::int32_t>(i), observe::kControllerFailed, 0});
    const std::string missing = c.port->missing();
    const std::string text =
        fmt::format("controller `{}` is {} after {:.1f} s{}{}", c.controller->name, ports::standing_word(standing[i]),
                    waited_s, missing.empty() ? "" : ": ", missing);
    if (result_.explanation.empty())
      result_.explanation = text;
    else
      result_.details.push_back(text);
  }
  result_.details.push_back("the plant stayed at its start; `ready within 1 min` in the setting gives more time");
  finish_instant();
  return false;
}

bool Run::take_answers() {
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    Wired& c = controllers_[i];
    if (c.courier && !c.lost) {
      const auto news = c.courier->take(c.answers, c.writes);
      if (news == ports::Courier::News::answer) receive(i);
      if (news == ports::Courier::News::failed && !lose(i, c.courier->failure())) return false;
    }
    if (!answer_is_due(c)) continue;
    use_answer(c);
    messages_.send(i, state_);
  }
  messages_.deliver(state_);
  return true;
}

/// What came lies where answers wait until they are valid.
void Run::receive(std::size_t i) {
  Wired& c = controllers_[i];
  if (c.from) c.from->pass(state_.now, c.writes);
  for (std::size_t w = 0; w < c.writes.size(); ++w) state_[c.controller->writes[w].pending] = c.writes[w];
  c.answered = c.fresh = true;
  if (const std::int64_t restarts = c.port->restarts(); restarts != c.restarts) {
    c.restarts = restarts;
    seen_->event(
        {state_.now, observe::EventKind::controller, static_cast<std::int32_t>(i), observe::kControllerRestarted, 0});
  }
}

/// An answer is valid one period after its question. One that has to be waited for may come later.
bool Run::answer_is_due(Wired& c) {
  if (!c.answered || !c.fresh) return false;
  if (!c.courier || c.lost) return state_.now == c.next;
  const Time due = c.answers + c.controller->period;
  if (state_.now < due) return false;
  if (state_.now > due) ++c.report.late;
  c.report.age.add((state_.now - c.answers).count());
  return true;
}

void Run::use_answer(Wired& c) {
  c.fresh = false;
  for (std::size_t i = 0; i < c.valid.size(); ++i) {
    const program::ControllerWrite& w = c.controller->writes[i];
    const double answer = state_[w.pending];
    if (w.actuator == program::kNone || w.in_frame) {
      state_[c.valid[i]] = answer;
    } else {
      drive(static_cast<std::size_t>(w.actuator), answer, false);
    }
  }
  for (const program::FrameUse& use : c.controller->write_frames) {
    const auto f = static_cast<std::size_t>(use.frame);
    take_frame(program_->frames[f], frames_[f]);
  }
}

bool Run::exchange() {
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    Wired& c = controllers_[i];
    if (state_.now != c.next) continue;
    c.next = c.lost ? Time::max() : c.next + c.controller->period;
    if (c.lost) continue;  // its last words have become valid at this instant
    if (!exchange_with(i)) return false;
  }
  return true;
}

bool Run::exchange_with(std::size_t i) {
  Wired& c = controllers_[i];
  for (const program::FrameUse& use : c.controller->read_frames) gather_frame(static_cast<std::size_t>(use.frame));
  for (std::size_t r = 0; r < c.reads.size(); ++r) c.reads[r] = state_[c.controller->reads[r]];
  if (c.to) c.to->pass(state_.now, c.reads);
  ++c.report.exchanges;
  if (c.courier) {
    if (c.report.exchanges > 1 && c.answers < c.asked) ++c.report.missed;
    c.asked = state_.now;
    c.courier->offer(state_.now, c.reads);
    return true;
  }
  const Status exchanged = [&] {
    const IsoUnflushed plain(plain_numbers_);  // the controller computes as it does anywhere
    return c.port->exchange(state_.now, c.reads, c.writes);
  }();
  if (!exchanged) return lose(i, exchanged.failure());
  if (plan_.pace && c.port->pace() == Pace::free && c.port->heard() != ports::ControllerPort::Wall::time_point{})
    c.report.age.add((ports::ControllerPort::Wall::now() - c.port->heard()).count());
  receive(i);
  return true;
}

void Run::gather_frame(std::size_t f) {
  frames_[f].gather(state_, [&](std::size_t i) {
    const program::VarId raw = program_->frames[f].fields[i].raw;
    saturates(frame_channel_[f] + i, false, frames_[f].saturation(i), state_[raw]);
  });
}

/// By the controller's rule the run goes on with safe or held values, valid when its answer would have been; or it
/// ends, which gives false.
bool Run::lose(std::size_t i, Failure failure) {
  Wired& c = controllers_[i];
  seen_->event(
      {state_.now, observe::EventKind::controller, static_cast<std::int32_t>(i), observe::kControllerFailed, 0});
  if (c.controller->when_lost != program::WhenLost::stop) {
    Loss& loss = losses_.emplace_back(Loss{i, state_.now, std::move(failure), faulty(c), std::move(c.kept)});
    c.lost = c.answered = c.fresh = true;
    for (std::size_t w = 0; w < c.writes.size(); ++w) {
      const program::ControllerWrite& write = c.controller->writes[w];
      if (write.actuator == program::kNone) continue;
      const program::Actuator& actuator = program_->actuators[static_cast<std::size_t>(write.actuator)];
      const io::ActuatorChannel& channel = actuators_[static_cast<std::size_t>(write.actuator)];
      loss.values[w] = state_[program_->writable(actuator.value)];
      if (c.controller->when_lost != program::WhenLost::safe || !actuator.safe) continue;
      loss.values[w] = *actuator.safe;
      state_[write.pending] = write.in_frame ? channel.counts_of(*actuator.safe) : *actuator.safe;
    }
    return true;
  }
  result_.ending = observe::Ending::controller_failed;
  result_.explanation = fmt::format("{} at {}", failure.text(), format_instant(state_.now));
  for (std::size_t r = 0; r < c.reads.size(); ++r) {
    const program::VarId id = c.controller->reads[r];
    result_.details.push_back(
        fmt::format("it read {} = {}", program_->variable(id).name, program_->format(id, c.reads[r])));
  }
  finish_instant();  // the recording keeps the instant of the failure
  return false;
}

bool Run::faulty(const Wired& c) {
  return (c.to && c.to->acts()) || (c.from && c.from->acts());
}

void Run::list_losses() {
  for (const Loss& loss : losses_) {
    const program::Controller& c = *controllers_[loss.controller].controller;
    std::string left;
    for (std::size_t w = 0; w < c.writes.size(); ++w) {
      if (c.writes[w].actuator == program::kNone) continue;
      const program::Actuator& actuator = program_->actuators[static_cast<std::size_t>(c.writes[w].actuator)];
      const bool safe = c.when_lost == program::WhenLost::safe && actuator.safe;
      left += fmt::format("{} {} {} {}", left.empty() ? "" : ",", actuator.name, safe ? "takes" : "holds",
                          program_->format(actuator.value, loss.values[w]));
    }
    const std::string text = fmt::format("{} at {}", loss.failure.text(), format_instant(loss.at));
    if (!loss.by_fault) result_.lost.push_back({c.name, text, loss.at});
    result_.remarks.push_back(fmt::format("Lost {}{}; the run went on:{}.", text,
                                          loss.by_fault ? ", while a fault acted on its messages" : "",
                                          left.empty() ? " no actuator" : left));
  }
}

void Run::close_controllers() {
  for (Wired& c : controllers_) {
    if (c.courier) c.courier->stop();
    c.port->close();
    c.report.traffic = c.port->traffic();
    result_.controllers.push_back(c.report);
  }
  list_losses();
  result_.messages_sent = messages_.sent();
  result_.messages_lost = messages_.lost();
  if (result_.messages_lost > 0)
    result_.remarks.push_back(fmt::format("Of {} messages between controllers {} never arrived.", result_.messages_sent,
                                          result_.messages_lost));
}

}  // namespace isodyne::bench
