#include <set>
#include <sstream>

#include <catch2/catch.hpp>

#include "isodyne/core/diagnostics.h"
#include "isodyne/core/random.h"
#include "isodyne/core/source.h"
#include "isodyne/core/text.h"
#include "isodyne/core/time.h"

using namespace isodyne;

TEST_CASE("Spans are printed in the unit that needs the fewest zeros") {
  CHECK(format_span(Time{0}) == "0 s");
  CHECK(format_span(Time{20'000'000}) == "20 ms");
  CHECK(format_span(Time{1'500}) == "1.5 µs");
  CHECK(format_span(Time{7}) == "7 ns");
  CHECK(format_span(Time{90'000'000'000}) == "90 s");
  CHECK(format_instant(Time{131'250'000'000}) == "131.25 s");
  CHECK(format_instant(Time{-1'500'000'000}) == "-1.5 s");
}

TEST_CASE("Seconds become nanoseconds by rounding, and what does not fit is refused") {
  CHECK(time_from_seconds(0.1)->count() == 100'000'000);
  CHECK(time_from_seconds(1e-9)->count() == 1);
  CHECK_FALSE(time_from_seconds(1e300));
  CHECK_FALSE(time_from_seconds(std::numeric_limits<double>::quiet_NaN()));
}

TEST_CASE("Suggestions are made for near misses only") {
  const std::vector<std::string> names{"chamber", "level", "upper", "lower"};
  CHECK(closest("chambr", names) == "chamber");
  CHECK(closest("lvel", names) == "level");
  CHECK(closest("uppre", names) == "upper");
  CHECK_FALSE(closest("temperature", names));
  CHECK_FALSE(closest("x", names));
  CHECK(edit_distance("kitten", "sitting") == 3);
  CHECK(edit_distance("ab", "ba") == 1);
}

TEST_CASE("Columns count characters, not bytes") {
  CHECK(display_width("µs") == 2);
  CHECK(first_columns("0,1 µs µ", 5) == "0,1 µ");
  CHECK(first_columns("µs", 2) == "µs");
  CHECK(first_columns("µs", 0).empty());
  Sources sources;
  const auto id = sources.add("a.dyne", "first\nµ = x\n");
  const Span x{id, 11, 12};
  CHECK(sources.covered(x) == "x");
  CHECK(sources.place(x) == "a.dyne:2:5");
}

TEST_CASE("A diagnostic shows place, message, line, caret, advice and notes") {
  Sources sources;
  const auto id = sources.add("lock.dyne", "model A {\n  chambr.upper = 1\n}\n");
  Diagnostics d;
  d.error(Code::unknown_name, {id, 12, 18}, "nothing here is called `chambr`", "did you mean `chamber`?")
      .notes.push_back({{id, 0, 5}, "in this model"});
  CHECK(d.render(sources, false) ==
        "lock.dyne:2:3: error: nothing here is called `chambr` [unknown-name]\n"
        "    2 |   chambr.upper = 1\n"
        "      |   ^~~~~~\n"
        "        did you mean `chamber`?\n"
        "        lock.dyne:1:1: in this model\n");
}

TEST_CASE("The line of a message is short and clean whatever the file is") {
  Sources sources;
  std::string binary =
      "ok \x7f"
      "ELF\x01\xff\xfe\x80 \xc3";
  for (int i = 0; i < 3000; ++i) binary += static_cast<char>(i * 7 % 256 == '\n' ? 'x' : i * 7 % 256);
  const auto bad = sources.add("bad.dyne", binary);
  Diagnostics diagnostics;
  diagnostics.error(Code::bad_character, {bad, 3, 4}, "no text");
  diagnostics.error(Code::bad_character, {bad, 2000, 2001}, "nor here");
  const auto wide = sources.add("wide.dyne", "# " + std::string(300, '-') + "µµµ $");
  diagnostics.error(Code::bad_character, {wide, 309, 310}, "far out");
  const std::string said = diagnostics.render(sources, false);
  std::istringstream lines(said);
  for (std::string line; std::getline(lines, line);) {
    CHECK(display_width(line) <= 130);
    for (const char c : line) CHECK(static_cast<unsigned char>(c) >= 0x20);
  }
  CHECK(said.find("    1 | ok ?ELF?") != std::string::npos);
  CHECK(said.find("µµµ $") != std::string::npos);
}

TEST_CASE("One cause gives one message, and a flood is cut off but counted") {
  Sources sources;
  const auto id = sources.add("a", std::string(1000, 'x'));
  Diagnostics d;
  d.error(Code::unexpected, {id, 1, 2}, "once");
  d.error(Code::unexpected, {id, 1, 2}, "twice");
  CHECK(d.errors() == 1);
  for (std::uint32_t i = 2; i < 300; ++i) d.error(Code::unexpected, {id, i, i + 1}, "more");
  CHECK(d.errors() == 299);
  CHECK(d.list().size() == Diagnostics::kMost);
  CHECK(d.render(sources, false).find("and 199 more") != std::string::npos);
}

TEST_CASE("Streams depend on the seed and the user's name only, and look normal") {
  RandomStream a(1, "level_tx"), b(1, "level_tx"), c(1, "other"), d(2, "level_tx");
  const double first = a.normal();
  CHECK(first == b.normal());
  CHECK(first != c.normal());
  CHECK(first != d.normal());
  double sum = 0, squares = 0, fourth = 0;
  constexpr int n = 200'000;
  for (int i = 0; i < n; ++i) {
    const double x = a.normal();
    sum += x;
    squares += x * x;
    fourth += x * x * x * x;
  }
  // Standard errors: 1/sqrt(n), sqrt(2/n), sqrt(96/n); five of each.
  CHECK(std::abs(sum / n) < 5 * std::sqrt(1.0 / n));
  CHECK(std::abs(squares / n - 1) < 5 * std::sqrt(2.0 / n));
  CHECK(std::abs(fourth / n - 3) < 5 * std::sqrt(96.0 / n));
}

TEST_CASE("The generator gives the published xoshiro256** sequence for its state") {
  // Splitmix64 of seed 0 starts with 0xe220a8397b1dcdaf (Vigna's reference code); an empty name hashes to
  // the FNV offset basis, so the seed that cancels it gives that sequence.
  RandomStream r(0xcbf29ce484222325ULL, "");
  // rotl(s1 * 5, 7) * 9 with s1 = 0x6e789e6aa1b965f4.
  CHECK(r.next() == 0x99ec5f36cb75f2b4ULL);
}

TEST_CASE("Instants are written in hours and minutes from an hour on, to the nanosecond") {
  using std::chrono::nanoseconds;
  CHECK(format_instant(Time{3'599'999'999'999}) == "3599.999999999 s");
  CHECK(format_instant(Time{3'600'000'000'000}) == "1 h");
  CHECK(format_instant(Time{3'600'500'000'000}) == "1 h 0 min 0.5 s");
  CHECK(format_instant(Time{46'423'200'000'001}) == "12 h 53 min 43.200000001 s");
  CHECK(format_instant(Time{-46'440'000'000'000}) == "-12 h 54 min");
  CHECK(format_instant(Time{INT64_MIN}).starts_with("-2562047 h 47 min"));
  CHECK(format_seconds(3599.9994) == "3599.999 s");
  CHECK(format_seconds(3599.9996) == "1 h");  // rounded first
  CHECK(format_seconds(46423.25) == "12 h 53 min 43.25 s");
  CHECK(format_seconds(-7325.5, 1) == "-2 h 2 min 5.5 s");
  CHECK(format_seconds(0.0004) == "0.000 s");
  CHECK(format_seconds(NAN) == "–");
  CHECK(format_seconds(INFINITY) == "–");
}

TEST_CASE("Large numbers are written out, and small ones as before") {
  CHECK(format_number(1234567) == "1234567");
  CHECK(format_number(-999999.5) == "-1000000");
  CHECK(format_number(999999.4) == "999999");
  CHECK(format_number(1e6) == "1000000");
  CHECK(format_number(1.5e12) == "1.5e+12");
  CHECK(format_number(0.00001) == "1e-05");
}

TEST_CASE("Names that are too long are cut where that leaves them told apart") {
  using Names = std::vector<std::string>;
  CHECK(shortened_apart({"short", "shorter"}, 10) == Names{"short", "shorter"});
  CHECK(shortened_apart({"chamber_level.signal", "chamber_level.counts"}, 12) == Names{"…evel.signal", "…evel.counts"});
  CHECK(shortened_apart({"upper_gate.angle", "lower_gate.angle"}, 8) == Names{"uppe…gle", "lowe…gle"});
  CHECK(shortened_apart({"1: the_very_long_name.x", "2: the_very_long_name.x"}, 10) ==
        Names{"1: th…me.x", "2: th…me.x"});
  CHECK(shortened_apart({"abcdefgh_1_zzzzzzzz", "abcdefgh_2_zzzzzzzz"}, 9) == Names{"abcd… #1", "abcd… #2"});
  for (const std::string& n : shortened_apart({"größenänderung_eins", "größenänderung_zwei"}, 9)) {
    CHECK(display_width(n) <= 9);
    CHECK(!not_printable(n));
  }
}

TEST_CASE("A stretch of a text in one line has no comments, and keeps what stands in quotes") {
  const auto in_one_line = [](const std::string& text) {
    Sources sources;
    const std::int32_t source = sources.add("t", text);
    return sources.in_one_line({source, 0, static_cast<std::uint32_t>(text.size())});
  };
  CHECK(in_one_line("a and b") == "a and b");
  CHECK(in_one_line("(a # first\n  and b # second\n)") == "(a and b )");
  CHECK(in_one_line("from \"runs/1#level\" column \"x # y\"") == "from \"runs/1#level\" column \"x # y\"");
  CHECK(in_one_line("\"not closed # here\nb # gone") == "\"not closed # here b");
  CHECK(in_one_line("# all of it") == "");
  CHECK(in_one_line("a #\n#\n#b\n c") == "a c");
  CHECK(in_one_line("  \t a \r\n\r\n b  ") == "a b");
  CHECK(in_one_line("").empty());
  CHECK(Sources().in_one_line({}).empty());
}

TEST_CASE("Lists in words") {
  CHECK(listed({}, "nothing") == "nothing");
  CHECK(listed({"a"}, "nothing") == "a");
  CHECK(listed({"a", "b", "c"}, "nothing") == "a, b, c");
  CHECK(listed({""}, "nothing").empty());  // there is one, without a name
}

TEST_CASE("An instant that is written is the instant that is meant, for a thousand of them") {
  // Read back by hand: hours, minutes and seconds to nanoseconds.
  std::uint64_t state = 20261130;
  for (int i = 0; i < 1000; ++i) {
    state ^= state << 13, state ^= state >> 7, state ^= state << 17;
    const std::int64_t ns = static_cast<std::int64_t>(state >> (1 + i % 40)) * (i % 3 == 0 ? -1 : 1);
    const std::string text = format_instant(Time{ns});
    INFO(ns << " " << text);
    std::istringstream in(text[0] == '-' ? text.substr(1) : text);
    std::int64_t read = 0;
    for (std::string number, unit; in >> number >> unit;) {
      const std::size_t dot = number.find('.');
      const std::int64_t whole = std::stoll(number.substr(0, dot));
      std::string fraction = dot == std::string::npos ? "" : number.substr(dot + 1);
      fraction.resize(9, '0');
      const std::int64_t scale = unit == "h" ? 3600 : unit == "min" ? 60 : 1;
      CHECK((unit == "s" || dot == std::string::npos));
      read += whole * scale * 1'000'000'000 + (unit == "s" ? std::stoll(fraction) : 0);
    }
    CHECK(read == std::abs(ns));
    CHECK((text[0] == '-') == (ns < 0));
  }
}

TEST_CASE("An instant within the first second is told as it is, where decimals would hide it") {
  CHECK(format_moment(0.001031) == "1.031 ms");
  CHECK(format_moment(0.000097, 2) == "97 µs");
  CHECK(format_moment(1e-9) == "1 ns");
  CHECK(format_moment(0) == "0.000 s");
  CHECK(format_moment(0.2, 2) == "0.20 s");
  CHECK(format_moment(0.255, 2) == "255 ms");
  CHECK(format_moment(0.255) == "0.255 s");
  CHECK(format_moment(12.3456789) == "12.346 s");
  CHECK(format_moment(-0.0005) == "-500 µs");
  CHECK(format_moment(NAN) == "–");
}
