// A network written out in C, compiled by the compiler of the machine and stepped beside the plant.
#include <cmath>
#include <functional>
#include <numbers>

#include <gtest/gtest.h>

#include "emt/circuits.hpp"
#include "emt/converters.hpp"
#include "emt/random_network.hpp"
#include "emt/rights_of_way.hpp"
#include "emt/running.hpp"
#include "emt/written_library.hpp"
#include "zavrek/emt/written.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using test::Written;

struct Done {
  long long step;
  std::function<void(Plant&, Written&)> what;
};
std::function<void(Plant&, Written&)> set(const std::string& knob, double value) {
  return [knob, value](Plant& p, Written& w) {
    p.turn(p.knob(knob), value);
    EXPECT_EQ(w.set(knob, value), 0);
  };
}
void open(Plant& plant, Written& written, const std::string& name, bool close = false) {
  const OperableId id = plant.operable(name);
  close ? plant.close(id, plant.time_s()) : plant.open(id, plant.time_s());
  written.set(name, close ? 1 : 0);
}

/// The worst difference of any signal over its own peak, and whose. `beside` a bus: from a plant
/// that is not condensed.
struct Apart {
  double worst = 0;
  std::string whose;
};
Apart apart(const Network& network, int steps, const std::vector<Done>& done = {},
            const std::function<void(Plant&, Written&, long long)>& ahead = {},
            const std::string& beside = "") {
  Plant plant = compile(beside.empty() ? network : test::among_many(network, beside));
  const std::vector<std::string> names = compile(network).signal_names();
  Written written(test::written_out(network, names));
  if (!written.stands()) return {1, "not compiled"};
  std::vector<SignalId> signals;
  for (const std::string& name : names) {
    signals.push_back(plant.signal(name));
    plant.watch(signals.back());
  }
  std::vector<double> peak(names.size(), 0.0), difference(names.size(), 0.0);
  for (int k = 0; k < steps; ++k) {
    for (const Done& one : done) {
      if (one.step == k) one.what(plant, written);
    }
    if (ahead) ahead(plant, written, k);
    if (plant.step() != Status::running || written.step() != 0) return {1, "diverged"};
    for (std::size_t s = 0; s < names.size(); ++s) {
      const double value = plant.value(signals[s]);
      peak[s] = std::max(peak[s], std::abs(value));
      difference[s] = std::max(difference[s], std::abs(value - written.get(s)));
    }
  }
  Apart most;
  for (std::size_t s = 0; s < names.size(); ++s) {
    if (difference[s] <= most.worst * peak[s] || peak[s] == 0) continue;
    most = {difference[s] / peak[s], names[s]};
  }
  return most;
}

/// A station with most of what is not a converter: lines whole and no whole number of steps long, coupled
/// ends, a transformer that saturates, an arrester, a capacitor in series, harmonics, instrument
/// transformers.
Network station() {
  Network n;
  n.buses = {{"moor", 66e3}, {"shore", 66e3}, {"behind", 66e3}, {"low", 400}, {"mid", 11e3}, {"feed", 11e3}};
  n.elements = {
      Source{.name = "grid", .bus = "moor", .short_circuit_VA = 900e6, .x_over_r = 12},
      Breaker{.name = "Q", .between = {"shore", "behind"}, .opening_time_s = 3.1e-3},
      Branch{.name = "step_down",
             .between = {"behind", "mid"},
             .resistance_ohm = 2,
             .inductance_H = 30e-3,
             .capacitance_F = 80e-6},
      test::quay_cable("cable", "mid", "feed", 2400, 2),
      test::station_transformer("feed", 1.15),
      Load{.name = "ferry", .bus = "low", .active_W = 300e3, .reactive_var = 150e3},
      Arrester{.name = "U", .bus = "shore", .curve = {{54e3, 1e-3}, {70e3, 10}, {90e3, 1e3}}},
      CurrentTransformer{.name = "CT",
                         .on = "cable",
                         .primary_A = 400,
                         .knee_V = 60,
                         .knee_current_A = 0.02,
                         .winding_resistance_ohm = 2,
                         .burden_resistance_ohm = 3},
      CapacitiveVoltageTransformer{.name = "VT", .bus = "shore", .primary_V = 66e3, .secondary_V = 110}};
  n.faults = {Fault{.name = "strike", .on = "L", .at = 0.4, .phases = "AB", .resistance_ohm = 2}};
  n.elements.emplace_back(Line{.name = "L",
                               .between = {"moor", "shore"},
                               .length_m = 95e3,
                               .r1_ohm_per_m = 0.09e-3,
                               .x1_ohm_per_m = 0.4e-3,
                               .c1_F_per_m = 9e-12,
                               .r0_ohm_per_m = 0.3e-3,
                               .x0_ohm_per_m = 1.1e-3,
                               .c0_F_per_m = 5e-12});
  return n;
}

