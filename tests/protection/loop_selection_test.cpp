// Which loops of a distance zone may decide.
#include <gtest/gtest.h>

#include "protection/relays.hpp"

namespace zavrek::protection {
namespace {

constexpr double line_rad = 75 * pi / 180;
constexpr double residual_factor = 0.7;

RelaySettings zone_of(double reach_ohm) {
  RelaySettings settings = relay_of({function<Zone>("z1", [&](Zone& zone) {
    zone.reach_ohm = reach_ohm;
    zone.angle_rad = line_rad;
    zone.resistive_reach_ohm = 4;
    zone.delay_s = 0;
  })});
  settings.residual_factor = residual_factor;
  settings.residual_angle_rad = 0;
  return settings;
}

/// Phases of sequence values.
std::array<Phasor, 3> phases(Phasor zero, Phasor positive, Phasor negative) {
  std::array<Phasor, 3> out;
  for (std::size_t k = 0; k < 3; ++k) {
    const Phasor back = std::polar(1.0, -2 * pi / 3 * static_cast<double>(k));
    out[k] = zero + positive * back + negative * std::conj(back);
  }
  return out;
}

const Steady healthy = Steady::balanced(200, 0.3, 38e3);
/// A fault of three phases behind `ohm`; its star is shifted so that the loop A-E sees `earth_ohm` while
/// every loop between phases sees `ohm`.
Steady of_three_phases(double ohm, double earth_ohm, double i0, double i2) {
  const Phasor line = std::polar(1.0, line_rad), turn = std::conj(line);
  const double i1 = 2000;
  const double v0 = i0 == 0 ? 0 : earth_ohm * (i1 + i2 + i0 + residual_factor * 3 * i0) - ohm * (i1 + i2);
  Steady s;
  s.current = phases(i0 * turn, i1 * turn, i2 * turn);
  s.voltage = phases(v0, ohm * i1, ohm * i2);
  return s;
}

TEST(LoopSelection, LetsNoPoleThatOpensLaterFreeALoopToEarth) {
  Feeder zone(zone_of(7.4));
  zone.feed(healthy, 0.3);
  zone.feed(of_three_phases(9, 0, 0, 0), 0.1);
  EXPECT_FALSE(zone.on("z1.start"));
  const Steady pole_open = of_three_phases(9, 6.6, 93, 93);  // 14 % of residual current
  zone.feed(pole_open, 0.035);
  EXPECT_FALSE(zone.on("z1.start"));
  EXPECT_FALSE(zone.on("z1.trip"));
  // What lasts is a fault to earth.
  EXPECT_LT(zone.until("z1.trip", pole_open, 0.1), 0.05);
}

TEST(LoopSelection, FreesTheLoopToEarthOfASingleFaultAtOnce) {
  Feeder zone(zone_of(7.4));
  zone.feed(healthy, 0.3);
  const Phasor turn = std::polar(1.0, -line_rad);
  Steady fault = healthy;
  const Phasor current = 2000.0 * turn;
  fault.current[0] = current;
  fault.voltage[0] = 5.0 * std::polar(1.0, line_rad) *
                     (current + residual_factor * (fault.current[0] + fault.current[1] + fault.current[2]));
  EXPECT_LT(zone.until("z1.trip", fault, 0.1), 0.035);
}

}  // namespace
}  // namespace zavrek::protection
