// repeat: a run once more from its recording alone, and whether it is the same to the bit.

#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/session/catalogue.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/repeat.h"
#include "named_runs.h"
#include "run_progress.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;
using record::Recording;

namespace {

/// Whether what a controller is lies in the folder that was named.
bool inside_folder(const program::Setting& s) {
  const fs::path path = fs::path(s.address.substr(0, s.address.find(' '))).lexically_normal();
  return !path.is_absolute() && !path.empty() && *path.begin() != "..";
}

/// Where controllers are looked for; nothing, and said why, if the run would start code that nobody has agreed to.
std::optional<std::string> agreed_folder(const Arguments& arguments, const std::string& path,
                                         const session::OpenRecording& run) {
  if (const auto own = session::bench_folder_of_own_run(path, run.recording->identity());
      own && !arguments.has(Option::folder))
    return own;
  const auto summary = session::read_summary((fs::path(path) / "verdicts.json").string());
  const std::string told = summary ? summary->bench_folder : "";
  const std::string beside = arguments.value(Option::folder).value_or(arguments.has(Option::trust) ? told : "");
  if (arguments.has(Option::trust)) return beside;
  std::string asked;
  for (const program::Setting* s : session::code_of(run)) {
    if (arguments.has(Option::folder) && inside_folder(*s)) continue;
    asked += fmt::format("\n  {}{}", s->text, told.empty() ? "" : ", in " + told);
  }
  if (asked.empty()) return beside;
  say_error(path + " was not made here, and repeating it would start" + asked);
  say_aside("--folder FOLDER takes controllers from a folder of yours, --trust starts those that the run names");
  return std::nullopt;
}

void print(const session::Repeated& o, const std::string& path, const Recording& was) {
  if (o.identical())
    return say(fmt::format("{} is repeatable: {}, {}, {} are the same to the bit{}.", path,
                           counted(o.signals, "signal"), counted(o.instants, "instant"), counted(o.events, "event"),
                           o.part ? ", as far as it goes" : ""));
  say(fmt::format("{} was not reached again: {} of {} signals are equal to the bit.", path, o.equal, o.signals));
  if (o.first && o.first->from) {
    const record::SignalUnit u = was.unit(o.first->name);
    const auto shown = [&](double si) { return format_number((si - u.offset) / u.factor); };
    say(fmt::format("First, {} was {} and is {} {} at {:.9g} s.", o.first->name, shown(o.first->a_there),
                    shown(o.first->b_there), u.read_in, to_seconds(*o.first->from)));
  }
  if (!o.unlike.empty()) say("Also, " + o.unlike + ".");
  say("Likely because of");
  for (const std::string& c : o.causes) say("  " + c);
}

Json to_json(const session::Repeated& o) {
  Json j{{"identical", o.identical()}, {"signals", o.signals}, {"equal", o.equal},
         {"instants", o.instants},     {"events", o.events},   {"likely_causes", o.causes}};
  j["first"] = nullptr;
  if (o.first && o.first->from)
    j["first"] = {{"signal", o.first->name},
                  {"at_s", to_seconds(*o.first->from)},
                  {"was", o.first->a_there},
                  {"is", o.first->b_there}};
  return j;
}

/// What the run left when it was run again, and said; nothing if there is no recording of it.
std::unique_ptr<Recording> run_again(const std::string& path, session::RunRequest request, const std::string& beside) {
  RunProgress progress(request);
  const session::RunOutcome again = session::run(request, {&progress});
  auto is = Recording::open_run(request.evidence.folder);
  if (is && again.recorded) return std::move(*is);
  say_error(path + " could not be run again:");
  for (const session::Notice& s : again.said) say_aside("  " + s.text);
  say_aside("  its controllers are looked for in " + beside + "; --folder names another place");
  return nullptr;
}

}  // namespace

int run_repeat(const Arguments& arguments) {
  const std::string& path = arguments.words[0];
  auto run = session::open_recording(path);
  if (!run) return say_error(run.failure().text()), kWrongInput;
  say_if_unfinished(*run->recording, path);
  const auto agreed = agreed_folder(arguments, path, *run);
  if (!agreed) return kWrongInput;
  auto request = session::request_of(*run, path, *agreed);
  if (!request) return say_error(request.failure().text()), kWrongInput;
  const TemporaryFolder place;
  if (place.path().empty()) return say_error(place.trouble().text()), kNotCompleted;
  const auto out =
      session::make_run_folder(arguments.value(Option::out).value_or((place.path() / "again").string()), "");
  if (!out) return say_error(out.failure().text()), kWrongInput;
  request->evidence.folder = *out;
  const std::string beside = agreed->empty() ? "." : *agreed;
  const auto is = run_again(path, std::move(*request), beside);
  if (is == nullptr) return kNotCompleted;
  const session::Repeated outcome = session::compared(*run, *is, beside);
  if (arguments.has(Option::json)) {
    say(to_json(outcome).dump(2, ' ', false, Json::error_handler_t::replace));
  } else {
    print(outcome, path, *run->recording);
  }
  return outcome.identical() ? kHeld : kBroken;
}

}  // namespace isodyne::app
