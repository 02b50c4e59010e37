// repeat: a run once more from its recording alone, and whether it is the same to the bit.

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <filesystem>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>
#include <nlohmann/json.hpp>

#include "command.h"
#include "isodyne/bench/run.h"
#include "isodyne/check/load.h"
#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/exchange/signal_table.h"
#include "isodyne/record/compare.h"
#include "isodyne/session/catalogue.h"
#include "isodyne/session/run_folder.h"
#include "isodyne/session/stored_state.h"
#include "runs.h"
#include "terminal.h"

namespace isodyne::app {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;
using record::Recording;

namespace {

/// A name of a recording must not lead out of the folder.
bool stays_inside(const std::string& name) {
  const fs::path path = fs::path(name).lexically_normal();
  return !path.is_absolute() && !path.empty() && *path.begin() != "..";
}

/// A name as the language has them.
bool plain_name(const std::string& name) {
  const auto plain = [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' || c == '.' ||
           c == '[' || c == ']';
  };
  return std::all_of(name.begin(), name.end(), plain);
}

/// What is recorded goes onto a command line: it must be what it says it is. Empty if it is.
std::string odd_identity(const record::RunIdentity& i) {
  std::vector<std::string> names = i.faults;
  names.insert(names.end(), {i.scenario, i.setting, i.harness});
  for (const std::string& name : names) {
    if (!plain_name(name)) return fmt::format("`{}` is no name", name);
  }
  const auto main = std::find_if(i.sources.begin(), i.sources.end(), [&](const auto& s) { return s.first == i.main; });
  if (main == i.sources.end()) return fmt::format("its bench `{}` is not among its sources", i.main);
  if (!i.longest.empty() && !read_span(i.longest)) return fmt::format("`{}` is no time", i.longest);
  return {};
}

/// The texts as they were, and beside them what the bench has in its folder now: controllers.
Status lay_out(const record::RunIdentity& identity, const fs::path& bench, const fs::path& library,
               const fs::path& beside) {
  std::error_code error;
  for (const auto& [name, text] : identity.sources) {
    const bool own = name.starts_with(check::kLibraryMark);
    const std::string relative = own ? name.substr(check::kLibraryMark.size()) : name;
    if (!stays_inside(relative)) return Failure{"the recording has a source outside of its folder", name, ""};
    const fs::path file = (own ? library : bench) / relative;
    fs::create_directories(file.parent_path(), error);
    const Status written = write_file(file.string(), text);
    if (!written) return written.failure();
  }
  if (!fs::is_directory(beside, error)) return Done{};
  for (const auto& entry : fs::directory_iterator(beside, error)) {
    const fs::path link = bench / entry.path().filename();
    if (!fs::exists(link, error)) fs::create_symlink(fs::absolute(entry.path(), error), link, error);
  }
  return Done{};
}

/// The controllers of the run that are code of somebody: programs, and libraries that run in this process.
std::vector<const program::Setting*> code_of(const program::Program& program, const std::string& setting) {
  std::vector<const program::Setting*> all;
  for (const program::Controller& c : program.controllers) {
    const program::Setting* s = bench::setting_of(c, setting);
    if (s != nullptr && program::port_kind(s->kind).at == program::PortAt::file) all.push_back(s);
  }
  return all;
}

/// Whether what a controller is lies in the folder that was named.
bool inside_folder(const program::Setting& s) {
  return stays_inside(s.address.substr(0, s.address.find(' ')));
}

/// Where controllers are looked for; nothing, and said why, if the run would start code that nobody has agreed to.
std::optional<std::string> agreed_folder(const Arguments& arguments, const std::string& path,
                                         const record::RunIdentity& identity) {
  if (const auto own = session::bench_folder_of_own_run(path, identity); own && !arguments.has(Option::folder))
    return own;
  const auto summary = session::read_summary((fs::path(path) / "verdicts.json").string());
  const std::string told = summary ? summary->bench_folder : "";
  const std::string beside = arguments.value(Option::folder).value_or(arguments.has(Option::trust) ? told : "");
  const auto opened = session::open_recording(path);
  if (!opened) return say_error(opened.failure().text()), std::nullopt;
  if (opened->loaded.program == nullptr || arguments.has(Option::trust)) return beside;
  std::string asked;
  for (const program::Setting* s : code_of(*opened->loaded.program, identity.setting)) {
    if (arguments.has(Option::folder) && inside_folder(*s)) continue;
    asked += fmt::format("\n  {}{}", s->text, told.empty() ? "" : ", in " + told);
  }
  if (asked.empty()) return beside;
  say_error(path + " was not made here, and repeating it would start" + asked);
  say_aside("--folder FOLDER takes controllers from a folder of yours, --trust starts those that the run names");
  return std::nullopt;
}

/// This program once more; its exit status, or nothing. What it says goes into a file.
std::optional<int> run_again(const std::vector<std::string>& words, const fs::path& library, const fs::path& log) {
  std::vector<char*> argv;
  for (const std::string& w : words) argv.push_back(const_cast<char*>(w.c_str()));
  argv.push_back(nullptr);
  const std::string known = library.string();
  const int out = ::open(log.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
  const pid_t child = out < 0 ? -1 : fork();
  if (child == 0) {
    dup2(out, STDOUT_FILENO);
    dup2(out, STDERR_FILENO);
    setenv("ISODYNE_LIBRARY", known.c_str(), 1);
    setenv("XDG_DATA_HOME", known.c_str(), 1);  // nobody's run: not into the catalogue
    execv("/proc/self/exe", argv.data());
    _exit(127);
  }
  if (out >= 0) ::close(out);
  int status = 0;
  while (child > 0 && waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  if (child <= 0 || !WIFEXITED(status)) return std::nullopt;
  return WEXITSTATUS(status);
}

/// A command that did something to the plant and was not a value that was set: those are events of their own.
std::optional<record::RecordedEvent> command_about_plant(const Recording& was) {
  for (const record::RecordedEvent& e : was.events()) {
    if (e.kind != observe::event_word(observe::EventKind::command)) continue;
    const bool about_plant = e.subject != "run";
    if (about_plant) return e;
  }
  return std::nullopt;
}

/// What a run began with that is in no source: a stored state, and what was changed by hand, as the state to go on
/// from. Nothing if there is neither.
Result<std::optional<session::StoredState>> state_of(const Recording& was, const std::string& path) {
  session::StoredState state;
  if (!was.identity().state.empty()) {
    auto stored = session::parse_state(was.identity().state, path);
    if (!stored) return stored.failure();
    state = std::move(*stored);
  }
  state.identity = was.identity();
  if (!was.times().empty()) state.at = Time{was.times().front()};
  for (const record::RecordedEvent& e : was.events()) {
    if (e.kind != observe::event_word(observe::EventKind::change)) continue;
    state.changes.push_back({e.at, program::kNone, e.value});
    state.changed.push_back(e.subject);
  }
  if (const auto command = command_about_plant(was))
    return Failure{"cannot repeat", path,
                   fmt::format("at {} there was a command that cannot be given again: {} {}",
                               format_instant(command->at), command->subject, command->text)};
  if (was.identity().state.empty() && state.changes.empty()) return std::optional<session::StoredState>();
  return std::optional(std::move(state));
}

/// Whether the run was stopped, or killed, before it was over: it is repeated up to there.
bool broke_off(const Recording& was) {
  return was.ending().empty() || was.ending() == observe::ending_word(observe::Ending::interrupted);
}

std::vector<std::string> command_line(const record::RunIdentity& i, const fs::path& bench, const fs::path& out,
                                      const std::string& state, const std::string& longest) {
  std::vector<std::string> words{"isodyne", i.method == record::kReferenceMethod ? "reference" : "run",
                                 (bench / i.main).string()};
  words.insert(words.end(), {"--no-report", "--out", out.string()});
  if (!state.empty()) {  // it says the rest
    words.insert(words.end(), {"--from-state", state});
  } else {
    if (!i.scenario.empty()) words.push_back(i.scenario);
    for (const std::string& f : i.faults) words.insert(words.end(), {"--fault", f});
    words.insert(words.end(), {"--seed", std::to_string(i.seed)});
    if (!i.setting.empty()) words.insert(words.end(), {"--setting", i.setting});
    if (!i.harness.empty()) words.insert(words.end(), {"--harness", i.harness});
  }
  if (!longest.empty()) words.push_back("--for=" + longest);
  return words;
}

/// How long it may last: as long as was said, or up to where it broke off.
std::string longest_of(const Recording& was) {
  if (!broke_off(was)) return was.identity().longest;
  std::int64_t last = was.times().empty() ? 0 : was.times().back();
  for (const std::string& name : was.names()) {
    const record::Instants& times = was.times_of(name);
    if (!times.empty()) last = std::max(last, times.back());
  }
  return fmt::format("{} ns", last);
}

/// What is the same and what is not.
struct Outcome {
  std::size_t signals = 0, equal = 0, instants = 0, events = 0;
  std::optional<record::SignalDifference> first;
  std::string unlike;               ///< what is not about a signal
  std::vector<std::string> causes;  ///< likely
  bool identical() const { return signals == equal && unlike.empty(); }
};

bool is_output(const program::Program& p, const std::string& name) {
  const program::VarId id = p.find(name);
  return id != program::kNone && p.variable(id).role == program::Role::controller_output;
}

/// The events of a run, without what its end itself brings where it broke off, and without what was said about its
/// course: that somebody made it stand changes nothing of what happens.
std::vector<record::RecordedEvent> events_of(const Recording& r, bool with_end) {
  std::vector<record::RecordedEvent> events = r.events();
  std::erase_if(events, [](const auto& e) { return e.kind == observe::event_word(observe::EventKind::command); });
  if (!with_end)
    std::erase_if(events, [](const auto& e) {
      return e.kind == observe::event_word(observe::EventKind::ended) ||
             e.kind == observe::event_word(observe::EventKind::verdict);
    });
  return events;
}

/// `beside`: where its controllers were looked for.
Outcome compared(const std::string& path, const Recording& was, const Recording& is, const std::string& beside) {
  Outcome o;
  const bool part = broke_off(was);
  const auto events_were = events_of(was, !part);
  auto events_are = events_of(is, !part);
  if (was.ending().empty()) events_are.resize(std::min(events_are.size(), events_were.size()));
  o.instants = was.times().size();
  o.events = was.events().size();
  for (const std::string& name : record::names_of_both(was, is)) {
    ++o.signals;
    const record::SignalDifference d = record::difference(was, is, name, Time{}, {});
    if (d.verdict == record::SignalDifference::Verdict::equal) {
      ++o.equal;
    } else if (!o.first || d.from.value_or(Time::max()) < o.first->from.value_or(Time::max())) {
      o.first = d;
    }
  }
  const auto same_event = [](const record::RecordedEvent& x, const record::RecordedEvent& y) {
    return x.at == y.at && x.kind == y.kind && x.subject == y.subject && x.text == y.text;
  };
  if (part ? is.times().size() < was.times().size() : !(was.times() == is.times())) {
    o.unlike = fmt::format("it has {} instants and had {}", is.times().size(), was.times().size());
  } else if (!std::equal(events_were.begin(), events_were.end(), events_are.begin(), events_are.end(), same_event)) {
    o.unlike = "its events are others";
  } else if (!part && was.ending() != is.ending()) {
    o.unlike = fmt::format("it ended as `{}` and had ended as `{}`", is.ending(), was.ending());
  }
  if (o.identical()) return o;
  if (is.ending() == observe::ending_word(observe::Ending::controller_failed) && was.ending() != is.ending())
    o.causes.push_back("a controller failed: they are looked for in " + beside + ", and --folder names another place");
  for (const std::string& d : record::other_differences(was, is)) {
    const bool of_the_end = d.starts_with("time given:") || d.starts_with("ending:");
    if (!part || !of_the_end) o.causes.push_back(d);
  }
  const auto opened = session::open_recording(path);
  const program::Program* p = opened && opened->loaded.program ? opened->loaded.program.get() : nullptr;
  if (p != nullptr && o.first && is_output(*p, o.first->name))
    o.causes.push_back("the controller answers differently: it is another one, or it is not repeatable");
  if (o.causes.empty())
    o.causes.push_back("the compiler of the plant or the processor; or somebody changed the recording");
  return o;
}

void print(const Outcome& o, const std::string& path, const Recording& was) {
  if (o.identical())
    return say(fmt::format("{} is repeatable: {}, {}, {} are the same to the bit{}.", path,
                           counted(o.signals, "signal"), counted(o.instants, "instant"), counted(o.events, "event"),
                           broke_off(was) ? ", as far as it goes" : ""));
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

Json to_json(const Outcome& o) {
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

}  // namespace

int run_repeat(const Arguments& arguments) {
  const std::string& path = arguments.words[0];
  const auto was = open_recording(path);
  if (!was) return say_error(was.failure().text()), kWrongInput;
  const record::RunIdentity& identity = (*was)->identity();
  if (identity.method.starts_with(exchange::kImportedMethod))
    return say_error(path + " was measured elsewhere: there is nothing to run again"), kWrongInput;
  if (!identity.pace.empty())
    return say_error(path +
                     " kept to the wall clock: it can be compared with another run, but not repeated to the bit"),
           kWrongInput;
  if (const std::string odd = odd_identity(identity); !odd.empty())
    return say_error(fmt::format("{} cannot be repeated: {}", path, odd)), kWrongInput;
  const auto agreed = agreed_folder(arguments, path, identity);
  if (!agreed) return kWrongInput;
  const std::string beside = agreed->empty() ? "." : *agreed;
  const TemporaryFolder place;
  if (place.path().empty())
    return say_error(fmt::format("cannot make a temporary folder: {}", std::strerror(errno))), kNotCompleted;
  const fs::path bench = place.path() / "bench", library = place.path() / "library", log = place.path() / "log";
  const fs::path out = arguments.value(Option::out).value_or((place.path() / "again").string());
  std::error_code none;
  fs::create_directories(library, none);
  const Status laid = lay_out(identity, bench, library, beside);
  if (!laid) return say_error(laid.failure().text()), kWrongInput;
  const auto state = state_of(**was, path);
  if (!state) return say_error(state.failure().text()), kWrongInput;
  std::string state_file;
  if (*state) {
    state_file = (place.path() / "state.json").string();
    const Status written = write_file(state_file, session::to_json(**state));
    if (!written) return say_error(written.failure().text()), kNotCompleted;
  }
  std::optional<int> status;
  {
    ProgressLine progress;
    progress.draw(-1, "running it again");
    status = run_again(command_line(identity, bench, out, state_file, longest_of(**was)), library, log);
  }
  const auto is = Recording::open_run(out.string());
  if (!is || !status) {
    say_error(path + " could not be run again:");
    const auto said = read_file(log.string());
    say_aside(said ? *said : "");
    say_aside("  its controllers are looked for in " + beside + "; --folder names another place");
    return kNotCompleted;
  }
  const Outcome outcome = compared(path, **was, **is, beside);
  if (arguments.has(Option::json)) {
    say(to_json(outcome).dump(2, ' ', false, Json::error_handler_t::replace));
  } else {
    print(outcome, path, **was);
  }
  return outcome.identical() ? kHeld : kBroken;
}

}  // namespace isodyne::app
