// Every kind of element, as a file writes it, in one small network: what must hold for all of them.
#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>

#include <fmt/format.h>
#include <gtest/gtest.h>

#include "casefile/comparing.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/emt/flow.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::casefile {
namespace {

constexpr const char* base = R"(
frequency = "50 Hz"
step = "50 us"
[bus]
grid = "11 kV"
site = "11 kV"
end = "11 kV"
low = "400 V"
[source.g]
bus = "grid"
short_circuit = "180 MVA"
x_over_r = 8
[branch.feeder]
between = ["grid", "site"]
resistance = "0.4 ohm"
inductance = "2 mH"
[load.house]
bus = "site"
active = "1.2 MW"
reactive = "0.4 Mvar"
connection = "grounded star"
[load.last]
bus = "end"
active = "0.3 MW"
connection = "grounded star"
[load.small]
bus = "low"
active = "20 kW"
connection = "grounded star"
)";

/// Joins the buses that the element at trial leaves alone.
constexpr const char* to_end = R"([branch.to_end]
between = ["site", "end"]
resistance = "0.5 ohm"
inductance = "1 mH"
)";
constexpr const char* to_low = R"([transformer.to_low]
high = "site"
low = "low"
rating = "250 kVA"
high_voltage = "11 kV"
low_voltage = "400 V"
vector_group = "Dyn11"
short_circuit_voltage = "5 %"
copper_loss = "3 kW"
)";

std::string pole_of_three_wires() {
  std::string text = "\n[geometry.pole]\nearth_resistivity = \"150 ohm m\"\n";
  for (const auto& [phase, x, height] : {std::tuple{'a', -2.4, 14.2}, {'b', 2.4, 14.2}, {'c', -2.2, 16.9}})
    text += fmt::format(
        "[geometry.pole.wire.{0}]\nphase = \"{0}\"\nx = \"{1} m\"\nheight = \"{2} m\"\nresistance = \"0.12 "
        "ohm/km\"\ndiameter = \"20.5 mm\"\n",
        phase, x, height);
  return text;
}
const std::string pole = pole_of_three_wires();

struct Kind {
  std::string name;
  std::string text;
  bool joins_end = false, joins_low = false;
  /// Of what the phasors say; instrument transformers that saturate settle from the straight line first.
  double stays_within = 1e-7;
  /// Rms from the variable-step solution, of the peak, at a tenth of the step; 0: not compared here (lines of
  /// several modes take the reference half a minute; line_test.cpp has one).
  double follows_within = 2e-3;
};

void PrintTo(const Kind& kind, std::ostream* out) { *out << kind.name; }

