#include <algorithm>
#include <atomic>
#include <cerrno>
#include <charconv>
#include <cmath>
#include <csignal>
#include <cstring>
#include <ctime>
#include <filesystem>
#include <set>
#include <thread>

#include <sys/stat.h>

#include <fmt/format.h>

#include "breakpoint.h"
#include "command.h"
#include "holder.h"
#include "isodyne/bench/run.h"
#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/core/version.h"
#include "isodyne/judge/judge.h"
#include "isodyne/present/report.h"
#include "isodyne/record/playback.h"
#include "isodyne/record/recorder.h"
#include "isodyne/record/recover.h"
#include "isodyne/session/catalogue.h"
#include "isodyne/session/rejudge.h"
#include "isodyne/session/stored_state.h"
#include "plans.h"
#include "runs.h"
#include "table.h"
#include "terminal.h"
#include "verdicts.h"

namespace isodyne::app {

namespace fs = std::filesystem;

namespace {

std::atomic<bool> g_stop{false};
constexpr const char* kBrokenOff = "broken off";

/// Every image of a recording; gives the time between two.
Time play_all(const session::OpenRecording& run, judge::Judge& judge) {
  record::Playback playback(run.loaded.program, *run.recording, record::judged_variables(*run.loaded.program));
  if (playback.missing().empty()) playback.run([&](const observe::Image& image) { judge.image(image); });
  return playback.period();
}

void on_interrupt(int signal) {
  g_stop.store(true, std::memory_order_relaxed);  // only the flag is handed over
  std::signal(signal, SIG_DFL);                   // a second Ctrl-C ends the program at once
}

/// Joins the run with those who watch it.
class Watchers : public observe::Observer {
 public:
  Watchers(const program::Program& program, record::Recorder& recorder, judge::Judge& judge, std::string title,
           const bench::RunPlan& plan)
      : program_(program),
        recorder_(recorder),
        judge_(judge),
        title_(std::move(title)),
        longest_(plan.longest),
        paced_(plan.pace) {}

  void follow(const bench::Run& run) { run_ = &run; }
  /// The run matters more than its recording.
  void go_on_unrecorded() { unrecorded_ = true; }

  /// What was before this state is not shown again; the state itself is compared.
  void begin_at(const session::StoredState& state) { begin_at_ = &state; }
  void stop_at(Breakpoint& breakpoint) { breakpoint_ = &breakpoint; }
  /// How the state at which it should go on differs; empty: not at all.
  const std::string& difference() const { return difference_; }
  bool waiting() const { return begin_at_ != nullptr; }

  void image(const observe::Image& image) override {
    Progress::alive();
    if (begin_at_ != nullptr) {
      if (image.at < begin_at_->at) return;
      difference_ =
          image.at == begin_at_->at ? session::difference(program_, *begin_at_, image) : "there is no such instant";
      begin_at_ = nullptr;
    }
    tell(judge_.image(image));
    recorder_.image(image);
    if (breakpoint_ != nullptr) breakpoint_->image(image);
    if (++images_ % (paced_ ? 16 : 512) == 0 && progress_.due()) draw(image.at);
  }
  void event(const observe::Event& event) override {
    if (event.kind == observe::EventKind::fault_on) injected_.insert(event.subject);
    if (begin_at_ != nullptr && event.at < begin_at_->at) return;
    tell(judge_.flush());  // what was broken before it comes before it
    recorder_.event(event);
  }
  void waits(const std::string& for_whom) override {
    Progress::alive();
    const double waited = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin_).count();
    if (progress_.due()) progress_.draw(-1, fmt::format("{}  waiting for {:.0f} s, {}", title_, waited, for_whom));
  }
  bool good() const override { return (recorder_.good() || unrecorded_) && difference_.empty(); }

  bool injected(std::int32_t fault) const { return injected_.contains(fault); }
  void done() { progress_.clear(); }

