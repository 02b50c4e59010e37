#include "isodyne/session/run_service.h"

#include <algorithm>
#include <cmath>
#include <csignal>
#include <ctime>
#include <filesystem>
#include <set>
#include <thread>

#include <sys/mman.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/file.h"
#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/core/version.h"
#include "isodyne/judge/judge.h"
#include "isodyne/networks/solvers.h"
#include "isodyne/ports/make_port.h"
#include "isodyne/record/recorder.h"
#include "isodyne/record/recover.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/rejudge.h"
#include "isodyne/session/run_folder.h"
#include "isodyne/session/worker.h"

namespace isodyne::session {

namespace fs = std::filesystem;

namespace {

std::atomic<bool> g_stop{false};
std::atomic<bool> g_busy{false};  ///< this process runs a bench

/// A second Ctrl-C ends the program at once. But what somebody sends to the whole group of processes comes twice, once
/// from our parent.
void on_interrupt(int signal) {
  static std::atomic<std::int64_t> first{0};
  constexpr std::int64_t kOneKey = 300'000'000;  // ns
  timespec now{};
  clock_gettime(CLOCK_MONOTONIC, &now);
  const std::int64_t ns = now.tv_sec * 1'000'000'000 + now.tv_nsec;
  if (!g_stop.exchange(true)) return first.store(ns);
  if (ns - first.load() < kOneKey) return;
  std::signal(signal, SIG_DFL);
  std::raise(signal);
}

/// What measures came to, added up.
class MeasureSums {
 public:
  explicit MeasureSums(const program::Program& program) : program_(program), all_(program.measures.size()) {}

  void take(const judge::Measured& m) {
    One& one = all_[static_cast<std::size_t>(m.measure)];
    if (!m.whole || m.occurrence <= one.seen) return;  // the judge may show one again
    one.seen = m.occurrence;
    ++one.stretches;
    if (!std::isfinite(m.value)) return void(++one.missed);
    one.least = std::min(one.least, m.value), one.greatest = std::max(one.greatest, m.value);
  }
  std::vector<MeasureRow> rows() const {
    std::vector<MeasureRow> rows;
    for (std::size_t i = 0; i < all_.size(); ++i) {
      const program::Measure& measure = program_.measures[i];
      const Unit& unit = program_.variable(measure.value).unit;
      MeasureRow row{measure.name, unit.text, all_[i].stretches, all_[i].missed, {}, {}};
      if (all_[i].stretches > all_[i].missed)
        row.least = unit.read(all_[i].least), row.greatest = unit.read(all_[i].greatest);
      rows.push_back(std::move(row));
    }
    return rows;
  }

 private:
  struct One {
    std::int64_t seen = 0, stretches = 0, missed = 0;
    double least = HUGE_VAL, greatest = -HUGE_VAL;
  };
  const program::Program& program_;
  std::vector<One> all_;
};

/// Joins the run with the judge, the recorder, and those who watch it.
class Witness : public observe::Observer {
 public:
  Witness(const RunRequest& request, record::RunRecorder* recorder, judge::Judge* judge,
          const std::vector<RunWatcher*>& watchers)
      : program_(*request.bench->program),
        measures_(program_),
        begin_at_(request.from ? &*request.from : nullptr),
        recorder_(recorder),
        judge_(judge),
        watchers_(watchers),
        unrecorded_(request.evidence.go_on_unrecorded) {}

  /// How the state at which it should go on differs; empty: not at all.
  const std::string& difference() const { return difference_; }
  bool waiting() const { return begin_at_ != nullptr; }
  bool injected(std::int32_t fault) const { return injected_.contains(fault); }
  bool disarmed(std::int32_t fault) const { return disarmed_.contains(fault); }
  /// What the judge measured since it was asked last; after its verdicts too.
  void take_measured() {
    for (const judge::Measured& m : judge_->measured()) measures_.take(m);
  }
  std::vector<MeasureRow> measures() const { return measures_.rows(); }

