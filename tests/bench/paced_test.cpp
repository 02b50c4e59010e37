// Runs against the wall clock: that they give what lockstep gives, that nothing on the stepping thread can block, and
// that no late step is missed.

#include <atomic>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstring>
#include <thread>

#include <dlfcn.h>
#include <linux/audit.h>
#include <linux/filter.h>
#include <linux/futex.h>
#include <linux/seccomp.h>
#include <pthread.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <ucontext.h>
#include <unistd.h>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/bench/computer.h"
#include "isodyne/bench/pacer.h"
#include "isodyne/observe/observer_queue.h"
#include "isodyne/record/recording.h"
#include "support.h"
#include "twins.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;
using Json = nlohmann::json;

namespace {

constexpr const char* kPaced = R"(
model Tank {
  input inflow : m/s
  output state level : m = 1 m  limited 0 m .. 9 m
  modes valve from shut {
    shut -> open when level > 1.2 m
    open -> shut when level < 1.1 m
  }
  level' = if valve is open then -0.1 m/s else inflow
}
bench B { step 1 ms
  record every 1 ms
  input demand : m/s = 0 m/s
  part tank : Tank
  tank.inflow = demand
  sensor level { of tank.level  range 0 m .. 10 m  counts 0 .. 1000  every 5 ms  noise 1 mm  filter 20 ms }
  actuator lamp : bool
  actuator horn : bool
  controller near { every 5 ms  reads level  writes lamp  setting it = library "x" }
  controller far  { every 10 ms reads level  writes horn  setting it = library "x" }
}
fault drifting { on level  drift 1 mm/s  while tank.level > 1.15 m }
scenario s {
  ramp demand to 1 m/s over 100 ms
  wait until tank.level > 1.19 m  within 10 s
  hold 10 s
}
requirement R-1 { always (tank.valve is open implies tank.level > 1 m) }
requirement R-2 { whenever drifting becomes active then within 1 s tank.level < 1.15 m }
)";

/// Answers at once, on the stepping thread.
struct NearPort : ports::ControllerPort {
  std::function<void(Time)> seen;
  Status open(Time) override { return Done{}; }
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override {
    if (seen) seen(now);
    writes[0] = reads[0] > 1.15 ? 1 : 0;
    return Done{};
  }
  void close() override {}
};

/// Takes a while, on a thread of the run.
struct FarPort : NearPort {
  ports::Pace pace() const override { return ports::Pace::waits; }
  Status exchange(Time now, std::span<const double> reads, std::span<double> writes) override {
    std::this_thread::sleep_for(2ms);
    return NearPort::exchange(now, reads, writes);
  }
};

bench::RunPlan plan_of(const program::Program& program, Time longest, bool paced) {
  bench::RunPlan plan;
  plan.scenario = 0;
  for (std::size_t i = 0; i < program.faults.size(); ++i) plan.faults.push_back(static_cast<std::int32_t>(i));
  plan.longest = longest;
  if (paced) plan.pace = bench::PacePlan{};
  return plan;
}

}  // namespace

#if !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__) && defined(__x86_64__)

namespace {

// ---- what the stepping thread asks of the system, caught in the act

struct Caught {
  std::atomic<long> calls, locks, allocations, exchanges, last_call, strays;
};
Caught* g_caught = nullptr;
thread_local bool t_armed = false, t_stepping = false;

void on_forbidden(int, siginfo_t* info, void* context) {
  if (t_armed) {
    g_caught->calls.fetch_add(1);
    g_caught->last_call.store(info->si_syscall);
  }
  static_cast<ucontext_t*>(context)->uc_mcontext.gregs[REG_RAX] = -ENOSYS;
}

/// From here on this thread may sleep until an absolute time, wake others, and end the process. Nothing else.
bool forbid_the_rest() {
#define ALLOW(number) BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, (number), 0, 1), BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ALLOW)
  sock_filter program[] = {BPF_STMT(BPF_LD | BPF_W | BPF_ABS, offsetof(seccomp_data, nr)),
                           ALLOW(SYS_clock_nanosleep),
                           ALLOW(SYS_clock_gettime),  // only where the clock cannot be read without a call
                           ALLOW(SYS_rt_sigreturn),
                           ALLOW(SYS_exit_group),
                           BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYS_futex, 0, 5),
                           BPF_STMT(BPF_LD | BPF_W | BPF_ABS, offsetof(seccomp_data, args[1])),
                           BPF_STMT(BPF_ALU | BPF_AND | BPF_K, static_cast<unsigned>(FUTEX_CMD_MASK)),
                           BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, FUTEX_WAKE, 0, 1),
                           BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ALLOW),
                           BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_TRAP),
                           BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_TRAP)};
