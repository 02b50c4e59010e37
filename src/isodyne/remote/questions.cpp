// What clients ask: what there is, how it stands, what has happened, what they wait for.

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fstream>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/core/version.h"
#include "isodyne/remote/open_run.h"
#include "isodyne/remote/values.h"

namespace isodyne::remote {

using observe::Command;
using observe::CommandKind;

namespace {

constexpr std::size_t kMostWatches = 256, kMostEvents = 1000, kMostCondition = 10'000, kMostCaptures = 64,
                      kMostInPage = 20'000, kMostTakes = 4, kMostOfLog = 65536;
constexpr double kMostPerSecond = 200;

Json number_or_null(double value) {
  return std::isfinite(value) ? Json(value) : Json(nullptr);
}

/// What is on them, in the order of the text.
Json panels_of(const program::Program& p) {
  Json all = Json::array();
  for (const program::Panel& panel : p.panels) {
    Json items = Json::array();
    for (const program::PanelItem& i : panel.items) {
      Json names = Json::array();
      for (const program::VarId id : i.ids) names.push_back(p.variable(id).name);
      Json one{{"kind", program::panel_word(i.kind)}, {"names", std::move(names)}};
      if (!i.label.empty()) one["label"] = i.label;
      if (i.range)
        one["range"] = {value_of(p, i.ids.front(), i.range->first), value_of(p, i.ids.front(), i.range->second)};
      if (i.step > 0) one["step_si"] = i.step;
      if (i.over > Time{}) one["over_s"] = to_seconds(i.over);
      items.push_back(std::move(one));
    }
    all.push_back({{"name", panel.name}, {"title", panel.title}, {"items", std::move(items)}});
  }
  return all;
}

}  // namespace

void OpenRun::describe(const Json&, const Asked& asked) {
  const program::Program& p = *program_;
  Json signals = Json::array(), faults = Json::array(), scenarios = Json::array();
  for (const program::VarId id : p.listed) {
    const program::Variable& v = p.variable(id);
    if (program::role_text(v.role) == nullptr) continue;
    Json s{{"name", v.name}, {"type", p.type_text(v)}, {"role", program::role_text(v.role)}};
    if (v.limits) s["limits"] = {value_of(p, id, v.limits->first), value_of(p, id, v.limits->second)};
    if (v.type.kind == program::Type::Kind::real)
      s["unit"] = {{"text", v.unit.text}, {"factor", v.unit.factor}, {"offset", v.unit.offset}};
    if (v.type.kind == program::Type::Kind::choice) s["labels"] = at(p.choices, v.type.choice).labels;
    if (v.role == program::Role::param || v.role == program::Role::input) s["can_be_set"] = true;
    if (!v.doc.empty()) s["doc"] = v.doc;
    signals.push_back(std::move(s));
  }
  for (std::size_t i = 0; i < p.faults.size(); ++i)
    faults.push_back({{"name", p.faults[i].name},
                      {"by_hand", p.faults[i].when == program::Fault::When::by_hand},
                      {"in_run", in_run(i)}});
  for (const program::Scenario& s : p.scenarios) scenarios.push_back(s.name);
  Json requirements = Json::array(), sets = Json::array(), tables = Json::array(), controllers = Json::array();
  for (const program::Controller& c : p.controllers) controllers.push_back(c.name);
  for (const program::Requirement& r : p.requirements) requirements.push_back(r.name);
  for (const program::NamedValues& v : p.value_sets) sets.push_back(v.name);
  for (const program::LookupTable& t : p.tables) {
    if (t.y.empty() && !t.name.empty() && t.name.find('.') == std::string::npos) tables.push_back(t.name);
  }
  const std::int32_t scenario = run_->plan().scenario;
  result(asked, {{"bench", p.name},
                 {"scenario", scenario == program::kNone ? Json(nullptr) : Json(at(p.scenarios, scenario).name)},
                 {"paced", run_->paced()},
                 {"speed", run_->paced() ? Json(run_->plan().pace->speed) : Json(nullptr)},
                 {"version", kVersion},
                 {"step_s", to_seconds(p.step)},
                 {"signals", std::move(signals)},
                 {"faults", std::move(faults)},
                 {"scenarios", std::move(scenarios)},
                 {"requirements", std::move(requirements)},
                 {"value_sets", std::move(sets)},
                 {"tables", std::move(tables)},
                 {"controllers", std::move(controllers)},
                 {"panels", panels_of(p)}});
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
  const Json read = params.value("read", Json(false));
  if (!read.is_boolean()) return refuse(asked, RpcError::wrong_params, "\"read\" is true or false");
  Watch w;
  w.reads = read.get<bool>();
  w.client = asked.client;
  w.ids = *ids;
  w.every = std::chrono::nanoseconds(static_cast<std::int64_t>(1e9 / rate.get<double>()));
  w.next = std::chrono::steady_clock::now() + w.every;
  w.least.assign(ids->size(), HUGE_VAL);
  w.greatest.assign(ids->size(), -HUGE_VAL);
  Json names = Json::array(), units = Json::array();
  for (const program::VarId id : *ids) {
    names.push_back(program_->variable(id).name);
    units.push_back(si_text(program_->variable(id).type.dimension));
  }
  {
    const std::lock_guard lock(mutex_);
    if (watches_.size() >= kMostWatches)
      return refuse(asked, RpcError::too_many, fmt::format("there are {} watches already", kMostWatches));
    w.number = ++watch_;
    watches_.push_back(w);
  }
  result(asked, {{"watch", w.number}, {"names", std::move(names)}, {"si_units", std::move(units)}});
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
    Json values = Json::array(), lows = Json::array(), highs = Json::array(), read = Json::array();
    for (std::size_t i = 0; i < w.ids.size(); ++i) {
      const double value = seen->second[i];
      values.push_back(number_or_null(value));
      lows.push_back(number_or_null(std::fmin(least[i], value)));
      highs.push_back(number_or_null(std::fmax(greatest[i], value)));
      if (w.reads)
        read.push_back({program_->format(w.ids[i], value), program_->format(w.ids[i], std::fmin(least[i], value)),
                        program_->format(w.ids[i], std::fmax(greatest[i], value))});
    }
    Json update{{"watch", w.number},        {"at_s", to_seconds(seen->first)}, {"si", std::move(values)},
                {"least", std::move(lows)}, {"greatest", std::move(highs)},    {"left_out", w.left_out}};
    if (w.reads) update["read"] = std::move(read);
    clients_->send(w.client, line_of(notification("update", std::move(update))));
    w.left_out = 0;
  }
}