/// A bridge of six, thyristors or diodes, behind a source with inductance; smoothed.
Network rectifier(const std::string& device) {
  Network n;
  n.buses = {{"grid", 400}, {"dc", 540, "pn"}};
  n.elements = {
      Source{.name = "source", .bus = "grid", .short_circuit_VA = 2e6},
      Bridge{.name = "r", .dc = "dc", .ac = "grid", .device = device, .on_resistance_ohm = 1e-3},
      Branch{.name = "load", .between = {"dc.p", "dc.n"}, .resistance_ohm = 5, .inductance_H = 20e-3},
      Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 1e6}};
  return n;
}

TEST(WrittenInC, StepsLinearNetworksAsThePlantDoes) {
  for (const unsigned seed : {1U, 7U, 23U}) {
    const auto [worst, whose] = apart(random_network(seed).network, 2000);
    EXPECT_LT(worst, 1e-9) << whose << " of " << seed;
  }
}

TEST(WrittenInC, StepsANetworkOfHundredsOfBusesInLoops) {
  Network n;
  n.buses = {{"b0", 20e3}};
  n.elements = {Source{.name = "grid", .bus = "b0", .short_circuit_VA = 100e6}};
  for (int k = 1; k <= 350; ++k) {
    const std::string here = "b" + std::to_string(k), before = "b" + std::to_string(k - 1);
    n.buses.push_back({here, 20e3});
    n.elements.push_back(test::quay_cable("c" + std::to_string(k), before, here, 200));
  }
  n.elements.push_back(Breaker{.name = "Q", .between = {"b350", "ground"}, .closed = false});
  const WrittenModel text = write_c(n, {.name = "it", .title = "", .outputs = {}});
  EXPECT_EQ(text.source.find("solve_straight(const"), std::string::npos);
  const auto [worst, whose] = apart(n, 400, {{100, [](Plant& p, Written& w) { open(p, w, "Q", true); }}});
  EXPECT_LT(worst, 1e-9) << whose;
}

TEST(WrittenInC, StepsAStationThroughAFaultAndItsClearingAsThePlantDoes) {
  for (const char* rule : {"trapezoidal", "euler"}) {
    Network n = station();
    n.step_s = 43e-6;
    n.rule = rule;
    const auto [worst, whose] = apart(n, 6000,
                                      {{200, [](Plant& p, Written& w) { open(p, w, "strike", true); }},
                                       {1500, [](Plant& p, Written& w) { open(p, w, "Q"); }},
                                       {2500, [](Plant& p, Written& w) { open(p, w, "strike"); }},
                                       {3300, [](Plant& p, Written& w) { open(p, w, "Q", true); }}});
    EXPECT_LT(worst, 1e-9) << whose << " by " << rule;
  }
}

TEST(WrittenInC, FeelsTheCornersOfProgrammesAndHarmonics) {
  const auto [worst, whose] = apart(test::by_programmes({{5, 0.03}, {7, 0.02}}), 2000);
  EXPECT_LT(worst, 1e-9) << whose;
}

TEST(WrittenInC, RestrikesAndKeepsItsInterlockingAsThePlantDoes) {
  Network n;
  n.buses = {{"bar", 20e3}, {"line", 20e3}};
  n.step_s = 5e-6;
  n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 200e6},
                Capacitor{.name = "c", .bus = "line", .reactive_var = 3e6},
                Breaker{.name = "q",
                        .between = {"bar", "line"},
                        .chopping_A = 3,
                        .withstand = {{0, 2e3}, {8e-3, 18e3}, {12e-3, 80e3}}},
                EarthingSwitch{.name = "q8", .bus = "line", .travel_time_s = 0.05, .only_when_open = {"q"}}};
  const auto refused = [](Plant& p, Written& w) {
    EXPECT_FALSE(p.close(p.operable("q8"), 0));
    EXPECT_EQ(w.set("q8", 1), 2) << "interlocked";
    w.set("q8", 0);
  };
  // Some 170 strikes, each of which carries rounding on: a source 1e-15 larger makes as much of a difference.
  const auto [worst, whose] =
      apart(n, 16000, {{10, refused}, {500, [](Plant& p, Written& w) { open(p, w, "q"); }}});
  EXPECT_LT(worst, 1e-5) << whose;
}

