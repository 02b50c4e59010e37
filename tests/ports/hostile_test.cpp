// What strangers and broken devices send: nothing of it crashes a port, holds up an exchange, or is taken for a value.

#include <atomic>
#include <bit>
#include <chrono>
#include <cstring>
#include <random>
#include <thread>

#include <fcntl.h>
#include <modbus.h>
#include <mosquitto.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/io/registers.h"
#include "isodyne/ports/link/link_port.h"
#include "isodyne/ports/modbus/client_port.h"
#include "isodyne/ports/modbus/server_port.h"
#include "isodyne/ports/mqtt/mqtt_port.h"
#include "isodyne/ports/peer.h"
#include "peers.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;
using ports::Standing;

namespace {

/// Two numbers in, two out: a float over two registers, and a choice of three.
io::RegisterMap small_map() {
  io::RegisterMap map;
  const auto tag = [&](const char* name, bool into, std::size_t index, io::RegisterTable table, int address,
                       const char* type) -> io::RegisterTag& {
    io::RegisterTag t;
    t.channel = name;
    t.into_controller = into;
    t.index = index;
    t.table = table;
    t.address = address;
    io::set_type(t, type);
    map.tags.push_back(t);
    return map.tags.back();
  };
  tag("level", true, 0, io::RegisterTable::input, 10, "float32");
  tag("wet", true, 1, io::RegisterTable::discrete, 3, "bool").boolean = true;
  tag("gap", false, 0, io::RegisterTable::holding, 20, "float32");
  tag("order", false, 1, io::RegisterTable::holding, 30, "uint16").labels = 3;
  return map;
}

/// Most significant word first; libmodbus 3.1.6 exchanges the bytes of each word when it does this itself.
void set_real(float value, std::uint16_t* words) {
  const auto bits = std::bit_cast<std::uint32_t>(value);
  words[0] = static_cast<std::uint16_t>(bits >> 16);
  words[1] = static_cast<std::uint16_t>(bits);
}

int connect_to(const std::string& address) {
  auto peer = ports::resolve(address, SOCK_STREAM);
  REQUIRE(peer);
  const int s = socket(AF_INET, SOCK_STREAM, 0);
  REQUIRE(connect(s, peer->pointer(), peer->bytes) == 0);
  return s;
}

/// A server that is up, with a client of libmodbus.
struct Server {
  ports::ModbusServerPort port{"c", small_map(), 2, 2, {"127.0.0.1:0", 1}, 60s};
  std::vector<double> reads = {2.5, 1}, writes = {0.5, 1};
  modbus_t* client = nullptr;
  Server() {
    REQUIRE(port.open(1ms));
    REQUIRE(port.look(reads, writes));
    const ports::HostPort peer = ports::host_and_port(port.bound());
    client = modbus_new_tcp(peer.host.c_str(), peer.port);
    REQUIRE(modbus_connect(client) == 0);
    modbus_set_response_timeout(client, 60, 0);  // a machine may be busy
  }
  ~Server() {
    modbus_close(client);
    modbus_free(client);
    port.close();
  }
  void exchange() { REQUIRE(port.exchange(Time{}, reads, writes)); }
  /// What a client wrote reaches the plant a moment after the client has its answer.
  bool comes_to(const std::vector<double>& expected) {
    for (int i = 0; i < 1000; ++i) {
      exchange();
      if (writes == expected) return true;
      std::this_thread::sleep_for(1ms);
    }
    return false;
  }
  int error(int result) { return result < 0 ? errno - MODBUS_ENOBASE : 0; }
};

}  // namespace