 private:
  void tell(const std::vector<judge::Broken>& broken) {
    for (const judge::Broken& b : broken) recorder_.event({b.at, observe::EventKind::broken, b.requirement, 0, 0});
  }

  /// How long a scenario takes depends on what its waits wait for; only --for tells the time that is left.
  void draw(Time now) {
    const double wall = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin_).count();
    const double simulated = to_seconds(now);
    std::string text = fmt::format("{}  {}, {:.0f}x real time", title_, format_seconds(simulated, 0), simulated / wall);
    const std::size_t at = run_->action(), of = run_->actions();
    double share = of == 0 ? -1 : static_cast<double>(at) / static_cast<double>(of);
    if (longest_) {
      share = std::max(share, simulated / to_seconds(*longest_));
      text += fmt::format(", {} left",
                          format_seconds(std::ceil(wall * (to_seconds(*longest_) - simulated) / simulated), 0));
    }
    if (of > 0) text += fmt::format(", action {}/{}", std::min(at + 1, of), of);
    if (paced_) {
      const bench::Timing timing = run_->timing();
      text += fmt::format(", {} of {} steps late\n", timing.overruns, timing.steps);
      text += times_table(session::times_of(timing)).text(width_of(stderr), false);
      for (const bench::ControllerReport* r : run_->reports()) text += session::controller_of(*r).text() + "\n";
    }
    progress_.draw(std::min(share, 1.0), text);
  }

  const program::Program& program_;
  const session::StoredState* begin_at_ = nullptr;
  Breakpoint* breakpoint_ = nullptr;
  std::string difference_;
  record::Recorder& recorder_;
  judge::Judge& judge_;
  std::string title_;
  std::optional<Time> longest_;
  bool paced_, unrecorded_ = false;
  std::chrono::steady_clock::time_point begin_ = std::chrono::steady_clock::now();
  const bench::Run* run_ = nullptr;
  ProgressLine progress_;
  std::set<std::int32_t> injected_;
  std::int64_t images_ = 0;
};

std::string name_of(const program::Program& program, const bench::RunPlan& plan) {
  std::string name =
      plan.scenario == program::kNone ? "run" : program.scenarios[static_cast<std::size_t>(plan.scenario)].name;
  for (const std::int32_t f : plan.faults) name += "-" + program.faults[static_cast<std::size_t>(f)].name;
  return name;
}

std::string now_text() {
  const std::time_t now = std::time(nullptr);
  std::tm utc{};
  gmtime_r(&now, &utc);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%d %H:%M:%S UTC", &utc);
  return text;
}

record::RunIdentity identity_of(const Arguments& arguments, const check::Loaded& loaded, const bench::RunPlan& plan,
                                const std::optional<session::StoredState>& state) {
  const program::Program& program = *loaded.program;
  record::RunIdentity identity;
  identity.version = kVersion;
  if (plan.scenario != program::kNone)
    identity.scenario = program.scenarios[static_cast<std::size_t>(plan.scenario)].name;
  identity.harness = arguments.value(Option::harness).value_or("");
  for (const std::int32_t f : plan.faults) identity.faults.push_back(program.faults[static_cast<std::size_t>(f)].name);
  identity.setting = plan.setting;
  if (identity.setting.empty() && !program.controllers.empty())
    identity.setting = program.controllers.front().settings.front().name;
  identity.seed = plan.seed;
  identity.main = loaded.relative.front();
  identity.method = plan.reference ? record::kReferenceMethod : program.stepping();
  if (plan.pace)
    identity.pace = plan.pace->speed == 1 ? "--paced" : fmt::format("--paced --speed {:g}", plan.pace->speed);
  identity.longest = arguments.value(Option::span).value_or("");
  if (state) identity.state = to_json(*state);
  for (std::size_t i = 0; i < loaded.relative.size(); ++i) {
    identity.sources.emplace_back(loaded.relative[i], loaded.sources->text(static_cast<std::int32_t>(i)));
  }
  return identity;
}

