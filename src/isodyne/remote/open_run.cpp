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

constexpr std::size_t kMostWatches = 256, kMostEvents = 1000, kMostNote = 10'000, kMostOfBatch = 4u << 20;
constexpr double kMostPerSecond = 200;

/// "go_on": methods have no blanks in their names.
std::string method_of(CommandKind kind) {
  std::string word = observe::command_word(kind);
  std::replace(word.begin(), word.end(), ' ', '_');
  return word;
}

constexpr CommandKind kOffered[] = {CommandKind::set,   CommandKind::ramp, CommandKind::release, CommandKind::inject,
                                    CommandKind::clear, CommandKind::arm,  CommandKind::disarm,  CommandKind::mark,
                                    CommandKind::pause, CommandKind::step, CommandKind::go_on,   CommandKind::end};

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

std::string text_in(const Json& params, const char* name) {
  const auto found = params.find(name);
  return found != params.end() && found->is_string() ? found->get<std::string>() : "";
}

Json number_or_null(double value) {
  return std::isfinite(value) ? Json(value) : Json(nullptr);
}

}  // namespace

OpenRun::OpenRun(std::shared_ptr<const program::Program> program, std::string folder)
    : program_(std::move(program)), folder_(std::move(folder)) {}

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
  }
  if (pending_.load(std::memory_order_relaxed) > 0 && clients_) clients_->wake();
}

