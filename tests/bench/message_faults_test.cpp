// Faults on messages, by formula, on two channels, and several on one place; against closed forms.

#include <algorithm>
#include <cmath>
#include <set>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/bench/message_lines.h"
#include "isodyne/ports/make_port.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// A controller every 20 ms that reads t = time and says back what it read; and what a fault makes of that.
struct Told {
  std::shared_ptr<const program::Program> program;
  Seen seen;

  explicit Told(const std::string& faults, std::vector<std::int32_t> chosen = {0}, double seconds = 10,
                std::uint64_t seed = 1)
      : program(program_of(fmt::format(R"(
model Echo {{
  input t : s
  input on : bool
  output memory heard : s = 0 s
  output memory echo : s = 0 s
  output memory exchanges : int = 0
  output memory yes : bool = false
  every 20 ms {{ heard := t
    echo := t
    yes := on
    exchanges := exchanges + 1 }}
}}
bench B {{ step 10 ms
  let now : s = time
  let always : bool = true
  sensor t {{ of now  every 10 ms }}
  sensor u {{ of 100 s - now  every 10 ms }}
  sensor on {{ of always  every 10 ms }}
  actuator echo : s {{ start 0 s }}
  actuator other : s
  controller plc {{ every 20 ms
    reads t, on
    writes echo, heard : s, exchanges : int, yes : bool
    setting model = part Echo }}
}}
condition late = time >= 1 s
{})",
                                       faults))),
        seen(program, {"t", "u", "echo", "plc.heard", "plc.exchanges", "plc.yes"}) {
    bench::RunPlan plan;
    plan.faults = std::move(chosen);
    plan.seed = seed;
    plan.longest = time_from_seconds(seconds);
    const std::atomic<bool> stop{false};
    bench::Run run(
        program, plan,
        [&](const program::Controller& c, const program::Setting& s) { return ports::make_port(*program, c, s, {}); },
        seen);
    CHECK(run.execute(stop).ending == observe::Ending::completed);
  }
  const std::vector<double>& operator[](const std::string& name) const {
    for (std::size_t n = 0; n < seen.names.size(); ++n) {
      if (seen.names[n] == name) return seen.values[n];
    }
    FAIL("no " + name);
    return seen.values[0];
  }
  double at(const std::string& name, double seconds) const {
    return (*this)[name][static_cast<std::size_t>(std::lround(seconds * 100))];
  }
  /// How old what the controller heard is, at each exchange after the first few.
  std::vector<double> ages() const {
    std::vector<double> all;
    for (std::size_t i = 10; i < seen.times.size(); i += 2)
      all.push_back(to_seconds(seen.times[i]) - (*this)["plc.heard"][i]);
    return all;
  }
};

}  // namespace

TEST_CASE("Without a fault a controller hears the present, and is heard one period later") {
  const Told t("fault f { on plc.reads  delay 80 ms  once late }", {});
  CHECK(t.at("plc.heard", 5) == Approx(4.98));
  CHECK(t.at("echo", 5) == Approx(4.98));
}

TEST_CASE("Delayed readings are that much older, delayed answers come that much later") {
  const Told reads("fault f { on plc.reads  delay 80 ms  once late }");
  CHECK(reads.at("plc.heard", 0.9) == Approx(0.88));
  CHECK(reads.at("plc.heard", 5) == Approx(4.9));
  const Told writes("fault f { on plc.writes  delay 80 ms  once late }");
  CHECK(writes.at("echo", 0.9) == Approx(0.88));
  CHECK(writes.at("echo", 5) == Approx(4.9));
}

TEST_CASE("Lost messages leave what was there, and as many are lost as is said") {
  const Told t("fault f { on plc.reads  loss 30 % }", {0}, 100);
  int lost = 0, all = 0;
  const auto& heard = t["plc.heard"];
  for (std::size_t i = 12; i < heard.size(); i += 2, ++all) lost += heard[i] == heard[i - 2] ? 1 : 0;
  CHECK(std::abs(lost - 0.3 * all) < 5 * std::sqrt(all * 0.3 * 0.7));
}

TEST_CASE("Jitter makes messages late by up to its time, all as likely") {
  const Told t("fault f { on plc.reads  jitter 100 ms }", {0}, 100);
  const auto ages = t.ages();
  const auto [least, most] = std::minmax_element(ages.begin(), ages.end());
  // A message of no age at all would need no jitter at all; where none arrives, the one before gets older.
  CHECK(*least == Approx(0.04));
  CHECK(*most >= 0.1);
  CHECK(*most < 0.3);
  double mean = 0;
  for (const double a : ages) mean += a / static_cast<double>(ages.size());
  CHECK(mean > 0.05);
  CHECK(mean < 0.13);
}