const std::vector<Kind>& kinds() {
  static const std::vector<Kind> all{
      {"Branch",
       "[branch.x]\nbetween = [\"site\", \"end\"]\nresistance = \"1 ohm\"\ncapacitance = \"200 uF\"", true},
      {"CableOfSequences",
       R"([cable.x]
between = ["site", "end"]
length = "3 km"
r1 = "0.16 ohm/km"
x1 = "0.1 ohm/km"
c1 = "360 nF/km"
r0 = "0.9 ohm/km"
x0 = "0.3 ohm/km"
c0 = "300 nF/km"
sections = 3)",
       true},
      {"CableOfMatrices",
       R"([cable.x]
between = ["site", "end"]
length = "2 km"
r_matrix = "0.21; 0.05 0.22; 0.05 0.05 0.21 ohm/km"
x_matrix = "0.4; 0.15 0.41; 0.12 0.15 0.4 ohm/km"
b_matrix = "90; -8 91; -5 -8 90 uS/km")",
       true},
      {"Line",
       R"([line.x]
between = ["site", "end"]
length = "40 km"
r1 = "0.12 ohm/km"
x1 = "0.39 ohm/km"
c1 = "9.3 nF/km"
r0 = "0.35 ohm/km"
x0 = "1.2 ohm/km"
c0 = "5.1 nF/km")",
       true, false, 1e-7, 2e-2},
      {"TransformerOfTwoWindings",
       R"([transformer.x]
high = "site"
low = "low"
rating = "400 kVA"
high_voltage = "11 kV"
low_voltage = "400 V"
vector_group = "Dyn5"
short_circuit_voltage = "6 %"
copper_loss = "4 kW"
magnetizing_current = "0.8 %"
iron_loss = "0.9 kW"
low_neutral_resistance = "0.1 ohm")",
       false, true},
      {"TransformerThatSaturates",
       R"([transformer.x]
high = "site"
low = "low"
rating = "400 kVA"
high_voltage = "11 kV"
low_voltage = "400 V"
vector_group = "YNyn0"
short_circuit_voltage = "6 %"
copper_loss = "4 kW"
magnetizing_current = "0.8 %"
knee = 1.25)",
       false, true},
      {"OnePhaseTransformers",
       R"([one_phase_transformer.x]
high = "site"
high_phases = "ab"
low = "low"
low_phases = "a"
rating = "50 kVA"
high_voltage = "11 kV"
low_voltage = "230 V"
short_circuit_voltage = "4 %"
copper_loss = "0.6 kW"
[one_phase_transformer.y]
high = "site"
high_phases = "bc"
low = "low"
low_phases = "b"
rating = "50 kVA"
high_voltage = "11 kV"
low_voltage = "230 V"
short_circuit_voltage = "4 %"
copper_loss = "0.6 kW"
[one_phase_transformer.z]
high = "site"
high_phases = "ca"
low = "low"
low_phases = "c"
rating = "50 kVA"
high_voltage = "11 kV"
low_voltage = "230 V"
short_circuit_voltage = "4 %"
copper_loss = "0.6 kW")",
       false, true},
      {"Regulator", "[regulator.x]\nbetween = [\"site\", \"end\"]\ntap_a = 4\ntap_b = -2\ntap_c = 1", true},
      {"LoadInDelta",
       "[load.x]\nbus = \"site\"\nactive = \"0.5 MW\"\nreactive = \"-0.2 Mvar\"\nconnection = \"delta\""},
      {"LoadOfConstantPower",
       "[load.x]\nbus = \"site\"\nactive = \"0.8 MW\"\nreactive = \"0.3 Mvar\"\nconnection = \"grounded "
       "star\"\n"
       "constant_power = 0.7\nconstant_current = 0.3"},
      {"LoadBetweenTwoPhases",
       "[load.x]\nbus = \"site\"\nphases = \"bc\"\nactive = \"0.3 MW\"\nreactive = \"0.1 Mvar\"\nconnection "
       "= \"delta\""},
      {"Capacitor", "[capacitor.x]\nbus = \"site\"\nreactive = \"0.9 Mvar\"\nconnection = \"star\""},
      {"Reactor", "[reactor.x]\nbus = \"site\"\nreactive = \"0.7 Mvar\"\nconnection = \"delta\""},
      {"ReactorThatSaturates",
       "[reactor.x]\nbus = \"site\"\nreactive = \"0.7 Mvar\"\nknee = 1.3\nconnection = \"grounded star\""},
      {"Filter", "[filter.x]\nbus = \"site\"\nreactive = \"0.4 Mvar\"\norder = 5\ndamping = \"300 ohm\""},
      {"Arrester",
       "[arrester.x]\nbus = \"site\"\ncurve = [\"14 kV: 1 mA\", \"20 kV: 100 A\", \"24 kV: 5 kA\"]"},
      {"InductionMachine",
       R"([induction_machine.x]
bus = "site"
stator_resistance = "1.2 ohm"
stator_leakage = "6 ohm"
magnetizing = "240 ohm"
rotor_leakage = "6 ohm"
rotor_resistance = "1.4 ohm"
inertia = "22 kg m^2"
load_torque = "3 kN m")",
       false, false, 1e-7, 5e-3},
      {"SynchronousMachine",
       R"([synchronous_machine.x]
bus = "site"
rating = "3 MVA"
voltage = "11 kV"
power = "1 MW"
start_voltage = 1.0
exciter = "static"
governor = "steam")",
       false, false, 1e-7, 5e-3},
      {"InductionMachineWithALongShaft",
       R"([induction_machine.x]
bus = "site"
stator_resistance = "1.2 ohm"
stator_leakage = "6 ohm"
magnetizing = "240 ohm"
rotor_leakage = "6 ohm"
rotor_resistance = "1.4 ohm"
external_resistance = "2 ohm"
inertia = "22 kg m^2"
shaft = ["40 kg m^2, 300 kN m/rad, 120 N m s/rad"]
load_torque = "2 kN m"
load_exponent = 2)",
       false, false, 1e-6, 5e-3},
      {"SynchronousMachineThatSaturates",
       R"([synchronous_machine.x]
bus = "site"
rating = "3 MVA"
voltage = "11 kV"
power = "1.5 MW"
start_voltage = 1.01
saturation_at_1 = 0.1
saturation_at_12 = 0.4
xd_subtransient = 0.19
xq_subtransient = 0.24
exciter = "dc"
exciter_gain = 40
governor = "hydro"
shaft = ["60 kg m^2, 2 MN m/rad, 400 N m s/rad"])",
       false, false, 1e-5, 5e-3},
      {"AutotransformerUnderControl",
       R"([transformer.x]
high = "site"
low = "end"
rating = "4 MVA"
high_voltage = "11 kV"
low_voltage = "10.5 kV"
vector_group = "YNa0"
short_circuit_voltage = "3 %"
copper_loss = "12 kW"
tap_winding = "low"
tap_target = "10.6 kV")",
       true},
      {"ZigzagTransformer",
       R"([transformer.x]
high = "site"
low = "low"
rating = "400 kVA"
high_voltage = "11 kV"
low_voltage = "400 V"
vector_group = "Yzn11"
short_circuit_voltage = "4.5 %"
copper_loss = "5 kW"
iron_loss = "0.8 kW")",
       false, true},
      {"TransformerOfThreeWindings",
       R"([transformer.x]
high = "site"
low = "end"
tertiary = "low"
rating = "2 MVA"
high_voltage = "11 kV"
low_voltage = "11 kV"
tertiary_voltage = "400 V"
vector_group = "YNyn0yn0"
short_circuit_voltage = "6 %"
short_circuit_voltage_ht = "9 %"
short_circuit_voltage_lt = "4 %"
copper_loss = "10 kW")",
       true, true},
      {"LineOfMatrices",
       R"([line.x]
between = ["site", "end"]
length = "30 km"
r_matrix = "0.15; 0.05 0.15; 0.05 0.05 0.15 ohm/km"
x_matrix = "0.62; 0.24 0.61; 0.2 0.24 0.62 ohm/km"
b_matrix = "3.2; -0.6 3.3; -0.3 -0.6 3.2 uS/km")",
       true, false, 1e-7, 0},
      {"LineOfAGeometry",
       std::string("[line.x]\nbetween = [\"site\", \"end\"]\nlength = \"25 km\"\ngeometry = \"pole\"\n") +
           pole,
       true, false, 1e-7, 0},
      {"LineThatFollowsTheFrequency",
       std::string(
           "[line.x]\nbetween = [\"site\", \"end\"]\nlength = \"25 km\"\ngeometry = \"pole\"\nparameters = "
           "\"frequency\"\n") +
           pole,
       true, false, 1e-5, 3e-2},
      {"CableOfAGeometry",
       std::string("[cable.x]\nbetween = [\"site\", \"end\"]\nlength = \"3 km\"\ngeometry = \"pole\"\n") +
           pole,
       true},
      {"FilterInDelta",
       "[filter.x]\nbus = \"site\"\nreactive = \"0.3 Mvar\"\norder = 7\nconnection = \"delta\""},
      {"LoadThatIsCapacitive",
       "[load.x]\nbus = \"site\"\nactive = \"0.5 MW\"\nreactive = \"-0.4 Mvar\"\nconnection = \"grounded "
       "star\"\n"
       "constant_power = 0.6"},
      {"LoadOfConstantCurrentInDelta",
       "[load.x]\nbus = \"site\"\nactive = \"0.5 MW\"\nreactive = \"0.2 Mvar\"\nconnection = \"delta\"\n"
       "constant_current = 1"},
      {"Breaker", "[breaker.x]\nbetween = [\"site\", \"end\"]", true},
      {"Disconnector", "[disconnector.x]\nbetween = [\"site\", \"end\"]", true},
      {"EarthingSwitch", "[earthing_switch.x]\nbus = \"site\""},
      {"CurrentTransformer",
       "[ct.x]\non = \"feeder\"\nprimary = \"200 A\"\nknee = \"180 V\"\nremanence = \"20 %\"", false, false,
       2e-3, 2e-2},
      {"VoltageTransformer", "[vt.x]\nbus = \"site\"\nprimary = \"11 kV\""},
      {"CapacitiveVoltageTransformer",
       "[cvt.x]\nbus = \"site\"\nprimary = \"11 kV\"\nintermediate = \"6 kV\"", false, false, 1e-3, 1e-2},
  };
  return all;
}