// ---- events -------------------------------------------------------------------------------------------------

/// Null: there is none of this number yet.
Json OpenRun::event_json(std::size_t number) {
  Seen seen;
  {
    const std::lock_guard lock(mutex_);
    if (number < first_seen_ || number - first_seen_ >= seen_.size()) return nullptr;
    seen = seen_[number - first_seen_];
  }
  if (!seen.note.empty()) seen.event.note = seen.note.c_str();
  return {{"number", number},
          {"at_s", to_seconds(seen.event.at)},
          {"kind", observe::event_word(seen.event.kind)},
          {"subject", observe::subject_text(*program_, seen.event)},
          {"text", observe::event_text(*program_, seen.event)}};
}

std::size_t OpenRun::first_event() {
  const std::lock_guard lock(mutex_);
  return first_seen_;
}

void OpenRun::events(const Json& params, const Asked& asked) {
  const Json from = params.value("from", Json(0)), follow = params.value("follow", Json(false));
  if (!from.is_number_integer() || from.get<double>() < 0)
    return refuse(asked, RpcError::wrong_params, "\"from\" is the number of an event, from 0 on");
  if (!follow.is_boolean()) return refuse(asked, RpcError::wrong_params, "\"follow\" is true or false");
  Json list = Json::array();
  // Those that are long past are in the recording alone.
  const std::size_t asked_for = from.get<std::size_t>(), first = first_event();
  std::size_t next = std::max(asked_for, first);
  for (; list.size() < kMostEvents; ++next) {
    Json event = event_json(next);
    if (event.is_null()) break;
    list.push_back(std::move(event));
  }
  if (follow.get<bool>()) follows_[asked.client] = next;
  followers_ = static_cast<std::int64_t>(follows_.size());
  Json made{{"events", std::move(list)}, {"next", next}};
  if (asked_for < first) made["left_out"] = first - asked_for;
  result(asked, std::move(made));
}

