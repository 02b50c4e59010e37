// wait, watch, capture: commands that stay until something has come in a run that goes on.

#include <charconv>
#include <filesystem>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/core/units.h"
#include "isodyne/program/answer.h"
#include "speak.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

namespace {

std::string number(const remote::Json& value) {
  return value.is_number() ? format_exact(value.get<double>()) : "";
}

/// A line an update: time, and of each quantity the value, the least and the greatest since the line before.
void print_update(const remote::Json& update, const std::vector<std::string>& names, bool csv) {
  if (csv) {
    std::vector<std::string> fields{format_exact(update.value("at_s", 0.0))};
    for (std::size_t i = 0; i < names.size(); ++i)
      for (const char* of : {"si", "least", "greatest"}) fields.push_back(number(update.at(of).at(i)));
    fields.push_back(std::to_string(update.value("left_out", std::int64_t{0})));
    put(stdout, csv_line(fields));
  } else {
    std::string text = fmt::format("{:>12}", instant_of(update));
    for (std::size_t i = 0; i < names.size(); ++i) {
      const remote::Json& read = update.at("read").at(i);
      const auto shown = [&](std::size_t which) { return read.at(which).get<std::string>(); };
      text += fmt::format("  {} {}", names[i], shown(0));
      if (shown(1) != shown(2)) text += fmt::format(" ({} .. {})", shown(1), shown(2));
    }
    if (const auto left_out = update.value("left_out", std::int64_t{0}); left_out > 0)
      text += fmt::format("  [{} updates before it were left out]", left_out);
    say(text);
  }
  std::fflush(stdout);
}

void print_titles(const std::vector<std::string>& names, const remote::Json& units) {
  std::vector<std::string> fields{"t [s]"};
  for (std::size_t i = 0; i < names.size(); ++i) {
    for (const char* of : {"", " least", " greatest"})
      fields.push_back(fmt::format("{}{} [{}]", names[i], of, units.at(i).get<std::string>()));
  }
  fields.push_back("left out before");
  put(stdout, csv_line(fields));
}

}  // namespace

int run_wait(const Arguments& arguments) {
  auto there = talk(arguments.words[0]);
  if (!there) return kNotCompleted;
  const auto answer = there->ask("wait", spoken_wait(arguments)->params, kAnyTime);
  if (!answer) return kNotCompleted;
  if (const auto status = said_error(*answer)) return *status;
  const remote::Json result = answer->value("result", remote::Json::object());
  const bool came = result.value("came", false);
  if (arguments.has(Option::json))
    say(result.dump(2));
  else
    say((came ? "it came at " : "it had not come by ") + instant_of(result));
  return came ? kHeld : kBroken;
}

int run_watch(const Arguments& arguments) {
  auto there = talk(arguments.words[0]);
  if (!there) return kNotCompleted;
  remote::Json params{{"names", std::vector<std::string>(arguments.words.begin() + 1, arguments.words.end())}};
  if (const auto text = arguments.value(Option::per_second)) {
    double rate = 0;
    const auto [end, wrong] = std::from_chars(text->data(), text->data() + text->size(), rate);
    if (wrong != std::errc{} || end != text->data() + text->size())
      return say_error(fmt::format("--per-second takes a number, not `{}`", *text)), kWrongInput;
    params["per_second"] = rate;
  }
  params["read"] = !arguments.has(Option::csv) && !arguments.has(Option::json);
  std::optional<Time> span;
  if (const auto text = arguments.value(Option::span)) {
    span = read_span(*text);
    if (!span) return say_error(fmt::format("--for takes a time, not `{}`", *text)), kWrongInput;
  }
  const auto answer = there->ask("watch", std::move(params));
  if (!answer) return kNotCompleted;
  if (const auto status = said_error(*answer)) return *status;
  std::vector<std::string> names;
  for (const remote::Json& name : answer->at("result").at("names")) names.push_back(name.get<std::string>());
  const bool csv = arguments.has(Option::csv);
  if (csv) print_titles(names, answer->at("result").at("si_units"));
  std::optional<double> first;
  while (const auto message = there->told()) {
    const std::string method = message->value("method", "");
    if (method == "ended") break;
    if (method != "update") continue;
    const remote::Json& update = message->at("params");
    if (arguments.has(Option::json))
      say(update.dump());
    else
      print_update(update, names, csv);
    const double at = update.value("at_s", 0.0);
    if (!first) first = at;
    if (span && at - *first >= to_seconds(*span)) break;
  }
  return kHeld;
}

