#include "breakpoint.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <fstream>
#include <set>
#include <sstream>
#include <utility>

#include <poll.h>
#include <unistd.h>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/program/quick.h"
#include "isodyne/session/worker.h"
#include "terminal.h"
#include "text_table.h"
#include "typed.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

constexpr const char* kTyped = "typed_here";

}  // namespace

Breakpoint::Breakpoint(Plan plan, std::shared_ptr<const session::Bench> bench) : plan_(std::move(plan)) {
  of(std::move(bench));
  if (!plan_.dump && isatty(STDIN_FILENO) == 0) {
    say_error(
        "--break asks what to do, and there is no terminal; with --break-dump FILE it writes the state and goes on");
    understood_ = false;
    return;
  }
  condition_ = std::make_unique<session::Probe>(*bench_, plan_.condition);
  understood_ = condition_->good();
  if (!understood_) print_mistakes(*condition_);
  if (plan_.dump) std::ofstream(*plan_.dump, std::ios::trunc);
}

void Breakpoint::begins(bench::Run& run) {
  inbox_ = &run.inbox();
  if (!plan_.dump) keyboard_ = std::thread([this] { work(); });
}

void Breakpoint::ended(const bench::Run&, bench::RunResult& result) {
  done();
  if (!came_) result.remarks.push_back(fmt::format("The breakpoint `{}` never came.", plan_.condition));
}

/// The run is over.
void Breakpoint::done() {
  {
    const std::lock_guard lock(mutex_);
    done_ = true;
  }
  changed_.notify_all();
  if (keyboard_.joinable()) keyboard_.join();
  if (inbox_ != nullptr) say_refused();
  inbox_ = nullptr;
}

void Breakpoint::of(std::shared_ptr<const session::Bench> bench) {
  bench_ = std::move(bench);
  program_ = bench_->program;
  between_.emplace(*program_, program::quick_view(*program_));
}

void Breakpoint::rows(const observe::Rows& rows) {
  for (std::size_t i = 0; i < rows.count; ++i) {
    const double* values = between_->row(to_seconds(rows.at(i)), rows.row(i));
    const auto note = [&](const std::string& text) {
      if (pending_.empty()) pending_ = fmt::format("{} (it came true at {})", text, format_instant(rows.at(i)));
    };
    const bool is = condition_->truth(values);
    if (is && !was_) note(plan_.condition);
    if (until_ && until_->truth(values)) note(until_text_);
    was_ = is;
    came_ = came_ || is;
  }
}

void Breakpoint::image(const observe::Image& image) {
  const double* values = between_->image(image.variables);
  const bool is = condition_->truth(values);
  std::string reason = std::exchange(pending_, "");
  if (is && !was_ && reason.empty()) reason = plan_.condition;
  was_ = is;
  came_ = came_ || is;
  if (steps_ > 0 && --steps_ == 0) reason = "the steps are made";
  if (until_ && until_->truth(values)) reason = until_text_;
  if (reason.empty()) return;
  steps_ = -1;
  until_.reset();
  if (plan_.dump) return write_dump(image, reason);
  // Before anybody can say that it goes on.
  observe::Command pause;
  pause.kind = observe::CommandKind::pause;
  give(pause);
  {
    const std::lock_guard lock(mutex_);
    stop_ = {image.at, {image.variables, image.variables + program_->variables.size()}, reason};
    standing_ = true;
  }
  changed_.notify_all();
}

std::int64_t Breakpoint::give(observe::Command command) {
  command.ticket = ++ticket_;
  command.who = observe::Giver::console;
  while (!inbox_->put(command)) {
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
    const std::lock_guard lock(mutex_);
    if (done_) break;  // there is nobody any more who would take it
  }
  return command.ticket;
}

namespace {
constexpr const char* kWords =
    "step [N], until CONDITION, continue, quit; set NAME = VALUE, inject, clear, arm or disarm FAULT; show [NAME…], "
    "save "
    "FILE, help";
}  // namespace

void Breakpoint::work() {
  for (;;) {
    {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [&] { return standing_ || done_; });
      if (done_) return;
    }
    say_refused();
    say_where();
    if (!std::exchange(explained_, true)) say(kWords);
    session::WorkerBoard::waits(true);
    std::string line;
    bool goes_on = false;
    while (!goes_on && read_line(line)) goes_on = command(one_line(line));
    session::WorkerBoard::waits(false);
    if (!goes_on) return;
  }
}