  void image(const observe::Image& image) override {
    WorkerBoard::alive();
    if (begin_at_ != nullptr) {
      if (image.at < begin_at_->at) return;
      difference_ =
          image.at == begin_at_->at ? session::difference(program_, *begin_at_, image) : "there is no such instant";
      begin_at_ = nullptr;
    }
    if (judge_ != nullptr) tell(judge_->image(image)), take_measured();
    if (recorder_ != nullptr) recorder_->image(image);
    for (RunWatcher* w : watchers_) w->image(image);
  }
  void rows(const observe::Rows& rows) override {
    if (begin_at_ != nullptr) return;
    if (judge_ != nullptr) tell(judge_->rows(rows)), take_measured();
    if (recorder_ != nullptr) recorder_->rows(rows);
    for (RunWatcher* w : watchers_) w->rows(rows);
  }
  void edges(const observe::Edges& edges) override {
    if (begin_at_ != nullptr) return;
    if (judge_ != nullptr) tell(judge_->edges(edges)), take_measured();
    if (recorder_ != nullptr) recorder_->edges(edges);
    for (RunWatcher* w : watchers_) w->edges(edges);
  }
  void event(const observe::Event& event) override {
    if (event.kind == observe::EventKind::fault_on) injected_.insert(event.subject);
    if (observe::command_kind(event) == observe::CommandKind::disarm) disarmed_.insert(event.subject);
    if (begin_at_ != nullptr && event.at < begin_at_->at) return;
    if (judge_ != nullptr) tell(judge_->flush());  // what was broken before it comes before it
    if (recorder_ != nullptr) recorder_->event(event);
    for (RunWatcher* w : watchers_) w->event(event);
  }
  void waits(const std::string& for_whom) override {
    WorkerBoard::alive();
    for (RunWatcher* w : watchers_) w->waits(for_whom);
  }
  bool good() const override {
    if (recorder_ != nullptr && !recorder_->good() && !unrecorded_) return false;
    for (const RunWatcher* w : watchers_) {
      if (!w->good()) return false;
    }
    return difference_.empty();
  }

 private:
  void tell(const std::vector<judge::Broken>& broken) {
    for (const judge::Broken& b : broken) {
      const observe::Event event{b.at, observe::EventKind::broken, b.requirement, 0, 0};
      if (recorder_ != nullptr) recorder_->event(event);
      for (RunWatcher* w : watchers_) w->event(event);
    }
  }

  const program::Program& program_;
  MeasureSums measures_;
  const StoredState* begin_at_;  ///< what was before it is not shown again; the state itself is compared
  std::string difference_;
  record::RunRecorder* recorder_;
  judge::Judge* judge_;
  const std::vector<RunWatcher*>& watchers_;
  bool unrecorded_;
  std::set<std::int32_t> injected_, disarmed_;  ///< faults
};

/// One run, from its request to its outcome.
class Doing {
 public:
  Doing(const RunRequest& request, const std::vector<RunWatcher*>& watchers)
      : request_(request),
        program_(*request.bench->program),
        watchers_(watchers),
        identity_(identity_of(request)),
        started_(now_text()) {
    outcome_.folder = request.evidence.folder;
  }

  RunOutcome done(const std::atomic<bool>& stop) {
    if (open_evidence()) execute(stop);
    return std::move(outcome_);
  }

 private:
  bool keeps() const { return !request_.evidence.folder.empty(); }
  void error(std::string text) { outcome_.said.push_back({true, std::move(text)}); }
  void aside(std::string text) { outcome_.said.push_back({false, std::move(text)}); }

  bool open_evidence() {
    if (request_.evidence.judged) {
      // In a paced run it is beside the run already, as everybody who watches; and whoever measures steps wants to see
      // it.
      const bool second_core = std::thread::hardware_concurrency() > 1 && !request_.among_others &&
                               !request_.plan.pace && !request_.plan.time_steps;
      judge_ = std::make_unique<judge::Judge>(request_.bench->program,
                                              second_core ? judge::Judge::Where::beside : judge::Judge::Where::here);
    }
    if (!keeps()) return true;
    auto recorder =
        record::RunRecorder::create(outcome_.folder, request_.bench->program, identity_, judge::kMostImagesLate,
                                    request_.evidence.pieces, request_.evidence.go_on_unrecorded);
    if (!recorder) return error(recorder.failure().text()), false;
    recorder_ = std::move(*recorder);
    enter(beginning());
    WorkerBoard::evidence_in(outcome_.folder, started_, request_.bench->place());
    return true;
  }