namespace {

bool any_broken(const remote::Json& judged) {
  const remote::Json& all = judged.at("requirements");
  return std::any_of(all.begin(), all.end(), [](const remote::Json& one) {
    return one.value("verdict", "") == program::answer_word(program::Answer::broken);
  });
}

void say_judged(const remote::Json& judged) {
  TextTable table(
      {{"Requirement"}, {"Verdict"}, {"Margin", TextTable::Align::right}, {"Worst at", TextTable::Align::right}});
  for (const remote::Json& one : judged.at("requirements")) {
    const auto worst = time_from_seconds(one.value("worst_at_s", -1.0));
    table.row({one.value("requirement", ""), one.value("verdict", ""), one.value("margin", "–"),
               one.contains("worst_at_s") && worst ? format_instant(*worst) : "–"});
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

/// Says what came; the status, when nothing more is waited for. `broken`: a requirement was, in one of them.
std::optional<int> take_captured(const Arguments& arguments, const remote::Json& came, std::size_t names,
                                 bool& broken) {
  if (arguments.has(Option::json)) say(came.dump());
  if (!came.value("came", false)) {
    if (!arguments.has(Option::json)) say("the run was over before it came");
    return kNotCompleted;
  }
  const remote::Json file = came.value("file", remote::Json());
  if (!file.is_string())
    return say_error("it could not be written: " + came.value("why", std::string())), kNotCompleted;
  const std::string path = (std::filesystem::path(arguments.words[0]) / file.get<std::string>()).string();
  if (!arguments.has(Option::json))
    say(fmt::format("{} of {} around {}: {}", counted(came.value("rows", std::size_t{0}), "row"),
                    counted(names, "signal"), instant_of(came), path));
  if (!came.value("whole", true)) say_aside("It is not whole: " + came.value("lacks", std::string()));
  if (const auto out = arguments.value(Option::out)) {
    std::error_code error;
    std::filesystem::copy_file(path, *out, std::filesystem::copy_options::overwrite_existing, error);
    if (error) return say_error(fmt::format("cannot write {}: {}", *out, error.message())), kNotCompleted;
  }
  if (came.contains("judged")) {
    broken = broken || any_broken(came.at("judged"));
    if (!arguments.has(Option::json)) say_judged(came.at("judged"));
  }
  if (arguments.has(Option::again)) return std::nullopt;
  return broken ? kBroken : kHeld;
}

}  // namespace

namespace {

/// Of parts with shorter steps than they are looked at: between, they are what they were.
void say_if_held(const remote::Json& made) {
  for (std::size_t i = 0; i < made.at("names").size(); ++i) {
    const double every = made.at("every_s").at(i), own = made.at("own_s").at(i);
    const auto span = time_from_seconds(every), step = time_from_seconds(own);
    if (every <= own || !span || !step) continue;
    say_aside(fmt::format("{} moves every {} and is looked at every {}: `isodyne run … --look {}` shows more",
                          made.at("names").at(i).get<std::string>(), format_span(*step), format_span(*span),
                          made.at("names").at(i).get<std::string>()));
  }
}

}  // namespace

int run_capture(const Arguments& arguments) {
  auto there = talk(arguments.words[0]);
  if (!there) return kNotCompleted;
  const auto answer = there->ask("capture", spoken_capture(arguments)->params);
  if (!answer) return kNotCompleted;
  if (const auto status = said_error(*answer)) return *status;
  const std::size_t names = answer->at("result").at("names").size();
  say_if_held(answer->at("result"));
  bool any = false, broken = false;
  while (const auto message = there->told()) {
    if (message->value("method", "") != "captured") continue;
    const bool came = message->at("params").value("came", false);
    if (!came && any) break;  // again and again, until it was over
    any = any || came;
    if (const auto status = take_captured(arguments, message->at("params"), names, broken)) return *status;
  }
  return broken ? kBroken : any ? kHeld : kNotCompleted;
}

}  // namespace isodyne::app
