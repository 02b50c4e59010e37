// read, set, inject … : one question or command to a run that goes on and was begun with --open.

#include "speak.h"

#include <charconv>
#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/remote/open_run.h"
#include "isodyne/session/by_hand.h"
#include "terminal.h"
#include "text_table.h"
#include "typed.h"

namespace isodyne::app {

std::optional<remote::Json> Talk::ask(const std::string& method, remote::Json params,
                                      std::chrono::milliseconds patience) {
  const remote::Json question{{"jsonrpc", "2.0"}, {"id", 1}, {"method", method}, {"params", std::move(params)}};
  if (!with->send(remote::line_of(question))) return say_error("the run is over"), std::nullopt;
  while (const auto line = with->line(patience)) {
    auto answer = parse_json(*line);
    if (!answer) return say_error(answer.failure().text()), std::nullopt;
    if (answer->is_object() && answer->contains("id")) return std::move(*answer);
  }
  say_error(with->closed() ? "the run is over" : "the run does not answer");
  return std::nullopt;
}

std::optional<remote::Json> Talk::told() {
  for (;;) {
    const auto line = with->line(std::chrono::hours(1));
    if (!line && with->closed()) return std::nullopt;
    if (!line) continue;
    auto message = parse_json(*line);
    if (message && message->is_object() && message->contains("method")) return std::move(*message);
  }
}

std::optional<Talk> talk(const std::string& run) {
  auto connection = remote::Connection::to(run, remote::kSocketName);
  if (!connection) return say_error(connection.failure().text()), std::nullopt;
  return Talk{std::move(*connection)};
}

std::optional<int> said_error(const remote::Json& answer) {
  const auto error = answer.find("error");
  if (error == answer.end()) return std::nullopt;
  say_error(error->value("message", std::string("it was refused")));
  const int code = error->value("code", 0);
  return code == static_cast<int>(remote::RpcError::wrong_params) ? kWrongInput : kNotCompleted;
}

std::string instant_of(const remote::Json& result) {
  const auto at = time_from_seconds(result.value("at_s", 0.0));
  return at ? format_instant(*at) : "?";
}

namespace {

/// `tell` says what the result is.
template <typename Tell>
int speak(const Arguments& arguments, const std::string& method, remote::Json params, const Tell& tell) {
  auto there = talk(arguments.words[0]);
  if (!there) return kNotCompleted;
  const auto answer = there->ask(method, std::move(params));
  if (!answer) return kNotCompleted;
  if (const auto status = said_error(*answer)) return *status;
  const remote::Json result = answer->value("result", remote::Json::object());
  if (arguments.has(Option::json))
    say(result.dump(2));
  else
    tell(result);
  return kHeld;
}

int command(const Arguments& arguments, const std::string& method, remote::Json params, const std::string& what) {
  return speak(arguments, method, std::move(params), [&](const remote::Json& result) {
    if (result.value("waits", false))
      say(what + " at its next instant: the run stands");
    else
      say(fmt::format("{} at {}", what, instant_of(result)));
  });
}

}  // namespace

int run_read(const Arguments& arguments) {
  const std::vector<std::string> names(arguments.words.begin() + 1, arguments.words.end());
  return speak(arguments, "read", {{"names", names}}, [](const remote::Json& result) {
    say("At " + instant_of(result) + (result.value("stands", false) ? ", where it stands" : ""));
    TextTable table({{"Quantity"}, {"Value", TextTable::Align::right}});
    const remote::Json values = result.value("values", remote::Json::object());
    for (const auto& [name, value] : values.items()) table.row({name, value.value("read", std::string())});
    put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  });
}

int run_set(const Arguments& arguments) {
  const std::string &name = arguments.words[1], &value = arguments.words[2];
  return command(arguments, "set", {{"name", name}, {"value", value}}, fmt::format("{} = {}", name, value));
}

int run_ramp(const Arguments& arguments) {
  const auto over = arguments.value(Option::over);
  if (!over) return say_error("say how long it takes: --over TIME"), kWrongInput;
  const std::string &name = arguments.words[1], &value = arguments.words[2];
  return command(arguments, "ramp", {{"name", name}, {"value", value}, {"over", *over}},
                 fmt::format("{} begins to move to {}", name, value));
}

int run_release(const Arguments& arguments) {
  return command(arguments, "release", {{"name", arguments.words[1]}}, arguments.words[1] + " stays as it is");
}

int run_inject(const Arguments& arguments) {
  return command(arguments, "inject", {{"fault", arguments.words[1]}}, arguments.words[1] + " injected");
}

int run_clear(const Arguments& arguments) {
  return command(arguments, "clear", {{"fault", arguments.words[1]}}, arguments.words[1] + " cleared");
}

int run_mark(const Arguments& arguments) {
  return command(arguments, "mark", {{"note", arguments.words[1]}}, "noted");
}

int run_pause(const Arguments& arguments) {
  return command(arguments, "pause", remote::Json::object(), "it stands");
}

int run_step(const Arguments& arguments) {
  std::int64_t steps = 1;
  if (arguments.words.size() > 1) {
    const std::string& text = arguments.words[1];
    const auto [end, wrong] = std::from_chars(text.data(), text.data() + text.size(), steps);
    if (wrong != std::errc{} || end != text.data() + text.size() || steps < 1)
      return say_error(fmt::format("`{}` is no number of steps", text)), kWrongInput;
  }
  return command(arguments, "step", {{"steps", steps}},
                 counted(static_cast<std::size_t>(steps), "step") + " more, which begin");
}

int run_go_on(const Arguments& arguments) {
  return command(arguments, "go_on", remote::Json::object(), "it goes on");
}

int run_end(const Arguments& arguments) {
  return command(arguments, "end", remote::Json::object(), "it ends");
}

int run_events(const Arguments& arguments) {
  auto there = talk(arguments.words[0]);
  if (!there) return kNotCompleted;
  const bool json = arguments.has(Option::json), follow = arguments.has(Option::follow);
  const auto tell = [&](const remote::Json& event) {
    if (json) return say(event.dump());
    say(fmt::format("{:>12}  {:<9} {}  {}", instant_of(event), event.value("kind", ""), event.value("subject", ""),
                    one_line(event.value("text", ""))));
    std::fflush(stdout);
  };
  for (std::size_t next = 0;;) {
    // What is long past comes in pieces; the last question stays.
    const auto answer = there->ask("events", {{"from", next}, {"follow", false}});
    if (!answer || !answer->contains("result")) return kNotCompleted;
    const remote::Json& result = (*answer)["result"];
    for (const remote::Json& event : result["events"]) tell(event);
    const bool more = !result["events"].empty();
    next = result["next"].get<std::size_t>();
    if (more) continue;
    if (!follow) return kHeld;
    const auto rest = there->ask("events", {{"from", next}, {"follow", true}});
    if (!rest || !rest->contains("result")) return kNotCompleted;
    for (const remote::Json& event : (*rest)["result"]["events"]) tell(event);
    break;
  }
  while (const auto message = there->told()) {
    const std::string method = message->value("method", "");
    if (method == "event") tell((*message)["params"]);
    if (method != "ended") continue;
    if (!json) say("The run is over: " + (*message)["params"].value("ending", ""));
    break;
  }
  return kHeld;
}

int run_arm(const Arguments& arguments) {
  return command(arguments, "arm", {{"fault", arguments.words[1]}}, arguments.words[1] + " armed");
}

int run_disarm(const Arguments& arguments) {
  return command(arguments, "disarm", {{"fault", arguments.words[1]}}, arguments.words[1] + " disarmed");
}

int run_play(const Arguments& arguments) {
  const std::string &name = arguments.words[1], &table = arguments.words[2];
  remote::Json params{{"name", name}, {"table", table}};
  if (const auto over = arguments.value(Option::over)) params["over"] = *over;
  return command(arguments, "play", std::move(params), fmt::format("{} begins to follow {}", name, table));
}

int run_save(const Arguments& arguments) {
  // The run may have been begun elsewhere.
  const std::string file = std::filesystem::absolute(arguments.words[1]).lexically_normal().string();
  return command(arguments, "save", {{"file", file}}, fmt::format("the state is in {}, as it was", arguments.words[1]));
}

namespace {

/// The values of the last set in a file, with the bench of the run around it; nothing, and said, if it has none.
std::optional<remote::Json> values_in(const std::string& run, const std::string& file) {
  const auto text = read_file(file);
  if (!text) return say_error(text.failure().text()), std::nullopt;
  const auto with = session::open_recording(run, check::Rules{file, *text, false});
  if (!with) return say_error(with.failure().text()), std::nullopt;
  if (with->loaded.program == nullptr) return print_mistakes(with->loaded), std::nullopt;
  const program::Program& p = *with->loaded.program;
  const auto own = session::open_recording(run);
  const std::size_t before = own ? own->loaded.program->value_sets.size() : 0;
  if (p.value_sets.size() <= before) return say_error(file + " has no set of values"), std::nullopt;
  remote::Json values = remote::Json::object();
  for (const program::Assignment& a : p.value_sets.back().values) {
    if (!p.reads(a.value).empty())
      return say_error(fmt::format("`{}` depends on other quantities there: only the bench itself can load that",
                                   p.variable(a.target).name)),
             std::nullopt;
    engine::Evaluator value(p, {a.value});
    value.evaluate(std::vector<double>(p.variables.size()).data());
    values[p.variable(a.target).name] = session::exact_value(p, a.target, value.value(0));
  }
  return values;
}

}  // namespace

int run_load(const Arguments& arguments) {
  const std::string& what = arguments.words[1];
  std::error_code none;
  if (!std::filesystem::is_regular_file(what, none))
    return command(arguments, "load", {{"set", what}}, what + " loaded");
  const auto values = values_in(arguments.words[0], what);
  if (!values) return kWrongInput;
  return command(arguments, "load", {{"values", *values}, {"from", what}}, what + " loaded");
}

int run_verdicts(const Arguments& arguments) {
  return speak(arguments, "verdicts", remote::Json::object(), [](const remote::Json& result) {
    say("At " + instant_of(result));
    TextTable table({{"Requirement"}, {"So far"}});
    const remote::Json all = result.value("requirements", remote::Json::array());
    for (const remote::Json& one : all) {
      const bool broken = one.contains("since_s");
      const auto at = time_from_seconds(one.value("since_s", 0.0));
      table.row(
          {one.value("requirement", ""), broken && at ? "broken at " + format_instant(*at) : one.value("so_far", "")});
    }
    if (all.empty()) return say("The bench has no requirements.");
    put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  });
}

int run_timing(const Arguments& arguments) {
  return speak(arguments, "timing", remote::Json::object(), [](const remote::Json& result) {
    if (!result.value("paced", false)) return say("It runs in lockstep: nothing can be late.");
    say(fmt::format("{} of {} steps late", result.value("late", std::int64_t{0}),
                    result.value("steps", std::int64_t{0})));
    TextTable table({{"Time"},
                     {"Median", TextTable::Align::right},
                     {"p99", TextTable::Align::right},
                     {"Longest", TextTable::Align::right}});
    const auto row = [&](const char* name, const char* key) {
      const remote::Json of = result.value(key, remote::Json::object());
      const auto us = [&](const char* which) { return format_number(of.value(which, 0.0)) + " us"; };
      table.row({name, us("median"), us("p99"), us("longest")});
    };
    row("steps begin late by", "lateness_us");
    row("a step takes", "step_us");
    put(stdout, table.text(width_of(stdout), colours_on(stdout)));
    for (const remote::Json& c : result.value("controllers", remote::Json::array()))
      say(fmt::format("{}: {} exchanges, {} late, {} missed", c.value("name", ""),
                      c.value("exchanges", std::int64_t{0}), c.value("late", std::int64_t{0}),
                      c.value("missed", std::int64_t{0})));
  });
}

}  // namespace isodyne::app