network::Network network_with(const Kind& kind) {
  const std::string text =
      std::string(base) + (kind.joins_end ? "" : to_end) + (kind.joins_low ? "" : to_low) + kind.text + "\n";
  return read_network_text(text, "network.toml");
}

/// Largest peak of a steady signal of each unit: what is small beside it carries rounding only.
std::map<std::string, double> scales(const emt::Plant& plant) {
  std::map<std::string, double> largest;
  for (const std::string& name : emt::voltages_and_currents(plant)) {
    double& most = largest[plant.unit(plant.signal(name))];
    most = std::max(most, std::abs(plant.phasor(plant.signal(name))));
  }
  return largest;
}

class Elements : public testing::TestWithParam<Kind> {};

/// As the phasors say; models that have none for what they show repeat themselves cycle by cycle.
TEST_P(Elements, StayInTheSteadyStateTheyStartIn) {
  constexpr int cycle = 400;
  const network::Network network = network_with(GetParam());
  emt::Plant plant = emt::compile(network);
  const std::vector<std::string> names = emt::voltages_and_currents(plant);
  const auto step = [&] { ASSERT_EQ(plant.step(), emt::Status::running) << plant.culprit(); };
  const std::map<std::string, double> scale = scales(plant);
  std::vector<double> before;
  for (int k = 0; k < 4 * cycle; ++k) step();
  for (const std::string& name : names) before.push_back(plant.value(plant.signal(name)));
  for (int k = 0; k < cycle; ++k) step();
  const std::complex<double> turn = std::polar(1.0, 2 * std::numbers::pi * 50 * plant.time_s());
  for (std::size_t s = 0; s < names.size(); ++s) {
    const emt::SignalId signal = plant.signal(names[s]);
    const double within = GetParam().stays_within * scale.at(plant.unit(signal));
    EXPECT_NEAR(plant.value(signal), before[s], within) << names[s];
    if (plant.phasor(signal) == 0.0) continue;
    EXPECT_NEAR(plant.value(signal), (plant.phasor(signal) * turn).real(), within) << names[s];
  }
}

