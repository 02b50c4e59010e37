// serve: a bench runs without end and unattended, for whoever comes in.

#include <algorithm>
#include <charconv>
#include <csignal>
#include <filesystem>

#include <systemd/sd-daemon.h>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/core/units.h"
#include "isodyne/remote/open_run.h"
#include "isodyne/remote/values.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/resumed.h"
#include "isodyne/session/run_service.h"
#include "plans.h"
#include "terminal.h"
#include "typed.h"

namespace isodyne::app {

namespace {

using Clock = std::chrono::steady_clock;
using std::chrono::seconds;

/// "20 GB": bytes; units of thousands, as disks are sold, or GiB.
std::optional<std::uint64_t> read_size(const std::string& text) {
  double number = 0;
  const auto [rest, trouble] = std::from_chars(text.data(), text.data() + text.size(), number);
  std::string unit(rest, text.data() + text.size());
  unit.erase(0, unit.find_first_not_of(' ') == std::string::npos ? unit.size() : unit.find_first_not_of(' '));
  static const std::map<std::string, double> units{{"B", 1},           {"kB", 1e3},          {"MB", 1e6},
                                                   {"GB", 1e9},        {"TB", 1e12},         {"KiB", 1024.0},
                                                   {"MiB", 1048576.0}, {"GiB", 1073741824.0}};
  const auto found = units.find(unit);
  if (trouble != std::errc{} || found == units.end() || !(number > 0) || number * found->second > 1e18)
    return std::nullopt;
  return static_cast<std::uint64_t>(number * found->second);
}

/// What of --piece, --keep …; nothing, and said, if that is none.
std::optional<record::PiecePlan> read_pieces(const Arguments& arguments, const std::string& among) {
  record::PiecePlan plan;
  plan.among = among;
  for (const auto& [option, to] : {std::pair{Option::piece, &plan.every}, std::pair{Option::keep, &plan.keep}}) {
    const auto text = arguments.value(option);
    if (!text) continue;
    const auto span = read_span(*text);
    if (!span || span->count() <= 0)
      return say_error(fmt::format("`{}` is not a time; write for example \"12 h\" or \"7 d\"", *text)), std::nullopt;
    *to = *span;
  }
  for (const auto& [option, to] :
       {std::pair{Option::piece_size, &plan.bytes}, std::pair{Option::keep_size, &plan.keep_bytes}}) {
    const auto text = arguments.value(option);
    if (!text) continue;
    const auto size = read_size(*text);
    if (!size)
      return say_error(fmt::format("`{}` is not a size; write for example \"500 MB\" or \"20 GB\"", *text)),
             std::nullopt;
    *to = *size;
  }
  if (!plan.any()) plan.every = std::chrono::hours(1);
  return plan;
}

/// Tells systemd that the run goes on, because it was seen to: a run that stands is begun again by it.
class Notifier : public session::RunWatcher {
 public:
  explicit Notifier(std::uint64_t watchdog_us)
      : every_(std::chrono::microseconds(watchdog_us / 3)), watched_(watchdog_us > 0) {}
  void image(const observe::Image& image) override {
    if (!ready_) sd_notify(0, "READY=1");
    ready_ = true;
    tell([&] { return fmt::format("STATUS=at {}", format_span(std::chrono::duration_cast<seconds>(image.at))); });
  }
  void waits(const std::string& for_whom) override {
    tell([&] { return "STATUS=waits for " + for_whom; });
  }
  void idle() {
    tell([] { return std::string("STATUS=begins again soon"); });
  }