TEST_CASE("A Modbus server answers what the map has, and refuses with the standard's exceptions what it has not") {
  Server s;
  std::uint16_t w[4] = {};
  std::uint8_t bits[8] = {};
  REQUIRE(modbus_read_input_registers(s.client, 10, 2, w) == 2);
  CHECK(modbus_get_float_abcd(w) == 2.5f);
  REQUIRE(modbus_read_input_bits(s.client, 3, 1, bits) == 1);
  CHECK(bits[0] == 1);
  REQUIRE(modbus_read_registers(s.client, 20, 2, w) == 2);
  CHECK(modbus_get_float_abcd(w) == 0.5f);  // what holds until the controller writes

  CHECK(s.error(modbus_read_input_registers(s.client, 9, 2, w)) == MODBUS_EXCEPTION_ILLEGAL_DATA_ADDRESS);
  CHECK(s.error(modbus_read_input_registers(s.client, 11, 2, w)) == MODBUS_EXCEPTION_ILLEGAL_DATA_ADDRESS);
  CHECK(s.error(modbus_read_registers(s.client, 21, 4, w)) == MODBUS_EXCEPTION_ILLEGAL_DATA_ADDRESS);
  CHECK(s.error(modbus_read_bits(s.client, 0, 1, bits)) == MODBUS_EXCEPTION_ILLEGAL_DATA_ADDRESS);
  CHECK(s.error(modbus_write_register(s.client, 20, 1)) == MODBUS_EXCEPTION_ILLEGAL_DATA_ADDRESS);  // half a number
  CHECK(s.error(modbus_write_register(s.client, 30, 3)) == MODBUS_EXCEPTION_ILLEGAL_DATA_VALUE);    // no such label
  const std::uint16_t not_a_number[2] = {0x7FC0, 0};
  CHECK(s.error(modbus_write_registers(s.client, 20, 2, not_a_number)) == MODBUS_EXCEPTION_ILLEGAL_DATA_VALUE);
  CHECK(s.error(modbus_mask_write_register(s.client, 30, 0, 3)) == MODBUS_EXCEPTION_ILLEGAL_DATA_VALUE);
  CHECK(s.error(modbus_mask_write_register(s.client, 20, 0, 3)) == MODBUS_EXCEPTION_ILLEGAL_DATA_ADDRESS);
  std::uint8_t own[8];
  CHECK(s.error(modbus_report_slave_id(s.client, sizeof own, own)) == MODBUS_EXCEPTION_ILLEGAL_FUNCTION);
  s.exchange();
  CHECK(s.writes == std::vector<double>{0.5, 1});

  set_real(0.25f, w);
  REQUIRE(modbus_write_registers(s.client, 20, 2, w) == 2);
  REQUIRE(modbus_write_register(s.client, 30, 2) == 1);
  s.reads = {-7.5, 0};
  CHECK(s.comes_to({0.25, 2}));
  REQUIRE(modbus_read_input_registers(s.client, 10, 2, w) == 2);
  CHECK(modbus_get_float_abcd(w) == -7.5f);
  // A bit of a register, and a write and a read in one request.
  REQUIRE(modbus_mask_write_register(s.client, 30, 0xFFFC, 1) == 1);
  CHECK(s.comes_to({0.25, 1}));
  std::uint16_t order = 0;
  set_real(4.5f, w);
  REQUIRE(modbus_write_and_read_registers(s.client, 20, 2, w, 30, 1, &order) == 1);
  CHECK(order == 1);
  CHECK(s.comes_to({4.5, 1}));
  CHECK(s.error(modbus_write_and_read_registers(s.client, 20, 2, w, 40, 1, &order)) ==
        MODBUS_EXCEPTION_ILLEGAL_DATA_ADDRESS);
  CHECK(s.error(modbus_write_and_read_registers(s.client, 20, 2, not_a_number, 30, 1, &order)) ==
        MODBUS_EXCEPTION_ILLEGAL_DATA_VALUE);
  CHECK(s.port.traffic().refused == 12);
}

TEST_CASE("Several Modbus clients at once, and more than there is room for") {
  Server s;
  const ports::HostPort peer = ports::host_and_port(s.port.bound());
  std::atomic<int> answered{0};
  std::vector<std::thread> clients;
  for (int i = 0; i < 8; ++i) {
    clients.emplace_back([&] {
      modbus_t* m = modbus_new_tcp(peer.host.c_str(), peer.port);
      std::uint16_t w[2];
      if (modbus_connect(m) == 0) {
        for (int n = 0; n < 200; ++n) answered += modbus_read_input_registers(m, 10, 2, w) == 2 ? 1 : 0;
      }
      modbus_close(m);
      modbus_free(m);
    });
  }
  for (std::thread& c : clients) c.join();
  CHECK(answered == 1600);
  std::vector<int> idle;
  for (int i = 0; i < 60; ++i) idle.push_back(connect_to(s.port.bound()));
  std::this_thread::sleep_for(300ms);
  for (const int i : idle) close(i);
  std::uint16_t w[2];
  CHECK(modbus_read_input_registers(s.client, 10, 2, w) == 2);  // who was there is still served
  CHECK(s.port.traffic().refused >= 60 - static_cast<int>(ports::ModbusServerPort::kMostConnections));
}