TEST_CASE("Messages that are overtaken or come twice make what is heard go back") {
  for (const char* kind : {"reorder", "repeats"}) {
    INFO(kind);
    const Told t(fmt::format("fault f {{ on plc.reads  {} 20 % }}", kind), {0}, 40);
    const auto& heard = t["plc.heard"];
    int back = 0, all = 0;
    for (std::size_t i = 12; i < heard.size(); i += 2, ++all) back += heard[i] < heard[i - 2] + 0.01 ? 1 : 0;
    CHECK(back > 0.1 * all);
    CHECK(back < 0.5 * all);
  }
}

TEST_CASE("A frozen line says the same message again and again") {
  const Told t("fault f { on plc.writes  freeze  from 2 s to 4 s }");
  const double held = t.at("echo", 2.5);
  CHECK(held == Approx(2).margin(0.03));
  CHECK(t.at("echo", 3.9) == held);
  CHECK(t.at("plc.exchanges", 3.9) == t.at("plc.exchanges", 2.5));  // also its counter
  CHECK(t.at("echo", 5) == Approx(4.98));
}

TEST_CASE("One bit of a corrupted message is turned round") {
  const Told t("fault f { on plc.writes  corrupt 100 %  from 1 s }", {0}, 40);
  int truths = 0, counters = 0, all = 0;
  for (std::size_t i = 110; i < t.seen.times.size(); i += 2, ++all) {
    truths += t["plc.yes"][i] == 0 ? 1 : 0;
    const auto count = static_cast<std::int64_t>(t["plc.exchanges"][i]);
    const auto meant = static_cast<std::int64_t>(i / 2);
    const std::int64_t turned = count ^ meant;
    if (turned != 0) {
      ++counters;
      CHECK((turned & (turned - 1)) == 0);  // one bit
    }
  }
  // four values, all as likely
  CHECK(std::abs(truths - all / 4.0) < 5 * std::sqrt(all * 0.25 * 0.75));
  CHECK(std::abs(counters - all / 4.0) < 5 * std::sqrt(all * 0.25 * 0.75));
}

TEST_CASE("The same seed gives the same losses, another seed others") {
  const char* fault = "fault f { on plc.reads  loss 50 % }";
  CHECK(Told(fault, {0}, 5, 3)["plc.heard"] == Told(fault, {0}, 5, 3)["plc.heard"]);
  CHECK(Told(fault, {0}, 5, 3)["plc.heard"] != Told(fault, {0}, 5, 4)["plc.heard"]);
}

TEST_CASE("Swapped sensors give each other's quantity at the same instant") {
  const Told t("fault f { on t  swap with u  from 1 s }");
  CHECK(t.at("t", 0.5) == Approx(0.5));
  CHECK(t.at("t", 5) == Approx(95));
  CHECK(t.at("u", 5) == Approx(5));
}

TEST_CASE("A ramp moves a value to another over its time") {
  const Told t("fault f { on t  ramp to 50 s over 2 s  from 1 s }");
  CHECK(t.at("t", 1) == Approx(1));
  CHECK(t.at("t", 2) == Approx(2 + 0.5 * (50 - 2)));
  CHECK(t.at("t", 3) == Approx(50));
  CHECK(t.at("t", 5) == Approx(50));
}

TEST_CASE("A formula of its own sees the value, what it gave before, and its memories") {
  const Told twice("fault f { on t  replace with 2 * it + 1 s  from 1 s }");
  CHECK(twice.at("t", 0.5) == Approx(0.5));
  CHECK(twice.at("t", 5) == Approx(11));
  // a first-order lag out of `was`: y += 0.1 (x - y), behind a ramp by 9 steps in the end
  const Told lag("fault f { on t  replace with was + 0.1 * (it - was) }");
  CHECK(lag.at("t", 9) == Approx(9 - 0.09).margin(1e-6));
  const Told stairs(R"(fault f {
  on t
  memory at : s = 0 s
  memory steps : int = 0
  steps := if it - at > 1 s then steps + 1 else steps
  at := if it - at > 1 s then it else at
  replace with at + 100 s * steps })");
  CHECK(stairs.at("t", 0.9) == Approx(0));
  CHECK(stairs.at("t", 1.5) == Approx(101.01));
  CHECK(stairs.at("t", 2.5) == Approx(202.02));
}

