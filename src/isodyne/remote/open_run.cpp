#include "isodyne/remote/open_run.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/core/version.h"
#include "isodyne/remote/values.h"
#include "isodyne/session/worker.h"

namespace isodyne::remote {

using observe::Command;
using observe::CommandKind;
using std::chrono::milliseconds;

namespace {

constexpr std::size_t kMostOfBatch = 4u << 20;

/// "go_on": methods have no blanks in their names.
std::string method_of(CommandKind kind) {
  std::string word = observe::command_word(kind);
  std::replace(word.begin(), word.end(), ' ', '_');
  return word;
}

constexpr CommandKind kOffered[] = {CommandKind::set,  CommandKind::press,   CommandKind::load,   CommandKind::ramp,
                                    CommandKind::play, CommandKind::release, CommandKind::inject, CommandKind::clear,
                                    CommandKind::arm,  CommandKind::disarm,  CommandKind::mark,   CommandKind::pause,
                                    CommandKind::step, CommandKind::go_on,   CommandKind::save,   CommandKind::end};

}  // namespace

OpenRun::OpenRun(std::shared_ptr<const session::Bench> bench, std::string folder)
    : bench_(std::move(bench)), program_(bench_->program), folder_(std::move(folder)), captures_(program_) {
  acts_.resize(program_->faults.size());
  broken_.resize(program_->requirements.size());
}

// ---- the run's side -----------------------------------------------------------------------------------------

void OpenRun::begins(bench::Run& run) {
  run_ = &run;
  inbox_ = &run.inbox();
  newest_.assign(program_->variables.size(), 0);
  auto clients = Clients::listen(folder_, kSocketName);
  if (!clients) {
    why_not_ = clients.failure().text();
    return;
  }
  clients_ = std::move(*clients);
  thread_ = std::thread([this] { work(); });
}

void OpenRun::image(const observe::Image& image) {
  bool came = false;
  {
    const std::lock_guard lock(mutex_);
    std::copy_n(image.variables, newest_.size(), newest_.begin());
    at_ = image.at;
    any_ = true;
    for (Watch& w : watches_) {
      for (std::size_t i = 0; i < w.ids.size(); ++i) {
        const double value = image.variables[w.ids[i]];
        w.least[i] = std::fmin(w.least[i], value);
        w.greatest[i] = std::fmax(w.greatest[i], value);
      }
    }
    captures_.image(image);
    came = captures_.any_done();
  }
  if (came && clients_) clients_->wake();
  if (pending_.load(std::memory_order_relaxed) > 0 && clients_) clients_->wake();
}

/// What quick groups do between two images counts for least and greatest, where somebody looks at it there.
void OpenRun::rows(const observe::Rows& rows) {
  const std::lock_guard lock(mutex_);
  captures_.rows(rows);
  for (Watch& w : watches_) {
    for (std::size_t i = 0; i < w.ids.size(); ++i) {
      const auto column = std::lower_bound(rows.columns.begin(), rows.columns.end(), w.ids[i]);
      if (column == rows.columns.end() || *column != w.ids[i]) continue;
      const auto place = static_cast<std::size_t>(column - rows.columns.begin());
      for (std::size_t r = 0; r < rows.count; ++r) {
        w.least[i] = std::fmin(w.least[i], rows.row(r)[place]);
        w.greatest[i] = std::fmax(w.greatest[i], rows.row(r)[place]);
      }
    }
  }
}

void OpenRun::edges(const observe::Edges& edges) {
  const std::lock_guard lock(mutex_);
  captures_.edges(edges);
}

void OpenRun::event(const observe::Event& event) {
  {
    const std::lock_guard lock(mutex_);
    seen_.push_back({event, event.note == nullptr ? std::string() : std::string(event.note)});
    seen_.back().event.note = nullptr;
    if (seen_.size() > kMostSeen) seen_.pop_front(), ++first_seen_;
    const auto place = static_cast<std::size_t>(event.subject);
    if (event.kind == observe::EventKind::fault_on) acts_[place] = event.at;
    if (event.kind == observe::EventKind::fault_off) acts_[place].reset();
    if (event.kind == observe::EventKind::broken && !broken_[place]) broken_[place] = event.at;
    captures_.event(event);
  }
  if (followers_.load(std::memory_order_relaxed) > 0 && clients_) clients_->wake();
}

void OpenRun::ended(const bench::Run&, bench::RunResult& result) {
  {
    const std::lock_guard lock(mutex_);
    ending_ = {{"ending", observe::ending_word(result.ending)}, {"at_s", to_seconds(result.ended_at)}};
    if (!result.explanation.empty()) ending_["why"] = result.explanation;
    captures_.over();
  }
  if (!why_not_.empty()) result.explanation = why_not_;
  done();
}

void OpenRun::done() {
  over_.store(true);
  if (clients_) clients_->wake();
  if (thread_.joinable()) thread_.join();
  clients_.reset();
}

// ---- the clients' side --------------------------------------------------------------------------------------

void OpenRun::work() {
  const auto line = [this](int client, std::string_view text) { heard(client, text); };
  const auto gone = [this](int client) {
    follows_.erase(client);
    followers_ = static_cast<std::int64_t>(follows_.size());
    const std::lock_guard lock(mutex_);
    std::erase_if(watches_, [&](const Watch& w) { return w.client == client; });
    std::erase_if(capturing_, [&](const auto& one) {
      if (one.second.asked.client == client) captures_.remove(one.first);
      return one.second.asked.client == client;
    });
  };
  while (!over_.load()) {
    clients_->see(until_next(), line, gone);
    take_captures();
    give_waiting();
    take_outcomes();
    send_events();
    send_updates(false);
  }
  // Whoever still waits is told.
  take_captures();
  take_outcomes();
  for (const auto& [ticket, asked] : asked_) refuse(asked, RpcError::over, "the run was over before");
  asked_.clear();
  const auto end = std::chrono::steady_clock::now() + milliseconds(1000);
  while (!send_events() && std::chrono::steady_clock::now() < end) clients_->finish(milliseconds(50));
  send_updates(true);
  clients_->send_all(line_of(notification("ended", ending_.is_null() ? Json::object() : ending_)));
  clients_->finish(milliseconds(1000));
}

milliseconds OpenRun::until_next() const {
  milliseconds most{200};
  if (pending_.load() > 0 || !waiting_.empty()) most = milliseconds(1);  // a run that stands shows no images
  const auto now = std::chrono::steady_clock::now();
  for (const Watch& w : watches_)
    most = std::min(most, std::max(milliseconds(0), std::chrono::ceil<milliseconds>(w.next - now)));
  return most;
}

void OpenRun::heard(int client, std::string_view line) {
  const Message message = read_message(line);
  std::shared_ptr<Batch> batch;
  if (message.batch) {
    batch = std::make_shared<Batch>();
    batch->answers = message.answers;
    for (const Call& c : message.calls) batch->owed += c.id ? 1 : 0;
    if (batch->owed == 0 && !batch->answers.empty()) clients_->send(client, line_of(batch->answers));
  } else {
    for (const Json& a : message.answers) clients_->send(client, line_of(a));
  }
  for (const Call& c : message.calls) {
    if (c.id) clients_->owe(client, 1);
    call(c, {client, c.id, batch});
  }
}

void OpenRun::answer(const Asked& asked, Json message) {
  if (!asked.id) return;
  clients_->owe(asked.client, -1);
  std::string line = line_of(message);
  if (asked.batch == nullptr) return clients_->send(asked.client, line);
  asked.batch->bytes += line.size();
  if (asked.batch->bytes > kMostOfBatch)
    message = error_of(*asked.id, RpcError::too_many, "the answers of this batch are too long together");
  asked.batch->answers.push_back(std::move(message));
  if (--asked.batch->owed == 0) clients_->send(asked.client, line_of(asked.batch->answers));
}

void OpenRun::result(const Asked& asked, Json result) {
  if (asked.id) answer(asked, result_of(*asked.id, std::move(result)));
}

void OpenRun::refuse(const Asked& asked, RpcError code, const std::string& text, Json data) {
  if (asked.id) answer(asked, error_of(*asked.id, code, text, std::move(data)));
}

void OpenRun::call(const Call& c, const Asked& asked) {
  static constexpr std::pair<const char*, void (OpenRun::*)(const Json&, const Asked&)> kQuestions[] = {
      {"describe", &OpenRun::describe}, {"read", &OpenRun::read},         {"watch", &OpenRun::watch},
      {"unwatch", &OpenRun::unwatch},   {"events", &OpenRun::events},     {"verdicts", &OpenRun::verdicts},
      {"timing", &OpenRun::timing},     {"log", &OpenRun::log},           {"wait", &OpenRun::wait},
      {"capture", &OpenRun::capture},   {"captured", &OpenRun::captured}, {"uncapture", &OpenRun::uncapture},
      {"faults", &OpenRun::faults}};
  std::vector<std::string> known;
  for (const auto& [name, answer] : kQuestions) {
    if (c.method == name) return (this->*answer)(c.params, asked);
    known.emplace_back(name);
  }
  for (const CommandKind kind : kOffered) {
    if (c.method == method_of(kind)) return command(kind, c.params, asked);
    known.push_back(method_of(kind));
  }
  const auto meant = did_you_mean(c.method.substr(0, 100), known);
  refuse(asked, RpcError::no_method,
         fmt::format("there is no method `{}`; {}", c.method.substr(0, 100),
                     meant ? *meant : "there are: " + listed(known)));
}

}  // namespace isodyne::remote