/// False: the run is over.
bool Breakpoint::read_line(std::string& line) {
  put(stdout, "> ");
  std::fflush(stdout);
  for (;;) {
    if (const std::size_t end = typed_.find('\n'); end != std::string::npos) {
      line = typed_.substr(0, end);
      typed_.erase(0, end + 1);
      return true;
    }
    {
      const std::lock_guard lock(mutex_);
      if (done_) return false;
    }
    pollfd keyboard{STDIN_FILENO, POLLIN, 0};
    if (poll(&keyboard, 1, 50) <= 0) continue;
    char block[4096];
    const ssize_t n = ::read(STDIN_FILENO, block, sizeof block);
    if (n > 0)
      typed_.append(block, static_cast<std::size_t>(n));
    else
      typed_ += "\nquit\n";  // nobody is there any more
  }
}

namespace {
std::string part_of(const std::string& name) {
  const std::size_t dot = name.rfind('.');
  return dot == std::string::npos ? "" : name.substr(0, dot);
}
}  // namespace

/// What the condition reads, and everything of the parts that this belongs to.
void Breakpoint::say_where() const {
  const observe::Image image = stop_.image();
  say(fmt::format("\nStopped at {}: {}", format_instant(image.at), stop_.reason));
  std::set<std::string> parts;
  for (const program::VarId id : condition_->reads()) parts.insert(part_of(program_->variable(id).name));
  TextTable table({{"Quantity"}, {"Value", TextTable::Align::right}, {"Meaning"}});
  for (const program::VarId id : program_->listed) {
    const program::Variable& v = program_->variable(id);
    const bool read =
        std::find(condition_->reads().begin(), condition_->reads().end(), id) != condition_->reads().end();
    const std::string part = part_of(v.name);
    if (program::role_text(v.role) == nullptr || (!read && (part.empty() || !parts.contains(part)))) continue;
    table.row({v.name, program_->format(id, image.variables[id]), v.doc});
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

/// One line of JSON a stop.
void Breakpoint::write_dump(const observe::Image& image, const std::string& reason) {
  Json j{{"time_ns", image.at.count()}, {"reason", reason}, {"values", Json::object()}};
  for (const program::VarId id : program_->listed) {
    const program::Variable& v = program_->variable(id);
    if (program::role_text(v.role) == nullptr) continue;
    const double x = image.variables[id];
    j["values"][v.name] = {{"si", std::isfinite(x) ? Json(x) : Json(nullptr)}, {"read", program_->format(id, x)}};
  }
  std::ofstream out(*plan_.dump, std::ios::app);
  out << j.dump(-1, ' ', false, Json::error_handler_t::replace) << "\n";
  if (!out.good()) say_error(fmt::format("cannot write {}", *plan_.dump));
}

/// True when the run goes on.
bool Breakpoint::command(const std::string& line) {
  const std::string word = line.substr(0, line.find(' '));
  const std::string rest = word.size() < line.size() ? line.substr(word.size() + 1) : "";
  if (word.empty() || word == "step") return step(rest);
  if (word == "until") return until(rest);
  if (word == "continue" || word == "quit") {
    observe::Command c;
    c.kind = word == "quit" ? observe::CommandKind::end : observe::CommandKind::go_on;
    return go(c), true;
  }
  if (word == "set") return set(rest), false;
  if (word == "show") return show(rest), false;
  if (word == "save") return save(rest), false;
  for (const auto kind : {observe::CommandKind::inject, observe::CommandKind::clear, observe::CommandKind::arm,
                          observe::CommandKind::disarm}) {
    if (word == observe::command_word(kind)) return fault(kind, rest), false;
  }
  const auto meant = did_you_mean(
      word, {"step", "until", "continue", "set", "inject", "clear", "arm", "disarm", "show", "save", "help", "quit"});
  say(meant && word != "help" ? *meant : kWords);
  return false;
}

/// The run moves on, and what it shares is the stepping thread's again.
void Breakpoint::go(const observe::Command& command) {
  {
    const std::lock_guard lock(mutex_);
    standing_ = false;
  }
  give(command);
}

bool Breakpoint::step(const std::string& words) {
  std::int64_t steps = 1;
  const char* end = words.data() + words.size();
  if ((!words.empty() && std::from_chars(words.data(), end, steps).ptr != end) || steps < 1) {
    say("step takes a number of steps, such as `step 10`");
    return false;
  }
  steps_ = steps;
  observe::Command c;
  c.kind = observe::CommandKind::go_on;
  return go(c), true;
}

bool Breakpoint::until(const std::string& words) {
  auto probe = std::make_unique<session::Probe>(*bench_, words);
  if (!probe->good()) return print_mistakes(*probe), false;
  for (const program::VarId id : probe->reads()) {
    const auto& columns = between_->view().columns;
    if (program_->group_of(id).step < program_->step && !std::binary_search(columns.begin(), columns.end(), id))
      say(fmt::format("{} is looked at every {}; --break with it looks at it at its own instants too",
                      program_->variable(id).name, format_span(program_->step)));
  }
  until_ = std::move(probe);
  until_text_ = words;
  observe::Command c;
  c.kind = observe::CommandKind::go_on;
  return go(c), true;
}

/// As a scenario would: checked, and done at the begin of the next instant.
void Breakpoint::set(const std::string& words) {
  const auto own = with_text(*bench_, fmt::format("scenario {} {{ set {} }}\n", kTyped, words));
  if (own == nullptr) return;
  const program::Scenario& s = own->scenarios.back();
  if (s.steps.size() != 1 || s.steps[0].tap != program::kNone) return say("inputs and parameters can be set here");
  std::vector<double> values(own->variables.size());
  observe::Command c;
  for (const auto& [there, here] : session::matched(*own, *program_)) {
    values[static_cast<std::size_t>(there)] = stop_.values[static_cast<std::size_t>(here)];
    if (there == s.steps[0].target) c.target = here;
  }
  engine::Evaluator value(*own, {s.steps[0].value});
  value.evaluate(values.data());
  c.value = value.value(0);
  give(c);
  say(fmt::format("{} becomes {} at the next instant", program_->variable(c.target).name,
                  program_->format(c.target, c.value)));
}

/// Done at the begin of the next instant, if it can be: see say_refused().
void Breakpoint::fault(observe::CommandKind kind, const std::string& name) {
  if (name.empty()) return say(fmt::format("{} takes the name of a fault", observe::command_word(kind)));
  std::vector<std::string> names;
  observe::Command c;
  c.kind = kind;
  for (std::size_t f = 0; f < program_->faults.size(); ++f) {
    names.push_back(program_->faults[f].name);
    if (names.back() == name) c.index = static_cast<std::int32_t>(f);
  }
  if (c.index == program::kNone) {
    const auto meant = did_you_mean(name, names);
    return say(
        fmt::format("there is no fault `{}`; {}", name, meant ? *meant : "the bench has: " + listed(names, "none")));
  }
  give(c);
  say(fmt::format("{} {} at the next instant", observe::command_word(kind), name));
}

/// The run stands, and does it at once.
void Breakpoint::save(const std::string& file) {
  if (file.empty()) return say("save takes the name of a file");
  texts_.push_back(file);
  observe::Command c;
  c.kind = observe::CommandKind::save;
  c.text = texts_.back().c_str();
  const std::int64_t ticket = give(c);
  for (observe::CommandOutcome o;;) {
    if (!inbox_->outcome(o)) {
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
      const std::lock_guard lock(mutex_);
      if (done_) return;
      continue;
    }
    say_refused(o);
    if (o.command.ticket != ticket) continue;
    if (o.refusal == observe::Refusal::none) say("The state is in " + file);
    return;
  }
}

/// What came of earlier commands, where that is not what was said.
void Breakpoint::say_refused() {
  for (observe::CommandOutcome o; inbox_->outcome(o);) say_refused(o);
}

void Breakpoint::say_refused(const observe::CommandOutcome& o) const {
  const observe::Command& c = o.command;
  using Kind = observe::CommandKind;
  if (o.refusal == observe::Refusal::none || (observe::about_course(c.kind) && c.kind != Kind::save)) return;
  const std::string about = observe::about_fault(c.kind) ? program::at(program_->faults, c.index).name
                            : c.kind == Kind::save       ? std::string(c.text)
                                                         : program_->variable(c.target).name;
  say_error(fmt::format("`{} {}` was not done at {}: {}", observe::command_word(c.kind), about, format_instant(o.at),
                        observe::refusal_text(o.refusal)));
}

void Breakpoint::show(const std::string& words) const {
  const observe::Image image = stop_.image();
  std::istringstream names(words);
  std::vector<std::string> wanted;
  for (std::string n; names >> n;) wanted.push_back(n);
  TextTable table({{"Quantity"}, {"Value", TextTable::Align::right}, {"Meaning"}});
  for (const program::VarId id : program_->listed) {
    const program::Variable& v = program_->variable(id);
    if (program::role_text(v.role) == nullptr) continue;
    const bool asked = wanted.empty() || std::any_of(wanted.begin(), wanted.end(), [&](const std::string& w) {
                         return v.name == w || v.name.starts_with(w + ".");
                       });
    if (asked) table.row({v.name, program_->format(id, image.variables[id]), v.doc});
  }
  if (table.empty()) say(fmt::format("nothing is called {}", words));
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

}  // namespace isodyne::app