TEST_CASE("Fuzz of the Modbus server: rubbish, damaged and half requests, clients that do not read") {
  Server s;
  std::mt19937 random(20261124);
  const std::vector<std::vector<std::uint8_t>> seeds = {{0, 1, 0, 0, 0, 6, 1, 4, 0, 10, 0, 2},
                                                        {0, 2, 0, 0, 0, 6, 1, 3, 0, 20, 0, 2},
                                                        {0, 3, 0, 0, 0, 11, 1, 16, 0, 20, 0, 2, 4, 63, 128, 0, 0},
                                                        {0, 4, 0, 0, 0, 6, 1, 6, 0, 30, 0, 1},
                                                        {0, 5, 0, 0, 0, 6, 1, 2, 0, 3, 0, 1},
                                                        {0, 6, 0, 0, 0, 8, 1, 15, 0, 0, 0, 1, 1, 1},
                                                        {0, 7, 0, 0, 0, 6, 1, 23, 0, 0, 0, 1}};
  std::atomic<bool> stop{false};
  std::atomic<std::int64_t> longest_ns{0};
  REQUIRE(s.port.begin());
  std::thread stepping([&] {  // exchanges go on meanwhile, and quickly
    std::vector<double> reads = {1, 0}, writes = {0, 0};
    while (!stop) {
      const auto begin = std::chrono::steady_clock::now();
      const bool good = static_cast<bool>(s.port.exchange(Time{}, reads, writes));
      const auto took = (std::chrono::steady_clock::now() - begin).count();
      if (took > longest_ns) longest_ns = took;
      if (!good || !std::isfinite(writes[0]) || writes[1] < 0 || writes[1] > 2) longest_ns = std::int64_t{1} << 60;
      std::this_thread::sleep_for(200us);
    }
  });
  for (int turn = 0; turn < 1500; ++turn) {
    const int c = connect_to(s.port.bound());
    std::vector<std::uint8_t> all;
    for (unsigned n = 1 + random() % 4; n > 0; --n) {
      std::vector<std::uint8_t> one = seeds[random() % seeds.size()];
      for (unsigned k = random() % 4; k > 0; --k) one[random() % one.size()] = static_cast<std::uint8_t>(random());
      if (random() % 5 == 0) one.resize(random() % one.size() + 1);
      if (random() % 9 == 0) one.insert(one.end(), random() % 300, static_cast<std::uint8_t>(random()));
      all.insert(all.end(), one.begin(), one.end());
    }
    send(c, all.data(), all.size(), MSG_NOSIGNAL);
    if (random() % 8 == 0) {  // asks a lot and takes no answer
      for (int n = 0; n < 400; ++n) send(c, seeds[0].data(), seeds[0].size(), MSG_NOSIGNAL | MSG_DONTWAIT);
    }
    close(c);
    if (turn % 8 == 7) std::this_thread::sleep_for(2ms);  // so that most of it is looked at, not turned away
  }
  stop = true;
  stepping.join();
  std::uint16_t w[2];
  CHECK(modbus_read_input_registers(s.client, 10, 2, w) == 2);
  CHECK(longest_ns < 1'000'000'000);
}

TEST_CASE("Modbus RTU over a pseudo-terminal: values, noise on the line, and a line that is cut") {
  TestFolder folder;
  const auto end_line =
      run_peer({"socat", "pty,raw,echo=0,link=" + (folder / "bench"), "pty,raw,echo=0,link=" + (folder / "device")});
  for (int i = 0; i < 500 && access((folder / "device").c_str(), F_OK) != 0; ++i) std::this_thread::sleep_for(10ms);
  REQUIRE(access((folder / "device").c_str(), F_OK) == 0);
  ports::modbus::Line line{folder / "bench", 7, 19200, program::Setting::Parity::none};
  ports::ModbusServerPort port("c", small_map(), 2, 2, line, 400ms);
  std::vector<double> reads = {2.5, 1}, writes = {0.5, 1};
  REQUIRE(port.open(1ms));
  REQUIRE(port.look(reads, writes));
  modbus_t* m = modbus_new_rtu((folder / "device").c_str(), 19200, 'N', 8, 2);
  modbus_set_slave(m, 7);
  REQUIRE(modbus_connect(m) == 0);
  std::uint16_t w[2];
  REQUIRE(modbus_read_input_registers(m, 10, 2, w) == 2);
  CHECK(modbus_get_float_abcd(w) == 2.5f);
  const auto soon = [](auto done) {
    for (int i = 0; i < 1000 && !done(); ++i) std::this_thread::sleep_for(1ms);
    return done();
  };
  CHECK(soon([&] { return *port.look(reads, writes) == Standing::ready; }));
  REQUIRE(port.begin());
  set_real(-1.5f, w);
  REQUIRE(modbus_write_registers(m, 20, 2, w) == 2);
  CHECK(soon([&] { return port.exchange(Time{}, reads, writes) && writes[0] == -1.5; }));

  const std::uint8_t noise[] = {7, 4, 0, 10, 0, 2, 0xDE, 0xAD, 1, 2, 3};
  REQUIRE(write(modbus_get_socket(m), noise, sizeof noise) == sizeof noise);
  std::this_thread::sleep_for(500ms);
  modbus_flush(m);
  bool again = false;
  for (int i = 0; i < 5 && !again; ++i) again = modbus_read_input_registers(m, 10, 2, w) == 2;
  CHECK(again);
  CHECK(port.traffic().refused > 0);

  modbus_close(m);
  modbus_free(m);
  end_line();  // cut
  Status lost = Done{};
  for (int i = 0; i < 200 && lost; ++i) {
    std::this_thread::sleep_for(10ms);
    lost = port.exchange(Time{}, reads, writes);
  }
  REQUIRE_FALSE(lost);
  CHECK_THAT(lost.failure().text(), Catch::Contains("has asked nothing at"));
  port.close();
}

TEST_CASE("A broker that vanishes and comes back is survived within its time, and longer than that is a loss") {
  Broker broker(21884);
  ports::MqttPort::Plan plan;
  plan.address = "127.0.0.1:21884";
  plan.topic = "w/c";
  plan.lost_after = 3s;
  plan.reads = {{"level", Unit{}, false, false, {}}};
  plan.writes = {{"gap", Unit{}, false, false, {}}};
  ports::MqttPort port("c", plan);
  std::vector<double> reads = {1}, writes = {0};
  REQUIRE(port.open(1ms));
  const auto say = [](const char* topic, const char* text) {
    REQUIRE(shell(fmt::format("mosquitto_pub -p 21884 -t {} -m '{}'", topic, text)).status == 0);
  };
  const auto until = [&](auto done) {
    for (int i = 0; i < 2000; ++i) {
      if (done()) return true;
      std::this_thread::sleep_for(5ms);
    }
    return false;
  };
  REQUIRE(until([&] { return *port.look(reads, writes) == Standing::answering; }));
  say("w/c/controller", "ready");
  REQUIRE(until([&] { return *port.look(reads, writes) == Standing::ready; }));
  REQUIRE(port.begin());
  say("w/c/from/gap", "0.75");
  CHECK(until([&] { return port.exchange(Time{}, reads, writes) && writes[0] == 0.75; }));

  // Rubbish: counted, and nothing of it is taken.
  for (const char* text : {"nan", "1e999", "", "zero", "0.5 m", "{\"gap\":1}", "[[[[[[[["}) say("w/c/from/gap", text);
  say("w/c/from/other", "1");
  say("w/c/from", "{\"gap\": 0.1}");
  say("w/c/controller", "perhaps");
  CHECK(until([&] { return port.traffic().refused >= 9; }));
  REQUIRE(port.exchange(Time{}, reads, writes));
  CHECK(writes[0] == 0.75);

  broker.stop();
  std::this_thread::sleep_for(300ms);
  CHECK(port.exchange(Time{}, reads, writes));
  broker.start();
  reads = {42};
  REQUIRE(port.exchange(Time{}, reads, writes));
  Output heard;
  CHECK(until([&] {
    heard = shell("mosquitto_sub -p 21884 -t w/c/to/level -C 1 -W 1");
    return heard.out == "42\n";
  }));
  CHECK(port.traffic().away == 1);
  say("w/c/from/gap", "0.25");
  CHECK(until([&] { return port.exchange(Time{}, reads, writes) && writes[0] == 0.25; }));

  say("w/c/controller", "lost");
  Status lost = Done{};
  CHECK(until([&] { return !(lost = port.exchange(Time{}, reads, writes)); }));
  CHECK_THAT(lost.failure().text(), Catch::Contains("its last will came on w/c/controller"));
  port.close();
  const Output ended = shell("mosquitto_sub -p 21884 -t w/c/bench -C 1 -W 5");
  CHECK(ended.out == "ended\n");
}

TEST_CASE("Fuzz of shared memory: whatever the other end writes, an exchange ends in time and reads nothing beyond") {
  std::mt19937 random(7);
  for (int turn = 0; turn < 30; ++turn) {
    auto pair = ports::link::shared_memory(256, 0ns);
    REQUIRE(pair);
    ports::Layout layout;
    layout.identity = 5;
    layout.reads_bytes = layout.writes_bytes = 8;
    ports::Field f;
    f.name = "x";
    layout.reads = layout.writes = {f};
    ports::LinkPort port("c", layout, {"", 60ms, false});
    struct stat about {};
    fstat(pair->theirs.number(), &about);
    const auto bytes = static_cast<std::size_t>(about.st_size);
    auto* const memory =
        static_cast<unsigned char*>(mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_SHARED, pair->theirs.number(), 0));
    REQUIRE(memory != MAP_FAILED);
    port.adopt(std::move(pair->ours), 1ms);
    std::atomic<bool> stop{false};
    std::thread scribbler([&] {
      std::mt19937 mine(static_cast<unsigned>(turn));
      while (!stop) {
        for (int i = 0; i < 64; ++i) memory[mine() % bytes] = static_cast<unsigned char>(mine());
        std::this_thread::sleep_for(20us);
      }
    });
    std::vector<double> reads = {1}, writes = {0};
    CHECK_FALSE(port.exchange(Time{}, reads, writes));
    CHECK(writes[0] == 0);
    stop = true;
    scribbler.join();
    CHECK(ftruncate(pair->theirs.number(), 0) != 0);  // sealed: it cannot be taken away under our feet
    munmap(memory, bytes);
    port.close();
  }
}