 private:
  template <typename Status>
  void tell(const Status& status) {
    const auto now = Clock::now();
    if (now < next_) return;
    next_ = now + (watched_ ? std::min<Clock::duration>(every_, seconds(10)) : seconds(10));
    sd_notify(0, ((watched_ ? "WATCHDOG=1\n" : "") + status()).c_str());
  }
  Clock::duration every_;
  bool watched_, ready_ = false;
  Clock::time_point next_{};
};

/// For so long, or until somebody ends us: true then.
bool ended_within(seconds span, Notifier& notifier) {
  sigset_t signals;
  sigemptyset(&signals);
  for (const int s : {SIGINT, SIGTERM, SIGHUP}) sigaddset(&signals, s);
  sigset_t before;
  sigprocmask(SIG_BLOCK, &signals, &before);
  bool ended = false;
  for (const auto end = Clock::now() + span; !ended && Clock::now() < end;) {
    const timespec little{0, 200'000'000};
    ended = sigtimedwait(&signals, nullptr, &little) > 0;
    notifier.idle();
  }
  sigprocmask(SIG_SETMASK, &before, nullptr);
  return ended;
}

struct Served {
  session::RunRequest request;
  std::string among;
};

std::optional<Served> what_is_served(const Arguments& given) {
  Arguments arguments = given;
  if (!arguments.has(Option::lockstep)) arguments.options[Option::paced] = {""};
  arguments.options[Option::open] = {""};
  check::Wish wish;
  wish.live = true;
  const check::Loaded loaded = load_file(arguments.words[0], wish);
  print_diagnostics(loaded, arguments.words[0]);
  if (loaded.program == nullptr) return std::nullopt;
  auto wanted = read_plan(arguments, *loaded.program);
  Served served;
  served.among = arguments.value(Option::out).value_or("runs");
  session::RunRequest& request = served.request;
  request.bench = session::bench_of(loaded, folder_of(arguments.words[0]), "");
  const auto overrides = read_overrides(arguments, *request.bench);
  const auto pieces = read_pieces(arguments, served.among);
  if (!wanted || !overrides || !pieces) return std::nullopt;
  request.answer_within = wanted->answer_within;
  request.plan = wanted->plan;
  request.plan.overrides = *overrides;
  request.plan.endless = true;
  request.evidence.pieces = *pieces;
  request.evidence.go_on_unrecorded = arguments.has(Option::go_on_unrecorded);
  if (const auto trouble = bench::trouble_with(*loaded.program, request.plan))
    return say_error(trouble->text()), std::nullopt;
  if (const auto names = arguments.values(Option::look); !names.empty()) {
    const auto ids = remote::named(*request.bench->program, remote::Json(names));
    if (!ids) return say_error(ids.failure().text()), std::nullopt;
    request.bench = looked_at(*request.bench, *ids);
  }
  return served;
}

/// --continue: with what the run before it ended with; where there is none, or none that fits, as the bench says.
void go_on(session::RunRequest& request, const std::string& among) {
  std::string why_not;
  const auto before = session::newest_run(among, *request.bench, why_not);
  if (!before) return say_aside(fmt::format("It begins as the bench says: {}.", why_not));
  const auto stood = session::resumed(*before, *request.bench->program);
  if (!stood) return say_error(stood.failure().text());
  const auto asked = request.plan.overrides;  // the last one counts
  request.plan.overrides = stood->values;
  request.plan.overrides.insert(request.plan.overrides.end(), asked.begin(), asked.end());
  request.remarks.push_back(stood->text());
  say_aside(stood->text());
}

}  // namespace

int run_serve(const Arguments& arguments) {
  auto served = what_is_served(arguments);
  if (!served) return kWrongInput;
  std::uint64_t watchdog_us = 0;
  if (sd_watchdog_enabled(0, &watchdog_us) <= 0) watchdog_us = 0;
  Notifier notifier(watchdog_us);
  for (seconds pause{1};;) {
    session::RunRequest request = served->request;
    if (arguments.has(Option::continue_)) go_on(request, served->among);
    const auto folder = session::make_run_folder("", session::name_of(request), served->among);
    if (!folder) return say_error(folder.failure().text()), kNotCompleted;
    request.evidence.folder = *folder;
    remote::OpenRun door(request.bench, *folder);
    say(fmt::format("{}  begins in {}: isodyne attach {}", session::now_text(), *folder, *folder));
    std::fflush(stdout);
    const auto begin = Clock::now();
    const session::RunOutcome outcome = session::run(request, {&door, &notifier});
    const bool by_hand = outcome.ending == observe::Ending::interrupted;
    for (const session::Notice& s : outcome.said) s.error && !by_hand ? say_error(s.text) : say_aside(s.text);
    say(fmt::format("{}  {}: {}", session::now_text(), *folder, observe::ending_word(outcome.ending)));
    std::fflush(stdout);
    if (by_hand || observe::as_asked(outcome.ending)) {
      sd_notify(0, "STOPPING=1");
      return kHeld;
    }
    if (Clock::now() - begin > seconds(60)) pause = seconds(1);
    say_aside(fmt::format("It begins again in {}.", format_span(pause)));
    if (ended_within(pause, notifier)) return kHeld;
    pause = std::min(pause * 2, seconds(60));
  }
}

}  // namespace isodyne::app