  void execute(const std::atomic<bool>& stop) {
    Witness witness(request_, recorder_.get(), judge_.get(), watchers_);
    ports::ForeignCalls calls(request_.answer_within);
    const bench::PortMaker make_port = [&](const program::Controller& c, const program::Setting& s) {
      return request_.ports ? request_.ports(c, s) : ports::make_port(program_, c, s, place(calls));
    };
    WorkerBoard::begin();
    const auto begin = std::chrono::steady_clock::now();
    bench::RunPlan plan = request_.plan;
    if (!plan.networks) plan.networks = networks::solvers();
    bench::Run run(request_.bench->program, plan, make_port, witness);
    run.save_with([&](const char* to) { return save_state(to, run); });
    for (RunWatcher* w : watchers_) w->begins(run);
    result_ = run.execute(stop);
    WorkerBoard::end();
    for (RunWatcher* w : watchers_) w->ended(run, result_);
    if (run.native() != nullptr && run.native()->done() && !run.native()->remark().empty())
      aside(run.native()->remark());
    if (const auto image = run.last_image(); recorder_ && image) recorder_->last_image(*image);
    if (!reached_again(witness) ||
        (!request_.evidence.save_state.empty() && !save_state(request_.evidence.save_state, run)))
      return give_up();
    conclude(witness);
    outcome_.summary->wall_seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    leave_evidence();
  }

  ports::PortPlace place(ports::ForeignCalls& calls) const {
    return {.folder = request_.bench->folder,
            .logs = request_.evidence.folder,
            .read_file = [this](const std::string& file) { return read_text(file); },
            .calls = &calls,
            .answer_within = request_.answer_within,
            .paced = request_.plan.pace.has_value(),
            .seed = request_.plan.seed,
            .networks = networks::solvers()};
  }
  /// A text that the bench was made of is as it was then.
  Result<std::string> read_text(const std::string& file) const {
    for (const auto& [name, text] : request_.bench->sources) {
      if ((fs::path(request_.bench->folder) / name).string() == file) return text;
    }
    return read_file(file);
  }

  bool save_state(const std::string& file, const bench::Run& run) {
    const auto image = run.last_image();
    if (!image)
      return error("there is no state to save: the run ended halfway between two instants of the bench"), false;
    const Status written = write_file(file, to_json(state_of(program_, identity_, *image, run.changes())));
    if (!written) error(written.failure().text());
    return static_cast<bool>(written);
  }

  bool reached_again(const Witness& witness) {
    if (!request_.from || (!witness.waiting() && witness.difference().empty())) return true;
    error(fmt::format("the state of {} cannot be reached again: {}", format_instant(request_.from->at),
                      witness.waiting() ? "the run is over before" : witness.difference()));
    aside("  the bench, its controller, or the compiler of the plant is another than it was then");
    return false;
  }

  /// There is a recording, but it is no evidence of what was asked.
  void give_up() {
    if (recorder_) {
      const Status closed = recorder_->close(observe::Ending::not_recorded);
      if (!closed) aside("  " + closed.failure().text());
    }
    Summary summary = beginning();
    summary.ending = observe::Ending::not_recorded;
    enter(summary);
  }

