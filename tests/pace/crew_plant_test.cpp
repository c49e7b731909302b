#include "zavrek/pace/crew.hpp"

#include <gtest/gtest.h>

#include <array>
#include <chrono>
#include <cmath>
#include <numbers>

namespace zavrek::pace {
namespace {

/// Districts of loads joined by travelling-wave lines, one partition each.
network::Network districts(int count, int buses) {
  using namespace network;
  Network n;
  for (int d = 0; d < count; ++d) {
    const auto bus = [&](int k) { return "d" + std::to_string(d) + "b" + std::to_string(k); };
    for (int k = 0; k < buses; ++k) {
      n.buses.push_back({bus(k), 66e3});
      if (k > 0)
        n.elements.emplace_back(Cable{.name = "c" + bus(k),
                                      .between = {bus(k / 2), bus(k)},
                                      .length_m = 2000,
                                      .r1_ohm_per_m = 1e-4,
                                      .x1_ohm_per_m = 2e-4,
                                      .c1_F_per_m = 2e-10,
                                      .r0_ohm_per_m = 3e-4,
                                      .x0_ohm_per_m = 6e-4,
                                      .c0_F_per_m = 1e-10});
      n.elements.emplace_back(Load{.name = "l" + bus(k),
                                   .bus = bus(k),
                                   .active_W = 5e5,
                                   .reactive_var = 1e5,
                                   .connection = "grounded star"});
    }
    if (d == 0) {
      n.elements.emplace_back(Source{.name = "grid", .bus = bus(0), .short_circuit_VA = 2e9});
    } else {
      n.elements.emplace_back(Line{.name = "line" + std::to_string(d),
                                   .between = {"d" + std::to_string(d - 1) + "b0", bus(0)},
                                   .length_m = 30e3,
                                   .r1_ohm_per_m = 1e-4,
                                   .x1_ohm_per_m = 4e-4,
                                   .c1_F_per_m = 9e-12,
                                   .r0_ohm_per_m = 3e-4,
                                   .x0_ohm_per_m = 1.2e-3,
                                   .c0_F_per_m = 5e-12});
    }
  }
  Fault fault;
  fault.on = "d1b3";
  fault.phases = "AG";
  n.faults.push_back(fault);
  return n;
}

TEST(Crew, ChangesNoBitOfAPlant) {
  const network::Network n = districts(4, 100);
  emt::Plant alone = emt::compile(n), helped = emt::compile(n);
  EXPECT_GE(alone.summary().partitions, 4);
  ASSERT_GE(alone.summary().shards, 4);
  Crew crew(2);
  helped.share(&crew);
  for (emt::Plant* plant : {&alone, &helped}) {
    plant->close(plant->operable("fault"), 0.0113);
    plant->open(plant->operable("fault"), 0.03);
  }
  std::vector<emt::SignalId> signals;
  for (const std::string& name : alone.signal_names()) signals.push_back(alone.signal(name));
  for (int step = 0; step < 1200; ++step) {
    ASSERT_EQ(alone.step(), emt::Status::running);
    ASSERT_EQ(helped.step(), emt::Status::running);
    for (const emt::SignalId signal : signals) ASSERT_EQ(alone.value(signal), helped.value(signal)) << step;
  }
}

}  // namespace
}  // namespace zavrek::pace
