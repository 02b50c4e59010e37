// Controllers that die, hang, answer late, twice, damaged or nonsense, over real processes and sockets.

#include <atomic>
#include <chrono>
#include <csignal>
#include <filesystem>
#include <random>
#include <thread>

#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/ports/link/link_port.h"
#include "isodyne/ports/link/message.h"
#include "isodyne/ports/peer.h"
#include "isodyne/ports/struct_layout.h"
#include "isodyne/record/recording.h"
#include "peers.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;

namespace {

std::string tank_bench(const std::string& setting, const std::string& lost = "") {
  return fmt::format(R"(
model Tank {{
  input inflow : m/s
  output state level : m = 1 m
  level' = inflow - 0.2 1/s * level
}}
bench Tanks {{
  step 1 ms  method rk4
  record every 10 ms
  part tank : Tank
  tank.inflow = valve
  sensor level {{ of tank.level  range 0 m .. 10 m  counts 0 .. 32000  noise 1 mm  every 10 ms }}
  actuator valve : m/s {{ range 0 m/s .. 1 m/s  lost 0.125 m/s }}
  controller c {{
    every 10 ms
    reads level
    writes valve, turn : int
    {}
    setting it = {}
  }}
}}
scenario fill {{ hold 2 s }}
)",
                     lost, setting);
}

constexpr const char* kTroubled = R"(
#include "isodyne/link.h"
#include <signal.h>
#include "c_channels.h"
const isodyne_controller_info isodyne_info = C_INFO;

static int is(int count, char **words, const char *what) { return count > 1 && strcmp(words[1], what) == 0; }

int main(int count, char **words) {
  static isodyne_link l;
  c_reads r;
  c_writes w = {0};
  int64_t t;
  const int at = count > 2 ? atoi(words[2]) : 50;
  printf("begins as %s\n", count > 1 ? words[1] : "good");
  fflush(stdout);
  isodyne_controller_info info = isodyne_info;
  if (is(count, words, "other")) info.layout += 1;
  if (is(count, words, "silent")) for (;;) pause();
  if (isodyne_link_open(&l, strncmp(count > 1 ? words[1] : "", "udp:", 4) == 0 ? words[1] : NULL, &info, 5000) != 0) {
    printf("%s\n", l.trouble);
    return 1;
  }
  while (isodyne_link_wait(&l, &r, &t) > 0) {
    ++w.turn;
    w.valve = r.level < 2 ? 0.5 : 0.1;
    if (w.turn == at) {
      if (is(count, words, "die")) return 3;
      if (is(count, words, "crash")) abort();
      if (is(count, words, "hang")) for (;;) pause();
      if (is(count, words, "bye")) { isodyne_link_bye(&l, 42); return 0; }
      if (is(count, words, "nan")) w.valve = 0.0 / (w.turn - at);
    }
    if (is(count, words, "late") && w.turn % 10 == 0) {
      const struct timespec long_time = {0, 25000000};
      nanosleep(&long_time, NULL);
    }
    if (is(count, words, "flood")) {
      unsigned char junk[96];
      for (int i = 0; i < 50; ++i) {
        for (size_t b = 0; b < sizeof junk; ++b) junk[b] = (unsigned char)(b * 7u + (unsigned)i);
        if (i % 2) memcpy(junk, "IDYL\1\5", 6);
        isodyne_link_send(&l, junk, sizeof junk);
      }
    }
    isodyne_link_answer(&l, &w);
    if (is(count, words, "twice")) isodyne_link_send(&l, l.answer, l.answer_bytes);
  }
  return 0;
}
)";