TEST_CASE("Registers: every type there and back, in both orders, and what does not fit is the nearest that does") {
  std::mt19937_64 random(11);
  for (const char* type : {"int16", "uint16", "int32", "uint32", "int64", "uint64", "float32", "float64"}) {
    for (const bool low_first : {false, true}) {
      io::RegisterTag t;
      REQUIRE(io::set_type(t, type));
      CHECK(io::type_word(t) == type);
      t.low_first = low_first;
      std::uint16_t words[4] = {};
      for (int i = 0; i < 500; ++i) {
        double value =
            static_cast<double>(static_cast<std::int64_t>(random() % 60'000)) - (t.lowest() < 0 ? 30'000 : 0);
        if (t.form == io::RegisterTag::Form::real) value = static_cast<double>(static_cast<float>(value / 7));
        if (t.words == 1 && value > t.highest()) value = t.highest();
        io::encode(t, value, words);
        INFO(type << " " << value);
        REQUIRE(io::decode(t, words) == value);
      }
      io::encode(t, 1e300, words);
      if (t.words < 4 || t.form != io::RegisterTag::Form::real) CHECK(*io::decode(t, words) == Approx(t.highest()));
      io::encode(t, -1e300, words);
      if (t.words < 4 || t.form != io::RegisterTag::Form::real) CHECK(*io::decode(t, words) == Approx(t.lowest()));
    }
  }
  io::RegisterTag t;
  io::set_type(t, "int32");
  std::uint16_t words[2];
  io::encode(t, 0x12345678, words);
  CHECK((words[0] == 0x1234 && words[1] == 0x5678));
  t.low_first = true;
  io::encode(t, 0x12345678, words);
  CHECK((words[0] == 0x5678 && words[1] == 0x1234));
  io::set_type(t, "int16");
  t.unit = *parse_unit("mm");
  t.factor = 0.5;
  io::encode(t, 1.2345, words);
  CHECK(words[0] == 2469);
  CHECK(*io::decode(t, words) == Approx(1.2345));
}