#undef ALLOW
  const sock_fprog all{static_cast<unsigned short>(std::size(program)), program};
  return prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0 && syscall(SYS_seccomp, SECCOMP_SET_MODE_FILTER, 0, &all) == 0;
}

}  // namespace

long allocations_here();  // of this thread; no_allocation_test.cpp counts them

/// Every lock that any thread of this program takes comes by here.
extern "C" int pthread_mutex_lock(pthread_mutex_t* mutex) noexcept {
  using Lock = int (*)(pthread_mutex_t*);
  static const Lock real = [] {
    void* const found = dlsym(RTLD_NEXT, "pthread_mutex_lock");
    Lock lock;
    std::memcpy(&lock, &found, sizeof lock);
    return lock;
  }();
  if (t_armed && g_caught != nullptr) g_caught->locks.fetch_add(1);
  return real(mutex);
}

TEST_CASE("The stepping thread of a paced run allocates nothing, takes no lock, and makes no call that could block") {
  void* const shared = mmap(nullptr, sizeof(Caught), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  REQUIRE(shared != MAP_FAILED);
  g_caught = new (shared) Caught{};
  const auto program = program_of(kPaced);
  const pid_t child = fork();
  if (child == 0) {
    struct sigaction action {};
    action.sa_sigaction = on_forbidden;
    action.sa_flags = SA_SIGINFO;
    sigaction(SIGSYS, &action, nullptr);
    // Whoever watches is on another thread, and may do what it likes.
    struct Elsewhere : observe::Observer {
      std::atomic<int> strays{0};
      void image(const observe::Image&) override { strays += t_stepping ? 1 : 0; }
      void event(const observe::Event&) override { strays += t_stepping ? 1 : 0; }
    } seen;
    t_stepping = true;
    long before = 0;
    const bench::PortMaker make_port = [&](const program::Controller& c, const program::Setting&) {
      std::unique_ptr<NearPort> port = c.name == "near" ? std::make_unique<NearPort>() : std::make_unique<FarPort>();
      if (c.name == "near") {
        port->seen = [&](Time now) {
          g_caught->exchanges.fetch_add(1);
          if (now == 50ms) {
            before = allocations_here();
            t_armed = forbid_the_rest();
            if (!t_armed) _exit(2);
          }
          if (now < 900ms) return;
          g_caught->strays.store(seen.strays.load());
          g_caught->allocations.store(allocations_here() - before);
          _exit(0);
        };
      }
      return port;
    };
    bench::RunPlan plan = plan_of(*program, 2s, true);
    plan.native = engine::NativeSettings::usual();
    bench::Run run(program, plan, make_port, seen);
    const std::atomic<bool> stop{false};
    run.execute(stop);
    _exit(1);
  }
  int status = 0;
  waitpid(child, &status, 0);
  if (WIFEXITED(status) && WEXITSTATUS(status) == 2) {
    WARN("this machine does not let us forbid system calls");
    return;
  }
  REQUIRE((WIFEXITED(status) && WEXITSTATUS(status) == 0));
  INFO("last call " << g_caught->last_call.load());
  CHECK(g_caught->exchanges.load() == 181);
  CHECK(g_caught->strays.load() == 0);
  CHECK(g_caught->calls.load() == 0);
  CHECK(g_caught->locks.load() == 0);
  CHECK(g_caught->allocations.load() == 0);
  munmap(shared, sizeof(Caught));
  g_caught = nullptr;
}

#endif

TEST_CASE("A paced run shows what lockstep shows, to the bit, where the controller answers at once") {
  const auto program = program_of(kPaced);
  const auto run = [&](bool paced, std::vector<observe::Event>& events) {
    Seen seen(program, {"tank.level", "level", "level.counts", "lamp"});
    const bench::PortMaker make_port = [](const program::Controller&, const program::Setting&) {
      return std::make_unique<NearPort>();
    };
    bench::Run made(program, plan_of(*program, 700ms, paced), make_port, seen);
    const std::atomic<bool> stop{false};
    const bench::RunResult result = made.execute(stop);
    CHECK(result.ending == observe::Ending::cut_short);
    CHECK(result.steps == 700);
    CHECK((result.timing != nullptr) == paced);
    for (const observe::Event& e : seen.events) {
      if (e.kind != observe::EventKind::overrun) events.push_back(e);
    }
    return seen.values;
  };
  std::vector<observe::Event> lockstep, paced;
  CHECK(run(true, paced) == run(false, lockstep));
  REQUIRE(paced.size() == lockstep.size());
  for (std::size_t i = 0; i < paced.size(); ++i)
    CHECK((paced[i].at == lockstep[i].at && paced[i].kind == lockstep[i].kind &&
           paced[i].subject == lockstep[i].subject));
}

TEST_CASE("A pacer finds every step that a stall made late, and where the stretch begins and ends") {
  bench::Pacer pacer(1ms, 1);
  pacer.begin(Time{});
  int told = 0;
  std::int64_t in_stretches = 0, longest = 0;
  for (int i = 0; i < 400; ++i) {
    const Time at = i * Time(1ms);
    pacer.wait(at);
    if (i == 100) std::this_thread::sleep_for(60ms);
    if (!pacer.done(at)) continue;
    ++told;
    in_stretches += pacer.stretch().steps;
    longest = std::max(longest, pacer.stretch().steps);
  }
  if (pacer.end()) in_stretches += pacer.stretch().steps;
  CHECK(told >= 1);
  CHECK(in_stretches == pacer.overruns());
  CHECK(longest >= 58);  // step 100 takes 60 ms; it and those behind it are late until the gap is made good
  CHECK(pacer.steps() == 400);
  CHECK(pacer.lateness().longest() >= 58'000'000);
  CHECK(pacer.execution().longest() >= 60'000'000);
}

TEST_CASE("A pacer at half speed takes twice the time, and at double speed half of it") {
  for (const double speed : {0.5, 2.0}) {
    bench::Pacer pacer(1ms, speed);
    const std::int64_t begin = monotonic_ns();
    pacer.begin(Time{});
    for (int i = 0; i <= 100; ++i) pacer.wait(i * Time(1ms));
    CHECK(monotonic_ns() - begin >= static_cast<std::int64_t>(100e6 / speed));
  }
}

TEST_CASE("A queue of images shows all in order, and counts what a slow observer made it lose") {
  struct Slow : observe::Observer {
    std::vector<double> seen;
    std::vector<std::int64_t> order;  ///< images as their time, events as minus their subject
    std::atomic<bool> hold{false};
    void image(const observe::Image& i) override {
      while (hold) std::this_thread::sleep_for(1ms);
      seen.push_back(i.variables[1]);
      order.push_back(i.at.count());
    }
    void event(const observe::Event& e) override { order.push_back(-e.subject); }
  };
  {
    Slow slow;
    {
      observe::ObserverQueue queue(slow, 2, 1000);
      double values[2] = {0, 0};
      for (int i = 1; i <= 500; ++i) {
        values[1] = i;
        queue.event({Time(i), observe::EventKind::action, i, 0, 0});
        queue.image({Time(i), values});
      }
      queue.finish();
      CHECK(queue.images_lost() == 0);
      CHECK(queue.most_waiting() <= 500);
    }
    REQUIRE(slow.order.size() == 1000);
    for (int i = 1; i <= 500; ++i) {
      CHECK(slow.order[static_cast<std::size_t>(2 * i - 2)] == -i);
      CHECK(slow.order[static_cast<std::size_t>(2 * i - 1)] == i);
    }
  }
  Slow slow;
  slow.hold = true;
  observe::ObserverQueue queue(slow, 2, 100);
  double values[2] = {0, 0};
  for (int i = 0; i < 1000; ++i) queue.image({Time(i), values});
  slow.hold = false;
  queue.finish();
  CHECK(queue.images_lost() >= 899);
  CHECK(queue.images_lost() + static_cast<std::int64_t>(slow.seen.size()) == 1000);
  CHECK(queue.first_lost() >= Time(100));
}

// ---- the built program

namespace {

constexpr const char* kQuick = R"(
model Ball {
  output state x : m = 1 m
  state v : m/s = 0 m/s
  x' = v
  v' = -100 1/s^2 * x
}
bench Swing { step 1 ms
  record every 10 ms
  part ball : Ball
}
requirement S-1 { always ball.x < 2 m }
)";

Json timing_of(const std::string& file) {
  return Json::parse(slurp(file)).at("timing");
}

}  // namespace