/// A folder with the bench and its controller.
struct Bench {
  TestFolder folder;
  explicit Bench(const std::string& setting, const std::string& lost = "") {
    folder.write("tank.dyne", tank_bench(setting, lost));
    const auto program = program_of(tank_bench(setting, lost));
    folder.write("c_channels.h", ports::header_text(*program, program->controllers.front()));
    folder.write("c.c", kTroubled);
    compile_c(folder, "c.c", "-D_GNU_SOURCE -o c");
  }
  Output run(const std::string& options = "") {
    return run_isodyne("run tank.dyne fill --no-report --out run " + options, folder.path());
  }
  nlohmann::json summary() { return nlohmann::json::parse(slurp(folder / "run/verdicts.json")); }
  nlohmann::json traffic() { return summary().at("controllers").at(0).at("traffic"); }
};

std::vector<double> recorded(const std::string& file, const std::string& name) {
  auto recording = record::Recording::open(file);
  REQUIRE(recording);
  const auto values = (*recording)->signal(name);
  REQUIRE(values);
  return *values;
}

/// Between bench and controller: loses, doubles, exchanges and damages datagrams.
class BadWire {
 public:
  BadWire(const std::string& bench, unsigned seed) : random_(seed) {
    for (int& s : sockets_) s = socket(AF_INET, SOCK_DGRAM, 0);
    auto any = ports::resolve("127.0.0.1:0", SOCK_DGRAM);
    auto to = ports::resolve(bench, SOCK_DGRAM);
    REQUIRE((any && to));
    REQUIRE(bind(sockets_[0], any->pointer(), any->bytes) == 0);
    REQUIRE(connect(sockets_[1], to->pointer(), to->bytes) == 0);
    ports::Peer own;
    own.bytes = sizeof own.address;
    getsockname(sockets_[0], own.pointer(), &own.bytes);
    address = own.text();
    thread_ = std::thread([this] { work(); });
  }
  ~BadWire() {
    stop_ = true;
    thread_.join();
    for (const int s : sockets_) close(s);
  }
  std::string address;

 private:
  void work() {
    char buffer[2048];
    while (!stop_) {
      pollfd wanted[2] = {{sockets_[0], POLLIN, 0}, {sockets_[1], POLLIN, 0}};
      if (poll(wanted, 2, 20) <= 0) {
        if (!held_.empty()) pass(held_side_, std::exchange(held_, {}));
        continue;
      }
      for (int side = 0; side < 2; ++side) {
        if ((wanted[side].revents & POLLIN) == 0) continue;
        socklen_t bytes = sizeof controller_.address;
        const ssize_t got = side == 0 ? recvfrom(sockets_[0], buffer, sizeof buffer, 0, controller_.pointer(), &bytes)
                                      : recv(sockets_[1], buffer, sizeof buffer, 0);
        if (side == 0) controller_.bytes = bytes;
        if (got > 0) spoil(side, std::string(buffer, static_cast<std::size_t>(got)));
      }
    }
  }
  void spoil(int side, std::string message) {
    const auto luck = random_() % 100;
    if (luck < 4) return;                                                                          // lost
    if (luck < 8) message[random_() % message.size()] ^= static_cast<char>(1 << (random_() % 8));  // damaged
    if (luck >= 8 && luck < 12) pass(side, message);                                               // doubled
    if (luck >= 12 && luck < 15 && held_.empty()) {  // late, behind the next
      held_ = std::move(message);
      held_side_ = side;
      return;
    }
    pass(side, message);
    if (!held_.empty()) pass(held_side_, std::exchange(held_, {}));
  }
  void pass(int from, const std::string& message) {
    if (from == 0)
      send(sockets_[1], message.data(), message.size(), 0);
    else if (controller_.bytes > 0)
      sendto(sockets_[0], message.data(), message.size(), 0, controller_.pointer(), controller_.bytes);
  }

  std::mt19937 random_;
  int sockets_[2];
  ports::Peer controller_;
  std::string held_;
  int held_side_ = 0;
  std::atomic<bool> stop_{false};
  std::thread thread_;
};

}  // namespace