int exit_status(const session::Summary& s, const bench::RunResult& result, bool strict,
                const std::optional<std::int64_t>& max_overruns) {
  if (!observe::as_asked(result.ending)) return kNotCompleted;
  if (s.timing && !s.timing->whole()) return kNotCompleted;
  if (s.timing && max_overruns && s.timing->overruns > *max_overruns) return kTooLate;
  return status_of(s, strict);
}

/// Verdict files, figures and report; false (and said why) if something could not be written.
bool write_evidence(const session::Summary& summary, const std::string& folder, bool with_report) {
  const fs::path base(folder);
  if (!write_verdicts(summary, folder)) return false;
  if (!with_report) return true;
  std::vector<session::RunFolder> runs;
  auto opened = session::open_run(folder);
  if (!opened) return say_error(opened.failure().text()), false;
  runs.push_back(std::move(*opened));
  const auto html = present::report_html(runs);
  const Status written = html ? write_file((base / "report.html").string(), *html) : Status(html.failure());
  if (!written) return say_error(written.failure().text()), false;
  return true;
}

/// As far as it is known when the run begins; how it ended is for later.
session::Summary beginning(const program::Program& program, const record::RunIdentity& identity,
                           const std::string& started, const std::string& bench_folder) {
  session::Summary summary = session::summarize(program, identity, {}, {});
  summary.started = started;
  summary.bench_folder = bench_folder;
  summary.ending.clear();
  return summary;
}

/// A catalogue that cannot be written is no reason to lose a run.
void enter_into_catalogue(const std::string& folder, const session::Summary& summary,
                          const record::RunIdentity& identity) {
  const auto catalogue = session::Catalogue::open(session::usual_catalogue());
  const Status entered =
      catalogue ? (*catalogue)->enter(session::entry_of(folder, summary, identity)) : Status(catalogue.failure());
  if (!entered) say_aside("not in the catalogue of runs: " + entered.failure().text());
}

void explain_ending(const bench::RunResult& result, const record::Recorder& recorder) {
  if (result.ending == observe::Ending::completed) return;
  if (result.ending == observe::Ending::cut_short) return say_aside("cut short: " + result.explanation);
  say_error(result.ending == observe::Ending::not_recorded ? recorder.trouble().text() : result.explanation);
  for (const std::string& d : result.details) say_aside("  " + d);
}

}  // namespace

