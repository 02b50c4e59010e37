#include <cstring>
#include <limits>

#include <catch2/catch.hpp>

#include "isodyne/ports/struct_layout.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::ports;

namespace {
std::shared_ptr<const program::Program> writing(const std::string& writes) {
  return test::program_of(R"(
choice Order { idle, fill, drain }
bench B { step 1 ms
  let level : cm = 3 cm
  input order : Order = idle
  input on : bool = false
  sensor tx { of level  every 1 ms }
  actuator valve : %
  controller plc { every 1 ms  reads on, tx, order  writes )" +
                          writes + R"(
    setting code = library "x" }
})");
}
}  // namespace

TEST_CASE("Members have the C types, sizes and natural alignment of their values") {
  const auto p = writing("valve, alarm : bool, count : int");
  const Layout layout = layout_of(*p, p->controllers[0]);
  REQUIRE(layout.reads.size() == 3);
  CHECK(layout.reads[0].offset == 0);   // bool
  CHECK(layout.reads[1].offset == 8);   // double
  CHECK(layout.reads[2].offset == 16);  // int32_t
  CHECK(layout.reads_bytes == 24);
  CHECK(layout.writes[1].name == "alarm");
  CHECK(layout.writes_bytes == 16);
}

TEST_CASE("Values survive packing and unpacking") {
  const auto p = writing("valve, alarm : bool, count : int");
  const Layout layout = layout_of(*p, p->controllers[0]);
  std::vector<std::byte> bytes(layout.writes_bytes);
  const std::vector<double> values{0.25, 1, -7};
  std::vector<double> back(3);
  pack(layout.writes, values, bytes.data());
  CHECK(unpack(layout.writes, bytes.data(), back) == -1);
  CHECK(back == values);
}

TEST_CASE("A value that a member cannot have is found") {
  const auto p = writing("valve, mode : Order");
  const Layout layout = layout_of(*p, p->controllers[0]);
  std::vector<std::byte> bytes(layout.writes_bytes);
  std::vector<double> back(2);
  pack(layout.writes, std::vector<double>{std::numeric_limits<double>::infinity(), 0}, bytes.data());
  CHECK(unpack(layout.writes, bytes.data(), back) == 0);
  pack(layout.writes, std::vector<double>{0, 3}, bytes.data());
  CHECK(unpack(layout.writes, bytes.data(), back) == 1);
}

TEST_CASE("The identity of a layout changes with names, types and order") {
  const auto identity = [](const std::string& writes) {
    const auto p = writing(writes);
    return layout_of(*p, p->controllers[0]).identity;
  };
  CHECK(identity("a : bool, b : bool") == identity("a : bool, b : bool"));
  CHECK(identity("a : bool, b : bool") != identity("b : bool, a : bool"));
  CHECK(identity("a : bool") != identity("a : int"));
  CHECK(identity("a : m") != identity("a : s"));
  CHECK(identity("a : m") == identity("a : cm"));  // both are SI in the struct
}

TEST_CASE("Names become C identifiers") {
  CHECK(c_name("upper.level") == "upper_level");
  CHECK(c_name("switch") == "switch_");
}

TEST_CASE("Vectors are arrays, and gates have room for their edges") {
  const auto p = test::program_of(R"(
bench B { step 50 us
  input level : m[3] = 1 m
  sensor tx { of level  every 50 us }
  actuator line : gate[2]
  actuator one : gate
  controller plc { every 50 us  reads tx[2], tx[3], level  writes line, votes : bool[5], one
    setting code = library "x" }
})");
  const Layout layout = layout_of(*p, p->controllers[0]);
  REQUIRE(layout.reads.size() == 3);
  CHECK(layout.reads[0].name == "tx_2");
  CHECK(layout.reads[2].count == 3);
  CHECK(layout.reads_bytes == 5 * 8);
  REQUIRE(layout.writes.size() == 3);
  CHECK(layout.writes[0].offset == 0);
  CHECK(layout.writes[1].offset == 2 * 68);
  CHECK(layout.writes[2].offset == 2 * 68 + 8);
  CHECK(layout.writes_bytes == 2 * 68 + 8 + 68);
  const program::Controller& c = p->controllers[0];
  REQUIRE(c.answer_size() == 8 + 3 * 17);
  // Three gates' edges in a row behind the values, that of the single gate last.
  std::vector<std::byte> bytes(layout.writes_bytes);
  const auto put = [&](std::size_t at, std::uint8_t on, std::vector<std::int32_t> edges) {
    bytes[at] = std::byte{on};
    bytes[at + 1] = static_cast<std::byte>(edges.size());
    std::memcpy(&bytes[at + 4], edges.data(), 4 * edges.size());
  };
  put(68, 1, {5, 5, 50'000});
  put(2 * 68 + 8, 0, {0});
  bytes[2 * 68 + 3] = std::byte{1};
  std::vector<double> values(c.answer_size());
  CHECK(unpack(layout.writes, bytes.data(), values) == -1);
  CHECK(std::vector<double>(values.begin(), values.begin() + 8) == std::vector<double>{0, 1, 0, 0, 0, 1, 0, 0});
  CHECK(values[8] == 0);
  CHECK(std::vector<double>(values.begin() + 25, values.begin() + 29) == std::vector<double>{3, 5, 5, 50'000});
  CHECK(std::vector<double>(values.begin() + 42, values.begin() + 44) == std::vector<double>{1, 0});
  put(0, 0, {4, 3});
  CHECK(unpack(layout.writes, bytes.data(), values) == 8 + 2);
  CHECK(why_wrong(layout.writes, 8 + 2, 3) ==
        "edge 2 that it wrote to the gate `line[0]` is at 3 ns, before the one in front of it");
}
