#include "isodyne/session/timing.h"

#include <algorithm>
#include <array>

#include <fmt/format.h>

#include "isodyne/core/json.h"
#include "isodyne/core/text.h"

namespace isodyne::session {

using Json = CheckedJson;

namespace {

TimesRow row_of(const std::string& name, const StepTimes& t) {
  return {name,
          t.count(),
          t.quantile(0.5) / 1e3,
          t.quantile(0.99) / 1e3,
          t.quantile(0.999) / 1e3,
          static_cast<double>(t.longest()) / 1e3};
}

std::vector<TimingSummary::Bin> bins_of(const StepTimes& t) {
  std::vector<TimingSummary::Bin> bins;
  t.each([&](double from, double to, std::int64_t count) { bins.push_back({from / 1e3, to / 1e3, count}); });
  return bins;
}

}  // namespace

std::string microseconds(double us) {
  return us < 1e3   ? fmt::format("{:.3g} µs", us)
         : us < 1e6 ? fmt::format("{:.3g} ms", us / 1e3)
                    : fmt::format("{:.3g} s", us / 1e6);
}

std::vector<TimesRow> times_of(const bench::Timing& timing) {
  using bench::RunShare;
  std::vector<TimesRow> rows{row_of("late at its begin", timing.lateness), row_of("all of a step", timing.execution)};
  for (std::size_t i = 0; i < timing.crew.size(); ++i)
    rows.push_back(row_of(fmt::format("parts on core {}", timing.privileges.crew[i]), timing.crew[i]));
  for (const auto& [name, share] :
       {std::pair{"plant", RunShare::plant}, std::pair{"channels", RunShare::channels},
        std::pair{"controllers", RunShare::controllers}, std::pair{"handing over", RunShare::judge}}) {
    const StepTimes& times = timing.shares[static_cast<std::size_t>(share)];
    if (times.count() > 0) rows.push_back(row_of(name, times));
  }
  return rows;
}

TimingSummary timing_of(const program::Program& program, const bench::Timing& timing) {
  TimingSummary t;
  t.speed = timing.speed;
  t.step_s = to_seconds(program.step);
  t.steps = timing.steps;
  t.overruns = timing.overruns;
  t.priority = timing.privileges.priority;
  t.locked = timing.privileges.locked;
  t.pinned = timing.privileges.pinned;
  t.awake = timing.privileges.awake;
  t.core = timing.privileges.core;
  t.crew = timing.privileges.crew;
  t.lacking = timing.privileges.lacking;
  t.rows = times_of(timing);
  for (const bench::OverrunSeries& s : timing.stretches)
    t.stretches.push_back({to_seconds(s.first), s.steps, static_cast<double>(s.worst_ns) / 1e3});
  t.all_stretches = timing.all_stretches;
  t.queue_room = timing.queue_room;
  t.queue_most = timing.queue_most;
  t.images_lost = timing.images_lost;
  t.events_lost = timing.events_lost;
  t.first_lost_s = to_seconds(timing.first_lost);
  t.lateness = bins_of(timing.lateness);
  t.execution = bins_of(timing.execution);
  return t;
}

ControllerSummary controller_of(const bench::ControllerReport& r) {
  ControllerSummary c;
  c.name = r.name;
  c.setting = r.setting;
  c.offline_s = r.offline_s;
  c.answering_s = r.answering_s;
  c.ready_s = r.ready_s;
  c.exchanges = r.exchanges;
  c.late = r.late;
  c.missed = r.missed;
  c.age = row_of("age of the answers", r.age);
  c.traffic = r.traffic;
  return c;
}

std::string TimingSummary::verdict() const {
  const std::string step = format_span(Time(static_cast<std::int64_t>(step_s * 1e9 + 0.5)));
  const std::string pace = speed == 1 ? "" : fmt::format(" at {:g} times real time", speed);
  if (overruns == 0) return fmt::format("Real time was kept: {} steps of {}{}, none late.", steps, step, pace);
  double worst = 0;
  for (const OverrunRow& s : stretches) worst = std::max(worst, s.worst_us);
  return fmt::format(
      "Real time was not kept in {} of {} steps of {}{} ({:.2g} %): first at {:.6g} s, in {}, the worst by {}.",
      overruns, steps, step, pace, 100.0 * static_cast<double>(overruns) / static_cast<double>(steps),
      stretches.empty() ? 0.0 : stretches.front().at_s,
      all_stretches == 1 ? "one stretch" : fmt::format("{} stretches", all_stretches), microseconds(worst));
}

std::string TimingSummary::rights() const {
  std::string text = pinned ? fmt::format("on core {}", core) : "on any core";
  if (!crew.empty())
    text += fmt::format(", with core{} {} beside it", crew.size() > 1 ? "s" : "", fmt::join(crew, ", "));
  text += priority ? ", real-time priority" : ", usual priority";
  text += locked ? ", memory locked" : ", memory not locked";
  return text + (awake ? ", processor kept awake" : "");
}

std::string ControllerSummary::text() const {
  std::string text = fmt::format("Controller {} ({}): ready after {:.2f} s, {}", name, setting, offline_s + answering_s,
                                 counted(static_cast<std::size_t>(exchanges), "exchange"));
  if (late > 0) text += fmt::format(", {} answered late", late);
  if (missed > 0) text += fmt::format(", {} not answered before the next", missed);
  if (age.count > 0)
    text += fmt::format("; age of the answers {} (p50), {} (p99), {} (most)", microseconds(age.p50),
                        microseconds(age.p99), microseconds(age.longest));
  if (traffic.any()) text += fmt::format("; {} messages sent, {} received", traffic.sent, traffic.received);
  const std::pair<const char*, std::int64_t> kTroubles[] = {{"asked again", traffic.lost},
                                                            {"duplicated", traffic.duplicated},
                                                            {"out of order", traffic.reordered},
                                                            {"damaged", traffic.corrupted},
                                                            {"refused", traffic.refused},
                                                            {"started again", traffic.restarts},
                                                            {"times without a connection", traffic.away}};
  for (const auto& [what, count] : kTroubles) {
    if (count > 0) text += fmt::format(", {} {}", count, what);
  }
  return text + ".";
}

namespace {
Json times_json(const TimesRow& r) {
  return {{"name", r.name},  {"count", r.count},   {"p50_us", r.p50},
          {"p99_us", r.p99}, {"p99_9_us", r.p999}, {"max_us", r.longest}};
}
TimesRow times_from(const Json& j) {
  return {j.at("name"), j.at("count"), j.at("p50_us"), j.at("p99_us"), j.at("p99_9_us"), j.at("max_us")};
}
Json bins_json(const std::vector<TimingSummary::Bin>& bins) {
  Json j = Json::array();
  for (const auto& b : bins) j.push_back({b.from, b.to, b.count});
  return j;
}
std::vector<TimingSummary::Bin> bins_from(const Json& j) {
  std::vector<TimingSummary::Bin> bins;
  for (const Json& b : j) bins.push_back({b.at(0), b.at(1), b.at(2)});
  return bins;
}
}  // namespace

void to_json(Json& j, const TimingSummary& t) {
  j = {{"speed", t.speed},       {"step_s", t.step_s},
       {"steps", t.steps},       {"overruns", t.overruns},
       {"priority", t.priority}, {"locked", t.locked},
       {"pinned", t.pinned},     {"awake", t.awake},
       {"core", t.core},         {"crew", t.crew},
       {"lacking", t.lacking},   {"times", Json::array()},
       {"late", Json::array()},  {"late_stretches", t.all_stretches}};
  for (const TimesRow& r : t.rows) j["times"].push_back(times_json(r));
  for (const auto& s : t.stretches)
    j["late"].push_back({{"at_s", s.at_s}, {"steps", s.steps}, {"worst_us", s.worst_us}});
  j["queue"] = {{"room", t.queue_room},
                {"most", t.queue_most},
                {"images_lost", t.images_lost},
                {"events_lost", t.events_lost},
                {"first_lost_s", t.first_lost_s}};
  j["lateness_us"] = bins_json(t.lateness);
  j["execution_us"] = bins_json(t.execution);
}

void from_json(const Json& j, TimingSummary& t) {
  t.speed = j.at("speed");
  t.step_s = j.at("step_s");
  t.steps = j.at("steps");
  t.overruns = j.at("overruns");
  t.priority = j.at("priority");
  t.locked = j.at("locked");
  t.pinned = j.at("pinned");
  t.awake = j.at("awake");
  t.core = j.at("core");
  t.crew = j.value("crew", std::vector<int>{});
  t.lacking = j.at("lacking").get<std::vector<std::string>>();
  for (const Json& r : j.at("times")) t.rows.push_back(times_from(r));
  (void)j.at("times").at(1);  // how late a step began, and how long it took, are always there
  for (const Json& s : j.at("late")) t.stretches.push_back({s.at("at_s"), s.at("steps"), s.at("worst_us")});
  t.all_stretches = j.at("late_stretches");
  const Json& q = j.at("queue");
  t.queue_room = q.at("room");
  t.queue_most = q.at("most");
  t.images_lost = q.at("images_lost");
  t.events_lost = q.at("events_lost");
  t.first_lost_s = q.at("first_lost_s");
  t.lateness = bins_from(j.at("lateness_us"));
  t.execution = bins_from(j.at("execution_us"));
}

void to_json(Json& j, const ControllerSummary& c) {
  const ports::Traffic& t = c.traffic;
  j = {{"name", c.name},
       {"setting", c.setting},
       {"offline_s", c.offline_s},
       {"answering_s", c.answering_s},
       {"ready_s", c.ready_s},
       {"exchanges", c.exchanges},
       {"late", c.late},
       {"missed", c.missed},
       {"age", times_json(c.age)},
       {"traffic",
        {{"sent", t.sent},
         {"received", t.received},
         {"asked_again", t.lost},
         {"duplicated", t.duplicated},
         {"reordered", t.reordered},
         {"corrupted", t.corrupted},
         {"refused", t.refused},
         {"restarts", t.restarts},
         {"away", t.away}}}};
}

void from_json(const Json& j, ControllerSummary& c) {
  c.name = j.at("name");
  c.setting = j.at("setting");
  c.offline_s = j.at("offline_s");
  c.answering_s = j.at("answering_s");
  c.ready_s = j.at("ready_s");
  c.exchanges = j.at("exchanges");
  c.late = j.at("late");
  c.missed = j.at("missed");
  c.age = times_from(j.at("age"));
  const Json& t = j.at("traffic");
  c.traffic = {t.at("sent"),      t.at("received"), t.at("asked_again"), t.at("duplicated"), t.at("reordered"),
               t.at("corrupted"), t.at("refused"),  t.at("restarts"),    t.at("away")};
}

}  // namespace isodyne::session