  /// Verdicts, and the recording closed.
  void conclude(Witness& witness) {
    std::vector<judge::Verdict> verdicts;
    if (judge_) verdicts = judge_->verdicts(result_.ending), witness.take_measured();
    outcome_.recorded = true;
    if (recorder_) {
      // What was judged at every instant is part of the recording, which may have fewer.
      for (const judge::Verdict& v : verdicts)
        recorder_->event(
            {result_.ended_at, observe::EventKind::verdict, v.requirement, static_cast<std::int32_t>(v.answer), 0});
      if (judge_) recorder_->judged(judge_->witnessed());
      outcome_.recorded = static_cast<bool>(recorder_->close(result_.ending));
    }
    went_on_ = !outcome_.recorded && request_.evidence.go_on_unrecorded;
    if (!outcome_.recorded && !went_on_) result_.ending = observe::Ending::not_recorded;
    for (judge::Verdict& v : verdicts) {
      if (result_.ending == observe::Ending::not_recorded && v.answer == judge::Answer::held)
        v.answer = judge::Answer::undecided;
    }
    outcome_.ending = result_.ending;
    Summary summary = summarize(program_, identity_, result_, verdicts);
    summary.measures = witness.measures();
    remark_on(summary);
    summary.started = started_;
    summary.bench_folder = request_.bench->place();
    for (const std::int32_t f : request_.plan.faults) {
      const std::string& name = program::at(program_.faults, f).name;
      if (!witness.injected(f)) summary.not_injected.push_back(name);
      if (witness.disarmed(f)) summary.disarmed.push_back(name);
    }
    outcome_.summary = std::move(summary);
  }

  /// What a reader has to know, and is not about one of the requirements.
  void remark_on(Summary& summary) {
    for (const auto& [judged, what] :
         {std::pair{true, "Cannot be judged with this harness"}, std::pair{false, "Not with this harness"}}) {
      std::vector<std::string> left;
      for (const std::string& l : request_.bench->left_out) {
        const bool requirement = l.starts_with("requirement") || l.starts_with("expectation");
        if (requirement == judged) left.push_back(l);
      }
      if (!left.empty()) summary.remarks.push_back(fmt::format("{}: {}.", what, listed(left, "")));
    }
    summary.remarks.insert(summary.remarks.end(), request_.remarks.begin(), request_.remarks.end());
    if (request_.from)
      summary.remarks.push_back(fmt::format("Goes on from the state of {}, which was reached again to the bit.",
                                            format_instant(request_.from->at)));
    if (recorder_ && request_.evidence.pieces.any()) {
      summary.remarks.push_back(fmt::format(
          "The recording is in pieces: {}, of which {} dropped; recording.h5 is the last. Events are in events.csv.",
          counted(recorder_->pieces(), "piece"),
          recorder_->dropped() == 0 ? "none was" : fmt::format("the oldest {} were", recorder_->dropped())));
      if (!recorder_->gaps().empty()) summary.remarks.push_back("Not all was recorded: " + recorder_->gaps() + ".");
    }
    if (!went_on_) return;
    summary.remarks.push_back(fmt::format(
        "The recording ends at {} ({}); the run went on to {}, and is judged to its end.",
        format_instant(recorder_->recorded_until()), recorder_->trouble().reason, format_instant(result_.ended_at)));
  }

  void leave_evidence() {
    if (went_on_) error(recorder_->trouble().text());
    explain_ending();
    for (const std::string& l : outcome_.summary->lost) error("lost " + l + "; the run went on without it");
    outcome_.whole = outcome_.recorded;
    if (keeps()) {
      const Status written = write_verdicts(*outcome_.summary, outcome_.folder);
      if (!written) error(written.failure().text());
      outcome_.whole = outcome_.whole && written;
    }
    enter(*outcome_.summary);
  }

  void explain_ending() {
    if (result_.ending == observe::Ending::completed) return;
    if (result_.ending == observe::Ending::cut_short) return aside("cut short: " + result_.explanation);
    error(result_.ending == observe::Ending::not_recorded && recorder_ ? recorder_->trouble().text()
                                                                       : result_.explanation);
    for (const std::string& d : result_.details) aside("  " + d);
  }

  /// As far as it is known when the run begins; how it ended is for later.
  Summary beginning() const {
    Summary summary = summarize(program_, identity_, {}, {});
    summary.started = started_;
    summary.bench_folder = request_.bench->place();
    summary.ending.reset();
    return summary;
  }