/// Whether all have what there is.
bool OpenRun::send_events() {
  bool all = true;
  for (auto& [client, next] : follows_) {
    if (const std::size_t first = first_event(); next < first && clients_->room(client)) {
      clients_->send(client, line_of(notification("events_left_out", {{"count", first - next}})));
      next = first;
    }
    Json event;
    while (clients_->room(client) && !(event = event_json(next)).is_null()) {
      clients_->send(client, line_of(notification("event", std::move(event))));
      ++next;
    }
    all = all && clients_->room(client);
  }
  return all;
}

// ---- how it stands ------------------------------------------------------------------------------------------

bool OpenRun::in_run(std::size_t fault) const {
  const std::vector<std::int32_t>& chosen = run_->plan().faults;
  return std::find(chosen.begin(), chosen.end(), static_cast<std::int32_t>(fault)) != chosen.end();
}

/// As far as was shown, and up to when that is.
std::pair<Time, OpenRun::Since> OpenRun::shown(const Since& since) {
  const std::lock_guard lock(mutex_);
  return {at_, since};
}

/// Which act.
void OpenRun::faults(const Json&, const Asked& asked) {
  const program::Program& p = *program_;
  const auto [now, acts] = shown(acts_);
  Json all = Json::array();
  for (std::size_t i = 0; i < p.faults.size(); ++i) {
    Json one{{"name", p.faults[i].name},
             {"by_hand", p.faults[i].when == program::Fault::When::by_hand},
             {"in_run", in_run(i)},
             {"acts", acts[i].has_value()}};
    if (acts[i]) one["since_s"] = to_seconds(*acts[i]);
    all.push_back(std::move(one));
  }
  result(asked, {{"at_s", to_seconds(now)}, {"faults", std::move(all)}});
}

/// What is broken is known some instants later; nothing else is until the end.
void OpenRun::verdicts(const Json&, const Asked& asked) {
  const program::Program& p = *program_;
  const auto [now, broken] = shown(broken_);
  Json all = Json::array();
  for (std::size_t i = 0; i < broken.size(); ++i) {
    Json one{{"requirement", p.requirements[i].name}, {"so_far", broken[i] ? "broken" : "not broken"}};
    if (broken[i]) one["since_s"] = to_seconds(*broken[i]);
    all.push_back(std::move(one));
  }
  result(asked, {{"at_s", to_seconds(now)}, {"requirements", std::move(all)}});
}

void OpenRun::timing(const Json&, const Asked& asked) {
  const auto seen = newest({});
  if (!seen) return refuse(asked, RpcError::refused, "the run has not begun", "not_begun");
  const double at = to_seconds(seen->first);
  if (!run_->paced()) return result(asked, {{"at_s", at}, {"paced", false}, {"stands", stands_}});
  const bench::Timing t = run_->timing();
  const auto times = [](const StepTimes& of) {
    return Json{{"median", of.quantile(0.5) / 1e3},
                {"p99", of.quantile(0.99) / 1e3},
                {"longest", static_cast<double>(of.longest()) / 1e3}};
  };
  Json controllers = Json::array();
  for (const bench::ControllerReport* r : run_->reports())
    controllers.push_back({{"name", r->name},
                           {"exchanges", std::int64_t{r->exchanges}},
                           {"late", std::int64_t{r->late}},
                           {"missed", std::int64_t{r->missed}}});
  result(asked, {{"at_s", at},
                 {"paced", true},
                 {"steps", t.steps},
                 {"late", t.overruns},
                 {"lateness_us", times(t.lateness)},
                 {"step_us", times(t.execution)},
                 {"controllers", std::move(controllers)}});
}

/// Of a controller, whose name is known: nothing else of the folder is read.
void OpenRun::log(const Json& params, const Asked& asked) {
  const std::string name = text_in(params, "controller");
  const Json from = params.value("from", Json(0));
  const auto& all = program_->controllers;
  if (std::none_of(all.begin(), all.end(), [&](const program::Controller& c) { return c.name == name; })) {
    std::vector<std::string> known;
    for (const program::Controller& c : all) known.push_back(c.name);
    return refuse(asked, RpcError::wrong_params, "\"controller\" is one of: " + listed(known, "none"));
  }
  if (!from.is_number_integer() || from.get<double>() < 0)
    return refuse(asked, RpcError::wrong_params, "\"from\" is the number of a byte, from 0 on");
  std::ifstream file(std::filesystem::path(folder_) / (name + ".log"), std::ios::binary);
  std::string text(kMostOfLog, '\0');
  file.seekg(from.get<std::int64_t>());
  file.read(text.data(), static_cast<std::streamsize>(text.size()));
  text.resize(static_cast<std::size_t>(std::max<std::streamsize>(0, file.gcount())));
  result(asked,
         {{"text", printable(text)}, {"next", from.get<std::int64_t>() + static_cast<std::int64_t>(text.size())}});
}