TEST_P(Elements, LeaveNoCurrentAndNoPowerOverAtAnyBus) {
  const network::Network network = network_with(GetParam());
  const emt::Flow flow = emt::flow_of(network, emt::compile(network));
  std::map<std::string, std::complex<double>> currents, powers;
  double most_A = 0, most_VA = 0;
  for (const emt::EndFlow& end : flow.ends) {
    for (std::size_t k = 0; k < end.phases.size(); ++k) {
      currents[end.bus + end.phases[k]] += end.amperes[k];
      most_A = std::max(most_A, std::abs(end.amperes[k]));
    }
    powers[end.bus] += end.volt_amperes;
    most_VA = std::max(most_VA, std::abs(end.volt_amperes));
  }
  // A capacitive voltage transformer shows secondary volts, not what it draws from its bus.
  const std::string unseen = GetParam().name == "CapacitiveVoltageTransformer" ? "site" : "";
  for (const auto& [place, sum] : currents) {
    if (!unseen.empty() && place.starts_with(unseen)) continue;
    EXPECT_LT(std::abs(sum), 2e-5 * most_A) << place;
  }
  for (const auto& [at, sum] : powers) {
    if (at == unseen) continue;
    EXPECT_LT(std::abs(sum), 2e-5 * most_VA) << at;
  }
}

TEST_P(Elements, FollowTheVariableStepSolutionThroughAFault) {
  if (GetParam().follows_within == 0) return;
  emt::Study study;
  study.network = network_with(GetParam());
  study.network.faults.push_back({.name = "fault", .on = "site", .phases = "ABC", .resistance_ohm = 3});
  study.commands = {{0.0131, "fault", true}, {0.0432, "fault", false}};
  // The reference follows each passage of a wave: lines until past the strike only.
  study.duration_s = GetParam().text.starts_with("[line.") ? 0.02 : 0.08;
  study.sample_s = 100e-6;
  study.signals = emt::voltages_and_currents(emt::compile(study.network));
  const emt::Series exact = emt::solve_reference(study, 1e-7), fixed = emt::simulate(study, 5e-6);
  const std::map<std::string, double> largest = largest_by_unit(exact);
  for (std::size_t s = 0; s < exact.names.size(); ++s)
    EXPECT_LT(rms_apart(exact, fixed, s, 4), GetParam().follows_within * largest.at(exact.units[s]))
        << exact.names[s];
}

