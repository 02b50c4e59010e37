#include "peers.h"

#include <atomic>
#include <chrono>
#include <csignal>
#include <filesystem>
#include <memory>
#include <thread>

#include <fcntl.h>
#include <modbus.h>
#include <mosquitto.h>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/io/registers.h"
#include "isodyne/ports/link/link_port.h"
#include "isodyne/ports/modbus/server_port.h"
#include "isodyne/ports/peer.h"

namespace isodyne::test {

using namespace std::chrono_literals;

namespace {

int g_last_peer = -1;

int spawn(const std::vector<std::string>& words) {
  std::vector<std::string> copy = words;
  std::vector<char*> arguments;
  for (std::string& w : copy) arguments.push_back(w.data());
  arguments.push_back(nullptr);
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_addopen(&actions, 1, "/dev/null", O_WRONLY, 0);
  posix_spawn_file_actions_addclosefrom_np(&actions, 3);
  pid_t child = -1;
  const int failed = posix_spawnp(&child, arguments[0], &actions, nullptr, arguments.data(), environ);
  posix_spawn_file_actions_destroy(&actions);
  INFO(words.front());
  REQUIRE(failed == 0);
  return child;
}

void end(int child) {
  kill(child, SIGKILL);
  waitpid(child, nullptr, 0);
}

/// A thread that turns until it is told to stop.
std::function<void()> turning(std::function<void(const std::atomic<bool>&)> body) {
  auto stop = std::make_shared<std::atomic<bool>>(false);
  auto thread = std::make_shared<std::thread>([stop, body = std::move(body)] { body(*stop); });
  return [stop, thread] {
    stop->store(true);
    thread->join();
  };
}

constexpr const char* kEchoBody = R"(
static void echo(const c_reads *r, c_writes *w) {
  w->gap = r->level;
  w->lamp = r->wet;
  w->done = r->order;
  w->count = r->n;
}
)";

}  // namespace

std::function<void()> run_peer(const std::vector<std::string>& words) {
  const int child = g_last_peer = spawn(words);
  return [child] { end(child); };
}

int last_peer() {
  return g_last_peer;
}

std::string bound_address(const ports::ControllerPort& port) {
  if (const auto* link = dynamic_cast<const ports::LinkPort*>(&port)) return link->bound();
  if (const auto* server = dynamic_cast<const ports::ModbusServerPort*>(&port)) return server->bound();
  return {};
}

void compile_c(TestFolder& folder, const std::string& file, const std::string& options) {
  const Output built = shell(fmt::format("{} -std=c11 -O1 -Wall -Wextra -Wpedantic -Werror -I{}/include -I. {} {}",
                                         ISODYNE_C_COMPILER, ISODYNE_SOURCE_FOLDER, file, options),
                             folder.path());
  INFO(built.err);
  REQUIRE(built.status == 0);
}

void make_maps(TestFolder& folder, const program::Program& program, const program::Controller& controller) {
  io::RegisterMap map = io::default_registers(program, controller);
  folder.write("registers.csv", io::registers_text(map));
  for (io::RegisterTag& t : map.tags) {
    using Table = io::RegisterTable;
    if (t.into_controller)
      t.table = t.table == Table::discrete ? Table::coil : Table::holding;
    else
      t.table = t.table == Table::coil ? Table::discrete : Table::input;
  }
  folder.write("client.csv", io::registers_text(map));
}

void make_echo(TestFolder& folder, const program::Program& program, const program::Controller& controller) {
  make_maps(folder, program, controller);
  folder.write("c_channels.h", ports::header_text(program, controller));
  folder.write("layout.json", ports::layout_json(program, controller));
  folder.write(
      "echo.c",
      std::string("#include \"c_channels.h\"\nconst isodyne_controller_info isodyne_info = C_INFO;\n") + kEchoBody + R"(
int isodyne_init(void **self, int64_t period_ns) { *self = 0; return period_ns == 10000000 ? 0 : 1; }
int isodyne_step(void *self, int64_t t, const c_reads *r, c_writes *w) { (void)self; (void)t; echo(r, w); return 0; }
void isodyne_close(void *self) { (void)self; }
)");
  folder.write("echo_link.c", std::string("#include \"isodyne/link.h\"\n#include \"c_channels.h\"\nconst "
                                          "isodyne_controller_info isodyne_info = C_INFO;\n") +
                                  kEchoBody + R"(
int main(int count, char **words) {
  static isodyne_link l;
  c_reads r;
  c_writes w = {0};
  int64_t t;
  if (isodyne_link_open(&l, count > 1 ? words[1] : NULL, &isodyne_info, 5000) != 0) {
    fprintf(stderr, "%s\n", l.trouble);
    return 1;
  }
  while (isodyne_link_wait(&l, &r, &t) > 0) {
    echo(&r, &w);
    isodyne_link_answer(&l, &w);
  }
  return 0;
}
)");
  compile_c(folder, "echo.c", "-fPIC -shared -o echo.so");
  compile_c(folder, "echo_link.c", "-o echo_link");
  folder.write("echo.py", fmt::format(R"(#!/usr/bin/env python3
import os, sys
sys.path.insert(0, "{}/clients")
import isodyne_link
here = os.path.dirname(os.path.abspath(__file__))
with isodyne_link.Link(os.path.join(here, "layout.json"), sys.argv[1] if len(sys.argv) > 1 else None) as link:
    for _, r in link:
        link.answer(gap=r["level"], lamp=r["wet"], done=r["order"], count=r["n"])
)",
                                      ISODYNE_SOURCE_FOLDER));
  std::filesystem::permissions(folder / "echo.py", std::filesystem::perms::owner_all);
}