// ---- what is waited for -------------------------------------------------------------------------------------

/// What is wrong with a span of time among the parameters; empty: nothing. It may be left out.
std::string OpenRun::span_in(const Json& params, const char* name, Time& to) {
  if (!params.contains(name)) return {};
  const auto span = read_span(text_in(params, name));
  if (!span) return fmt::format("\"{}\" is a time, such as \"20 ms\"", name);
  to = *span;
  return {};
}

/// A condition of the bench; nothing, and refused, if it is none.
std::unique_ptr<session::Probe> OpenRun::condition_in(const std::string& text, const Asked& asked) {
  if (text.empty() || text.size() > kMostCondition) {
    refuse(asked, RpcError::wrong_params, "a condition is a text such as \"level > 3 m\"");
    return nullptr;
  }
  auto probe = std::make_unique<session::Probe>(*bench_, text);
  if (probe->good()) return probe;
  refuse(asked, RpcError::wrong_params,
         fmt::format("`{}` is no condition of this bench: {}", text.substr(0, 200), probe->why_not()));
  return nullptr;
}

std::int64_t OpenRun::capture_for(Capturing capturing, Captures::Wish wish) {
  const std::lock_guard lock(mutex_);
  if (capturing_.size() >= kMostCaptures) return 0;
  const std::int64_t number =
      captures_.add(std::move(wish), any_ ? std::optional(observe::Image{at_, newest_.data()}) : std::nullopt);
  capturing_.emplace(number, std::move(capturing));
  return number;
}

/// The answer comes when it has come true.
void OpenRun::wait(const Json& params, const Asked& asked) {
  Captures::Wish wish;
  Capturing one{asked, true};
  one.condition = one_line(text_in(params, "condition"));
  wish.condition = condition_in(one.condition, asked);
  if (!wish.condition) return;
  wish.becomes = false;
  if (const std::string wrong = span_in(params, "within", one.within); !wrong.empty())
    return refuse(asked, RpcError::wrong_params, wrong);
  if (one.within > Time{}) wish.within = one.within;
  if (capture_for(std::move(one), std::move(wish)) == 0)
    refuse(asked, RpcError::too_many, fmt::format("{} are waited for already", kMostCaptures));
}

/// What is wrong with "judge" among the parameters; empty: nothing. It may be left out.
std::string OpenRun::requirements_in(const Json& params, std::vector<std::int32_t>& to) const {
  const auto& all = program_->requirements;
  std::vector<std::string> known;
  for (const program::Requirement& r : all) known.push_back(r.name);
  const Json names = params.value("judge", Json::array());
  if (!names.is_array()) return "\"judge\" is a list of names of requirements";
  for (const Json& name : names) {
    const std::string text = name.is_string() ? name.get<std::string>().substr(0, 200) : "";
    const auto found = std::find(known.begin(), known.end(), text);
    if (found == known.end()) {
      const auto meant = did_you_mean(text, known);
      return fmt::format("there is no requirement `{}`; {}", text,
                         meant ? *meant : "there are: " + listed(known, "none"));
    }
    to.push_back(static_cast<std::int32_t>(found - known.begin()));
  }
  return {};
}

