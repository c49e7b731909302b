// Parts of network.toml that are more than rows of a table: geometries, phases, records that are played.
#include <cmath>
#include <filesystem>
#include <numbers>

#include <gtest/gtest.h>

#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::casefile {
namespace {

constexpr const char* geometry_case = R"(
[bus]
s = "110 kV"
r = "110 kV"
lat = { voltage = "110 kV", phases = "bc" }
[source.g]
bus = "s"
[line.l]
between = ["s", "r"]
length = "60 km"
geometry = "tower"
[cable.side]
between = ["r", "lat"]
length = "2 km"
r_matrix = "0.3; 0.1 0.3 ohm/km"
x_matrix = "0.8; 0.3 0.8 ohm/km"
[load.z]
bus = "lat"
phases = "bc"
connection = "delta"
active = "5 MW"
[geometry.tower]
earth_resistivity = "200 ohm m"
[geometry.tower.wire.a]
phase = "a"
x = "-6 m"
height = "16 m"
resistance = "0.06 ohm/km"
diameter = "28 mm"
[geometry.tower.wire.b]
phase = "b"
x = "0 m"
height = "16 m"
resistance = "0.06 ohm/km"
diameter = "28 mm"
[geometry.tower.wire.c]
phase = "c"
x = "6 m"
height = "16 m"
resistance = "0.06 ohm/km"
diameter = "28 mm"
)";

std::string refusal_of_parts(const std::string& text) {
  try {
    (void)read_network_text(text, "network.toml");
  } catch (const Error& error) {
    return error.what();
  }
  return "accepted";
}

TEST(NetworkFile, HoldsGeometriesAndSomePhases) {
  const network::Network n = read_network_text(geometry_case, "network.toml");
  ASSERT_EQ(n.geometries.size(), 1U);
  EXPECT_EQ(n.geometries[0].wires.size(), 3U);
  const emt::Plant plant = emt::compile(n);
  EXPECT_GT(std::abs(plant.phasor(plant.signal("lat.vb"))), 80e3);
  EXPECT_EQ(std::abs(plant.phasor(plant.signal("z.ib")) + plant.phasor(plant.signal("z.ic"))), 0);
  EXPECT_THROW((void)plant.signal("lat.va"), Error);
}

TEST(NetworkFile, NamesTheLineOfAWireThatIsWrong) {
  std::string text = geometry_case;
  text.replace(text.find("height = \"16 m\""), 15, "height = \"16 s\"");
  EXPECT_EQ(refusal_of_parts(text),
            "network.toml:27: geometry.tower.wire.a, height: \"16 s\" is a time; a length is wanted, in m");
}

TEST(NetworkFile, ListsAllKindsOfElements) {
  // Every kind of the registry can stand in a file; an empty table of it names what is missing.
  network::for_each_kind([](const auto* null) {
    const std::string kind = table(null).kind;
    const std::string text = refusal_of_parts("[bus]\nb = \"1 kV\"\n[" + kind + ".x]\n");
    EXPECT_NE(text, "accepted") << kind;
    EXPECT_NE(text.find("network.toml:3: " + kind + ".x"), std::string::npos) << text;
  });
}

class Playback : public testing::Test {
 protected:
  // A folder of its own: tests run side by side.
  std::filesystem::path folder =
      std::filesystem::temp_directory_path() /
      (std::string("zavrek-") + testing::UnitTest::GetInstance()->current_test_info()->name());
  void SetUp() override {
    std::filesystem::create_directories(folder);
    record::Record r;
    r.station = "played";
    r.frequency_Hz = 50;
    r.rate_Hz = 10000;
    const char* names[] = {"va", "vb", "vc"};
    for (int k = 0; k < 3; ++k) {
      record::Analog analog;
      analog.name = names[k];
      analog.unit = "V";
      for (int s = 0; s < 2000; ++s)
        analog.samples.push_back(9e3 * std::cos(2 * std::numbers::pi * (50 * s * 1e-4 - k / 3.0)));
      r.analogs.push_back(std::move(analog));
    }
    for (int s = 0; s < 2000; ++s) r.time_s.push_back(s * 1e-4);
    record::write_comtrade(r, folder / "event.cfg", record::Encoding::float32);
  }
  void TearDown() override { std::filesystem::remove_all(folder); }
  void write(const std::string& channels) const {
    record::write_file(folder / "network.toml",
                       "[bus]\nquay = \"11 kV\"\n[source.g]\nbus = \"quay\"\nplayback = \"event.cfg\"\n"
                       "playback_channels = " +
                           channels +
                           "\n[load.l]\nbus = \"quay\"\nactive = \"1 MW\"\n"
                           "connection = \"grounded star\"\n");
  }
};

TEST_F(Playback, PlaysTheChannelsOfARecord) {
  write("[\"va\", \"vb\", \"vc\"]");
  emt::Plant plant = emt::compile(read_case(folder).network);
  const emt::SignalId vb = plant.signal("quay.vb");
  for (int k = 0; k < 1000; ++k) {
    ASSERT_EQ(plant.step(), emt::Status::running);
    const double expected = 9e3 * std::cos(2 * std::numbers::pi * (50 * plant.time_s() - 1 / 3.0));
    ASSERT_NEAR(plant.value(vb), expected, 5);  // straight lines between samples 100 us apart
  }
}

TEST_F(Playback, NamesAChannelThatIsNotThere) {
  write("[\"va\", \"vb\", \"vd\"]");
  try {
    (void)read_case(folder);
    FAIL();
  } catch (const Error& error) {
    EXPECT_NE(
        std::string(error.what())
            .find("network.toml:6: source.g, playback_channels: no channel \"vd\", did you mean \"va\"?"),
        std::string::npos)
        << error.what();
  }
}

}  // namespace
}  // namespace zavrek::casefile
