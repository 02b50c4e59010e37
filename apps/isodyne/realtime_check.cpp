#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/bench/computer.h"
#include "isodyne/session/timing.h"
#include "plans.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

std::string us(double ns) {
  return session::microseconds(ns / 1e3);
}

Json times_json(const StepTimes& t) {
  return {{"p50_us", t.quantile(0.5) / 1e3},
          {"p99_us", t.quantile(0.99) / 1e3},
          {"p99_9_us", t.quantile(0.999) / 1e3},
          {"max_us", static_cast<double>(t.longest()) / 1e3}};
}

std::string verdict(const bench::ComputerCheck& c) {
  const Time held = c.shortest();
  if (held.count() == 0)
    return fmt::format(
        "This machine did not keep a step of {} now. Look at what is marked above, end other work, and try "
        "again.",
        format_span(c.trials.empty() ? Time{} : c.trials.front().step));
  const auto t = std::find_if(c.trials.begin(), c.trials.end(), [&](const auto& x) { return x.step == held; });
  return fmt::format(
      "This machine keeps a step of {}: {} of {} such steps were late, and 99 % began within {}. What the "
      "plant itself takes comes on top: isodyne profile.",
      format_span(held), t->overruns, t->steps, us(t->lateness.quantile(0.99)));
}

Json to_json(const bench::ComputerCheck& c) {
  Json j{{"core", c.privileges.core},
         {"priority", c.privileges.priority},
         {"locked", c.privileges.locked},
         {"pinned", c.privileges.pinned},
         {"lacking", c.privileges.lacking},
         {"facts", Json::array()},
         {"gaps",
          {{"over_20_us", c.gaps},
           {"longest_us", static_cast<double>(c.longest_gap_ns) / 1e3},
           {"watched_s", c.watched_s}}},
         {"sleep", times_json(c.sleep)},
         {"steps", Json::array()},
         {"shortest_step_s", to_seconds(c.shortest())}};
  for (const auto& f : c.facts) j["facts"].push_back({{"what", f.what}, {"is", f.is}, {"advice", f.advice}});
  for (const auto& t : c.trials) {
    Json row{{"step_s", to_seconds(t.step)}, {"steps", t.steps}, {"overruns", t.overruns}, {"held", t.held()}};
    row["lateness"] = times_json(t.lateness);
    j["steps"].push_back(std::move(row));
  }
  return j;
}

void print(const bench::ComputerCheck& c) {
  const bool colours = colours_on(stdout);
  TextTable facts(
      {{"Machine", TextTable::Align::left}, {"", TextTable::Align::left}, {"Advice", TextTable::Align::left}});
  facts.row({"real-time priority", c.privileges.priority ? "granted" : "refused", ""},
            c.privileges.priority ? "" : "33", 1);
  facts.row({"memory", c.privileges.locked ? "locked" : "not locked", ""}, c.privileges.locked ? "" : "33", 1);
  facts.row({"cores", fmt::format("{}, steps on core {}", c.privileges.cores, c.privileges.core), ""});
  for (const auto& f : c.facts) facts.row({f.what, f.is, f.advice}, f.advice.empty() ? "" : "33", 1);
  facts.row(
      {"interruptions",
       fmt::format("{:.3g} a second over 20 µs, longest {}", static_cast<double>(c.gaps) / std::max(c.watched_s, 1e-9),
                   us(static_cast<double>(c.longest_gap_ns))),
       ""});
  facts.row({"sleep of 1 ms",
             fmt::format("{} late (p50), {} (p99)", us(c.sleep.quantile(0.5)), us(c.sleep.quantile(0.99))), ""});
  put(stdout, facts.text(width_of(stdout), colours));
  for (const std::string& l : c.privileges.lacking) say("Missing: " + l + ".");
  say("");
  TextTable steps({{"Step", TextTable::Align::right},
                   {"Late begin p50", TextTable::Align::right},
                   {"p99", TextTable::Align::right},
                   {"p99.9", TextTable::Align::right},
                   {"most", TextTable::Align::right},
                   {"Overruns", TextTable::Align::right},
                   {"Held", TextTable::Align::left}});
  for (const auto& t : c.trials)
    steps.row({format_span(t.step), us(t.lateness.quantile(0.5)), us(t.lateness.quantile(0.99)),
               us(t.lateness.quantile(0.999)), us(static_cast<double>(t.lateness.longest())),
               fmt::format("{} of {}", t.overruns, t.steps), t.held() ? "yes" : "no"},
              t.held() ? "32" : "33", 6);
  put(stdout, steps.text(width_of(stdout), colours));
  say(verdict(c));
}

}  // namespace

int run_realtime_check(const Arguments& arguments) {
  int core = -1;
  if (!read_core(arguments, core)) return kWrongInput;
  Time each = std::chrono::seconds(1);
  if (const auto text = arguments.value(Option::span)) {
    const auto span = read_span(*text);
    if (!span || *span < std::chrono::milliseconds(20)) {
      say_error(fmt::format("`{}` is no time for a measurement; write for example \"2 s\"", *text));
      return kWrongInput;
    }
    each = *span;
  }
  bench::ComputerCheck check;
  {
    ProgressLine progress;
    check = bench::check_computer(core, each, [&](double share) {
      progress.draw(share, "measuring this machine");
      return true;
    });
  }
  if (arguments.has(Option::json))
    say(to_json(check).dump(2));
  else
    print(check);
  return check.shortest().count() > 0 ? kHeld : kTooLate;
}

}  // namespace isodyne::app
