#include "isodyne/core/units.h"

#include <udunits2.h>
#include <catch2/catch.hpp>

using namespace isodyne;

namespace {

// How UDUNITS-2 spells what it knows under another name; units it has no word for are given by definition.
std::string udunits_name(const std::string& name) {
  static const std::pair<const char*, const char*> kOther[] = {
      {"%", "0.01"},
      {"ppm", "1e-6"},
      {"l", "liter"},
      {"L", "liter"},
      {"um", "micrometer"},
      {"us", "microsecond"},
      {"uA", "microampere"},
      {"uV", "microvolt"},
      {"uF", "microfarad"},
      {"uH", "microhenry"},
      {"t", "tonne"},
      {"Ah", "A hour"},
      {"deg", "degree"},
      {"rev", "6.283185307179586476925 rad"},
      {"rpm", "0.1047197551196597746154 rad/s"},
      {"Nm", "N m"},
      {"Wh", "W hour"},
      {"kWh", "kW hour"},
      {"MWh", "MW hour"},
      {"VA", "W"},
      {"kVA", "kW"},
      {"MVA", "MW"},
      {"var", "W"},
      {"kvar", "kW"},
      {"Mvar", "MW"},
      {"d", "day"},
      {"mohm", "milliohm"},
      {"Mohm", "megaohm"},
      {"kohm", "kiloohm"},
      {"h", "hour"},
      {"nmile", "nautical_mile"},
      {"mAh", "3.6 coulomb"},
      {"mNm", "mN m"},
      {"kNm", "kN m"},
      {"GWh", "GW hour"},
      {"gallon", "0.003785411784 m3"},
      {"inch", "inch"},
      {"ha", "hectare"},
      {"lb", "pound"},
      {"oz", "0.028349523125 kg"},
      {"lbf", "4.4482216152605 N"},
      {"hp", "745.69987158227022 W"},
      {"cal", "4.184 J"},
      {"uW", "microwatt"},
      {"yd", "yard"},
      {"psi", "6894.757293168361 Pa"},
      {"in", "inch"},
  };
  for (const auto& [ours, theirs] : kOther) {
    if (name == ours) return theirs;
  }
  return name;
}

std::string si_for_udunits(const Dimension& d) {
  static const char* const kBases[] = {"m", "kg", "s", "A", "K", "mol", "cd", "rad"};
  std::string text = "1";
  for (std::size_t i = 0; i < 8; ++i) {
    if (d.exponents[i] != 0) text += std::string(" ") + kBases[i] + std::to_string(d.exponents[i]);
  }
  return text;
}

}  // namespace

TEST_CASE("Every unit agrees with UDUNITS-2 in factor and dimension") {
  ut_set_error_message_handler(ut_ignore);
  ut_system* system = ut_read_xml(nullptr);
  REQUIRE(system != nullptr);
  for (const std::string& name : unit_names()) {
    INFO("unit " << name << " as " << udunits_name(name));
    const auto ours = parse_unit(name);
    REQUIRE(ours);
    ut_unit* theirs = ut_parse(system, udunits_name(name).c_str(), UT_UTF8);
    REQUIRE(theirs != nullptr);
    ut_unit* coherent = ut_parse(system, si_for_udunits(ours->dimension).c_str(), UT_UTF8);
    REQUIRE(coherent != nullptr);
    cv_converter* converter = ut_get_converter(theirs, coherent);
    REQUIRE(converter != nullptr);
    CHECK(cv_convert_double(converter, 1.0) - cv_convert_double(converter, 0.0) == Approx(ours->factor).epsilon(1e-12));
    CHECK(cv_convert_double(converter, 0.0) == Approx(ours->offset).epsilon(1e-14).margin(1e-12));
    cv_free(converter);
    ut_free(theirs);
    ut_free(coherent);
  }
  ut_free_system(system);
}

TEST_CASE("Unit texts are read as products of powers") {
  const auto check = [](const char* text, double factor, const char* si) {
    INFO(text);
    const auto unit = parse_unit(text);
    REQUIRE(unit);
    CHECK(unit->factor == Approx(factor).epsilon(1e-14));
    CHECK(si_text(unit->dimension) == si);
  };
  check("m/s^2", 1, "m/s^2");
  check("cm^2", 1e-4, "m^2");
  check("kg/(m*s)", 1, "kg/(m*s)");
  check("J/(kg*K)", 1, "m^2/(s^2*K)");
  check("m^-2", 1, "1/m^2");
  check("1/min", 1.0 / 60, "1/s");
  check("kN*m", 1e3, "J");
  check("mm/h", 1e-3 / 3600, "m/s");
}

TEST_CASE("What is no unit is refused") {
  for (const char* text : {"", "x", "m^", "m^2.5", "m//s", "m s", "(m", "m)", "kkm", "dB", "m^999", "pu", "W/degC"}) {
    INFO(text);
    CHECK_FALSE(parse_unit(text));
  }
}

TEST_CASE("Power comes in three kinds that do not mix, and hertz stays apart from angular speed") {
  CHECK(parse_unit("W")->dimension != parse_unit("VA")->dimension);
  CHECK(parse_unit("VA")->dimension != parse_unit("var")->dimension);
  CHECK(parse_unit("Hz")->dimension != parse_unit("rad/s")->dimension);
  CHECK(parse_unit("rpm")->dimension == parse_unit("rad/s")->dimension);
  CHECK(parse_unit("rpm")->factor == Approx(parse_unit("rev")->factor / 60).epsilon(1e-15));
}

TEST_CASE("The radian is dropped beside other units, but keeps angles and turns apart from numbers and cycles") {
  CHECK(parse_unit("Nm*rad/s")->dimension == parse_unit("W")->dimension);
  CHECK(parse_unit("Nm/rad")->dimension == parse_unit("Nm")->dimension);
  CHECK(parse_unit("kg*m^2*rad/s^2")->dimension == parse_unit("Nm")->dimension);
  CHECK(parse_unit("rad/s^2")->dimension == parse_unit("Nm/(kg*m^2)")->dimension);
  CHECK(parse_unit("1/(rad/s)")->dimension != parse_unit("s")->dimension);
  CHECK(parse_unit("rad")->dimension != parse_unit("1")->dimension);
  CHECK(parse_unit("Nm/deg")->factor == Approx(180 / 3.14159265358979).epsilon(1e-14));
}

TEST_CASE("Absolute temperatures have an offset, and what is no unit gets advice") {
  CHECK(parse_unit("degC")->absolute());
  CHECK(format_value(293.15, *parse_unit("degC")) == "20 degC");
  CHECK(format_value(293.15, *parse_unit("degF")) == "68 degF");
  CHECK(difference_unit(*parse_unit("degC")).text == "K");
  CHECK(unit_advice("dB").find("0.7079") != std::string::npos);
  CHECK(unit_advice("pu").find("per unit of what") != std::string::npos);
  CHECK(unit_advice("W/degC").find("use the difference, K") != std::string::npos);
  CHECK(unit_advice("mbra") == "did you mean `mbar`?");
}

TEST_CASE("Dimensions are named in messages") {
  CHECK(describe(parse_unit("cm")->dimension) == "m (length)");
  CHECK(describe(Dimension{}) == "1 (no unit)");
  CHECK(format_value(0.0318, *parse_unit("cm")) == "3.18 cm");
  CHECK(format_value(0.5, *parse_unit("1")) == "0.5");
}