TEST(WrittenInC, CommutatesDiodesAndThyristorsAsThePlantDoes) {
  for (const std::string device : {"diode", "thyristor"}) {
    Network n = rectifier(device);
    n.step_s = 20e-6;
    int fired = 0;
    const auto pulses = [&](Plant& p, Written& w, long long) {
      static constexpr std::array order{"a_upper", "c_lower", "b_upper", "a_lower", "c_upper", "b_lower"};
      if (device == "diode") return;
      for (double at = 0; (at = (fired * 60.0 - 20) / 360 * 0.02) < p.time_s() + p.step_s(); ++fired) {
        for (const int k : {fired % 6, (fired + 5) % 6}) {
          const std::string name = std::string("r.") + order[static_cast<std::size_t>(k)];
          for (const bool on : {true, false}) {
            const double edge = at + (on ? 0 : 0.2e-3);
            p.fire(p.gate(name), on, edge);
            EXPECT_EQ(w.fire(w.gate(name), on, edge), 0);
          }
        }
      }
    };
    const auto [worst, whose] = apart(n, 5000, {}, pulses, "grid");
    EXPECT_LT(worst, 1e-9) << whose << " with " << device;
  }
}

TEST(WrittenInC, SwitchesBridgesOfTwoAndThreeLevelsAsThePlantDoes) {
  for (const bool three_levels : {false, true}) {
    Network n = test::filtered_converter(three_levels);
    n.step_s = 5e-6;
    const Plant named = compile(n);
    control::Controller controller(test::CarrierFeeder::description(three_levels), named.signal_names());
    const auto modulate = [&](Plant& p, Written& w, long long k) {
      if (k % 10 != 0) return;
      controller.run(k / 10 % 400, {});
      const long long cycles = k / 4000;
      const double shift = static_cast<double>(cycles) * 0.02;
      for (const control::Edge& edge : controller.edges()) {
        const std::string& name = controller.gates()[static_cast<std::size_t>(edge.gate)];
        p.fire(p.gate(name), edge.on, edge.at_s + shift);
        EXPECT_EQ(w.fire(w.gate(name), edge.on, edge.at_s + shift), 0);
      }
    };
    const auto [worst, whose] = apart(n, 8000, {}, modulate, "grid");
    EXPECT_LT(worst, 1e-9) << whose << (three_levels ? " of three levels" : " of two");
  }
}

/// Currents that a source drives, contacts in one phase, a meter, two banks that ring.
TEST(WrittenInC, StepsSourcesOfCurrentContactsAndMeters) {
  Network n;
  n.buses = {{"bar", 11e3}, {"feed", 11e3}, {"dc", 800, "pn"}, {"out", 800, "pn"}};
  n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 150e6},
                test::quay_cable("cable", "bar", "feed"),
                CurrentSource{.name = "filter", .bus = "feed", .current_A = 40, .harmonics = {{5, 0.3}}},
                Capacitor{.name = "C1", .bus = "feed", .reactive_var = 2e6},
                Capacitor{.name = "C2", .bus = "bar", .reactive_var = 1e6},
                Meter{.name = "M", .on = "cable", .bus = "bar"},
                DcSource{.name = "e", .bus = "dc", .voltage_V = 800, .resistance_ohm = 0.1},
                Valve{.name = "k", .device = "switch", .from = "dc.p", .to = "out.p"},
                Branch{.name = "z", .between = {"out.p", "out.n"}, .resistance_ohm = 4, .inductance_H = 3e-3},
                Branch{.name = "back", .between = {"out.n", "dc.n"}, .resistance_ohm = 0.01},
                Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 100},
                Branch{.name = "far", .between = {"out.p", "ground"}, .resistance_ohm = 500}};
  const auto work = [](Plant& p, Written& w, long long k) {
    if (k % 200 != 0) return;
    const double edge = p.time_s() + 13e-6;
    p.fire(p.gate("k"), k % 400 == 0, edge);
    EXPECT_EQ(w.fire(w.gate("k"), k % 400 == 0, edge), 0);
  };
  const auto [worst, whose] = apart(n, 3000,
                                    {{700,
                                      [](Plant& p, Written& w) {
                                        p.turn(p.knob("e.voltage"), 640);
                                        EXPECT_EQ(w.set("e.voltage", 640), 0);
                                      }}},
                                    work);
  EXPECT_LT(worst, 1e-9) << whose;
}