TEST_CASE("A program that ends, crashes, hangs, gives up or answers nonsense ends the run with its reason") {
  const std::tuple<const char*, const char*, const char*> kCases[] = {
      {"die", "", "its program ended with exit status 3; what it printed is in "},
      {"crash", "", "its program was ended by signal 6"},
      {"hang", "--answer-within \"150 ms\"", "did not answer within 150 ms"},
      {"bye", "", "gave up with code 42"},
      {"nan", "", "which takes finite numbers"},
      {"other", "", "was built for other channels or parameters"}};
  for (const char* over : {"", " over socket"}) {
    for (const auto& [what, options, message] : kCases) {
      INFO(what << over);
      Bench bench(fmt::format("program \"c {}\"{}", what, over));
      const Output out = bench.run(options);
      INFO(out.err);
      CHECK(out.status == 3);
      CHECK_THAT(out.err, Catch::Contains("controller `c`") && Catch::Contains(message));
      CHECK(slurp(bench.folder / "run/c.log").starts_with(fmt::format("begins as {}", what)));
    }
  }
}

TEST_CASE("A program that never opens its link is waited for, and named") {
  Bench bench("program \"c silent\" ready within 300 ms");
  const Output out = bench.run();
  CHECK(out.status == 3);
  CHECK_THAT(out.err, Catch::Contains("controller `c` is offline after 0.3 s: its program has not opened the link"));
}

TEST_CASE("A program that dies is started again as often as the bench allows, and no oftener") {
  Bench twice("program \"c die 60\" restart 5 times");
  const Output out = twice.run();
  INFO(out.err);
  CHECK(out.status == 0);
  CHECK(twice.traffic().at("restarts") == 3);  // 201 exchanges, the 60th of each program is never answered
  CHECK_THAT(out.out, Catch::Contains("3 started again"));
  auto recording = record::Recording::open(twice.folder / "run/recording.h5");
  REQUIRE(recording);
  int told = 0;
  for (const auto& e : (*recording)->events()) told += e.text == "started again" ? 1 : 0;
  CHECK(told == 3);

  Bench once("program \"c die 60\" restart 1 times");
  const Output ended = once.run();
  CHECK(ended.status == 3);
  CHECK_THAT(ended.err, Catch::Contains("ended with exit status 3"));
}

TEST_CASE("A lost controller lets its actuators hold or go to their safe values") {
  for (const char* rule : {"lost safe", "lost hold"}) {
    INFO(rule);
    Bench bench("program \"c die 100\"", rule);
    const Output out = bench.run();
    INFO(out.err);
    CHECK(out.status == 3);  // whatever was judged, it was not the controller that did it
    CHECK_THAT(out.out, Catch::Contains("Lost controller `c`"));
    const auto valve = recorded(bench.folder / "run/recording.h5", "valve");
    CHECK(valve.back() == Approx(rule == std::string("lost safe") ? 0.125 : 0.5));
  }
}

TEST_CASE("Answers that come twice and floods of rubbish are counted and change nothing") {
  Bench good("program \"c\" over socket"), twice("program \"c twice\" over socket"),
      flood("program \"c flood\" over socket");
  REQUIRE(good.run().status == 0);
  REQUIRE(twice.run().status == 0);
  CHECK(twice.traffic().at("duplicated") >= 190);
  const Output out = flood.run();
  INFO(out.err);
  REQUIRE(out.status == 0);
  CHECK(flood.traffic().at("refused").get<int>() + flood.traffic().at("corrupted").get<int>() > 1000);
  for (const char* name : {"tank.level", "valve", "c.turn"}) {
    const auto expected = recorded(good.folder / "run/recording.h5", name);
    CHECK(recorded(twice.folder / "run/recording.h5", name) == expected);
    CHECK(recorded(flood.folder / "run/recording.h5", name) == expected);
  }
}