TEST_CASE("Faults that are composed act one after the other, in the order that is stated") {
  const std::string two = "fault plus { on t  offset 10 s }\nfault double { on t  times 2 }\n";
  CHECK(Told(two + "compose plus, double", {0, 1}).at("t", 5) == Approx(30));
  CHECK(Told(two + "compose double, plus", {0, 1}).at("t", 5) == Approx(20));
  CHECK(Told(two + "compose double, plus", {1, 0}).at("t", 5) == Approx(20));
  const auto p = program_of(
      "bench B { step 1 ms\n let x : m = time * 1 m/s\n}\nfault a { on x offset 1 m }\nfault b { on x times 2 }\n");
  bench::RunPlan plan;
  plan.faults = {0, 1};
  plan.longest = std::chrono::seconds(1);
  const auto trouble = bench::trouble_with(*p, plan);
  REQUIRE(trouble);
  CHECK(trouble->text() ==
        "faults `a` and `b` both act on `x`: choose one of them, or state their order: compose a, b");
}

TEST_CASE("Messages between controllers know the same faults") {
  const auto p = program_of(R"(
model Teller { input t : s
  output memory said : s = 0 s
  every 10 ms { said := t } }
model Hearer { input one_said : s
  output memory heard : s = 0 s
  every 10 ms { heard := one_said } }
bench B { step 10 ms
  let now : s = time
  sensor t { of now  every 10 ms }
  messages radio { latency 50 ms }
  controller one { every 10 ms  reads t  writes said : s  setting model = part Teller }
  controller two { every 10 ms  reads one.said over radio  writes heard : s  setting model = part Hearer }
}
fault lossy { on radio  loss 100 %  from 2 s to 3 s }
fault slow { on radio  delay 200 ms }
)");
  const auto heard = [&](std::vector<std::int32_t> faults, double at) {
    Seen seen(p, {"two.heard"});
    bench::RunPlan plan;
    plan.faults = std::move(faults);
    plan.longest = std::chrono::seconds(5);
    const std::atomic<bool> stop{false};
    bench::Run run(
        p, plan,
        [&](const program::Controller& c, const program::Setting& s) { return ports::make_port(*p, c, s, {}); }, seen);
    run.execute(stop);
    return seen.values[0][static_cast<std::size_t>(std::lround(at * 100))];
  };
  const double usual = heard({}, 4);
  CHECK(heard({0}, 2.9) == Approx(heard({}, 2.05)).margin(0.02));
  CHECK(heard({0}, 4) == Approx(usual));
  CHECK(heard({1}, 4) == Approx(usual - 0.2));
}

TEST_CASE("Mistakes in such faults are named where they are") {
  const auto says = [](const std::string& fault, const std::string& part) {
    const std::string all = diagnostics_of(fmt::format(
        "model L {{ input t : s\n output memory w : s = 0 s\n every 20 ms {{ w := t }} }}\nbench B {{ step 10 ms\n let "
        "now : s = time\n"
        " sensor t {{ of now  every 10 ms }}\n sensor n {{ of 3 m  range 0 m .. 5 m  every 10 ms }}\n param k : 1 = 2\n"
        " controller plc {{ every 20 ms\n reads t\n writes w : s\n setting m = part L }}\n}}\n{}",
        fault));
    INFO(fault << "\n" << all);
    CHECK(all.find(part) != std::string::npos);
  };
  says("fault f { on plc.reads  offset 3 s }", "messages know `loss`");
  says("fault f { on plc.reads  loss }", "needs an amount");
  says("fault f { on plc.reads  loss 120 % }", "between 0 % and 100 %");
  says("fault f { on t  loss 5 % }", "happens to messages");
  says("fault f { on t  swap with n }", "cannot be swapped");
  says("fault f { on t  swap with t }", "cannot be swapped with itself");
  says("fault f { on k  swap with t }", "only wires are swapped");
  says("fault f { on t  ramp to 3 s }", "needs to know how long it takes");
  says("fault f { on t  offset 1 s over 3 s }", "takes no `over`");
  says("fault f { on t\n memory a : s = 0 s\n offset 1 s }", "has no memory");
  says("fault f { on t\n b := 3 s\n replace with it }", "has no memory `b`");
  says("fault f { on t  replace with it * 1 m }", "[unit-mismatch]");
  says("fault f { on t\n memory it : s = 0 s\n replace with it }", "is there already");
  says("fault f { on t  offset 1 s }\ncompose f, g", "there is no fault `g`");
  says("fault f { on t  offset 1 s }\nfault g { on k  times 2 }\ncompose f, g", "do not act on one place");
  says("fault f { on t  offset 1 s }\ncompose f", "one fault alone needs no order");
}