PermanentMagnetMachine magnets(const std::string& bus, double ld_H, double lq_H, double flux_Vs,
                               double hertz) {
  return {.name = "magnets",
          .bus = bus,
          .stator_resistance_ohm = 0.3,
          .ld_H = ld_H,
          .lq_H = lq_H,
          .magnet_flux_Vs = flux_Vs,
          .inertia_kgm2 = hertz > 30 ? 900.0 : 3.0,
          .load_torque_Nm = hertz > 30 ? 0.0 : 40.0,
          .start_speed_rad_per_s = 2 * std::numbers::pi * hertz};
}

/// A pump on a shaft of two masses, a hoist that a load brakes and holds, magnets: through a loss of the
/// supply.
TEST(WrittenInC, TurnsMachinesThatBrakeAndComeToRest) {
  Network n;
  n.step_s = 50e-6;
  n.buses = {{"grid", 400}, {"shop", 400}};
  const auto motor = [](const std::string& name) {
    return InductionMachine{.name = name,
                            .bus = "shop",
                            .stator_resistance_ohm = 0.08,
                            .stator_leakage_ohm = 0.2,
                            .magnetizing_ohm = 8,
                            .rotor_leakage_ohm = 0.2,
                            .rotor_resistance_ohm = 0.06};
  };
  InductionMachine pump = motor("pump"), hoist = motor("hoist");
  pump.inertia_kgm2 = 0.4, pump.load_torque_Nm = 150, pump.load_exponent = 2;
  pump.shaft = {"0.3 kg m^2, 20 kN m/rad, 15 N m s/rad"};
  hoist.inertia_kgm2 = 0.1, hoist.load_torque_Nm = 120, hoist.active_torque_Nm = -60;
  n.elements = {Source{.name = "supply", .bus = "grid", .short_circuit_VA = 5e6},
                Breaker{.name = "Q", .between = {"grid", "shop"}},
                pump,
                hoist,
                magnets("shop", 4e-3, 4e-3, 0.9, 25),
                Load{.name = "lamps", .bus = "shop", .active_W = 5e3, .connection = "grounded star"}};
  double slowest = 1e9;
  const auto watch = [&](Plant& p, Written&, long long) {
    slowest = std::min(slowest, std::abs(p.value(p.signal("hoist.speed"))));
  };
  const auto [worst, whose] = apart(n, 12000,
                                    {{500, set("hoist.external_resistance", 0.5)},
                                     {1500, [](Plant& p, Written& w) { open(p, w, "Q"); }},
                                     {6000, set("hoist.active_torque", -200)},
                                     {7000, set("pump.load_torque", 60)},
                                     {8000, [](Plant& p, Written& w) { open(p, w, "Q", true); }}},
                                    watch);
  EXPECT_LT(worst, 1e-8) << whose;
  EXPECT_EQ(slowest, 0) << "the hoist was held at rest";
}

/// Machines of every exciter and governor, whose conductances turn with them, and salient magnets: through a
/// short circuit.
TEST(WrittenInC, TurnsSalientMachinesThroughAFault) {
  Network n;
  n.step_s = 50e-6;
  n.buses = {{"grid", 11e3}, {"site", 11e3}};
  SynchronousMachine steam{
      .name = "steam", .bus = "site", .rating_VA = 8e6, .voltage_V = 11e3, .power_W = 5e6};
  steam.xq_subtransient = 0.26, steam.saturation_at_1 = 0.1, steam.saturation_at_12 = 0.4;
  steam.shaft = {"900 kg m^2, 3 MN m/rad, 2 kN m s/rad"};
  SynchronousMachine hydro = steam, alone = steam;
  steam.exciter = "static", steam.governor = "steam", steam.lag_time_s = 5, steam.lead_time_s = 1;
  hydro.name = "hydro", hydro.exciter = "dc", hydro.governor = "hydro", hydro.pole_pairs = 6,
  hydro.power_W = 2e6;
  hydro.shaft.clear();
  alone.name = "alone", alone.power_W = 1e6;
  n.elements = {Source{.name = "supply", .bus = "grid", .short_circuit_VA = 150e6},
                test::quay_cable("cable", "grid", "site"),
                steam,
                hydro,
                alone,
                magnets("site", 20e-3, 32e-3, 26, 50)};
  n.faults = {Fault{.name = "strike", .on = "site", .phases = "ABG", .resistance_ohm = 0.2}};
  const auto [worst, whose] = apart(n, 6000,
                                    {{600, [](Plant& p, Written& w) { open(p, w, "strike", true); }},
                                     {2600, [](Plant& p, Written& w) { open(p, w, "strike"); }},
                                     {3000, set("steam.voltage_reference", 1.2)},
                                     {3500, set("alone.field_voltage", 2.5)},
                                     {4000, set("hydro.power_reference", 0.8)}});
  EXPECT_LT(worst, 1e-8) << whose;
}

