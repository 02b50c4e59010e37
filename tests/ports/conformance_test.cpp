// One suite for all ports: the same echo at the other end of each, and the same expectations.

#include <atomic>
#include <chrono>
#include <csignal>
#include <filesystem>
#include <functional>
#include <thread>

#include <sys/wait.h>
#include <unistd.h>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/file.h"
#include "isodyne/ports/make_port.h"
#include "isodyne/session/summary.h"
#include "peers.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using ports::Pace;
using ports::Standing;

namespace {

/// Sends back what it gets: one value of each kind.
std::string echo_bench(const std::string& setting) {
  return fmt::format(R"(
choice Order {{ none, first, second }}
model EchoLogic {{
  input level : m
  input wet : bool
  input order : Order
  input n : int
  output memory gap : m = 0 m
  output memory lamp : bool = false
  output memory done : Order = none
  output memory count : int = 0
  every 10 ms {{
    gap := level
    lamp := wet
    done := order
    count := n
  }}
}}
bench Echo {{
  step 1 ms
  input level : m = 1.5 m
  input wet : bool = true
  input order : Order = second
  input n : int = -7
  actuator gap : m
  actuator lamp : bool
  controller c {{
    every 10 ms
    reads level, wet, order, n
    writes gap, lamp, done : Order, count : int
    setting it = {}
  }}
}}
)",
                     setting);
}

struct Case {
  std::string name, setting;
  /// Starts the other end once the port is open; returns what ends it.
  std::function<std::function<void()>(TestFolder&, ports::ControllerPort&)> peer;
};

std::vector<Case> conformance_cases() {
  const auto none = [](TestFolder&, ports::ControllerPort&) { return [] {}; };
  return {{"part", "part EchoLogic", none},
          {"library", "library \"echo\"", none},
          {"program over memory", "program \"echo_link\"", none},
          {"program over a socket", "program \"echo_link\" over socket", none},
          {"program in Python over memory", "program \"echo.py\"", none},
          {"program in Python over a socket", "program \"echo.py\" over socket", none},
          {"link over UDP", "link \"127.0.0.1:0\"",
           [](TestFolder& f, ports::ControllerPort& p) {
             return run_peer({f / "echo_link", "udp:" + bound_address(p)});
           }},
          {"link over UDP, Python", "link \"127.0.0.1:0\"",
           [](TestFolder& f, ports::ControllerPort& p) {
             return run_peer({f / "echo.py", "udp:" + bound_address(p)});
           }},
          {"Modbus server", "modbus server \"127.0.0.1:0\" map \"registers.csv\"",
           [](TestFolder&, ports::ControllerPort& p) { return modbus_echo_client(bound_address(p)); }},
          {"Modbus client", "modbus client \"127.0.0.1:21502\" map \"client.csv\"",
           [](TestFolder&, ports::ControllerPort&) { return modbus_echo_server("127.0.0.1", 21502); }},
          {"MQTT", "mqtt \"127.0.0.1:21883\" topic \"echo/c\"",
           [](TestFolder&, ports::ControllerPort&) { return mqtt_echo(21883, "echo/c", false); }},
          {"MQTT in groups", "mqtt \"127.0.0.1:21883\" topic \"echo/c\" as groups",
           [](TestFolder&, ports::ControllerPort&) { return mqtt_echo(21883, "echo/c", true); }}};
}

/// Brings a port up and looks until `done` holds or ten seconds are over.
template <typename Done>
bool within_ten_seconds(Done done) {
  const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(10);
  while (!done()) {
    if (std::chrono::steady_clock::now() > until) return false;
    std::this_thread::sleep_for(std::chrono::milliseconds(2));
  }
  return true;
}

}  // namespace