std::function<void()> modbus_echo_client(const std::string& address) {
  return turning([address](const std::atomic<bool>& stop) {
    const ports::HostPort peer = ports::host_and_port(address);
    modbus_t* m = modbus_new_tcp(peer.host.c_str(), peer.port);
    if (modbus_connect(m) == 0) {
      std::uint16_t words[5];
      std::uint8_t bit = 0;
      while (!stop.load() && modbus_read_input_registers(m, 0, 5, words) == 5 &&
             modbus_write_registers(m, 0, 5, words) == 5 && modbus_read_input_bits(m, 0, 1, &bit) == 1 &&
             modbus_write_bits(m, 0, 1, &bit) == 1) {
      }
    }
    modbus_close(m);
    modbus_free(m);
  });
}

std::function<void()> modbus_echo_server(const std::string& host, int port) {
  return turning([host, port](const std::atomic<bool>& stop) {
    modbus_t* m = modbus_new_tcp(host.c_str(), port);
    modbus_mapping_t* map = modbus_mapping_new(8, 8, 16, 16);
    int listening = modbus_tcp_listen(m, 1);
    modbus_set_indication_timeout(m, 0, 100'000);
    timeval limit{0, 100'000};
    setsockopt(listening, SOL_SOCKET, SO_RCVTIMEO, &limit, sizeof limit);
    while (!stop.load()) {
      if (modbus_tcp_accept(m, &listening) < 0) continue;
      std::uint8_t request[MODBUS_TCP_MAX_ADU_LENGTH];
      for (int count = 0; !stop.load();) {
        count = modbus_receive(m, request);
        if (count < 0 && errno == ETIMEDOUT) continue;
        if (count < 0 || modbus_reply(m, request, count, map) < 0) break;
        std::copy(map->tab_registers, map->tab_registers + 16, map->tab_input_registers);
        std::copy(map->tab_bits, map->tab_bits + 8, map->tab_input_bits);
      }
      modbus_close(m);
    }
    ::close(listening);
    modbus_mapping_free(map);
    modbus_free(m);
  });
}

namespace {
const std::pair<const char*, const char*> kEchoNames[] = {
    {"level", "gap"}, {"wet", "lamp"}, {"order", "c.done"}, {"n", "c.count"}};

struct MqttEcho {
  std::string topic;
  bool grouped;
};

void on_echo(mosquitto* m, void* user, const mosquitto_message* message) {
  const auto& echo = *static_cast<MqttEcho*>(user);
  const std::string topic = message->topic;
  const std::string text(static_cast<const char*>(message->payload), static_cast<std::size_t>(message->payloadlen));
  const auto publish = [&](const std::string& to, const std::string& what) {
    mosquitto_publish(m, nullptr, (echo.topic + to).c_str(), static_cast<int>(what.size()), what.data(), 0, false);
  };
  if (echo.grouped && topic == echo.topic + "/to") {
    const auto in = nlohmann::json::parse(text);
    nlohmann::json out;
    for (const auto& [from, to] : kEchoNames) out[to] = in.at(from);
    publish("/from", out.dump());
  }
  for (const auto& [from, to] : kEchoNames) {
    if (topic == echo.topic + "/to/" + from) publish(std::string("/from/") + to, text);
  }
}
}  // namespace

std::function<void()> mqtt_echo(int port, const std::string& topic, bool grouped) {
  return turning([=](const std::atomic<bool>& stop) {
    MqttEcho echo{topic, grouped};
    mosquitto_lib_init();
    mosquitto* m = mosquitto_new(nullptr, true, &echo);
    mosquitto_will_set(m, (topic + "/controller").c_str(), 4, "lost", 1, true);
    mosquitto_message_callback_set(m, on_echo);
    while (!stop.load() && mosquitto_connect(m, "127.0.0.1", port, 5) != MOSQ_ERR_SUCCESS)
      std::this_thread::sleep_for(20ms);
    mosquitto_subscribe(m, nullptr, (topic + "/to/#").c_str(), 1);
    mosquitto_publish(m, nullptr, (topic + "/controller").c_str(), 5, "ready", 1, true);
    while (!stop.load()) {
      if (mosquitto_loop(m, 2, 100) != MOSQ_ERR_SUCCESS) {
        std::this_thread::sleep_for(20ms);
        if (mosquitto_reconnect(m) == MOSQ_ERR_SUCCESS) {
          mosquitto_subscribe(m, nullptr, (topic + "/to/#").c_str(), 1);
          mosquitto_publish(m, nullptr, (topic + "/controller").c_str(), 5, "ready", 1, true);
        }
      }
    }
    mosquitto_disconnect(m);
    mosquitto_destroy(m);
  });
}

Broker::Broker(int port) : port_(port) {
  start();
}

void Broker::start() {
  if (port_ == 0) return;
  const std::string file =
      folder_.write("broker.conf", fmt::format("listener {} 127.0.0.1\nallow_anonymous true\nlog_dest none\n", port_));
  const bool in_path = std::filesystem::exists("/usr/sbin/mosquitto");
  child_ = spawn({in_path ? "/usr/sbin/mosquitto" : "mosquitto", "-c", file});
  const auto until = std::chrono::steady_clock::now() + 10s;
  auto peer = ports::resolve(fmt::format("127.0.0.1:{}", port_), SOCK_STREAM);
  REQUIRE(peer);
  for (bool there = false; !there;) {
    const int socket = ::socket(AF_INET, SOCK_STREAM, 0);
    there = connect(socket, peer->pointer(), peer->bytes) == 0;
    ::close(socket);
    REQUIRE(std::chrono::steady_clock::now() < until);
    if (!there) std::this_thread::sleep_for(10ms);
  }
}

void Broker::stop() {
  if (child_ > 0) end(child_);
  child_ = -1;
}

}  // namespace isodyne::test