/// A wound rotor fed over its rings, from its start on through a short circuit.
TEST(WrittenInC, TurnsDoublyFedMachines) {
  Network n;
  n.step_s = 50e-6;
  n.buses = {{"grid", 690}, {"site", 690}, {"rings", 400}};
  n.elements = {
      Source{.name = "supply", .bus = "grid", .short_circuit_VA = 30e6},
      Branch{.name = "feed", .between = {"grid", "site"}, .resistance_ohm = 2e-3, .inductance_H = 50e-6},
      DoublyFedMachine{.name = "gen",
                       .bus = "site",
                       .rotor = "rings",
                       .ratio = 0.6,
                       .stator_resistance_ohm = 3e-3,
                       .stator_leakage_ohm = 0.03,
                       .magnetizing_ohm = 1.2,
                       .rotor_leakage_ohm = 0.03,
                       .rotor_resistance_ohm = 3e-3,
                       .pole_pairs = 2,
                       .inertia_kgm2 = 60,
                       .shaft = {"50 kg m^2, 60 kN m/rad, 120 N m s/rad"},
                       .active_torque_Nm = 3e3,
                       .start_speed_rad_per_s = 150},
      Branch{
          .name = "crowbar", .between = {"rings", "ground"}, .resistance_ohm = 0.4, .inductance_H = 0.5e-3}};
  n.faults = {Fault{.name = "strike", .on = "site", .phases = "AB", .resistance_ohm = 0.01}};
  const auto [worst, whose] = apart(n, 6000,
                                    {{1600, [](Plant& p, Written& w) { open(p, w, "strike", true); }},
                                     {2600, [](Plant& p, Written& w) { open(p, w, "strike"); }},
                                     {3000, set("gen.active_torque", 6e3)}});
  EXPECT_LT(worst, 1e-8) << whose;
}

/// Two circuits on a tower, fitted in phases and in modes, through a fault of one and its arc.
TEST(WrittenInC, SendsWavesAlongFittedLines) {
  for (const char* how : {"phases", "modes"}) {
    Network n = test::two_lines(30e3);
    test::way_of(n).parameters = "frequency";
    test::way_of(n).fit_in = how;
    n.step_s = 25e-6;
    n.faults = {Fault{.name = "strike", .on = "r", .phases = "AG", .resistance_ohm = 3},
                Fault{.name = "arc", .on = "q", .phases = "BC", .arc_voltage_V = 4e3}};
    const auto strike = [](const char* name, bool comes) {
      return [name, comes](Plant& p, Written& w) { open(p, w, name, comes); };
    };
    const auto [worst, whose] =
        apart(n, 4000,
              {{503, strike("strike", true)}, {1511, strike("strike", false)}, {2007, strike("arc", true)}});
    EXPECT_LT(worst, 1e-9) << how << ": " << whose;
  }
}

TEST(WrittenInC, FeedsLoadsThatDependOnTheirVoltage) {
  Network n;
  n.step_s = 50e-6;
  n.buses = {{"grid", 400}, {"town", 400}};
  Load coils{
      .name = "coils", .bus = "town", .active_W = 60e3, .reactive_var = 40e3, .connection = "grounded star"};
  coils.constant_power = 0.6, coils.constant_current = 0.3;
  Load cables = coils;
  cables.name = "cables", cables.reactive_var = -20e3, cables.connection = "delta";
  n.elements = {
      Source{.name = "supply", .bus = "grid", .short_circuit_VA = 3e6},
      Branch{.name = "feed", .between = {"grid", "town"}, .resistance_ohm = 0.02, .inductance_H = 0.2e-3},
      coils, cables};
  n.faults = {Fault{.name = "dip", .on = "town", .phases = "AG", .resistance_ohm = 0.1}};
  const auto [worst, whose] = apart(n, 5000,
                                    {{600, [](Plant& p, Written& w) { open(p, w, "dip", true); }},
                                     {2600, [](Plant& p, Written& w) { open(p, w, "dip"); }}});
  EXPECT_LT(worst, 1e-9) << whose;
}

