// A relay in the same process as the plant: sample a current, feed the relay, let its trip open the
// breaker. The trip time follows from IEC 60255-151, t = T 0.14 / (M^0.02 - 1).
#include <algorithm>
#include <cmath>
#include <cstdio>

#include <zavrek/emt.hpp>
#include <zavrek/protection.hpp>

int main() {
  using namespace zavrek;
  network::Network berth;
  berth.title = "one berth of Veskar quay";
  berth.buses = {{"quay", 11e3}, {"feed", 11e3}, {"berth", 11e3}};
  berth.elements = {network::Source{.name = "grid", .bus = "quay", .short_circuit_VA = 140e6},
                    network::Breaker{.name = "Q1", .between = {"quay", "feed"}, .opening_time_s = 0.04},
                    network::Cable{.name = "cable",
                                   .between = {"feed", "berth"},
                                   .length_m = 2400,
                                   .r1_ohm_per_m = 1.6e-4,
                                   .x1_ohm_per_m = 1e-4,
                                   .c1_F_per_m = 3.6e-10,
                                   .r0_ohm_per_m = 9e-4,
                                   .x0_ohm_per_m = 3e-4,
                                   .c0_F_per_m = 3.6e-10},
                    network::Load{.name = "ferry", .bus = "berth", .active_W = 3e6, .reactive_var = 1e6}};
  berth.faults = {{.name = "fault", .on = "cable", .at = 0.9, .phases = "BC", .resistance_ohm = 5}};
  emt::Plant plant = emt::compile(berth);  // 50 us

  protection::RelaySettings settings;
  settings.name = "R1";
  protection::Stage stage;
  stage.name = "phase1";
  stage.characteristic = "IEC normal inverse";
  stage.pickup_A = 400;
  stage.time_multiplier = 0.1;
  settings.functions = {stage};
  protection::Relay relay(settings, 4000, 50);

  const double struck_s = 0.1;
  plant.close(plant.operable("fault"), struck_s);
  const emt::SignalId currents[] = {plant.signal("cable.ia"), plant.signal("cable.ib"),
                                    plant.signal("cable.ic")};
  bool tripped = false;
  while (plant.time_s() < 1.5) {
    if (plant.step() != emt::Status::running) return 1;
    if (plant.steps() % 5 != 0) continue;  // the relay samples every 250 us
    protection::Sample sample;
    for (std::size_t k = 0; k < 3; ++k) sample.current_A[k] = plant.value(currents[k]);
    relay.push(sample);
    if (relay.trip() && !tripped) {
      tripped = true;
      const auto& measured = relay.measured().ends[0].current;
      const double current = std::max({std::abs(measured[0]), std::abs(measured[1]), std::abs(measured[2])});
      std::printf("fault current %.0f A: %.3f s by the formula\n", current, stage.operate_time_s(current));
      std::printf("R1 trips after %.3f s\n", plant.time_s() - struck_s);
      plant.open(plant.operable("Q1"), plant.time_s());
    }
    if (tripped && plant.value(plant.signal("Q1.closed")) == 0) {
      std::printf("Q1 is open after %.3f s\n", plant.time_s() - struck_s);
      return 0;
    }
  }
  return 1;
}