std::string name_of(const testing::TestParamInfo<Kind>& kind) { return kind.param.name; }
INSTANTIATE_TEST_SUITE_P(Kinds, Elements, testing::ValuesIn(kinds()), name_of);

TEST(Flow, GivesThePowerOfALoadAndTheLossesOfItsFeeder) {
  const network::Network network = read_network_text(R"(
frequency = "50 Hz"
step = "10 us"
[bus]
s = "11 kV"
r = "11 kV"
one = { voltage = "6.35 kV", phases = "b" }
[source.g]
bus = "s"
short_circuit = "1000 GVA"
[branch.z]
between = ["s", "r"]
resistance = "2 ohm"
inductance = "5 mH"
[load.l]
bus = "r"
active = "3 MW"
reactive = "1 Mvar"
constant_power = 1
connection = "grounded star"
[branch.side]
between = ["r", "one"]
resistance = "1 ohm"
[load.m]
bus = "one"
active = "50 kW"
connection = "grounded star"
)",
                                                     "network.toml");
  const emt::Flow flow = emt::flow_of(network, emt::compile(network));
  ASSERT_EQ(flow.buses.size(), 3U);
  const auto bus = [&](const std::string& name) {
    return *std::find_if(flow.buses.begin(), flow.buses.end(), [&](const auto& b) { return b.bus == name; });
  };
  EXPECT_EQ(bus("one").phases, "b");
  EXPECT_NEAR(bus("one").nominal_V, 6350, 1e-9);
  EXPECT_EQ(bus("one").unbalance(), 0);
  EXPECT_TRUE(bus("one").between_phases().empty());
  const auto between = bus("s").between_phases();
  ASSERT_EQ(between.size(), 3U);
  EXPECT_EQ(between[2].first, "ca");
  EXPECT_LT(std::abs(between[0].second - std::polar(11e3, std::numbers::pi / 6)), 1);
  EXPECT_GT(bus("r").unbalance(), 1e-4);  // the load of one phase
  EXPECT_LT(bus("s").unbalance(), 1e-5);  // the source is stiff
  const std::complex<double> load = flow.taken_by("l");
  EXPECT_NEAR(load.real(), 3e6, 60);
  EXPECT_NEAR(load.imag(), 1e6, 60);
  // R |I|^2 and X |I|^2, with the reactance that the trapezoidal rule gives the inductance.
  double squares = 0;
  for (const emt::EndFlow& end : flow.ends) {
    if (end.element != "z" || end.bus != "s") continue;
    for (const std::complex<double> i : end.amperes) squares += std::norm(i);
  }
  EXPECT_NEAR(flow.taken_by("z").real(), 2 * squares, 1e-9 * squares);
  const double reactance = 5e-3 * 2 / 10e-6 * std::tan(std::numbers::pi * 50 * 10e-6);
  EXPECT_NEAR(flow.taken_by("z").imag(), reactance * squares, 1e-9 * squares);
}

TEST(Flow, ListsTapsAndLeavesDirectCurrentOut) {
  const trial::Case feeder = read_case(std::string(ZAVREK_TEST_DATA) + "/feeder13");
  const emt::Flow flow = emt::flow_of(feeder.network, emt::compile(feeder.network));
  std::map<std::string, double> taps(flow.taps.begin(), flow.taps.end());
  EXPECT_EQ(taps.at("reg.tap_a"), 10);
  EXPECT_EQ(taps.at("reg.tap_b"), 8);
  EXPECT_EQ(taps.at("reg.tap_c"), 11);
  const trial::Case battery = read_case(std::string(ZAVREK_DEMO) + "/battery");
  for (const emt::BusFlow& bus : emt::flow_of(battery.network, emt::compile(battery.network)).buses)
    EXPECT_NE(bus.phases.front(), 'p') << bus.bus;
}

}  // namespace
}  // namespace zavrek::casefile