/// Taps by hand, and by their control once the load has come.
TEST(WrittenInC, MovesTaps) {
  Network n;
  n.step_s = 50e-6;
  n.buses = {{"grid", 11e3}, {"low", 400}};
  Transformer t = test::station_transformer("grid");
  t.tap_winding = "high", t.tap_target_V = 400, t.tap_delay_s = 0.08, t.tap_time_s = 0.03, t.tap_band = 0.015;
  n.elements = {Source{.name = "supply", .bus = "grid", .short_circuit_VA = 20e6}, t,
                Load{.name = "town",
                     .bus = "low",
                     .active_W = 300e3,
                     .reactive_var = 100e3,
                     .connection = "grounded star"}};
  n.faults = {Fault{.name = "heavy", .on = "low", .phases = "ABC", .resistance_ohm = 0.6}};
  double lowest = 1e9, highest = -1e9;
  const auto watch = [&](Plant& p, Written&, long long) {
    const double tap = p.value(p.signal("T.tap"));
    lowest = std::min(lowest, tap);
    highest = std::max(highest, tap);
  };
  const auto [worst, whose] = apart(n, 12000,
                                    {{1000, [](Plant& p, Written& w) { open(p, w, "heavy", true); }},
                                     {7000, [](Plant& p, Written& w) { open(p, w, "heavy"); }},
                                     {10000, set("T.tap", 3)}},
                                    watch);
  EXPECT_LT(worst, 1e-9) << whose;
  EXPECT_GE(highest - lowest, 4) << "both of them";
}

/// A stack whose share wanders, with the part of a step and in whole submodules, some of them bridged.
TEST(WrittenInC, ChoosesSubmodules) {
  for (const char* depth : {"switched", "averaged"}) {
    Network n;
    n.step_s = 50e-6;
    n.buses = {{"dc", 10e3, "pn"}};
    n.elements = {DcSource{.name = "e", .bus = "dc", .voltage_V = 5e3, .resistance_ohm = 2},
                  SubmoduleArm{.name = "arm",
                               .between = {"dc.p", "dc.n"},
                               .submodules = 12,
                               .capacitance_F = 4e-3,
                               .voltage_V = 800,
                               .inductance_H = 5e-3,
                               .resistance_ohm = 0.5,
                               .depth = depth},
                  Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 100},
                  Branch{.name = "leak", .between = {"dc.p", "ground"}, .resistance_ohm = 1e3}};
    const auto work = [](Plant& p, Written& w, long long k) {
      if (k == 10) {
        p.fire(p.gate("arm.enable"), true, p.time_s());
        EXPECT_EQ(w.fire(w.gate("arm.enable"), true, p.time_s()), 0);
      }
      if (k % 4 != 0) return;
      set("arm.inserted", 0.52 + 0.3 * std::sin(0.013 * static_cast<double>(k)))(p, w);
      if (k == 3000) set("arm.bypassed", 0.25)(p, w);
    };
    const auto [worst, whose] = apart(n, 6000, {}, work);
    EXPECT_LT(worst, 1e-8) << depth << ": " << whose;
  }
}

TEST(WrittenInC, DrawsFromBatteriesAndAgeingCapacitors) {
  Network n;
  n.step_s = 100e-6;
  n.buses = {{"dc", 700, "pn"}, {"link", 700, "pn"}};
  n.elements = {
      Battery{.name = "cells",
              .bus = "dc",
              .capacity_C = 40,  // some of which a second takes
              .charge = 0.8,
              .open_circuit = {{0, 600}, {0.5, 700}, {1, 760}},
              .resistance_ohm = 0.1,
              .fast_resistance_ohm = 0.05,
              .fast_time_s = 0.2,
              .slow_resistance_ohm = 0.2,
              .slow_time_s = 2,
              .cells = 200},
      Branch{.name = "choke", .between = {"dc.p", "link.p"}, .resistance_ohm = 0.1, .inductance_H = 1e-3},
      Branch{.name = "back", .between = {"dc.n", "link.n"}, .resistance_ohm = 0.01},
      DcLink{.name = "C",
             .bus = "link",
             .capacitance_F = 2e-3,
             .voltage_V = 690,
             .remaining = 1,
             .series_resistance_ohm = 0.02},
      Valve{.name = "k", .device = "switch", .from = "link.p", .to = "link.n", .on_resistance_ohm = 7},
      Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 1e3},
      Branch{.name = "leak", .between = {"link.p", "ground"}, .resistance_ohm = 2e3}};
  const auto work = [](Plant& p, Written& w, long long k) {
    if (k % 300 != 0) return;
    p.fire(p.gate("k"), k % 600 == 0, p.time_s() + 13e-6);
    EXPECT_EQ(w.fire(w.gate("k"), k % 600 == 0, p.time_s() + 13e-6), 0);
  };
  const auto [worst, whose] = apart(n, 6000,
                                    {{1000, set("C.remaining", 0.6)},
                                     {2000, set("cells.shorted_cells", 12)},
                                     {3000, set("cells.added_resistance", 0.4)}},
                                    work);
  EXPECT_LT(worst, 1e-9) << whose;
}

