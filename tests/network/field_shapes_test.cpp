#include <gtest/gtest.h>

#include "zavrek/network.hpp"

namespace zavrek::network {
namespace {

template <class Work>
std::string refusal(Work&& work) {
  try {
    work();
  } catch (const Error& error) {
    return error.what();
  }
  return "accepted";
}

TEST(Triangle, ReadsRowsAndTheUnitBehindThem) {
  const std::vector<double> numbers = as_triangle("0.34; 0.15 0.33; 0.14 0.13 0.32 ohm/km", "ohm/km");
  ASSERT_EQ(numbers.size(), 6U);
  EXPECT_DOUBLE_EQ(numbers[0], 0.34e-3);
  EXPECT_DOUBLE_EQ(numbers[5], 0.32e-3);
  EXPECT_DOUBLE_EQ(as_triangle("1 ohm/mile", "ohm/km")[0], 1 / 1609.344);
  EXPECT_DOUBLE_EQ(as_triangle("6.3; -1.99 5.9 uS/km", "uS/km")[1], -1.99e-9);
}

TEST(Triangle, NamesWhatIsWrong) {
  EXPECT_EQ(refusal([] { (void)as_triangle("1; 2 ohm/km", "ohm/km"); }),
            "row 2 has 1 numbers; the lower triangle has 2 there");
  EXPECT_NE(refusal([] { (void)as_triangle("1; 2 x ohm/km", "ohm/km"); }), "accepted");
  EXPECT_EQ(refusal([] { (void)as_triangle("ohm", "ohm/km"); }), "\"ohm\" holds no number");
  EXPECT_NE(refusal([] { (void)as_triangle("1; 2 3 km", "ohm/km"); }), "accepted");
  EXPECT_NE(refusal([] { (void)as_triangle("1; 2 1e999 ohm/km", "ohm/km"); }), "accepted");
}

TEST(Points, ReadPairsThatRise) {
  const Table& arrester = table(static_cast<Arrester*>(nullptr));
  Arrester u;
  arrester.find("curve")->assign(&u, Value(std::vector<std::string>{"18 kV: 1 mA", "22 kV: 10 A"}));
  ASSERT_EQ(u.curve.size(), 2U);
  EXPECT_DOUBLE_EQ(u.curve[0].x, 18e3);
  EXPECT_DOUBLE_EQ(u.curve[0].y, 1e-3);
  const auto back = std::get<std::vector<std::string>>(arrester.find("curve")->read(&u));
  EXPECT_EQ(back[1], "22 kV: 10 A");
  EXPECT_EQ(
      refusal([&] {
        arrester.find("curve")->assign(&u, Value(std::vector<std::string>{"18 kV: 1 mA", "17 kV: 10 A"}));
      }),
      "\"17 kV: 10 A\" does not stand behind the pair before it; their first numbers must rise");
  EXPECT_EQ(refusal([&] { arrester.find("curve")->assign(&u, Value(std::vector<std::string>{"18 kV"})); }),
            "\"18 kV\" is no pair; write it as \"X: Y\"");
  EXPECT_NE(
      refusal([&] { arrester.find("curve")->assign(&u, Value(std::vector<std::string>{"18 A: 1 mA"})); }),
      "accepted");
}

TEST(Geometry, NamesWhatCannotBeBuilt) {
  LineGeometry g;
  g.cores = {{.name = "a",
              .phase = "a",
              .x_m = 0,
              .depth_m = 0.01,
              .core_diameter_m = 0.03,
              .core_resistance_ohm_per_m = 1e-4,
              .insulation_diameter_m = 0.02,
              .screen_diameter_m = 0.042,
              .screen_resistance_ohm_per_m = 8e-4,
              .jacket_diameter_m = 0.048}};
  const std::vector<Flaw> flaws = validate(g);
  ASSERT_EQ(flaws.size(), 2U);
  EXPECT_EQ(to_string(flaws[0]), "core.a, insulation_diameter: must be more than core_diameter");
  EXPECT_EQ(to_string(flaws[1]), "core.a, depth: leaves the cable above the ground");
  g.cores[0].insulation_diameter_m = 0.04;
  g.cores[0].depth_m = 1;
  EXPECT_TRUE(validate(g).empty());
  g.cores.push_back(g.cores[0]);
  g.cores[1].name = "b";
  EXPECT_EQ(to_string(validate(g)[0]), "core.b, phase: is that of core \"a\" too");
  g.cores.pop_back();
  g.wires = {{.name = "w",
              .phase = "a",
              .x_m = 0,
              .height_m = 10,
              .resistance_ohm_per_m = 1e-4,
              .diameter_m = 0.02}};
  EXPECT_EQ(to_string(validate(g).back()),
            "geometry: has wires and cores; describe overhead line and cable apart");
}

TEST(Bus, TakesSomeOfThePhases) {
  Bus bus;
  table(&bus).find("phases")->assign(&bus, Value(std::string("bc")));
  EXPECT_EQ(bus.phases, "bc");
  EXPECT_NE(refusal([&] { table(&bus).find("phases")->assign(&bus, Value(std::string("ba"))); }), "accepted");
}

}  // namespace
}  // namespace zavrek::network
