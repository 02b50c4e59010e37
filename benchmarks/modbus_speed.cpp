// Requests a second that a Modbus server answers to one client that polls 200 registers: the port of a plant that keeps
// 1 ms at the same time, against a bare server of libmodbus with nothing else to do.

#include <algorithm>
#include <atomic>
#include <thread>
#include <vector>

#include <modbus.h>
#include <sys/socket.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/bench/pacer.h"
#include "isodyne/bench/realtime_privileges.h"
#include "isodyne/ports/modbus/server_port.h"
#include "isodyne/ports/peer.h"

using namespace isodyne;
using namespace std::chrono_literals;

namespace {

constexpr int kRegisters = 200, kTurns = 11;

io::RegisterMap map_of() {
  io::RegisterMap map;
  for (int i = 0; i < kRegisters; ++i) {
    io::RegisterTag t;
    t.channel = fmt::format("x{}", i);
    t.index = static_cast<std::size_t>(i);
    t.table = io::RegisterTable::input;
    t.address = i;
    map.tags.push_back(t);
  }
  return map;
}

/// Two requests of 100 registers after another, for a while; requests a second.
double poll(const std::string& host, int port, std::chrono::milliseconds span) {
  modbus_t* m = modbus_new_tcp(host.c_str(), port);
  if (modbus_connect(m) != 0) std::abort();
  std::uint16_t words[100];
  const auto begin = std::chrono::steady_clock::now();
  std::int64_t requests = 0;
  while (std::chrono::steady_clock::now() - begin < span) {
    for (int first = 0; first < kRegisters; first += 100) {
      if (modbus_read_input_registers(m, first, 100, words) != 100) std::abort();
      ++requests;
    }
  }
  const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
  modbus_close(m);
  modbus_free(m);
  return static_cast<double>(requests) / seconds;
}

double bare(std::chrono::milliseconds span) {
  modbus_t* m = modbus_new_tcp("127.0.0.1", 25021);
  modbus_mapping_t* map = modbus_mapping_new(0, 0, 0, kRegisters);
  int listening = modbus_tcp_listen(m, 1);
  std::thread server([&] {
    std::uint8_t request[MODBUS_TCP_MAX_ADU_LENGTH];
    if (modbus_tcp_accept(m, &listening) < 0) return;
    for (int count; (count = modbus_receive(m, request)) > 0;) modbus_reply(m, request, count, map);
  });
  const double rate = poll("127.0.0.1", 25021, span);
  server.join();
  ::close(listening);
  modbus_close(m);
  modbus_mapping_free(map);
  modbus_free(m);
  return rate;
}

double ours(std::chrono::milliseconds span, StepTimes& lateness, std::int64_t& overruns, std::int64_t& steps) {
  ports::ModbusServerPort port("c", map_of(), kRegisters, 0, {"127.0.0.1:0", 1}, 10s);
  std::vector<double> reads(kRegisters), writes;
  if (!port.open(1ms) || !port.look(reads, writes)) std::abort();
  std::atomic<bool> stop{false};
  std::thread plant([&] {
    const bench::RealtimePrivileges rights = bench::take_privileges(-1);
    bench::Pacer pacer(1ms, 1);
    Time at{};
    (void)port.begin();
    pacer.begin(at);
    for (; !stop.load(); at += 1ms) {
      pacer.wait(at);
      for (double& x : reads) x += 1;
      if (reads[0] > 30000) std::fill(reads.begin(), reads.end(), 0.0);
      (void)port.exchange(at, reads, writes);
      pacer.done(at);
    }
    lateness.join(pacer.lateness());
    overruns += pacer.overruns();
    steps += pacer.steps();
    bench::give_back(rights);
  });
  const ports::HostPort peer = ports::host_and_port(port.bound());
  const double rate = poll(peer.host, peer.port, span);
  stop = true;
  plant.join();
  port.close();
  return rate;
}

}  // namespace

int main() {
  std::vector<double> ratios, by_hand, by_port;
  StepTimes lateness;
  std::int64_t overruns = 0, steps = 0;
  for (int turn = 0; turn < kTurns; ++turn) {
    by_hand.push_back(bare(500ms));
    by_port.push_back(ours(500ms, lateness, overruns, steps));
    ratios.push_back(by_port.back() / by_hand.back());
  }
  for (auto* v : {&ratios, &by_hand, &by_port}) std::sort(v->begin(), v->end());
  const double ratio = ratios[kTurns / 2];
  fmt::print("200 registers, requests/s: bare libmodbus {:.0f}, port {:.0f}, ratio {:.2f} (at least 0.9)\n",
             by_hand[kTurns / 2], by_port[kTurns / 2], ratio);
  fmt::print(
      "the plant meanwhile, 1 ms: late begin p50 {:.2f} us, p99 {:.2f}, p99.9 {:.2f}, most {:.1f}; {} of {} steps "
      "late\n",
      lateness.quantile(0.5) / 1e3, lateness.quantile(0.99) / 1e3, lateness.quantile(0.999) / 1e3,
      static_cast<double>(lateness.longest()) / 1e3, overruns, steps);
  return ratio >= 0.9 ? 0 : 1;
}