/// Clouds, a shadow over some modules, and a load that takes the array from its best point to a short
/// circuit.
TEST(WrittenInC, LightsSolarArrays) {
  Network n;
  n.step_s = 50e-6;
  n.buses = {{"dc", 600, "pn"}};
  n.elements = {PvArray{.name = "roof",
                        .bus = "dc",
                        .modules = 18,
                        .strings = 3,
                        .open_circuit_voltage_V = 38.4,
                        .short_circuit_current_A = 9.2,
                        .best_voltage_V = 31.2,
                        .best_current_A = 8.7},
                DcLink{.name = "C", .bus = "dc", .capacitance_F = 1e-3, .voltage_V = 550, .earth_ohm = 1e5},
                Branch{.name = "load", .between = {"dc.p", "dc.n"}, .resistance_ohm = 25},
                Valve{.name = "k", .device = "switch", .from = "dc.p", .to = "dc.n", .on_resistance_ohm = 3},
                Branch{.name = "leak", .between = {"dc.p", "ground"}, .resistance_ohm = 5e3}};
  const auto work = [](Plant& p, Written& w, long long k) {
    if (k % 1500 != 0) return;
    p.fire(p.gate("k"), k % 3000 != 0, p.time_s());
    EXPECT_EQ(w.fire(w.gate("k"), k % 3000 != 0, p.time_s()), 0);
  };
  const auto [worst, whose] = apart(n, 9000,
                                    {{1000, set("roof.irradiance", 420)},
                                     {2000, set("roof.shaded", 0.3)},
                                     {2200, set("roof.shade", 0.2)},
                                     {4000, set("roof.temperature", 330)},
                                     {7000, set("roof.irradiance", 1100)}},
                                    work);
  EXPECT_LT(worst, 1e-8) << whose;
}

/// Each exciter with each governor, alone with a load that comes and goes.
TEST(WrittenInC, KnowsEachExciterAndGovernor) {
  for (const char* exciter : {"none", "static", "dc"}) {
    for (const char* governor : {"none", "steam", "hydro"}) {
      SCOPED_TRACE(std::string(exciter) + ", " + governor);
      Network n;
      n.step_s = 50e-6;
      n.buses = {{"grid", 11e3}, {"site", 11e3}};
      SynchronousMachine g{.name = "g", .bus = "site", .rating_VA = 6e6, .voltage_V = 11e3, .power_W = 3e6};
      g.exciter = exciter, g.governor = governor;
      g.servo_time_s = 0.05, g.reheat_time_s = 0.3, g.water_time_s = 0.2, g.reset_time_s = 0.5;
      g.lag_time_s = 0.2, g.lead_time_s = 0.05, g.exciter_machine_time_s = 0.1, g.stabilizer_time_s = 0.2;
      n.elements = {Source{.name = "supply", .bus = "grid", .short_circuit_VA = 40e6},
                    test::quay_cable("cable", "grid", "site"), g,
                    Breaker{.name = "Q", .between = {"site", "heat"}, .closed = false},
                    Load{.name = "furnace", .bus = "heat", .active_W = 2e6, .reactive_var = 1e6}};
      n.buses.push_back({"heat", 11e3});
      double least = 1e9, most = 0;
      const auto watch = [&](Plant& p, Written&, long long) {
        const double speed = p.value(p.signal("g.speed"));
        least = std::min(least, speed);
        most = std::max(most, speed);
      };
      const auto [worst, whose] =
          apart(n, 4000,
                {{400, [](Plant& p, Written& w) { open(p, w, "Q", true); }},
                 {2400, [](Plant& p, Written& w) { open(p, w, "Q"); }},
                 {2600, set(exciter[0] == 'n' ? "g.field_voltage" : "g.voltage_reference", 1.4)},
                 {3000, set("g.power_reference", 0.9)}},
                watch);
      EXPECT_LT(worst, 1e-8) << whose;
      EXPECT_GT(most - least, 1e-3) << "it swings";
    }
  }
}

