#include "zavrek/network.hpp"

#include <gtest/gtest.h>

#include <limits>

namespace zavrek::network {
namespace {

std::vector<std::string> lines_of(const Network& network) {
  std::vector<std::string> lines;
  for (const Flaw& flaw : validate(network)) lines.push_back(to_string(flaw));
  return lines;
}

Network quay() {
  Network network;
  network.buses = {{"moor", 66e3}, {"quay", 11e3}};
  network.elements = {Source{.name = "grid", .bus = "moor"}};
  return network;
}

TEST(Network, HoldsTogetherWhenNamesAreRight) { EXPECT_TRUE(validate(quay()).empty()); }

TEST(Network, NamesUnknownBusesWithTheNearestKnown) {
  Network network = quay();
  network.elements.emplace_back(Branch{.name = "b", .between = {"moor", "quya"}});
  EXPECT_EQ(lines_of(network),
            std::vector<std::string>{"branch.b, between: no bus \"quya\", did you mean \"quay\"?"});
}

TEST(Network, ReportsEveryMissingFieldAtOnce) {
  Network network = quay();
  network.elements.emplace_back(Load{.name = "ferry", .bus = ""});
  EXPECT_EQ(
      lines_of(network),
      (std::vector<std::string>{
          "load.ferry, bus: missing; the name of a bus is wanted (bus that it draws from)",
          "load.ferry, active: missing; a power in MW is wanted (total active power at nominal voltage)"}));
}

TEST(Network, RefusesWhatAFileCouldNotHold) {
  Network network = quay();
  network.buses.push_back({"dc", 750, "pn"});
  network.elements.emplace_back(
      Bridge{.name = "B", .topology = "six-level", .dc = "dc", .ac = "quay", .on_resistance_ohm = -1e-3});
  network.elements.emplace_back(Cable{.name = "c",
                                      .between = {"moor", "quay"},
                                      .length_m = std::numeric_limits<double>::infinity(),
                                      .r1_ohm_per_m = 1e-4,
                                      .x1_ohm_per_m = 1e-4,
                                      .sections = 0});
  const std::vector<std::string> lines = lines_of(network);
  ASSERT_EQ(lines.size(), 4);
  EXPECT_TRUE(lines[0].starts_with("bridge.B, topology: \"six-level\" is none of \"two-level\"")) << lines[0];
  EXPECT_EQ(lines[1], "bridge.B, on_resistance: -0.001 ohm is too small; more than 0 ohm is wanted");
  EXPECT_EQ(lines[2], "cable.c, length: a finite number is wanted");
  EXPECT_EQ(lines[3], "cable.c, sections: 0 is too small; at least 1 is wanted");
}

TEST(Network, RefusesDoubledAndReservedNames) {
  Network network = quay();
  network.buses.push_back({"ground", 1.0});
  network.elements.emplace_back(Load{.name = "quay", .bus = "quay", .active_W = 1});
  EXPECT_EQ(lines_of(network),
            (std::vector<std::string>{"bus.ground: \"ground\" is the reference node; choose another name",
                                      "load.quay: the name \"quay\" is taken by bus.quay; choose another"}));
}

TEST(FieldTable, ChecksBoundsInTheUnitOfTheField) {
  Cable cable;
  try {
    table(&cable).find("length")->assign(&cable, std::string("-2 km"));
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(), "-2 km is too small; more than 0 km is wanted");
  }
}

TEST(FieldTable, TakesDefaultsFromTheStructSoThatTheyStandOnce) {
  EXPECT_EQ(table(static_cast<Breaker*>(nullptr)).find("closed_resistance")->standard, "0.1 mohm");
  EXPECT_EQ(table(static_cast<Source*>(nullptr)).find("short_circuit")->standard, "");
}

TEST(FieldTable, EveryKindOfTheRegistryReadsBackWhatItAssigns) {
  for_each_kind([](auto* null) {
    std::remove_pointer_t<decltype(null)> element;
    for (const Field& field : table(&element).fields) {
      EXPECT_FALSE(field.doc.empty()) << field.name;
      const Value before = field.read(&element);
      if (const auto* number = std::get_if<double>(&before); number && !std::isnan(*number)) {
        field.assign(&element, field.standard.find(' ') == std::string::npos &&
                                       field.standard.find('%') == std::string::npos
                                   ? Value(std::stod(field.standard))
                                   : Value(field.standard));
        EXPECT_DOUBLE_EQ(std::get<double>(field.read(&element)), *number) << field.name;
      }
    }
  });
}

}  // namespace
}  // namespace zavrek::network