TEST_CASE("Every port brings its controller up, exchanges all kinds of values, and ends it") {
  for (const Case& c : conformance_cases()) {
    INFO(c.name);
    TestFolder folder;
    const auto program = program_of(echo_bench(c.setting));
    const program::Controller& controller = program->controllers.front();
    make_echo(folder, *program, controller);
    ports::ForeignCalls calls(std::chrono::seconds(2));
    ports::PortPlace place;
    place.folder = folder.path();
    place.logs = folder.path();
    place.calls = &calls;
    place.read_file = read_file;
    place.answer_within = std::chrono::seconds(5);
    const auto port = ports::make_port(*program, controller, controller.settings.front(), place);
    REQUIRE(port != nullptr);
    const Broker broker(c.name.starts_with("MQTT") ? 21883 : 0);

    const Status opened = port->open(controller.period);
    INFO((opened ? "" : opened.failure().text()));
    REQUIRE(opened);
    std::vector<double> reads = {1.5, 1, 2, -7}, writes(4, 0.0);
    Result<Standing> standing = port->look(reads, writes);
    REQUIRE(standing);
    const auto end_peer = c.peer(folder, *port);
    const bool ready = within_ten_seconds([&] {
      standing = port->look(reads, writes);
      return !standing || *standing == Standing::ready;
    });
    INFO((standing ? port->missing() : standing.failure().text()));
    INFO(slurp(folder / "c.log"));
    REQUIRE((ready && standing));
    REQUIRE(port->begin());

    Time now{};
    for (int turn = 0; turn < 40; ++turn) {
      reads = {0.25 * turn - 3, static_cast<double>(turn % 2), static_cast<double>(turn % 3), 1000.0 * turn - 20'000};
      const bool came = within_ten_seconds([&] {
        const Status exchanged = port->exchange(now, reads, writes);
        INFO((exchanged ? "" : exchanged.failure().text()));
        REQUIRE(exchanged);
        REQUIRE(port->pace() == program::port_kind(controller.settings.front().kind).pace);
        if (port->pace() == Pace::free) return writes == reads;
        return true;
      });
      INFO("turn " << turn);
      REQUIRE(came);
      // One poll later at the latest, where the other end runs by its own clock.
      if (port->pace() != Pace::free && c.name != "Modbus client") REQUIRE(writes == reads);
      now += controller.period;
    }
    if (c.name == "Modbus client") {
      std::this_thread::sleep_for(std::chrono::milliseconds(30));
      REQUIRE(port->exchange(now, reads, writes));
      REQUIRE(port->exchange(now, reads, writes));
      CHECK(writes == reads);
    }
    if (port->pace() != Pace::direct) CHECK(port->traffic().any());
    port->close();
    end_peer();
  }
}

TEST_CASE("A controller that is not there is told with what is missing") {
  const std::pair<const char*, const char*> kCases[] = {
      {"link \"127.0.0.1:0\"", "nothing has come to 127.0.0.1:"},
      {"modbus server \"127.0.0.1:0\" map \"registers.csv\"", "nobody has asked anything at 127.0.0.1:"},
      {"modbus client \"127.0.0.1:21599\" map \"client.csv\"", "no server answers at 127.0.0.1:21599"},
      {"mqtt \"127.0.0.1:21598\" topic \"echo/c\"", "no broker answers at 127.0.0.1:21598"},
      {"program \"sleeper.sh\"", "its program has not opened the link"}};
  for (const auto& [setting, missing] : kCases) {
    INFO(setting);
    TestFolder folder;
    const auto program = program_of(echo_bench(setting));
    const program::Controller& controller = program->controllers.front();
    make_maps(folder, *program, controller);
    folder.write("sleeper.sh", "#!/bin/sh\nexec sleep 60\n");
    std::filesystem::permissions(folder / "sleeper.sh", std::filesystem::perms::owner_all);
    ports::ForeignCalls calls(std::chrono::seconds(2));
    ports::PortPlace place;
    place.folder = folder.path();
    place.calls = &calls;
    place.read_file = read_file;
    const auto port = ports::make_port(*program, controller, controller.settings.front(), place);
    const std::vector<double> reads(4), writes(4);
    const Status up = ports::bring_up(*port, controller.period, reads, writes, std::chrono::milliseconds(100));
    REQUIRE_FALSE(up);
    CHECK_THAT(up.failure().text(), Catch::Contains("offline") && Catch::Contains(missing));
    port->close();
  }
}