TEST_CASE(
    "A paced run that is stopped for a second counts every step that it missed, says so, and ends with status 4") {
  const TestFolder folder;
  folder.write("b.dyne", kQuick);
  const Output out =
      shell(std::string(ISODYNE_PROGRAM) +
                " run b.dyne --for '6 s' --paced --interpret --max-overruns 100 --out r --no-report & P=$!; " +
                until_written("r", 2000) +
                "; "
                "C=$(pgrep -P $P); kill -STOP $C; "
                "sleep 1; kill -CONT $C; wait $P",
            folder.path());
  INFO(out.out << out.err);
  CHECK(out.status == 4);
  CHECK_THAT(out.out, Catch::Contains("Real time was not kept in"));
  const Json t = timing_of(folder / "r/verdicts.json");
  CHECK(t.at("overruns").get<int>() >= 990);
  std::int64_t sum = 0, longest = 0;
  for (const Json& s : t.at("late")) {
    sum += s.at("steps").get<std::int64_t>();
    longest = std::max(longest, s.at("steps").get<std::int64_t>());
  }
  CHECK(sum == t.at("overruns"));
  CHECK(longest >= 990);
  auto recording = record::Recording::open(folder / "r/recording.h5");
  REQUIRE(recording);
  CHECK((*recording)->signal("ball.x")->size() == 601);  // nothing of the run itself is missing
  bool told = false;
  for (const auto& e : (*recording)->events())
    told = told || (e.kind == "overrun" && e.text.find("late from here on") != std::string::npos);
  CHECK(told);
}

