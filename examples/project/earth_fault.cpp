// An earth fault on a resistance-earthed transformer's side: what flows, beside what the neutral's resistance
// lets through.
#include <cmath>
#include <cstdio>

#include <zavrek/emt.hpp>

int main() {
  using namespace zavrek::network;
  Network quay;
  quay.buses = {{"shore", 66e3}, {"yard", 11e3}};
  Transformer t1{.name = "T1", .high = "shore", .low = "yard"};
  t1.rating_VA = 25e6;
  t1.high_voltage_V = 66e3;
  t1.low_voltage_V = 11e3;
  t1.vector_group = "Dyn11";
  t1.short_circuit_voltage = 0.1;
  t1.low_neutral_resistance_ohm = 6.35;
  quay.elements = {Source{.name = "grid", .bus = "shore"}, t1};
  quay.faults = {{.name = "fault", .on = "yard", .phases = "AG"}};

  zavrek::emt::Plant plant = zavrek::emt::compile(quay, 50e-6);
  plant.close(plant.operable("fault"), 0.02);
  const zavrek::emt::SignalId current = plant.signal("fault.ia");
  double sum = 0;
  int count = 0;
  while (plant.time_s() < 0.3) {
    if (plant.step() != zavrek::emt::Status::running) return 1;
    if (plant.time_s() < 0.26) continue;
    sum += plant.value(current) * plant.value(current);
    ++count;
  }
  std::printf("%.0f A flow; the neutral's resistance alone would let %.0f A through\n",
              std::sqrt(sum / count), 11e3 / std::sqrt(3.0) / 6.35);
}