  /// A catalogue that cannot be written is no reason to lose a run.
  void enter(const Summary& summary) {
    if (!keeps() || !request_.evidence.in_catalogue) return;
    const Status entered = enter_into_catalogue(outcome_.folder, summary, identity_);
    if (!entered) aside("not in the catalogue of runs: " + entered.failure().text());
  }

  const RunRequest& request_;
  const program::Program& program_;
  const std::vector<RunWatcher*>& watchers_;
  const record::RunIdentity identity_;
  const std::string started_;
  std::unique_ptr<judge::Judge> judge_;
  std::unique_ptr<record::RunRecorder> recorder_;
  bench::RunResult result_;
  bool went_on_ = false;  ///< without a recording
  RunOutcome outcome_;
};

/// The run came to no end of its own: what its recording has is judged, and said.
RunOutcome outcome_of_broken(const RunRequest& request, const Broke& broke) {
  const program::Program& program = *request.bench->program;
  RunOutcome outcome;
  outcome.ending = observe::Ending::controller_failed;
  outcome.folder = broke.folder;
  outcome.said.push_back({true, broke.why});
  std::vector<std::string> details;
  for (const program::Controller& c : program.controllers) {
    if (c.name != broke.who) continue;
    for (std::size_t i = 0; i < std::min(c.reads.size(), broke.reads.size()); ++i)
      details.push_back(fmt::format("it read {} = {}", program.variable(c.reads[i]).name,
                                    program.format(c.reads[i], broke.reads[i])));
  }
  for (const std::string& d : details) outcome.said.push_back({false, d});
  if (broke.folder.empty()) return outcome;
  const observe::Ending ending = broke.controller ? observe::Ending::controller_failed : observe::Ending::broken_off;
  const auto whole = record::recover((fs::path(broke.folder) / "recording.h5").string(), observe::ending_word(ending));
  auto opened = whole ? open_recording(broke.folder) : Result<OpenRecording>(whole.failure());
  if (!opened) return outcome.said.push_back({true, opened.failure().text()}), outcome;
  const record::Recording& recording = *opened->recording;
  bench::RunResult result;
  result.ending = observe::Ending::controller_failed;
  result.ended_at = recording.times().empty() ? Time{} : Time{recording.times().back()};
  result.explanation = broke.why;
  result.details = details;
  SetRight right = judged_again(*opened, result.ending);
  Summary summary = summarize(*opened->loaded.program, recording.identity(), result, right.verdicts);
  summary.ending = ending;
  summary.started = broke.started;
  summary.bench_folder = broke.bench_folder;
  summary.remarks = std::move(right.remarks);
  if (result.ended_at + program.record_period() < broke.at)
    summary.remarks.push_back(
        fmt::format("The recording ends at {}; what came after it, up to {}, was lost with the process.",
                    format_instant(result.ended_at), format_instant(broke.at)));
  outcome.recorded = true;
  const Status written = write_verdicts(summary, broke.folder);
  const Status entered = request.evidence.in_catalogue
                             ? enter_into_catalogue(broke.folder, summary, recording.identity())
                             : Status(Done{});
  if (!written) outcome.said.push_back({true, written.failure().text()});
  if (!entered) outcome.said.push_back({false, "not in the catalogue of runs: " + entered.failure().text()});
  outcome.whole = static_cast<bool>(written);
  outcome.summary = std::move(summary);
  return outcome;
}

/// Memory that two processes share, for a text of any length from one to the other.
class SharedText {
 public:
  SharedText() : file_(::memfd_create("outcome", MFD_CLOEXEC)) {}
  ~SharedText() {
    if (file_ >= 0) ::close(file_);
  }
  SharedText(const SharedText&) = delete;
  SharedText& operator=(const SharedText&) = delete;

  bool put(const std::string& text) {
    for (std::size_t at = 0; at < text.size();) {
      const ssize_t n = ::pwrite(file_, text.data() + at, text.size() - at, static_cast<off_t>(at));
      if (n <= 0) return false;
      at += static_cast<std::size_t>(n);
    }
    return true;
  }
  std::string take() const {
    std::string text;
    char block[4096];
    for (ssize_t n = 0; (n = ::pread(file_, block, sizeof block, static_cast<off_t>(text.size()))) > 0;)
      text.append(block, static_cast<std::size_t>(n));
    return text;
  }

