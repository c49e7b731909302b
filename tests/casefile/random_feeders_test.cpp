// Feeders made of chance, struck by faults of chance, switched on the way: the fixed step beside the
// variable-step solution of the same case.
#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>
#include <gtest/gtest.h>

#include "casefile/comparing.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::casefile {
namespace {

/// Writes a network.toml: a tree of 11 kV buses, a load at each, and some more on it.
class FeederWriter : private Dice {
 public:
  explicit FeederWriter(unsigned seed) : Dice(seed) {
    const int buses = 2 + whole(4);
    for (int k = 1; k <= buses; ++k) {
      const std::string from = any_bus();
      names_.push_back(fmt::format("b{}", k));
      join(k, from, names_.back());
      load(fmt::format("l{}", k), names_.back());
    }
    for (int k = whole(3); k > 0; --k) further(fmt::format("x{}", k), any_bus());
    if (chance(0.5)) switched_load();
  }

  [[nodiscard]] emt::Study study() {
    std::string text = "frequency = \"50 Hz\"\n[bus]\n";
    for (const std::string& name : names_) text += name + " = \"11 kV\"\n";
    text += fmt::format("[source.g]\nbus = \"s\"\nshort_circuit = \"{:.0f} MVA\"\nx_over_r = {:.1f}\n",
                        between(60, 600), between(4, 15));
    emt::Study study;
    study.network = read_network_text(text + elements_, "network.toml");
    static const std::vector<std::string> types{"AG", "BG",  "CG",  "AB",  "BC",
                                                "CA", "ABG", "BCG", "ABC", "ABCG"};
    study.network.faults.push_back(
        {.name = "fault", .on = any_bus(), .phases = any_of(types), .resistance_ohm = between(2, 30)});
    const double struck = between(5e-3, 20e-3);
    study.commands = {{struck, "fault", true}, {struck + between(20e-3, 50e-3), "fault", false}};
    if (switched_) study.commands.push_back({between(10e-3, 50e-3), "Q", false});
    study.duration_s = 0.1;
    study.sample_s = 100e-6;
    for (const std::string& name : emt::voltages_and_currents(emt::compile(study.network))) {
      // What flows in a capacitor, and what a fault draws from it, is a blow of a microsecond.
      if (!name.starts_with("fault.") && !name.starts_with("c")) study.signals.push_back(name);
    }
    return study;
  }

 private:
  const std::string& any_bus() { return any_of(names_); }
  const std::string& any_connection() {
    static const std::vector<std::string> all{"star", "grounded star", "delta"};
    return any_of(all);
  }

  void join(int k, const std::string& from, const std::string& to) {
    const std::string ends = fmt::format("between = [\"{}\", \"{}\"]\n", from, to);
    switch (whole(4)) {
      case 0:
        elements_ += fmt::format("[branch.j{}]\n{}resistance = \"{:.3f} ohm\"\ninductance = \"{:.3f} mH\"\n",
                                 k, ends, between(0.1, 1), between(0.5, 5));
        return;
      case 1:
        elements_ += fmt::format(
            "[cable.j{}]\n{}length = \"{:.2f} km\"\nr1 = \"0.16 ohm/km\"\nx1 = \"0.1 ohm/km\"\nc1 = \"{:.0f} "
            "nF/km\"\nr0 = \"0.9 ohm/km\"\nx0 = \"0.3 ohm/km\"\nc0 = \"200 nF/km\"\n",
            k, ends, between(0.5, 6), between(200, 400));
        return;
      case 2:
        elements_ += fmt::format(
            "[cable.j{}]\n{}length = \"{:.2f} km\"\nr_matrix = \"0.21; 0.05 0.22; 0.05 0.05 0.21 "
            "ohm/km\"\nx_matrix = \"0.4; 0.15 0.41; 0.12 0.15 0.4 ohm/km\"\nb_matrix = \"90; -8 91; -5 -8 90 "
            "uS/km\"\n",
            k, ends, between(0.5, 6));
        return;
      default:
        static const std::vector<std::string> groups{"Dyn11", "YNyn0", "YNd1", "Dyn5", "Dyn1"};
        elements_ += fmt::format(
            "[transformer.j{}]\nhigh = \"{}\"\nlow = \"{}\"\nrating = \"{:.1f} MVA\"\nhigh_voltage = \"11 "
            "kV\"\nlow_voltage = \"11 kV\"\nvector_group = \"{}\"\nshort_circuit_voltage = \"{:.1f} "
            "%\"\ncopper_loss = \"20 kW\"\n{}[capacitor.cj{}]\nbus = \"{}\"\nreactive = \"0.05 "
            "Mvar\"\nconnection = \"grounded star\"\n",
            k, from, to, between(2, 8), any_of(groups), between(4, 9), chance(0.4) ? "knee = 1.25\n" : "", k,
            to);
    }
  }

