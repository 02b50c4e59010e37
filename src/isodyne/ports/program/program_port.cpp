#include "isodyne/ports/program/program_port.h"

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <filesystem>
#include <sstream>
#include <thread>

#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/process.h"
#include "isodyne/ports/make_port.h"

namespace isodyne::ports {

namespace {

constexpr int kLinkDescriptor = 3;
constexpr std::chrono::milliseconds kKindly{500};  ///< for a program to end by itself

std::vector<std::string> words_of(const std::string& command) {
  std::istringstream in(command);
  std::vector<std::string> words;
  for (std::string word; in >> word;) words.push_back(word);
  return words;
}

std::string how_it_ended(int status) {
  if (WIFSIGNALED(status)) {
    const int signal = WTERMSIG(status);
    return fmt::format("was ended by signal {} ({})", signal, strsignal(signal));
  }
  return fmt::format("ended with exit status {}", WEXITSTATUS(status));
}

}  // namespace

ProgramPort::ProgramPort(std::string name, Layout layout, Plan plan)
    : name_(name),
      plan_(std::move(plan)),
      log_(plan_.log),
      most_bytes_(link::kHeadBytes + std::max(layout.reads_bytes, layout.writes_bytes)),
      link_(std::move(name), std::move(layout), plan_.link) {
  link_.watch([this] { return alive(); });
}

ProgramPort::~ProgramPort() {
  end_child(false);
}

Status ProgramPort::open(Time period) {
  period_ = period;
  return spawn();
}

Status ProgramPort::spawn() {
  namespace fs = std::filesystem;
  auto pair = plan_.over_socket ? link::socket_pair() : link::shared_memory(most_bytes_);
  if (!pair) return pair.failure();
  std::vector<std::string> words = words_of(plan_.command);
  std::error_code none;
  const fs::path file = fs::absolute(fs::path(plan_.folder) / words.front(), none);
  if (!fs::is_regular_file(file, none))
    return Failure{fmt::format("cannot find the program of controller `{}`", name_), "",
                   fmt::format("tried {}; has it been built?", (fs::path(plan_.folder) / words.front()).string())};
  words.front() = file.string();

  const auto log = log_.start();
  if (!log) return log.failure();
  Launch launch;
  launch.words = std::move(words);
  launch.folder = plan_.folder;
  launch.output = *log;
  launch.third = pair->theirs.number();
  launch.name = "ISODYNE_LINK";
  launch.value = fmt::format("{}:{}", plan_.over_socket ? "socket" : "memory", kLinkDescriptor);
  const auto child = start_program(fmt::format("the program of controller `{}`", name_), launch);
  ::close(*log);
  if (!child) return child.failure();
  child_ = *child;
  link_.adopt(std::move(pair->ours), period_);
  return Done{};
}

Status ProgramPort::alive() {
  int status = 0;
  if (child_ > 0 && waitpid(child_, &status, WNOHANG) == 0) return Done{};
  if (child_ > 0) ::kill(-child_, SIGKILL);  // what it had started
  child_ = -1;
  log_.stop();
  const std::string said = log_.last_lines();
  return Failure{fmt::format("controller `{}`", name_), "",
                 fmt::format("its program {}{}{}", how_it_ended(status),
                             plan_.log.empty() ? "" : fmt::format("; what it printed is in {}", plan_.log),
                             said.empty() ? "" : (plan_.log.empty() ? "; it printed" : ", its last lines:") + said)};
}

Status ProgramPort::exchange(Time now, std::span<const double> reads, std::span<double> writes) {
  for (;;) {
    const Status exchanged = link_.exchange(now, reads, writes);
    if (exchanged || restarts_ >= plan_.restarts) return exchanged;
    ++restarts_;
    end_child(false);
    const Status again = spawn();
    if (!again) return again;
    const auto until = Wall::now() + plan_.ready_within;
    for (;;) {
      const auto standing = link_.look(reads, writes);
      if (!standing) break;  // the next exchange fails for the same reason and counts
      if (*standing == Standing::ready) break;
      if (Wall::now() > until)
        return Failure{fmt::format("controller `{}`", name_), "", "did not become ready after it was started again"};
    }
  }
}

Traffic ProgramPort::traffic() const {
  Traffic t = link_.traffic();
  t.restarts = restarts_;
  return t;
}

void ProgramPort::end_child(bool kindly) {
  if (child_ <= 0) return;
  int status = 0;
  const auto gone = [&](std::chrono::milliseconds within) {
    const auto until = Wall::now() + within;
    for (;;) {
      if (waitpid(child_, &status, WNOHANG) != 0) return true;
      if (Wall::now() > until) return false;
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
    }
  };
  if (!kindly || !gone(kKindly)) {
    kill(-child_, SIGTERM);
    kill(-child_, SIGCONT);  // a stopped program cannot hear
    if (!gone(kindly ? kKindly : std::chrono::milliseconds(100))) {
      kill(-child_, SIGKILL);
      waitpid(child_, &status, 0);
    }
  }
  kill(-child_, SIGKILL);  // what it has left behind
  child_ = -1;
  log_.stop();
}

void ProgramPort::close() {
  link_.close();
  end_child(true);
}

std::unique_ptr<ControllerPort> make_program(const PortOrder& o) {
  ProgramPort::Plan plan;
  plan.command = o.setting.address;
  plan.folder = o.place.folder;
  // The program runs in the folder of the bench, but what it prints belongs to the run.
  if (!o.place.logs.empty())
    plan.log = (std::filesystem::absolute(o.place.logs) / (o.controller.name + ".log")).string();
  plan.over_socket = o.setting.over_socket;
  plan.restarts = o.setting.restarts;
  plan.ready_within = o.setting.ready_within;
  plan.link = {"", o.place.answer_within, o.place.paced};
  return std::make_unique<ProgramPort>(o.controller.name, layout_of(o.program, o.controller), plan);
}

}  // namespace isodyne::ports