namespace {

/// What the command line says about a run, where a stored state has the last word.
std::optional<Arguments> with_state(const Arguments& given, std::optional<session::StoredState>& state) {
  Arguments all = given;
  if (const auto file = given.value(Option::from_state)) {
    auto read = session::read_state(*file);
    if (!read) return say_error(read.failure().text()), std::nullopt;
    for (const auto& [option, name] :
         {std::pair{Option::fault, "fault"}, std::pair{Option::seed, "seed"}, std::pair{Option::setting, "setting"},
          std::pair{Option::harness, "harness"}, std::pair{Option::paced, "paced"}}) {
      if (!given.has(option)) continue;
      return say_error(fmt::format("--{} is what it was when the state was stored", name)), std::nullopt;
    }
    if (given.words.size() > 1) return say_error("the scenario is what it was when the state was stored"), std::nullopt;
    state = std::move(*read);
    const record::RunIdentity& i = state->identity;
    if (!i.scenario.empty()) all.words.push_back(i.scenario);
    all.options[Option::fault] = i.faults;
    if (i.faults.empty()) all.options.erase(Option::fault);
    all.options[Option::seed] = {std::to_string(i.seed)};
    if (!i.setting.empty()) all.options[Option::setting] = {i.setting};
    if (!i.harness.empty()) all.options[Option::harness] = {i.harness};
  }
  if (!all.has(Option::paced)) return all;
  for (const auto& [option, name] : {std::pair{Option::break_, "break"}, std::pair{Option::save_state, "save-state"}}) {
    if (all.has(option))
      return say_error(fmt::format("--{} is about runs in lockstep: leave out --paced", name)), std::nullopt;
  }
  return all;
}

/// The changes that were made by hand, of which a file knows the names.
bool take_changes(const session::StoredState& state, const program::Program& program, bench::RunPlan& plan) {
  for (std::size_t i = 0; i < state.changes.size(); ++i) {
    observe::Command c;
    c.when = state.changes[i].at;
    c.who = observe::Giver::repeat;
    c.target = program.find(state.changed[i]);
    c.value = state.changes[i].value;
    if (c.target == program::kNone)
      return say_error(fmt::format("`{}` is not there any more", state.changed[i])), false;
    plan.commands.push_back(c);
  }
  return true;
}

bool save_state(const std::string& file, const program::Program& program, const record::RunIdentity& identity,
                const observe::Image& image, const std::vector<observe::Change>& changes) {
  const Status written = write_file(file, to_json(session::state_of(program, identity, image, changes)));
  if (!written) say_error(written.failure().text());
  return static_cast<bool>(written);
}

/// The run came to no end of its own: what its recording has is judged, and said.
int evidence_of_broken(const Arguments& arguments, const Broke& broke, const program::Program& program) {
  say_error(broke.why);
  std::vector<std::string> details;
  for (const program::Controller& c : program.controllers) {
    if (c.name != broke.who) continue;
    for (std::size_t i = 0; i < std::min(c.reads.size(), broke.reads.size()); ++i)
      details.push_back(fmt::format("it read {} = {}", program.variable(c.reads[i]).name,
                                    program.format(c.reads[i], broke.reads[i])));
  }
  for (const std::string& d : details) say_aside("  " + d);
  if (broke.folder.empty()) return kNotCompleted;
  const std::string file = (fs::path(broke.folder) / "recording.h5").string();
  const std::string ending = broke.controller ? observe::ending_word(observe::Ending::controller_failed) : kBrokenOff;
  const auto whole = record::recover(file, ending);
  if (!whole) return say_error(whole.failure().text()), kNotCompleted;
  auto opened = session::open_recording(broke.folder);
  if (!opened) return say_error(opened.failure().text()), kNotCompleted;
  const record::Recording& recording = *opened->recording;
  judge::Judge judge(opened->loaded.program);
  const Time period = play_all(*opened, judge);
  bench::RunResult result;
  result.ending = observe::Ending::controller_failed;
  result.ended_at = recording.times().empty() ? Time{} : Time{recording.times().back()};
  result.explanation = broke.why;
  result.details = details;
  session::SetRight right =
      session::set_right(*opened->loaded.program, recording, judge.verdicts(result.ending), period);
  session::Summary summary = session::summarize(*opened->loaded.program, recording.identity(), result, right.verdicts);
  summary.ending = ending;
  summary.started = broke.started;
  summary.bench_folder = broke.bench_folder;
  summary.remarks = std::move(right.remarks);
  if (result.ended_at + program.record_period() < broke.at)
    summary.remarks.push_back(
        fmt::format("The recording ends at {}; what came after it, up to {}, was lost with the process.",
                    format_instant(result.ended_at), format_instant(broke.at)));
  (void)write_evidence(summary, broke.folder, !arguments.has(Option::no_report));
  enter_into_catalogue(broke.folder, summary, recording.identity());
  if (arguments.has(Option::json))
    put(stdout, to_json(summary));
  else
    print_verdicts(summary, "Evidence in " + broke.folder);
  return kNotCompleted;
}

int run_bench(const Arguments& given_arguments, bool reference) {
  std::optional<session::StoredState> state;
  const auto all = with_state(given_arguments, state);
  if (!all) return kWrongInput;
  const Arguments& arguments = *all;
  const std::string& file = arguments.words[0];
  check::Wish wish;
  wish.harness = arguments.value(Option::harness).value_or("");
  const check::Loaded loaded = load_file(file, wish);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  auto wanted = read_plan(arguments, *loaded.program);
  if (!wanted || (state && !take_changes(*state, *loaded.program, wanted->plan))) return kWrongInput;
  std::optional<Breakpoint> breakpoint;
  if (const auto condition = arguments.value(Option::break_)) {
    breakpoint.emplace(Breakpoint::Plan{file, wish.harness, *condition, arguments.value(Option::break_dump)},
                       loaded.program);
    if (!breakpoint->good()) return kWrongInput;
  }
  const auto go = [&]() -> int {
    wanted->plan.reference = reference;
    if (wanted->plan.native) wanted->plan.native->first_flags = {"-O1"};  // soon, while the better one is made
    const auto folder = make_run_folder(arguments, name_of(*loaded.program, wanted->plan));
    if (!folder) {
      say_error(folder.failure().text());
      return folder.failure().kind == Failure::Kind::wrong_input ? kWrongInput : kNotCompleted;
    }
    const record::RunIdentity identity = identity_of(arguments, loaded, wanted->plan, state);
    auto recorder = record::Recorder::create((fs::path(*folder) / "recording.h5").string(), loaded.program, identity,
                                             judge::kMostImagesLate);
    if (!recorder) {
      say_error(recorder.failure().text());
      return kNotCompleted;
    }
    // In a paced run it is beside the run already, as everybody who watches.
    const bool second_core = std::thread::hardware_concurrency() > 1 && !wanted->plan.pace;
    judge::Judge judge(loaded.program, second_core ? judge::Judge::Where::beside : judge::Judge::Where::here);
    Watchers watchers(*loaded.program, **recorder, judge,
                      identity.scenario.empty() ? loaded.program->name : identity.scenario, wanted->plan);

    ports::ForeignCalls calls(wanted->answer_within);
    const bench::PortMaker make_port = ports_for(loaded.program, {.folder = folder_of(file),
                                                                  .logs = *folder,
                                                                  .read_file = read_file,
                                                                  .calls = &calls,
                                                                  .answer_within = wanted->answer_within,
                                                                  .paced = wanted->plan.pace.has_value(),
                                                                  .seed = wanted->plan.seed});
    std::signal(SIGINT, on_interrupt);
    std::signal(SIGTERM, on_interrupt);
    std::signal(SIGHUP, on_interrupt);  // the terminal is gone; the evidence shall not be
    const std::string started = now_text();
    enter_into_catalogue(*folder, beginning(*loaded.program, identity, started, folder_of(file)), identity);
    Progress::evidence_in(*folder, started, folder_of(file));
    Progress::begin();
    const auto begin = std::chrono::steady_clock::now();
    bench::Run run(loaded.program, wanted->plan, make_port, watchers);
    watchers.follow(run);
    if (arguments.has(Option::go_on_unrecorded)) watchers.go_on_unrecorded();
    if (state) watchers.begin_at(*state);
    if (breakpoint) {
      run.save_with(
          [&](const char* to) { return save_state(to, *loaded.program, identity, run.last_image(), run.changes()); });
      breakpoint->follow(run.inbox());
      watchers.stop_at(*breakpoint);
    }
    bench::RunResult result = run.execute(g_stop);
    Progress::end();
    if (breakpoint) breakpoint->done();
    watchers.done();
    if (run.native() != nullptr && run.native()->done() && !run.native()->remark().empty())
      say_aside(run.native()->remark());
    (*recorder)->last_image(run.last_image());
    const auto without_evidence = [&] {
      session::Summary summary = beginning(*loaded.program, identity, started, folder_of(file));
      summary.ending = observe::ending_word(observe::Ending::not_recorded);
      return summary;
    };
    if (state && (watchers.waiting() || !watchers.difference().empty())) {
      say_error(fmt::format("the state of {} cannot be reached again: {}", format_instant(state->at),
                            watchers.waiting() ? "the run is over before" : watchers.difference()));
      say_aside("  the bench, its controller, or the compiler of the plant is another than it was then");
      const Status closed = (*recorder)->close(observe::Ending::not_recorded);
      if (!closed) say_aside("  " + closed.failure().text());
      enter_into_catalogue(*folder, without_evidence(), identity);
      return kNotCompleted;
    }
    if (const auto to = arguments.value(Option::save_state);
        to && !save_state(*to, *loaded.program, identity, run.last_image(), run.changes())) {
      enter_into_catalogue(*folder, without_evidence(), identity);
      return kNotCompleted;
    }
    std::vector<judge::Verdict> verdicts = judge.verdicts(result.ending);
    // What was judged at every instant is part of the recording, which may have fewer.
    for (const judge::Verdict& v : verdicts)
      (*recorder)->event(
          {result.ended_at, observe::EventKind::verdict, v.requirement, static_cast<std::int32_t>(v.answer), 0});
    (*recorder)->judged(judge.witnessed());
    const Status closed = (*recorder)->close(result.ending);
    const bool went_on = !closed && arguments.has(Option::go_on_unrecorded);
    if (!closed && !went_on) result.ending = observe::Ending::not_recorded;

    for (judge::Verdict& v : verdicts) {
      if (result.ending == observe::Ending::not_recorded && v.answer == judge::Answer::held)
        v.answer = judge::Answer::undecided;
    }
    session::Summary summary = session::summarize(*loaded.program, identity, result, verdicts);
    for (const auto& [judged, what] :
         {std::pair{true, "Cannot be judged with this harness"}, std::pair{false, "Not with this harness"}}) {
      std::string left;
      for (const std::string& l : loaded.left_out) {
        const bool requirement = l.starts_with("requirement") || l.starts_with("expectation");
        if (requirement == judged) left += (left.empty() ? "" : ", ") + l;
      }
      if (!left.empty()) summary.remarks.push_back(fmt::format("{}: {}.", what, left));
    }
    if (state)
      summary.remarks.push_back(
          fmt::format("Goes on from the state of {}, which was reached again to the bit.", format_instant(state->at)));
    summary.started = started;
    summary.bench_folder = folder_of(file);
    summary.wall_seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    if (went_on) {
      const std::string lost =
          fmt::format("The recording ends at {} ({}); the run went on to {}, and is judged to its end.",
                      format_instant((*recorder)->recorded_until()), (*recorder)->trouble().reason,
                      format_instant(result.ended_at));
      summary.remarks.push_back(lost);
      say_error((*recorder)->trouble().text());
    }
    for (const std::int32_t f : wanted->plan.faults) {
      if (!watchers.injected(f))
        summary.not_injected.push_back(loaded.program->faults[static_cast<std::size_t>(f)].name);
    }
    explain_ending(result, **recorder);
    for (const std::string& l : summary.lost) say_error("lost " + l + "; the run went on without it");
    if (breakpoint && !breakpoint->came())
      summary.remarks.push_back(fmt::format("The breakpoint `{}` never came.", *arguments.value(Option::break_)));
    const bool written = write_evidence(summary, *folder, closed && !arguments.has(Option::no_report));
    enter_into_catalogue(*folder, summary, identity);
    if (arguments.has(Option::json)) {
      put(stdout, to_json(summary));
    } else {
      print_verdicts(summary, "Evidence in " + *folder);
    }
    return written && closed ? exit_status(summary, result, arguments.has(Option::strict), wanted->max_overruns)
                             : kNotCompleted;
  };
  return hold(go, [&](const Broke& broke) { return evidence_of_broken(arguments, broke, *loaded.program); });
}

}  // namespace

int run_run(const Arguments& arguments) {
  return run_bench(arguments, false);
}

int run_reference(const Arguments& arguments) {
  return run_bench(arguments, true);
}

}  // namespace isodyne::app