  void load(const std::string& name, const std::string& bus) {
    elements_ += fmt::format(
        "[load.{}]\nbus = \"{}\"\nactive = \"{:.2f} MW\"\nreactive = \"{:.2f} Mvar\"\nconnection = \"{}\"\n",
        name, bus, between(0.2, 1), between(-0.1, 0.4), any_connection());
    if (chance(0.4))
      elements_ += fmt::format("constant_power = {:.2f}\nconstant_current = {:.2f}\n", between(0, 0.6),
                               between(0, 0.4));
  }

  void further(const std::string& name, const std::string& bus) {
    const std::string head = fmt::format("{}]\nbus = \"{}\"\n", name, bus);
    switch (whole(6)) {
      case 0:
        elements_ += fmt::format("[capacitor.c{}reactive = \"{:.2f} Mvar\"\nconnection = \"{}\"\n", head,
                                 between(0.1, 1), any_connection());
        return;
      case 1:
        elements_ += fmt::format("[reactor.{}reactive = \"{:.2f} Mvar\"\nconnection = \"{}\"\nknee = 1.3\n",
                                 head, between(0.1, 1), any_connection());
        return;
      case 2:
        elements_ +=
            fmt::format("[filter.{}reactive = \"{:.2f} Mvar\"\norder = 5\n", head, between(0.1, 0.6));
        return;
      case 3:
        elements_ +=
            fmt::format("[arrester.{}curve = [\"14 kV: 1 mA\", \"20 kV: 100 A\", \"24 kV: 5 kA\"]\n", head);
        return;
      case 4:
        elements_ += fmt::format(
            "[induction_machine.{}stator_resistance = \"1.2 ohm\"\nstator_leakage = \"6 ohm\"\nmagnetizing = "
            "\"240 ohm\"\nrotor_leakage = \"6 ohm\"\nrotor_resistance = \"1.4 ohm\"\ninertia = \"{:.0f} kg "
            "m^2\"\nload_torque = \"{:.1f} kN m\"\n",
            head, between(10, 40), between(1, 3));
        return;
      default:
        elements_ += fmt::format(
            "[synchronous_machine.{}rating = \"3 MVA\"\nvoltage = \"11 kV\"\npower = \"{:.2f} "
            "MW\"\nstart_voltage = 1.0\nexciter = \"static\"\ngovernor = \"hydro\"\n",
            head, between(0.3, 2));
    }
  }

  void switched_load() {
    switched_ = true;
    const std::string bus = any_bus();
    names_.emplace_back("off");
    elements_ += fmt::format("[breaker.Q]\nbetween = [\"{}\", \"off\"]\nopening_time = \"5 ms\"\n", bus);
    load("lo", "off");
    elements_ += "[capacitor.co]\nbus = \"off\"\nreactive = \"0.1 Mvar\"\nconnection = \"grounded star\"\n";
  }

  std::vector<std::string> names_{"s"};
  std::string elements_;
  bool switched_ = false;
};

class RandomFeeder : public testing::TestWithParam<unsigned> {};

TEST_P(RandomFeeder, DoesWhatItsVariableStepSolutionDoes) {
  const emt::Study study = FeederWriter(GetParam()).study();
  const emt::Series exact = emt::solve_reference(study, 1e-7), fixed = emt::simulate(study, 2e-6);
  const std::map<std::string, double> largest = largest_by_unit(exact);
  for (std::size_t s = 0; s < exact.names.size(); ++s) {
    // A voltage that recovers rings at tens of kilohertz, which two microseconds hold in size, not in phase.
    EXPECT_LT(rms_apart(exact, fixed, s, 12),
              (exact.units[s] == "V" ? 0.04 : 0.01) * largest.at(exact.units[s]))
        << exact.names[s];
  }
}

INSTANTIATE_TEST_SUITE_P(Seeds, RandomFeeder, testing::Range(1U, 17U));

}  // namespace
}  // namespace zavrek::casefile