/// Names are comments there, whatever they hold, and numbers in enumerations.
TEST(WrittenInC, CompilesWhateverThingsAreCalled) {
  Network n;
  n.title = "a */ #error ?\?/";
  n.buses = {{"bar */", 400}, {"bar /*", 400}, {"bar\n#error", 400}, {"bar ?\?/", 400}};
  n.elements = {
      Source{.name = "gr\"id\\", .bus = "bar */", .short_circuit_VA = 1e6},
      Branch{.name = "*/ #error", .between = {"bar */", "bar /*"}, .resistance_ohm = 1, .inductance_H = 1e-3},
      Branch{.name = "++ #error", .between = {"bar /*", "bar\n#error"}, .resistance_ohm = 1},
      Breaker{.name = "'Q'", .between = {"bar\n#error", "bar ?\?/"}},
      Load{.name = "%s%n", .bus = "bar ?\?/", .active_W = 1e3}};
  const auto [worst, whose] = apart(n, 200);
  EXPECT_LT(worst, 1e-9) << whose;
}

/// As many edges wait as in the plant; one more is refused by both, and what was taken is still carried out.
TEST(WrittenInC, TellsOfEdgesThatFindNoRoom) {
  Network n;
  n.step_s = 20e-6;
  n.buses = {{"dc", 700, "pn"}, {"out", 700, "pn"}};
  n.elements = {DcSource{.name = "e", .bus = "dc", .voltage_V = 700, .resistance_ohm = 0.1},
                Valve{.name = "k", .device = "switch", .from = "dc.p", .to = "out.p"},
                Branch{.name = "z", .between = {"out.p", "out.n"}, .resistance_ohm = 4, .inductance_H = 3e-3},
                Branch{.name = "back", .between = {"out.n", "dc.n"}, .resistance_ohm = 0.01},
                Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 100},
                Branch{.name = "far", .between = {"out.p", "ground"}, .resistance_ohm = 500}};
  int taken = 0, refused = 0;
  const auto crowd = [&](Plant& p, Written& w, long long k) {
    if (k != 100) return;
    for (int edge = 0; edge < 40; ++edge) {
      const double at = p.time_s() + (edge + 1) * 31e-6;
      const bool in_plant = p.fire(p.gate("k"), edge % 2 == 0, at);
      EXPECT_EQ(w.fire(w.gate("k"), edge % 2 == 0, at), in_plant ? 0 : 2) << edge;
      ++(in_plant ? taken : refused);
    }
    EXPECT_EQ(w.fire(w.gate("k"), true, std::nan("")), 1);
    EXPECT_EQ(w.fire(99, true, 1), 1) << "there is no such gate";
    EXPECT_EQ(w.fire(-1, true, 1), 1);
  };
  const auto [worst, whose] = apart(n, 600, {}, crowd);
  EXPECT_LT(worst, 1e-9) << whose;
  EXPECT_GT(taken, 8);
  EXPECT_GT(refused, 8);
}

TEST(WrittenInC, IsSavedByACopyOfItsMemory) {
  Written written(test::written_out(station(), {"L.ia", "low.va"}));
  ASSERT_TRUE(written.stands());
  for (int k = 0; k < 300; ++k) ASSERT_EQ(written.step(), 0);
  written.set("strike", 1);
  const std::vector<double> kept = written.memory();
  std::vector<double> first, second;
  for (std::vector<double>* into : {&first, &second}) {
    written.remember(kept);
    for (int k = 0; k < 300; ++k) {
      ASSERT_EQ(written.step(), 0);
      into->push_back(written.get(0) + written.get(1));
    }
  }
  EXPECT_EQ(first, second) << "to the bit";
  EXPECT_EQ(written.set("nothing", 1), 1);
  EXPECT_EQ(written.set("strike", std::nan("")), 1);
  EXPECT_EQ(written.fire(0, true, 0), 1) << "there are no gates";
}

TEST(WrittenInC, NamesWhatCannotBeWritten) {
  const auto said = [](const Network& n, const std::vector<std::string>& outputs = {}) {
    return message_of([&] { (void)write_c(n, {.name = "it", .title = "", .outputs = outputs}); });
  };
  Network n = station();
  EXPECT_EQ(said(n, {"L.ix"}), "\"L.ix\" is no signal of the network");
  std::get<Source>(n.elements[0]).noise = 0.01;
  EXPECT_EQ(
      said(n),
      "source.grid: has noise, phases of their own or a recorded voltage, which is not written out in C");
}

}  // namespace
}  // namespace zavrek::emt
