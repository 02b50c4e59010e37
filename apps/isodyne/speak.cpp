// read, set, inject … : one question or command to a run that goes on and was begun with --open.

#include "speak.h"

#include <charconv>
#include <cstdlib>
#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/live/command_line.h"
#include "isodyne/remote/open_run.h"
#include "isodyne/session/by_hand.h"
#include "terminal.h"
#include "text_table.h"
#include "typed.h"

namespace isodyne::app {

std::optional<remote::Json> Talk::ask(const std::string& method, remote::Json params,
                                      std::chrono::milliseconds patience) {
  const remote::Json question{{"jsonrpc", "2.0"}, {"id", 1}, {"method", method}, {"params", std::move(params)}};
  with->send(remote::line_of(question));
  while (const auto line = with->line(patience)) {
    auto answer = parse_json(*line);
    if (!answer) return say_error(answer.failure().text()), std::nullopt;
    if (answer->is_object() && answer->contains("id")) return std::move(*answer);
  }
  const std::string complaint = with->complaint();
  say_error(!complaint.empty() ? complaint : with->closed() ? "the run is over" : "the run does not answer");
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

namespace {

std::string from_environment(const char* name, const char* otherwise) {
  const char* value = std::getenv(name);
  return value == nullptr || *value == '\0' ? otherwise : value;
}

/// For a shell at the other end.
std::string in_quotes(const std::string& text) {
  std::string all = "'";
  for (const char c : text) all += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return all + "'";
}

}  // namespace

std::optional<std::pair<std::string, std::string>> elsewhere(const std::string& run) {
  const std::size_t colon = run.find(':');
  std::error_code none;
  if (colon == std::string::npos || colon == 0 || run.find('/') < colon || std::filesystem::exists(run, none))
    return std::nullopt;
  return std::pair{run.substr(0, colon), run.substr(colon + 1)};
}

Result<std::unique_ptr<remote::Connection>> connection_to(const std::string& run) {
  const auto there = elsewhere(run);
  if (!there) return remote::Connection::to(run, remote::kSocketName);
  const auto& [host, folder] = *there;
  if (host.starts_with("-")) return Failure{fmt::format("`{}` is no name of a machine", host), "", ""};
  std::vector<std::string> words = live::words_of(from_environment("ISODYNE_SSH", "ssh"));
  const std::string far = from_environment("ISODYNE_FAR", "isodyne");
  words.insert(words.end(), {"-T", "--", host, far + " attach --relay " + (folder.empty() ? "" : in_quotes(folder))});
  return remote::Connection::through(words);
}

std::optional<Talk> talk(const std::string& run) {
  auto connection = connection_to(run);
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

Failure wrong(const std::string& what) {
  return Failure{what, "", ""};
}

}  // namespace

/// What came of it, in a line; --json: all of it.
int run_spoken(const Arguments& arguments) {
  const auto spoken = arguments.command->spoken(arguments);
  if (!spoken) return say_error(spoken.failure().text()), kWrongInput;
  return speak(arguments, spoken->method, spoken->params, [&](const remote::Json& result) {
    if (result.value("waits", false))
      say(spoken->what + " at its next instant: the run stands");
    else
      say(fmt::format("{} at {}", spoken->what, instant_of(result)));
  });
}

Result<live::Spoken> spoken_read(const Arguments& arguments) {
  return live::Spoken{
      "read", {{"names", std::vector<std::string>(arguments.words.begin() + 1, arguments.words.end())}}, "read"};
}

int run_read(const Arguments& arguments) {
  return speak(arguments, "read", spoken_read(arguments)->params, [](const remote::Json& result) {
    say("At " + instant_of(result) + (result.value("stands", false) ? ", where it stands" : ""));
    TextTable table({{"Quantity"}, {"Value", TextTable::Align::right}});
    const remote::Json values = result.value("values", remote::Json::object());
    for (const auto& [name, value] : values.items()) table.row({name, value.value("read", std::string())});
    put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  });
}

Result<live::Spoken> spoken_set(const Arguments& arguments) {
  const std::string &name = arguments.words[1], &value = arguments.words[2];
  return live::Spoken{"set", {{"name", name}, {"value", value}}, fmt::format("{} = {}", name, value)};
}

Result<live::Spoken> spoken_press(const Arguments& arguments) {
  const std::string over = arguments.value(Option::over).value_or("500 ms");
  return live::Spoken{"press",
                      {{"name", arguments.words[1]}, {"over", over}},
                      fmt::format("{} pressed for {}", arguments.words[1], over)};
}

Result<live::Spoken> spoken_ramp(const Arguments& arguments) {
  const auto over = arguments.value(Option::over);
  if (!over) return wrong("say how long it takes: --over TIME");
  const std::string &name = arguments.words[1], &value = arguments.words[2];
  return live::Spoken{
      "ramp", {{"name", name}, {"value", value}, {"over", *over}}, fmt::format("{} begins to move to {}", name, value)};
}

Result<live::Spoken> spoken_release(const Arguments& arguments) {
  return live::Spoken{"release", {{"name", arguments.words[1]}}, arguments.words[1] + " stays as it is"};
}

namespace {
live::Spoken about_fault(const Arguments& arguments, const std::string& method, const std::string& done) {
  return {method, {{"fault", arguments.words[1]}}, arguments.words[1] + " " + done};
}
}  // namespace

Result<live::Spoken> spoken_inject(const Arguments& arguments) {
  return about_fault(arguments, "inject", "injected");
}

Result<live::Spoken> spoken_clear(const Arguments& arguments) {
  return about_fault(arguments, "clear", "cleared");
}

Result<live::Spoken> spoken_arm(const Arguments& arguments) {
  return about_fault(arguments, "arm", "armed");
}

Result<live::Spoken> spoken_disarm(const Arguments& arguments) {
  return about_fault(arguments, "disarm", "disarmed");
}

Result<live::Spoken> spoken_mark(const Arguments& arguments) {
  return live::Spoken{"mark", {{"note", arguments.words[1]}}, "noted"};
}

Result<live::Spoken> spoken_pause(const Arguments&) {
  return live::Spoken{"pause", remote::Json::object(), "it stands"};
}

Result<live::Spoken> spoken_step(const Arguments& arguments) {
  std::int64_t steps = 1;
  if (arguments.words.size() > 1) {
    const std::string& text = arguments.words[1];
    const auto [end, trouble] = std::from_chars(text.data(), text.data() + text.size(), steps);
    if (trouble != std::errc{} || end != text.data() + text.size() || steps < 1)
      return wrong(fmt::format("`{}` is no number of steps", text));
  }
  return live::Spoken{
      "step", {{"steps", steps}}, counted(static_cast<std::size_t>(steps), "step") + " more, which begin"};
}

Result<live::Spoken> spoken_go_on(const Arguments&) {
  return live::Spoken{"go_on", remote::Json::object(), "it goes on"};
}

Result<live::Spoken> spoken_end(const Arguments&) {
  return live::Spoken{"end", remote::Json::object(), "it ends"};
}

Result<live::Spoken> spoken_play(const Arguments& arguments) {
  const std::string &name = arguments.words[1], &table = arguments.words[2];
  remote::Json params{{"name", name}, {"table", table}};
  if (const auto over = arguments.value(Option::over)) params["over"] = *over;
  return live::Spoken{"play", std::move(params), fmt::format("{} begins to follow {}", name, table)};
}

Result<live::Spoken> spoken_save(const Arguments& arguments) {
  // The run may have been begun elsewhere.
  const std::string file = std::filesystem::absolute(arguments.words[1]).lexically_normal().string();
  return live::Spoken{"save", {{"file", file}}, fmt::format("the state is in {}, as it was", arguments.words[1])};
}

Result<live::Spoken> spoken_wait(const Arguments& arguments) {
  remote::Json params{{"condition", arguments.words[1]}};
  if (const auto within = arguments.value(Option::within)) params["within"] = *within;
  return live::Spoken{"wait", std::move(params), "it waits for " + arguments.words[1]};
}

Result<live::Spoken> spoken_capture(const Arguments& arguments) {
  remote::Json params{{"names", std::vector<std::string>(arguments.words.begin() + 1, arguments.words.end())}};
  for (const auto& [option, name] : {std::pair{Option::when, "when"}, std::pair{Option::broken, "broken"},
                                     std::pair{Option::before, "before"}, std::pair{Option::after, "after"}}) {
    if (const auto value = arguments.value(option)) params[name] = *value;
  }
  if (const auto judged = arguments.values(Option::judge); !judged.empty()) params["judge"] = judged;
  params["again"] = arguments.has(Option::again);
  return live::Spoken{"capture", std::move(params), "capture"};
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
    if (const auto lost = result.value("left_out", std::int64_t{0}); lost > 0)
      say_aside(fmt::format("{} older events are in the folder of the run only", lost));
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

namespace {

/// The values of the last set in a file, with the bench of the run around it.
Result<remote::Json> values_in(const std::string& run, const std::string& file) {
  const auto text = read_file(file);
  if (!text) return text.failure();
  const auto with = session::open_recording(run, check::Rules{file, *text, false});
  if (!with) return with.failure();
  if (with->loaded.program == nullptr)
    return wrong(file + " has mistakes:\n" + with->loaded.diagnostics.render(*with->loaded.sources, false));
  const program::Program& p = *with->loaded.program;
  const auto own = session::open_recording(run);
  const std::size_t before = own ? own->loaded.program->value_sets.size() : 0;
  if (p.value_sets.size() <= before) return wrong(file + " has no set of values");
  remote::Json values = remote::Json::object();
  for (const program::Assignment& a : p.value_sets.back().values) {
    if (!p.reads(a.value).empty())
      return wrong(fmt::format("`{}` depends on other quantities there: only the bench itself can load that",
                               p.variable(a.target).name));
    engine::Evaluator value(p, {a.value});
    value.evaluate(std::vector<double>(p.variables.size()).data());
    values[p.variable(a.target).name] = session::exact_value(p, a.target, value.value(0));
  }
  return values;
}

}  // namespace

Result<live::Spoken> spoken_load(const Arguments& arguments) {
  const std::string& what = arguments.words[1];
  std::error_code none;
  if (!std::filesystem::is_regular_file(what, none)) return live::Spoken{"load", {{"set", what}}, what + " loaded"};
  auto values = values_in(arguments.words[0], what);
  if (!values) return values.failure();
  return live::Spoken{"load", {{"values", std::move(*values)}, {"from", what}}, what + " loaded"};
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