void OpenRun::capture(const Json& params, const Asked& asked) {
  Captures::Wish wish;
  Capturing one{asked, false};
  const auto ids = named(*program_, params.value("names", Json()));
  if (!ids) return refuse(asked, RpcError::wrong_params, ids.failure().text());
  one.ids = wish.ids = *ids;
  const std::string when = one_line(text_in(params, "when")), broken = text_in(params, "broken");
  if (!when.empty() && !(wish.condition = condition_in(when, asked))) return;
  if (!broken.empty()) {
    const auto& all = program_->requirements;
    const auto found = std::find_if(all.begin(), all.end(), [&](const auto& r) { return r.name == broken; });
    if (found == all.end() || wish.condition)
      return refuse(asked, RpcError::wrong_params,
                    wish.condition ? "a capture begins with \"when\" or with \"broken\", not with both"
                                   : fmt::format("there is no requirement `{}`", broken.substr(0, 200)));
    wish.requirement = static_cast<std::int32_t>(found - all.begin());
  }
  if (const std::string wrong = requirements_in(params, wish.judged); !wrong.empty())
    return refuse(asked, RpcError::wrong_params, wrong);
  if (!wish.judged.empty() && wish.requirement != program::kNone)
    return refuse(asked, RpcError::wrong_params, "a capture that is judged begins with \"when\", or now");
  for (const auto& [name, to] : {std::pair{"before", &wish.before}, std::pair{"after", &wish.after}}) {
    if (const std::string wrong = span_in(params, name, *to); !wrong.empty())
      return refuse(asked, RpcError::wrong_params, wrong);
  }
  for (const auto& [name, to] : {std::pair{"again", &wish.again}, std::pair{"end", &one.ends}}) {
    const Json value = params.value(name, Json(false));
    if (!value.is_boolean()) return refuse(asked, RpcError::wrong_params, fmt::format("\"{}\" is true or false", name));
    *to = value.get<bool>();
  }
  if (captures_.numbers(wish) > static_cast<double>(Captures::kMostNumbers))
    return refuse(asked, RpcError::too_many,
                  fmt::format("these are {:.0f} numbers; a capture has at most {}", captures_.numbers(wish),
                              Captures::kMostNumbers));
  Json names = Json::array(), every = Json::array(), own = Json::array();
  for (const program::VarId id : wish.ids) {
    names.push_back(program_->variable(id).name);
    every.push_back(to_seconds(captures_.every(id)));
    own.push_back(to_seconds(program_->group_of(id).step));
  }
  const std::int64_t number = capture_for(std::move(one), std::move(wish));
  if (number == 0)
    return refuse(asked, RpcError::too_many, fmt::format("there are {} captures already", kMostCaptures));
  result(asked,
         {{"capture", number}, {"names", std::move(names)}, {"every_s", std::move(every)}, {"own_s", std::move(own)}});
}

void OpenRun::uncapture(const Json& params, const Asked& asked) {
  const Json number = params.value("capture", Json());
  const std::lock_guard lock(mutex_);
  for (auto one = capturing_.begin(); one != capturing_.end(); ++one) {
    if (one->second.waits || one->second.asked.client != asked.client || number != one->first) continue;
    captures_.remove(one->first);
    capturing_.erase(one);
    return result(asked, Json::object());
  }
  refuse(asked, RpcError::wrong_params, "\"capture\" is the number of a capture of yours");
}

/// Rows of a take, so many at once as fit into a line.
void OpenRun::captured(const Json& params, const Asked& asked) {
  const Json number = params.value("capture", Json()), which = params.value("take", Json(1)),
             from = params.value("from", Json(0));
  if (!number.is_number_integer() || !which.is_number_integer() || !from.is_number_integer() || from.get<double>() < 0)
    return refuse(asked, RpcError::wrong_params, "\"capture\", \"take\" and \"from\" are whole numbers");
  const auto found = capturing_.find(number.get<std::int64_t>());
  if (found == capturing_.end() || found->second.waits)
    return refuse(asked, RpcError::wrong_params, "\"capture\" is the number of a capture");
  const Capturing& one = found->second;
  const std::int64_t first = one.taken - static_cast<std::int64_t>(one.takes.size()) + 1,
                     take = which.get<std::int64_t>();
  if (take < first || take > one.taken)
    return refuse(asked, RpcError::wrong_params,
                  one.taken == 0 ? std::string("nothing was captured yet")
                                 : fmt::format("takes {} to {} are still here", first, one.taken));
  const Captures::Take& rows = one.takes[static_cast<std::size_t>(take - first)];
  const std::size_t width = one.ids.size(), begin = std::min(from.get<std::size_t>(), rows.times.size()),
                    end = std::min(rows.times.size(), begin + std::max<std::size_t>(1, kMostInPage / (width + 1)));
  Json times = Json::array(), values = Json::object();
  for (std::size_t i = begin; i < end; ++i) times.push_back(rows.times[i].count());
  for (std::size_t k = 0; k < width; ++k) {
    Json column = Json::array();
    for (std::size_t i = begin; i < end; ++i) column.push_back(number_or_null(rows.values[i * width + k]));
    values[program_->variable(one.ids[k]).name] = std::move(column);
  }
  result(asked, {{"at_s", to_seconds(rows.at)},
                 {"rows", rows.times.size()},
                 {"next", end},
                 {"times_ns", std::move(times)},
                 {"si", std::move(values)}});
}

