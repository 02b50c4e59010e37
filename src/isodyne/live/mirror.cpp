#include "isodyne/live/mirror.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/core/time.h"

namespace isodyne::live {

namespace {

constexpr std::size_t kMostOfLog = 1u << 16;

double number_in(const Json& of, const char* name, double otherwise = NAN) {
  const auto found = of.find(name);
  return found != of.end() && found->is_number() ? found->get<double>() : otherwise;
}

/// Empty where there is none, or it is no text.
std::string text_in(const Json& of, const char* name) {
  const auto found = of.find(name);
  return found != of.end() && found->is_string() ? found->get<std::string>() : "";
}

std::vector<std::string> texts_in(const Json& of, const char* name) {
  std::vector<std::string> all;
  for (const Json& one : of.value(name, Json::array())) all.push_back(one.get<std::string>());
  return all;
}

std::optional<std::pair<double, double>> range_in(const Json& of, const char* name) {
  const auto found = of.find(name);
  if (found == of.end()) return std::nullopt;
  return std::pair{number_in(found->at(0), "si"), number_in(found->at(1), "si")};
}

Item item_of(const Json& one) {
  return {text_in(one, "kind"),   text_in(one, "label"),        texts_in(one, "names"),
          range_in(one, "range"), number_in(one, "step_si", 0), number_in(one, "over_s", 0)};
}

std::array<double, 3> times_in(const Json& of, const char* name) {
  const Json all = of.value(name, Json::object());
  return {number_in(all, "median", 0), number_in(all, "p99", 0), number_in(all, "longest", 0)};
}

RunTiming timing_of(const Json& r) {
  RunTiming t;
  t.known = true;
  t.paced = r.value("paced", false);
  t.steps = r.value("steps", std::int64_t{0});
  t.late = r.value("late", std::int64_t{0});
  t.lateness = times_in(r, "lateness_us");
  t.step = times_in(r, "step_us");
  for (const Json& c : r.value("controllers", Json::array()))
    t.controllers.push_back({text_in(c, "name"), c.value("exchanges", std::int64_t{0}),
                             c.value("late", std::int64_t{0}), c.value("missed", std::int64_t{0})});
  return t;
}

}  // namespace

std::string Signal::axis() const {
  if (truth()) return "true or false";
  if (!labels.empty()) return listed(labels);
  return unit;
}

std::vector<std::string> Mirror::outgoing() {
  std::vector<std::string> all;
  all.swap(out_);
  return all;
}

void Mirror::ask(const std::string& method, Json params, std::function<void(const Json&)> then) {
  if (over) return;
  const Json call{{"jsonrpc", "2.0"}, {"id", ++number_}, {"method", method}, {"params", std::move(params)}};
  waiting_[number_] = std::move(then);
  out_.push_back(call.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n");
}

void Mirror::clock(std::chrono::steady_clock::time_point instant) {
  if (!heard_ || lines_ != lines_then_) heard_ = instant;
  lines_then_ = lines_;
  const auto silent = std::chrono::duration_cast<std::chrono::seconds>(instant - *heard_).count();
  if (silent != silent_s) silent_s = silent, changed = true;
}

void Mirror::lost(const std::string& why) {
  if (!over) ending = why;
  over = true;
  changed = true;
}

void Mirror::hear(std::string_view line) {
  const auto said = parse_json(line);
  ++lines_;
  changed = true;
  try {
    if (!said || !said->is_object()) throw std::runtime_error("no object");
    if (const auto id = said->find("id"); id != said->end()) {
      const auto found = waiting_.find(id->is_number_integer() ? id->get<std::int64_t>() : 0);
      if (found == waiting_.end()) return;
      const auto then = std::move(found->second);
      waiting_.erase(found);
      if (then) then(*said);
      return;
    }
    const std::string method = text_in(*said, "method");
    const Json& params = said->at("params");
    if (method == "update") return update(params);
    if (method == "event") return take_event(params);
    if (method == "events_left_out") return void(events_left_out += params.value("count", std::int64_t{0}));
    if (method == "captured") return captured(params);
    if (method == "outcome" && !params.value("done", true)) return say(params.value("why", "it was refused"), true);
    if (method != "ended") return;
    ending = text_in(params, "ending");
    if (params.contains("why")) ending += ": " + text_in(params, "why");
    over = true;
  } catch (const std::exception&) {
    ++not_understood;
  }
}

void Mirror::begin() {
  ask("describe", Json::object(), [this](const Json& answer) { described(answer.at("result")); });
  look_again();
  // Events are asked for in pieces, and from the last piece on they come by themselves.
  struct More {
    static void ask(Mirror& m, std::size_t from) {
      m.ask("events", {{"from", from}, {"follow", false}}, [&m](const Json& answer) {
        const Json& result = answer.at("result");
        m.events_left_out += result.value("left_out", std::int64_t{0});
        for (const Json& e : result.at("events")) m.take_event(e);
        const auto next = result.at("next").get<std::size_t>();
        if (!result.at("events").empty()) return ask(m, next);
        m.Mirror::ask("events", {{"from", next}, {"follow", true}}, [&m](const Json& last) {
          for (const Json& e : last.at("result").at("events")) m.take_event(e);
        });
      });
    }
  };
  More::ask(*this, 0);
}

void Mirror::described(const Json& r) {
  bench = text_in(r, "bench");
  scenario = text_in(r, "scenario");
  version = text_in(r, "version");
  step = number_in(r, "step_s", 0);
  paced = r.value("paced", false);
  speed = paced ? number_in(r, "speed", 1) : 1;
  signals_.clear();
  places_.clear();
  for (const Json& s : r.at("signals")) {
    Signal one;
    one.name = s.at("name").get<std::string>();
    one.type = text_in(s, "type");
    one.role = text_in(s, "role");
    one.doc = text_in(s, "doc");
    one.can_be_set = s.value("can_be_set", false);
    one.limits = range_in(s, "limits");
    one.labels = texts_in(s, "labels");
    if (const auto unit = s.find("unit"); unit != s.end()) {
      one.unit = text_in(*unit, "text");
      one.factor = number_in(*unit, "factor", 1);
      one.offset = number_in(*unit, "offset", 0);
    }
    places_[one.name] = signals_.size();
    signals_.push_back(std::move(one));
  }
  boards.clear();
  for (const Json& p : r.value("panels", Json::array())) {
    Board b{text_in(p, "name"), text_in(p, "title"), {}};
    for (const Json& i : p.at("items")) b.items.push_back(item_of(i));
    boards.push_back(std::move(b));
  }
  scenarios = texts_in(r, "scenarios");
  requirements = texts_in(r, "requirements");
  sets = texts_in(r, "value_sets");
  tables = texts_in(r, "tables");
  controllers = texts_in(r, "controllers");
  known = true;
}

void Mirror::look_again() {
  ask("faults", Json::object(), [this](const Json& answer) {
    if (!answer.contains("result")) return;
    faults.clear();
    for (const Json& f : answer.at("result").at("faults"))
      faults.push_back({text_in(f, "name"), f.value("by_hand", false), f.value("in_run", false), f.value("acts", false),
                        number_in(f, "since_s", 0)});
    std::stable_sort(faults.begin(), faults.end(),
                     [](const FaultState& a, const FaultState& b) { return a.in_run && !b.in_run; });
  });
  ask("verdicts", Json::object(), [this](const Json& answer) {
    if (!answer.contains("result")) return;
    broken.clear();
    for (const Json& v : answer.at("result").at("requirements")) {
      if (v.contains("since_s")) broken[text_in(v, "requirement")] = number_in(v, "since_s");
    }
  });
  ask("timing", Json::object(), [this](const Json& answer) {
    if (!answer.contains("result")) return;
    const Json& result = answer.at("result");
    timing = timing_of(result);
    begun = true;
    stands = result.value("stands", false);
    now = std::max(now, number_in(result, "at_s", now));
  });
}

void Mirror::look_at(const std::vector<std::string>& names, double per_second) {
  if (!known || over || (names == wanted_ && per_second == rate_)) return;
  wanted_ = names;
  rate_ = per_second;
  if (watch_ != 0) ask("unwatch", {{"watch", watch_}});
  watch_ = 0;
  for (auto& [name, history] : histories_) history.lose();
  if (names.empty()) return;
  ask("watch", {{"names", names}, {"per_second", per_second}, {"read", true}}, [this, names](const Json& answer) {
    if (answer.contains("error")) return say(text_in(answer["error"], "message"), true);
    const auto number = answer.at("result").at("watch").get<std::int64_t>();
    if (names != wanted_) return ask("unwatch", {{"watch", number}});  // meanwhile others are wanted
    watch_ = number;
    watched_ = texts_in(answer.at("result"), "names");
  });
}

void Mirror::update(const Json& u) {
  if (u.at("watch") != watch_) return;
  const double at = u.at("at_s").get<double>();
  begun = true;
  left_out += u.value("left_out", std::int64_t{0});
  stands = at == now && stands;
  now = std::max(now, at);
  const Json &si = u.at("si"), &least = u.at("least"), &greatest = u.at("greatest"), &read = u.at("read");
  const auto number = [](const Json& j) { return j.is_number() ? j.get<double>() : NAN; };
  for (std::size_t i = 0; i < watched_.size(); ++i) {
    values_[watched_[i]] = {number(si.at(i)), read.at(i).at(0).get<std::string>()};
    histories_[watched_[i]].add(at, number(least.at(i)), number(greatest.at(i)), number(si.at(i)));
  }
}

void Mirror::take_event(const Json& e) {
  RunEvent event{e.at("number").get<std::size_t>(), number_in(e, "at_s", 0), text_in(e, "kind"), text_in(e, "subject"),
                 text_in(e, "text")};
  if (event.kind == "controller") failed[event.subject] = event.text;
  events.push_back(std::move(event));
  if (events.size() <= kMostEvents) return;
  events.pop_front();
  ++events_dropped;
}

void Mirror::look_at_log(const std::string& controller) {
  ask("log", {{"controller", controller}, {"from", log_at_[controller]}}, [this, controller](const Json& answer) {
    if (!answer.contains("result")) return;
    std::string& log = logs[controller];
    log += text_in(answer.at("result"), "text");
    log_at_[controller] = answer.at("result").at("next").get<std::size_t>();
    if (log.size() > kMostOfLog) log.erase(0, log.size() - kMostOfLog);
  });
}

void Mirror::capture(Json params) {
  capture_for(std::move(params), nullptr);
}

void Mirror::capture_for(Json params, std::function<void(const Captured*)> then) {
  ask("capture", std::move(params), [this, then = std::move(then)](const Json& answer) {
    if (answer.contains("error")) {
      if (then) then(nullptr);
      return say(text_in(answer["error"], "message"), true);
    }
    const Json& made = answer.at("result");
    captures_of_[made.at("capture").get<std::int64_t>()] = {texts_in(made, "names"), then};
    ++waits_for_capture;
    if (!then) say("it waits for what is to be captured; the scope shows it when it has come");
  });
}

void Mirror::captured(const Json& p) {
  const auto number = p.at("capture").get<std::int64_t>();
  const auto found = captures_of_.find(number);
  if (found == captures_of_.end()) return;
  if (waits_for_capture > 0) --waits_for_capture;
  if (!p.value("came", false)) {
    if (found->second.then) found->second.then(nullptr);
    return say("the run was over before what was to be captured came", true);
  }
  Captured one;
  one.names = found->second.names;
  one.at = number_in(p, "at_s", 0);
  one.count = p.at("rows").get<std::size_t>();
  one.whole = p.value("whole", true);
  one.lacks = text_in(p, "lacks");
  one.file = text_in(p, "file");
  if (p.contains("judged")) {
    for (const Json& j : p.at("judged").at("requirements"))
      one.judged.push_back({text_in(j, "requirement"), text_in(j, "verdict"), text_in(j, "margin")});
  }
  take_page(number, p.at("take").get<std::int64_t>(), 0, std::move(one));
}

void Mirror::take_page(std::int64_t capture, std::int64_t take, std::size_t from, Captured into) {
  if (from >= into.count) {
    const auto wanted = captures_of_.find(capture);
    if (wanted != captures_of_.end() && wanted->second.then) {
      ask("uncapture", {{"capture", capture}});
      const auto then = std::move(wanted->second.then);
      captures_of_.erase(wanted);
      return then(&into);
    }
    constexpr std::size_t kKept = 8;
    captures.push_back(std::move(into));
    if (captures.size() > kKept) captures.pop_front();
    const Captured& c = captures.back();
    std::string judged;
    for (const Captured::Judged& j : c.judged) judged += fmt::format("; {} {}", j.requirement, j.verdict);
    say(fmt::format("{} around {}: {}{}{}", counted(c.count, "row"), clock_text(c.at, step), c.file,
                    c.whole ? "" : "; not whole: " + c.lacks, judged),
        !c.whole);
    return;
  }
  ask("captured", {{"capture", capture}, {"take", take}, {"from", from}},
      [this, capture, take, into = std::move(into)](const Json& answer) mutable {
        if (answer.contains("error")) return say(text_in(answer["error"], "message"), true);
        const Json& page = answer.at("result");
        const Json& times = page.at("times_ns");
        for (const auto& [name, values] : page.at("si").items()) {
          History& rows = into.rows[name];
          for (std::size_t i = 0; i < times.size(); ++i) {
            const double t = static_cast<double>(times.at(i).get<std::int64_t>()) / 1e9;
            const double v = values.at(i).is_number() ? values.at(i).get<double>() : NAN;
            const double before = rows.all().empty() ? v : rows.all().back().last;
            rows.add_row(t, before, v);
          }
        }
        if (!times.empty()) {
          const double first = static_cast<double>(times.at(0).get<std::int64_t>()) / 1e9;
          if (into.from == 0 && into.to == 0) into.from = first;
          into.to = static_cast<double>(times.back().get<std::int64_t>()) / 1e9;
        }
        const auto next = page.at("next").get<std::size_t>();
        take_page(capture, take, times.empty() ? into.count : next, std::move(into));
      });
}

const Signal* Mirror::signal(const std::string& name) const {
  const auto found = places_.find(name);
  return found == places_.end() ? nullptr : &signals_[found->second];
}

Value Mirror::value(const std::string& name) const {
  const auto found = values_.find(name);
  return found == values_.end() ? Value{NAN, ""} : found->second;
}

const History& Mirror::history(const std::string& name) const {
  static const History none;
  const auto found = histories_.find(name);
  return found == histories_.end() ? none : found->second;
}

std::string clock_text(double seconds, double step) {
  const int digits = step > 0 && step < 1 ? std::min(9, static_cast<int>(std::ceil(-std::log10(step) - 1e-9))) : 0;
  const double whole = std::floor(seconds / 60);
  if (seconds < 600) return fmt::format("{:.{}f} s", seconds, std::min(digits, 9));
  const double hours = std::floor(whole / 60);
  const int few = std::min(digits, 3);
  if (hours < 1) return fmt::format("{:.0f} min {:.{}f} s", whole, seconds - whole * 60, few);
  return fmt::format("{:.0f} h {:.0f} min {:.{}f} s", hours, whole - hours * 60, seconds - whole * 60, few);
}

std::string number_text(const Signal& s, double si) {
  if (!std::isfinite(si)) return "no number";
  if (s.truth()) return si != 0 ? "true" : "false";
  if (!s.labels.empty()) {
    const auto i = static_cast<std::size_t>(std::max(0.0, si));
    return i < s.labels.size() ? s.labels[i] : "?";
  }
  const std::string number = format_number((si - s.offset) / s.factor);
  return s.unit.empty() || s.unit == "1" ? number : number + " " + s.unit;
}

}  // namespace isodyne::live