TEST_CASE("Without the right to priority and locked memory a paced run says what is missing and how to get it") {
  const TestFolder folder;
  folder.write("b.dyne", kQuick);
  const std::string drop = geteuid() == 0 ? "setpriv --bounding-set=-sys_nice,-ipc_lock " : "";
  const Output out =
      shell("ulimit -r 0; ulimit -l 64; " + drop + ISODYNE_PROGRAM " run b.dyne --for '300 ms' --paced --out r",
            folder.path());
  INFO(out.out << out.err);
  CHECK(out.status == 0);
  CHECK_THAT(out.out, Catch::Contains("Missing: no real-time priority (Operation not permitted)") &&
                          Catch::Contains("ulimit -r 80"));
#if !defined(__SANITIZE_ADDRESS__)  // there mlockall() always succeeds, and does nothing
  CHECK_THAT(out.out, Catch::Contains("Missing: memory is not locked") && Catch::Contains("ulimit -l unlimited"));
#endif
  CHECK_THAT(slurp(folder / "r/report.html"), Catch::Contains("no real-time priority"));
}

TEST_CASE("A wall clock that is set an hour back and forth in the middle changes nothing in a paced run") {
  const TestFolder folder;
  folder.write("b.dyne", kQuick);
  folder.write("jump.c", R"(
#define _GNU_SOURCE
#include <dlfcn.h>
#include <sys/time.h>
#include <time.h>
/* The real-time clock jumps by an hour every 100 ms; the monotonic clock does not. */
static long jump(void) {
  static int (*real)(clockid_t, struct timespec *);
  struct timespec t;
  if (!real) real = (int (*)(clockid_t, struct timespec *))dlsym(RTLD_NEXT, "clock_gettime");
  real(CLOCK_MONOTONIC, &t);
  return (t.tv_nsec / 100000000) % 2 ? 3600 : -3600;
}
int clock_gettime(clockid_t which, struct timespec *t) {
  static int (*real)(clockid_t, struct timespec *);
  if (!real) real = (int (*)(clockid_t, struct timespec *))dlsym(RTLD_NEXT, "clock_gettime");
  const int failed = real(which, t);
  if (which == CLOCK_REALTIME) t->tv_sec += jump();
  return failed;
}
time_t time(time_t *to) {
  struct timespec t;
  clock_gettime(CLOCK_REALTIME, &t);
  if (to) *to = t.tv_sec;
  return t.tv_sec;
}
)");
  REQUIRE(shell("cc -shared -fPIC -o jump.so jump.c -ldl", folder.path()).status == 0);
  const Output out =
      shell("LD_PRELOAD=$PWD/jump.so ASAN_OPTIONS=$ASAN_OPTIONS:verify_asan_link_order=0 " ISODYNE_PROGRAM
            " run b.dyne --for '600 ms' --paced --out r --no-report",
            folder.path());
  INFO(out.out << out.err);
  CHECK(out.status == 0);
  const Json all = Json::parse(slurp(folder / "r/verdicts.json"));
  CHECK(all.at("wall_seconds").get<double>() < 30);
  CHECK(all.at("timing").at("steps") == 600);
  double worst = 0;
  for (const Json& s : all.at("timing").at("late")) worst = std::max(worst, s.at("worst_us").get<double>());
  CHECK(worst < 3e9);  // nothing was an hour late
}