/// What quick groups do between two images counts for least and greatest, where somebody looks at it there.
void OpenRun::rows(const observe::Rows& rows) {
  const std::lock_guard lock(mutex_);
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

void OpenRun::event(const observe::Event& event) {
  {
    const std::lock_guard lock(mutex_);
    seen_.push_back({event, event.note == nullptr ? std::string() : std::string(event.note)});
    seen_.back().event.note = nullptr;
  }
  if (followers_.load(std::memory_order_relaxed) > 0 && clients_) clients_->wake();
}

void OpenRun::ended(const bench::Run&, bench::RunResult& result) {
  {
    const std::lock_guard lock(mutex_);
    ending_ = {{"ending", observe::ending_word(result.ending)}, {"at_s", to_seconds(result.ended_at)}};
    if (!result.explanation.empty()) ending_["why"] = result.explanation;
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
  };
  while (!over_.load()) {
    clients_->see(until_next(), line, gone);
    give_waiting();
    take_outcomes();
    send_events();
    send_updates(false);
  }
  // Whoever still waits is told.
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
      {"describe", &OpenRun::describe},
      {"read", &OpenRun::read},
      {"watch", &OpenRun::watch},
      {"unwatch", &OpenRun::unwatch},
      {"events", &OpenRun::events}};
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

void OpenRun::describe(const Json&, const Asked& asked) {
  const program::Program& p = *program_;
  Json signals = Json::array(), faults = Json::array(), scenarios = Json::array();
  for (const program::VarId id : p.listed) {
    const program::Variable& v = p.variable(id);
    if (program::role_text(v.role) == nullptr) continue;
    Json s{{"name", v.name}, {"type", p.type_text(v)}, {"role", program::role_text(v.role)}};
    if (v.limits) s["limits"] = {value_of(p, id, v.limits->first), value_of(p, id, v.limits->second)};
    if (v.role == program::Role::param || v.role == program::Role::input) s["can_be_set"] = true;
    if (!v.doc.empty()) s["doc"] = v.doc;
    signals.push_back(std::move(s));
  }
  for (const program::Fault& f : p.faults)
    faults.push_back({{"name", f.name}, {"by_hand", f.when == program::Fault::When::by_hand}});
  for (const program::Scenario& s : p.scenarios) scenarios.push_back(s.name);
  result(asked, {{"bench", p.name},
                 {"version", kVersion},
                 {"step_s", to_seconds(p.step)},
                 {"signals", std::move(signals)},
                 {"faults", std::move(faults)},
                 {"scenarios", std::move(scenarios)}});
}

void OpenRun::read(const Json& params, const Asked& asked) {
  const auto ids = named(*program_, params.value("names", Json()));
  if (!ids) return refuse(asked, RpcError::wrong_params, ids.failure().text());
  const auto seen = newest(*ids);
  if (!seen) return refuse(asked, RpcError::refused, "the run has not begun: there are no values yet", "not_begun");
  Json values = Json::object();
  for (std::size_t i = 0; i < ids->size(); ++i)
    values[program_->variable((*ids)[i]).name] = value_of(*program_, (*ids)[i], seen->second[i]);
  result(asked, {{"at_s", to_seconds(seen->first)}, {"stands", stands_}, {"values", std::move(values)}});
}

/// Values as they were shown last, and when; nothing before the first image.
std::optional<std::pair<Time, std::vector<double>>> OpenRun::newest(const std::vector<program::VarId>& ids) {
  std::vector<double> values(ids.size());
  const std::lock_guard lock(mutex_);
  if (!any_) return std::nullopt;
  for (std::size_t i = 0; i < ids.size(); ++i) values[i] = newest_[static_cast<std::size_t>(ids[i])];
  return std::pair{at_, std::move(values)};
}

void OpenRun::watch(const Json& params, const Asked& asked) {
  const auto ids = named(*program_, params.value("names", Json()));
  if (!ids) return refuse(asked, RpcError::wrong_params, ids.failure().text());
  const Json rate = params.value("per_second", Json(10));
  if (!rate.is_number() || !(rate.get<double>() > 0) || rate.get<double>() > kMostPerSecond)
    return refuse(asked, RpcError::wrong_params,
                  fmt::format("\"per_second\" is a number above 0, and at most {}", kMostPerSecond));
  Watch w;
  w.client = asked.client;
  w.ids = *ids;
  w.every = std::chrono::nanoseconds(static_cast<std::int64_t>(1e9 / rate.get<double>()));
  w.next = std::chrono::steady_clock::now() + w.every;
  w.least.assign(ids->size(), HUGE_VAL);
  w.greatest.assign(ids->size(), -HUGE_VAL);
  Json names = Json::array();
  for (const program::VarId id : *ids) names.push_back(program_->variable(id).name);
  {
    const std::lock_guard lock(mutex_);
    if (watches_.size() >= kMostWatches)
      return refuse(asked, RpcError::too_many, fmt::format("there are {} watches already", kMostWatches));
    w.number = ++watch_;
    watches_.push_back(w);
  }
  result(asked, {{"watch", w.number}, {"names", std::move(names)}});
}

void OpenRun::unwatch(const Json& params, const Asked& asked) {
  const Json number = params.value("watch", Json());
  std::size_t gone = 0;
  {
    const std::lock_guard lock(mutex_);
    gone = std::erase_if(watches_, [&](const Watch& w) { return w.client == asked.client && number == w.number; });
  }
  if (gone == 0) return refuse(asked, RpcError::wrong_params, "\"watch\" is the number of a watch of yours");
  result(asked, Json::object());
}

/// Watches are added and taken away by this thread alone; what they have seen is the run's as well.
void OpenRun::send_updates(bool last) {
  const auto now = std::chrono::steady_clock::now();
  for (Watch& w : watches_) {
    if (last ? w.left_out == 0 : w.next > now) continue;
    const auto seen = newest(w.ids);
    if (!seen) continue;
    w.next = std::max(w.next + w.every, now);
    if (!last && !clients_->room(w.client)) {
      ++w.left_out;
      continue;
    }
    std::vector<double> least(w.ids.size(), HUGE_VAL), greatest(w.ids.size(), -HUGE_VAL);
    {
      const std::lock_guard lock(mutex_);
      w.least.swap(least);
      w.greatest.swap(greatest);
    }
    Json values = Json::array(), lows = Json::array(), highs = Json::array();
    for (std::size_t i = 0; i < w.ids.size(); ++i) {
      const double value = seen->second[i];
      values.push_back(number_or_null(value));
      lows.push_back(number_or_null(std::fmin(least[i], value)));
      highs.push_back(number_or_null(std::fmax(greatest[i], value)));
    }
    clients_->send(w.client, line_of(notification("update", {{"watch", w.number},
                                                             {"at_s", to_seconds(seen->first)},
                                                             {"si", std::move(values)},
                                                             {"least", std::move(lows)},
                                                             {"greatest", std::move(highs)},
                                                             {"left_out", w.left_out}})));
    w.left_out = 0;
  }
}

// ---- events -------------------------------------------------------------------------------------------------

/// Null: there is none of this number yet.
Json OpenRun::event_json(std::size_t number) {
  Seen seen;
  {
    const std::lock_guard lock(mutex_);
    if (number >= seen_.size()) return nullptr;
    seen = seen_[number];
  }
  if (!seen.note.empty()) seen.event.note = seen.note.c_str();
  return {{"number", number},
          {"at_s", to_seconds(seen.event.at)},
          {"kind", observe::event_word(seen.event.kind)},
          {"subject", observe::subject_text(*program_, seen.event)},
          {"text", observe::event_text(*program_, seen.event)}};
}

void OpenRun::events(const Json& params, const Asked& asked) {
  const Json from = params.value("from", Json(0)), follow = params.value("follow", Json(false));
  if (!from.is_number_integer() || from.get<double>() < 0)
    return refuse(asked, RpcError::wrong_params, "\"from\" is the number of an event, from 0 on");
  if (!follow.is_boolean()) return refuse(asked, RpcError::wrong_params, "\"follow\" is true or false");
  Json list = Json::array();
  std::size_t next = from.get<std::size_t>();
  for (; list.size() < kMostEvents; ++next) {
    Json event = event_json(next);
    if (event.is_null()) break;
    list.push_back(std::move(event));
  }
  if (follow.get<bool>()) follows_[asked.client] = next;
  followers_ = static_cast<std::int64_t>(follows_.size());
  result(asked, {{"events", std::move(list)}, {"next", next}});
}

/// Whether all have what there is.
bool OpenRun::send_events() {
  bool all = true;
  for (auto& [client, next] : follows_) {
    Json event;
    while (clients_->room(client) && !(event = event_json(next)).is_null()) {
      clients_->send(client, line_of(notification("event", std::move(event))));
      ++next;
    }
    all = all && clients_->room(client);
  }
  return all;
}

// ---- commands -----------------------------------------------------------------------------------------------

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
  if (about_value || c.kind == CommandKind::release) {
    if (std::string wrong = find_target(params, c); !wrong.empty()) return wrong;
  }
  if (about_value) {
    const auto value = read_value(*program_, c.target, params.value("value", Json()));
    if (!value) return value.failure().text();
    c.value = *value;
  }
  if (c.kind == CommandKind::ramp) {
    const auto over = read_span(text_in(params, "over"));
    if (!over) return "\"over\" is a time, such as \"20 s\"";
    c.over = *over;
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
  const bool about_quantity =
      c.kind == CommandKind::set || c.kind == CommandKind::ramp || c.kind == CommandKind::release;
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

/// In the order in which they came, as the run takes them.
void OpenRun::give_waiting() {
  while (!waiting_.empty() && inbox_->put(waiting_.front())) waiting_.pop_front();
}

/// What came of a command is told when its instant has been shown: who reads then sees it.
void OpenRun::take_outcomes() {
  for (observe::CommandOutcome o; inbox_->outcome(o);) unseen_.push_back(o);
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