TEST_CASE("Over a wire that loses, doubles, exchanges and damages datagrams, lockstep gives the same recording") {
  Bench straight("program \"c\""), bent("link \"127.0.0.1:25611\"");
  REQUIRE(straight.run().status == 0);
  Output out;
  {
    const BadWire wire("127.0.0.1:25611", 7);
    const auto end = run_peer({bent.folder / "c", "udp:" + wire.address});
    out = bent.run("--answer-within \"5 s\"");
    end();
  }
  INFO(out.err);
  REQUIRE(out.status == 0);
  const auto traffic = bent.traffic();
  INFO(traffic.dump());
  CHECK(traffic.at("asked_again") > 0);
  CHECK(traffic.at("duplicated") > 0);
  CHECK(traffic.at("corrupted") > 0);
  for (const char* name : {"tank.level", "level", "valve", "c.turn"})
    CHECK(recorded(bent.folder / "run/recording.h5", name) == recorded(straight.folder / "run/recording.h5", name));
}

TEST_CASE("A second controller on a link is refused and disturbs nothing, a port in use is named") {
  Bench bench("link \"127.0.0.1:25612\"");
  const auto first = run_peer({bench.folder / "c", "udp:127.0.0.1:25612"});
  std::thread late([&] {
    std::this_thread::sleep_for(600ms);
    const Output second = shell("./c udp:127.0.0.1:25612", bench.folder.path());
    CHECK(second.status == 1);
    CHECK_THAT(second.out, Catch::Contains("the bench has a controller already"));
    const Output other = run_isodyne("run tank.dyne fill --no-report --out other", bench.folder.path());
    CHECK(other.status == 3);
    CHECK_THAT(other.err, Catch::Contains("cannot listen on 127.0.0.1:25612: Address already in use"));
  });
  const Output out = bench.run("--paced");
  late.join();
  first();
  INFO(out.err << out.out);
  CHECK(out.status == 0);
  CHECK(bench.traffic().at("refused") > 0);
}

TEST_CASE("Paced, late answers are used when they come, and counted") {
  Bench bench("program \"c late\"");
  const Output out = bench.run("--paced");
  INFO(out.err << out.out);
  REQUIRE(out.status == 0);
  const auto c = bench.summary().at("controllers").at(0);
  CHECK(c.at("exchanges") == 201);
  CHECK(c.at("missed") >= 15);
  // Most late answers are overtaken by the next, which is then no longer missing.
  CHECK(c.at("late").get<int>() + c.at("missed").get<int>() >= 18);
  CHECK(recorded(bench.folder / "run/recording.h5", "valve").back() > 0);
}

TEST_CASE("Messages of a link are read back as they were written, and nothing else is a message") {
  std::mt19937_64 random(20261123);
  std::vector<std::byte> bytes(4096);
  for (int turn = 0; turn < 3000; ++turn) {
    ports::link::Message m;
    std::vector<std::byte> payload(random() % 300);
    for (std::byte& b : payload) b = static_cast<std::byte>(random());
    m.kind = static_cast<ports::link::Kind>(1 + random() % 6);
    m.code = static_cast<std::uint16_t>(random());
    m.session = static_cast<std::uint32_t>(random());
    m.sequence = static_cast<std::uint32_t>(random());
    m.time_ns = static_cast<std::int64_t>(random());
    m.period_ns = static_cast<std::int64_t>(random());
    m.layout = random();
    m.payload = payload;
    const std::size_t count = ports::link::write(m, bytes);
    ports::link::Message back;
    REQUIRE(ports::link::read(std::span(bytes).first(count), back) == ports::link::Reading::good);
    REQUIRE((back.session == m.session && back.sequence == m.sequence && back.time_ns == m.time_ns &&
             back.layout == m.layout && back.code == m.code &&
             std::equal(payload.begin(), payload.end(), back.payload.begin(), back.payload.end())));
    // One bit wrong anywhere, or one byte too few: never taken for good.
    const std::size_t bit = random() % (count * 8);
    bytes[bit / 8] ^= static_cast<std::byte>(1u << (bit % 8));
    CHECK(ports::link::read(std::span(bytes).first(count), back) != ports::link::Reading::good);
    bytes[bit / 8] ^= static_cast<std::byte>(1u << (bit % 8));
    CHECK(ports::link::read(std::span(bytes).first(random() % count), back) != ports::link::Reading::good);
  }
}