 private:
  int file_;
};

}  // namespace

std::shared_ptr<const Bench> bench_of(const check::Loaded& loaded, const std::string& folder,
                                      const std::string& harness) {
  auto bench = std::make_shared<Bench>();
  bench->program = loaded.program;
  bench->harness = harness;
  bench->left_out = loaded.left_out;
  bench->folder = folder;
  for (std::size_t i = 0; i < loaded.relative.size(); ++i)
    bench->sources.emplace_back(loaded.relative[i], loaded.sources->text(static_cast<std::int32_t>(i)));
  return bench;
}

Status go_on_from(RunRequest& request, StoredState state) {
  const program::Program& program = *request.bench->program;
  const auto gone = [](const std::string& name) {
    return Failure{fmt::format("`{}` is not there any more", name), "", "", Failure::Kind::wrong_input};
  };
  request.plan.commands.clear();
  for (std::size_t i = 0; i < state.changes.size(); ++i) {
    observe::Command c;
    c.when = state.changes[i].at;
    c.who = observe::Giver::repeat;
    c.target = program.find(state.changed[i]);
    c.value = state.changes[i].value;
    if (c.target == program::kNone) return gone(state.changed[i]);
    request.plan.commands.push_back(c);
  }
  request.plan.overrides.clear();
  for (const record::Override& o : state.identity.overrides) {
    request.plan.overrides.emplace_back(program.find(o.name), o.value);
    if (request.plan.overrides.back().first == program::kNone) return gone(o.name);
  }
  request.from = std::move(state);
  return Done{};
}

bool runs_beside(const program::Program& program, const std::string& setting) {
  return std::all_of(program.controllers.begin(), program.controllers.end(), [&](const program::Controller& c) {
    const program::Setting* s = bench::setting_of(c, setting);
    using Kind = program::Setting::Kind;
    return s == nullptr || s->kind == Kind::part || s->kind == Kind::library || s->kind == Kind::program;
  });
}

namespace {
/// In the unit in which people read it, with the fewest digits that come to the same number; empty: none do.
std::string shown_exactly(const program::Variable& v, double value) {
  const double read = v.unit.read(value);
  for (int digits = 1; std::isfinite(read) && digits <= 17; ++digits) {
    const std::string number = fmt::format("{:.{}g}", read, digits);
    if (v.unit.coherent(std::strtod(number.c_str(), nullptr)) == value)
      return number + (v.unit.text.empty() || v.unit.text == "1" ? "" : " " + v.unit.text);
  }
  return {};
}
}  // namespace

record::RunIdentity identity_of(const RunRequest& request) {
  const program::Program& program = *request.bench->program;
  const bench::RunPlan& plan = request.plan;
  record::RunIdentity identity;
  identity.version = kVersion;
  identity.main = request.bench->sources.front().first;
  if (plan.scenario != program::kNone) identity.scenario = program::at(program.scenarios, plan.scenario).name;
  identity.harness = request.bench->harness;
  for (const std::int32_t f : plan.faults) identity.faults.push_back(program::at(program.faults, f).name);
  identity.setting = plan.setting;
  if (identity.setting.empty() && !program.controllers.empty())
    identity.setting = program.controllers.front().settings.front().name;
  identity.seed = plan.seed;
  identity.made_by = plan.reference ? record::MadeBy::reference : record::MadeBy::steps;
  identity.method = plan.reference ? record::kReferenceMethod : program.stepping();
  identity.longest = plan.longest;
  identity.live = program.live;
  if (plan.pace) identity.pace = record::RunPace{plan.pace->speed};
  for (const auto& [id, value] : plan.overrides) {
    const program::Variable& v = program.variable(id);
    using Kind = program::Type::Kind;
    const std::string unit = v.type.kind == Kind::real ? si_text(v.type.dimension) : "";
    const bool labelled = v.type.kind == Kind::boolean || v.type.kind == Kind::choice;
    identity.overrides.push_back({v.name, value, unit == "1" ? "" : unit,
                                  labelled ? program.format(id, value) : std::string(),
                                  labelled ? std::string() : shown_exactly(v, value)});
  }
  if (request.from) identity.state = to_json(*request.from);
  identity.sources = request.bench->sources;
  return identity;
}

std::string name_of(const RunRequest& request) {
  const program::Program& program = *request.bench->program;
  const std::int32_t scenario = request.plan.scenario;
  std::string name = scenario == program::kNone ? "run" : program::at(program.scenarios, scenario).name;
  for (const std::int32_t f : request.plan.faults) name += "-" + program::at(program.faults, f).name;
  return name;
}

bool RunOutcome::completed() const {
  return summary && observe::as_asked(ending) && (!summary->timing || summary->timing->whole()) && whole;
}

std::string RunOutcome::why() const {
  if (summary && !summary->explanation.empty()) return summary->explanation;
  for (const Notice& s : said) {
    if (s.error) return s.text;
  }
  return observe::ending_word(ending);
}

RunOutcome run_here(const RunRequest& request, const std::vector<RunWatcher*>& watchers,
                    const std::atomic<bool>* stop) {
  static const std::atomic<bool> never{false};
  if (g_busy.exchange(true)) {
    RunOutcome refused;
    refused.said.push_back({true, "this process runs a bench already, and does one at a time"});
    return refused;
  }
  struct Free {
    ~Free() { g_busy.store(false); }
  } const free;
  return Doing(request, watchers).done(stop != nullptr ? *stop : never);
}

RunOutcome run(const RunRequest& request, const std::vector<RunWatcher*>& watchers) {
  SharedText text;
  std::optional<RunOutcome> made;
  const auto work = [&] {
    for (const int signal : {SIGINT, SIGTERM, SIGHUP})  // the terminal is gone; the evidence shall not be
      std::signal(signal, on_interrupt);
    return text.put(to_json(run_here(request, watchers, &g_stop))) ? 0 : 1;
  };
  const auto broken = [&](const Broke& broke) {
    made = outcome_of_broken(request, broke);
    return 0;
  };
  const int status = in_own_process(work, broken);
  if (made) return std::move(*made);
  auto read = read_outcome(text.take());
  if (status == 0 && read) return std::move(*read);
  RunOutcome lost;
  lost.said.push_back({true, read ? "the run could not say how it ended" : read.failure().text()});
  return lost;
}

std::string to_json(const RunOutcome& outcome) {
  CheckedJson j{{"ending", static_cast<int>(outcome.ending)},
                {"recorded", outcome.recorded},
                {"whole", outcome.whole},
                {"folder", outcome.folder},
                {"said", CheckedJson::array()}};
  for (const Notice& s : outcome.said) j["said"].push_back({{"error", s.error}, {"text", s.text}});
  if (outcome.summary) j["summary"] = to_json(*outcome.summary);
  return j.dump(-1, ' ', false, CheckedJson::error_handler_t::replace);
}

Result<RunOutcome> read_outcome(const std::string& text) {
  const Failure unreadable{"cannot read how the run ended", "", ""};
  const auto parsed = parse_json(text);
  if (!parsed) return parsed.failure();
  try {
    RunOutcome outcome;
    const int ending = parsed->at("ending");
    if (ending < 0 || ending > static_cast<int>(observe::Ending::cut_off)) return unreadable;
    outcome.ending = static_cast<observe::Ending>(ending);
    outcome.recorded = parsed->at("recorded");
    outcome.whole = parsed->at("whole");
    outcome.folder = parsed->at("folder");
    for (const CheckedJson& s : parsed->at("said")) outcome.said.push_back({s.at("error"), s.at("text")});
    if (!parsed->contains("summary")) return outcome;
    auto summary = parse_summary(parsed->at("summary"), "how the run ended");
    if (!summary) return summary.failure();
    outcome.summary = std::move(*summary);
    return outcome;
  } catch (const std::exception& e) {
    return unreadable;
  }
}

}  // namespace isodyne::session