/// What has come, to whom it was promised.
void OpenRun::take_captures() {
  std::vector<Captures::Take> done;
  {
    const std::lock_guard lock(mutex_);
    done = captures_.done();
  }
  for (Captures::Take& take : done) {
    const auto found = capturing_.find(take.number);
    if (found == capturing_.end()) continue;
    if (!found->second.waits) {
      take_rows(found->second, std::move(take));
      continue;
    }
    waited(found->second, take);
    capturing_.erase(found);
  }
}

/// That it came true is an event, so that it is known afterwards what the operator waited for.
void OpenRun::waited(const Capturing& one, const Captures::Take& take) {
  if (take.over && !take.came) return refuse(one.asked, RpcError::over, "the run was over before");
  if (take.came) {
    texts_.push_back(one.condition);
    Command c;
    c.kind = CommandKind::wait;
    c.text = texts_.back().c_str();
    c.over = one.within;
    give(c);
  }
  result(one.asked, {{"came", take.came}, {"at_s", to_seconds(take.at)}});
}

namespace {
Json verdicts_of(const program::Program& program, const StretchJudge::Verdicts& verdicts) {
  Json all = Json::array();
  for (const judge::Verdict& v : verdicts.all) {
    const session::SummaryRow row = session::row_of(program, v);
    Json one{{"requirement", row.name}, {"verdict", judge::answer_word(v.answer)}, {"tests", v.tests}};
    if (v.worst_margin) one["margin_si"] = *v.worst_margin, one["margin"] = row.margin_text();
    if (row.worst_at_s) one["worst_at_s"] = *row.worst_at_s;
    all.push_back(std::move(one));
  }
  return {{"from_s", to_seconds(verdicts.from)}, {"to_s", to_seconds(verdicts.to)}, {"requirements", std::move(all)}};
}
}  // namespace

/// Into the folder of the run, where it stays; and so that its client can ask for it.
void OpenRun::take_rows(Capturing& one, Captures::Take take) {
  Json came{{"capture", take.number}, {"came", take.came}, {"at_s", to_seconds(take.at)}};
  if (take.came) {
    const std::string file = fmt::format("{}-{}.csv", take.number, ++one.taken);
    const Status written = write_take(file, one, take);
    came["take"] = one.taken;
    came["rows"] = take.times.size();
    came["whole"] = take.whole;
    if (!take.whole) came["lacks"] = take.lacks;
    came["file"] = written ? Json("captures/" + file) : Json(nullptr);
    if (!written) came["why"] = written.failure().text();
    if (take.judged) came["judged"] = verdicts_of(*program_, *take.judged);
    one.takes.push_back(std::move(take));
    if (one.takes.size() > kMostTakes) one.takes.pop_front();
  }
  if (came["came"] == true && one.ends && !over_.load()) {
    Command c;
    c.kind = CommandKind::end;
    give(c);
  }
  clients_->send(one.asked.client, line_of(notification("captured", std::move(came))));
}

/// A table as the language reads it: numbers that read back as they were, in SI.
Status OpenRun::write_take(const std::string& file, const Capturing& one, const Captures::Take& take) const {
  namespace fs = std::filesystem;
  std::error_code error;
  fs::create_directories(fs::path(folder_) / "captures", error);
  std::vector<std::string> fields{"t [s]"};
  for (const program::VarId id : one.ids) {
    const program::Variable& v = program_->variable(id);
    fields.push_back(fmt::format("{} [{}]", v.name, si_text(v.type.dimension)));
  }
  std::string text = csv_line(fields);
  for (std::size_t i = 0; i < take.times.size(); ++i) {
    fields[0] = format_exact(to_seconds(take.times[i]));
    for (std::size_t k = 0; k < one.ids.size(); ++k) fields[k + 1] = format_exact(take.values[i * one.ids.size() + k]);
    text += csv_line(fields);
  }
  return write_file((fs::path(folder_) / "captures" / file).string(), text);
}

}  // namespace isodyne::remote