TEST_CASE("A disk that becomes full ends a paced run with status 3, and what was flushed stays readable") {
  const TestFolder folder;
  folder.write("b.dyne", kQuick);
  const std::string mount = "mkdir -p full && mount -t tmpfs -o size=12m none full";
  if (shell("unshare -rm sh -c '" + mount + "'", folder.path()).status != 0) {
    WARN("this machine does not let us mount a small file system");
    return;
  }
  std::string many = "bench Swing { step 1 ms\n  record every 1 ms\n";
  for (int i = 0; i < 60; ++i) many += fmt::format("  part b{} : Ball\n", i);
  std::string text = kQuick;
  text = text.substr(0, text.find("bench Swing")) + many + "}\n";
  folder.write("many.dyne", text);
  const Output out =
      shell("unshare -rm sh -c '" + mount +
                " && " ISODYNE_PROGRAM
                " run many.dyne --for \"20 s\" --paced --speed 10 --no-report --interpret --out full/r; S=$?; "
                "cp -r full/r kept; exit $S'",
            folder.path());
  INFO(out.out << out.err);
  CHECK(out.status == 3);
  CHECK_THAT(out.err, Catch::Contains("No space left on device"));
  auto recording = record::Recording::open(folder / "kept/recording.h5");
  REQUIRE(recording);
  CHECK((*recording)->times().size() > 1000);
}

TEST_CASE("Options of the pace are about paced runs, and within their limits") {
  const TestFolder folder;
  folder.write("b.dyne", kQuick);
  for (const auto& [options, message] :
       {std::pair{"--speed 2", "--speed is about runs that keep to the wall clock: add --paced"},
        std::pair{"--paced --speed 0", "--speed takes a number from 0.001 to 1000, not `0`"},
        std::pair{"--paced --speed quick", "not `quick`"}, std::pair{"--paced --max-overruns some", "not `some`"},
        std::pair{"--paced --core 5000", "not `5000`"}}) {
    const Output out = run_isodyne(std::string("run b.dyne --for '10 ms' --out r ") + options, folder.path());
    INFO(options << out.err);
    CHECK(out.status == 2);
    CHECK_THAT(out.err, Catch::Contains(message));
  }
}

TEST_CASE("realtime-check measures and says what this machine can hold") {
  const Output out = run_isodyne("realtime-check --for '20 ms' --json");
  INFO(out.err);
  REQUIRE((out.status == 0 || out.status == 4));
  const Json j = Json::parse(out.out);
  CHECK(j.at("sleep").at("p50_us") > 0);
  CHECK(j.at("steps").size() >= 2);
  CHECK(j.at("steps").at(0).at("step_s") == 0.01);
  CHECK(j.at("facts").size() >= 4);
  CHECK(run_isodyne("realtime-check --for never").status == 2);
}
