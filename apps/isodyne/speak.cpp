// read, set, inject … : one question or command to a run that goes on and was begun with --open.

#include <charconv>

#include <fmt/format.h>

#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/remote/clients.h"
#include "isodyne/remote/open_run.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

namespace {

/// A controller may take its time; a run in lockstep answers within a step.
constexpr std::chrono::seconds kPatience{30};

struct Talk {
  std::unique_ptr<remote::Connection> with;

  /// Its answer; nothing, and said, where there is none.
  std::optional<remote::Json> ask(const std::string& method, remote::Json params) {
    const remote::Json question{{"jsonrpc", "2.0"}, {"id", 1}, {"method", method}, {"params", std::move(params)}};
    if (!with->send(remote::line_of(question))) return say_error("the run is over"), std::nullopt;
    while (const auto line = with->line(kPatience)) {
      auto answer = parse_json(*line);
      if (!answer) return say_error(answer.failure().text()), std::nullopt;
      if (answer->is_object() && answer->contains("id")) return std::move(*answer);
    }
    say_error(with->closed() ? "the run is over" : "the run does not answer");
    return std::nullopt;
  }
};

std::optional<Talk> talk(const std::string& run) {
  auto connection = remote::Connection::to(run, remote::kSocketName);
  if (!connection) return say_error(connection.failure().text()), std::nullopt;
  return Talk{std::move(*connection)};
}

int status_of_error(const remote::Json& error) {
  const int code = error.value("code", 0);
  return code == static_cast<int>(remote::RpcError::wrong_params) ? kWrongInput : kNotCompleted;
}

/// `tell` says what the result is.
template <typename Tell>
int speak(const Arguments& arguments, const std::string& method, remote::Json params, const Tell& tell) {
  auto there = talk(arguments.words[0]);
  if (!there) return kNotCompleted;
  const auto answer = there->ask(method, std::move(params));
  if (!answer) return kNotCompleted;
  if (const auto error = answer->find("error"); error != answer->end()) {
    say_error(error->value("message", std::string("it was refused")));
    return status_of_error(*error);
  }
  const remote::Json result = answer->value("result", remote::Json::object());
  if (arguments.has(Option::json))
    say(result.dump(2));
  else
    tell(result);
  return kHeld;
}

std::string instant_of(const remote::Json& result) {
  const auto at = time_from_seconds(result.value("at_s", 0.0));
  return at ? format_instant(*at) : "?";
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
  for (;;) {
    const auto line = there->with->line(std::chrono::hours(1));
    if (!line && there->with->closed()) return kHeld;
    if (!line) continue;
    const auto message = parse_json(*line);
    if (!message || !message->is_object()) continue;
    const std::string method = message->value("method", "");
    if (method == "event") tell((*message)["params"]);
    if (method == "ended") {
      if (!json) say("The run is over: " + (*message)["params"].value("ending", ""));
      return kHeld;
    }
  }
}

}  // namespace isodyne::app
