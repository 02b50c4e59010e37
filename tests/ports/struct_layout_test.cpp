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
