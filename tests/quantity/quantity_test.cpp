#include "zavrek/quantity.hpp"

#include <functional>

#include <gtest/gtest.h>

namespace zavrek {
namespace {

std::string message_of(const std::function<void()>& act) {
  try {
    act();
  } catch (const Error& error) {
    return error.what();
  }
  return "no error";
}
std::string refusal(std::string_view text, std::string_view unit) {
  return message_of([&] { (void)parse_quantity_as(text, unit); });
}

TEST(Quantity, ReadsUnitsWithPrefixesAndQuotients) {
  EXPECT_DOUBLE_EQ(parse_quantity_as("50 us", "s"), 50e-6);
  EXPECT_DOUBLE_EQ(parse_quantity_as("11 kV", "V"), 11e3);
  EXPECT_DOUBLE_EQ(parse_quantity_as("0.32 ohm/km", "ohm/m"), 0.32e-3);
  EXPECT_DOUBLE_EQ(parse_quantity_as("2 kN m", "N m"), 2000);
  EXPECT_DOUBLE_EQ(parse_quantity_as("2 kN*m", "J"), 2000);
  EXPECT_DOUBLE_EQ(parse_quantity_as("0.089 kg m^2", "kg m2"), 0.089);
  EXPECT_NEAR(parse_quantity_as("180 deg", "rad"), 3.14159265358979, 1e-14);
  EXPECT_DOUBLE_EQ(parse_quantity_as("60 %", ""), 0.6);
  EXPECT_DOUBLE_EQ(parse_quantity_as("3", ""), 3);
  EXPECT_DOUBLE_EQ(parse_quantity_as("+1.5e3 ms", "s"), 1.5);
  EXPECT_DOUBLE_EQ(parse_quantity_as("1 mile", "m"), 1609.344);
}

TEST(Quantity, PrefersAWholeSymbolToAPrefix) {
  EXPECT_DOUBLE_EQ(parse_quantity_as("2 min", "s"), 120);  // not milli-inch
  EXPECT_DOUBLE_EQ(parse_quantity_as("2 m", "m"), 2);      // not milli-nothing
  EXPECT_EQ(refusal("2 mm", "s"), "\"2 mm\" is a length; a time is wanted, in s");
}

TEST(Quantity, SaysWhatIsWrongToTheLetter) {
  EXPECT_EQ(refusal("2.4 kV", "km"), "\"2.4 kV\" is a voltage; a length is wanted, in km");
  EXPECT_EQ(refusal("50", "us"), "\"50\" has no unit; a time is wanted, such as \"50 us\"");
  EXPECT_EQ(refusal("", "us"), "an empty quantity; write a number and a unit, such as \"50 us\"");
  EXPECT_EQ(refusal("fifty us", "us"),
            "\"fifty us\" does not begin with a number; write one, such as \"50 us\"");
  EXPECT_EQ(refusal("nan s", "us"), "\"nan s\" does not begin with a number; write one, such as \"50 us\"");
  EXPECT_EQ(refusal("3 ohn", "ohm"), "unknown unit \"ohn\", did you mean \"ohm\"?");
  EXPECT_EQ(refusal("3 m/s/s", "m"), "unit \"m/s/s\" has a second \"/\"; write one");
  EXPECT_EQ(refusal("50 Hz", "rad/s"), "\"50 Hz\" is a frequency; a speed of rotation is wanted, in rad/s");
  EXPECT_EQ(refusal("1e999 s", "s"), "\"1e999 s\" is a number beyond any physical size");
}

TEST(Quantity, TakesSignsAndCustomsOfOtherKeyboards) {
  EXPECT_DOUBLE_EQ(parse_quantity_as("50 \u00b5s", "us"), 50e-6);
  EXPECT_DOUBLE_EQ(parse_quantity_as("4 \u03bcF", "uF"), 4e-6);
  EXPECT_DOUBLE_EQ(parse_quantity_as("3 k\u2126", "ohm"), 3e3);
  EXPECT_DOUBLE_EQ(parse_quantity_as("3 \u03a9/km", "ohm/km"), 3e-3);
  EXPECT_DOUBLE_EQ(parse_quantity_as("0.32 Ohm/km", "ohm/km"), 0.32e-3);
  EXPECT_DOUBLE_EQ(parse_quantity_as("30 \u00b0", "deg"), parse_quantity_as("30 deg", "deg"));
  EXPECT_DOUBLE_EQ(parse_quantity_as("50 hz", "Hz"), 50);
  EXPECT_DOUBLE_EQ(parse_quantity_as("4 khz", "Hz"), 4000);
  EXPECT_DOUBLE_EQ(parse_quantity_as("2 kNm", "N m"), 2000);
  EXPECT_DOUBLE_EQ(parse_quantity_as("1.5 kWh", "J"), 5.4e6);
  EXPECT_DOUBLE_EQ(parse_quantity_as("12 Ah", "A h"), parse_quantity_as("12 A h", "A h"));
  EXPECT_EQ(refusal("5 mhz", "Hz"), "unknown unit \"mhz\", did you mean \"mHz\"?");
}

TEST(Quantity, SuggestsUnitsOfWhatIsWanted) {
  EXPECT_EQ(refusal("5 sec", "ms"), "unknown unit \"sec\"; a time is wanted, such as \"5 ms\"");
  EXPECT_EQ(refusal("5 kw", "MW"), "unknown unit \"kw\", did you mean \"kW\"?");
  EXPECT_EQ(refusal("5 kw", "km"), "unknown unit \"kw\", did you mean \"km\"?");
}

TEST(Quantity, PrintsTheShortestDigitsThatReadBack) {
  EXPECT_EQ(print_quantity(50e-6, "us"), "50 us");
  EXPECT_EQ(print_quantity(0.1 * 3, "s"), "0.30000000000000004 s");
  EXPECT_EQ(print_quantity(2400, "km"), "2.4 km");
  for (const double value : {1.0 / 3, 1e-7 / 3, 12345.678901234567}) {
    EXPECT_NEAR(parse_quantity_as(print_quantity(value, "mV"), "V"), value, 1e-15 * value);
  }
}

TEST(Quantity, RoundsForAPersonWithAFittingPrefix) {
  EXPECT_EQ(print_rounded(3214, "A"), "3.214 kA");
  EXPECT_EQ(print_rounded(0.00005, "s", 3), "50 us");
  EXPECT_EQ(print_rounded(999.99996, "A"), "1 kA");
  EXPECT_EQ(print_rounded(0.99999925, "A", 4), "1 A");
  EXPECT_EQ(print_rounded(0.9994, "A", 3), "999 mA");
  EXPECT_EQ(print_rounded(0.9996, "A", 3), "1 A");
  EXPECT_EQ(print_rounded(0.1701, "s", 2), "170 ms");
  EXPECT_EQ(print_rounded(-0.987e-6, "s", 1), "-1 us");
  EXPECT_EQ(print_rounded(0, "V"), "0 V");
}

TEST(Error, StandsOnOneLinePerFlaw) {
  const Error error({{"network.toml", 12, "cable.cable1", "length", "too short"}, {"", 0, "", "", "second"}});
  EXPECT_STREQ(error.what(), "network.toml:12: cable.cable1, length: too short\nsecond");
}

TEST(Suggestion, NamesTheNearestOrListsTheKnown) {
  EXPECT_EQ(suggestion("cabel1", {"cable1", "cable2"}), ", did you mean \"cable1\"?");
  EXPECT_EQ(suggestion("zzz", {"cable1", "cable2"}), "; known: cable1, cable2");
}

}  // namespace
}  // namespace zavrek
