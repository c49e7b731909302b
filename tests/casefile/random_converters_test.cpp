// Bridges of every topology between a weak grid and a d.c. link, fed with pulses, struck by faults of chance
// on either side: the fixed step beside the variable-step solution of the same case.
#include <algorithm>
#include <cmath>
#include <map>
#include <memory>
#include <numbers>

#include <fmt/format.h>
#include <gtest/gtest.h>

#include "casefile/comparing.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::casefile {
namespace {

using std::numbers::pi;
constexpr double carrier_s = 200e-6, dead_s = 2e-6;

enum class Bridges { diodes, thyristors, clamped, t_type, two_level };

class ConverterWriter : private Dice {
 public:
  explicit ConverterWriter(unsigned seed) : Dice(seed) {
    std::string elements;
    kind_ = static_cast<Bridges>(whole(5));
    static const std::map<Bridges, std::pair<std::string, std::string>> words{
        {Bridges::diodes, {"two-level", "diode"}},
        {Bridges::thyristors, {"two-level", "thyristor"}},
        {Bridges::clamped, {"neutral-point clamped", "transistor"}},
        {Bridges::t_type, {"t-type", "transistor"}},
        {Bridges::two_level, {"two-level", "transistor"}}};
    const auto& [topology, device] = words.at(kind_);
    elements += fmt::format("[source.g]\nbus = \"grid\"\nshort_circuit = \"{:.1f} MVA\"\n", between(1, 10));
    elements += fmt::format("x_over_r = {:.1f}\n", between(3, 10));
    elements += fmt::format("[branch.L]\nbetween = [\"grid\", \"conv\"]\nresistance = \"{:.1f} mohm\"\n",
                            between(5, 50));
    elements += fmt::format("inductance = \"{:.2f} mH\"\n", between(0.2, 2));
    if (chance(0.5))
      elements +=
          fmt::format("[capacitor.cf]\nbus = \"grid\"\nreactive = \"{:.1f} kvar\"\nconnection = \"star\"\n",
                      between(2, 20));
    elements += fmt::format(
        "[bridge.B]\ndc = \"dc\"\nac = \"conv\"\ntopology = \"{}\"\ndevice = \"{}\"\non_resistance = \"3 "
        "mohm\"\n",
        topology, device);
    elements += fmt::format("drop = \"{:.1f} V\"\n", between(0.5, 1.5));
    elements += fmt::format("diode_drop = \"{:.1f} V\"\n", between(0.5, 1.2));
    elements += fmt::format("[dc_link.C]\nbus = \"dc\"\nearth = \"100 kohm\"\ncapacitance = \"{:.0f} uF\"\n",
                            between(300, 3000));
    elements += fmt::format("voltage = \"{:.0f} V\"\n", between(450, 620));
    elements += fmt::format("series_resistance = \"{:.1f} mohm\"\n", between(1, 10));
    elements += fmt::format("[branch.R]\nbetween = [\"dc.p\", \"dc.n\"]\nresistance = \"{:.1f} ohm\"\n",
                            between(5, 60));
    elements += fmt::format("inductance = \"{:.2f} mH\"\n", between(0, 2));
    const bool middle = kind_ == Bridges::clamped || kind_ == Bridges::t_type;
    study_.network = read_network_text(
        fmt::format("frequency = \"50 Hz\"\nstep = \"5 us\"\n[bus]\ngrid = \"400 V\"\nconv = \"400 V\"\ndc = "
                    "{{ voltage = \"650 V\", phases = \"{}\" }}\n{}",
                    middle ? "pnm" : "pn", elements),
        "network.toml");
  }

  [[nodiscard]] emt::Study study() {
    const bool on_dc = chance(0.4);
    static const std::vector<std::string> types{"AG", "BC", "ABC", "ABG"};
    study_.network.faults.push_back({.name = "fault",
                                     .on = on_dc ? "dc" : "grid",
                                     .phases = on_dc ? "PN" : types[static_cast<std::size_t>(whole(4))],
                                     .resistance_ohm = between(0.05, 3)});
    const double struck = between(0.01, 0.03);
    study_.commands = {{struck, "fault", true}, {struck + between(5e-3, 15e-3), "fault", false}};
    study_.duration_s = 0.06;
    study_.sample_s = 50e-6;
    study_.signals = {"L.ia", "L.ib", "C.v", "R.ia"};
    // By half degrees: no pulse begins or ends at the very instant of a period of the control.
    if (kind_ != Bridges::diodes) pulse((whole(60) + 0.5) * pi / 180);
    return study_;
  }

 private:
  using Fire = std::function<void(const std::string& gate, bool on, double at_s)>;

  /// A sine of 0.8 against a carrier, or thyristors a while behind their natural commutation.
  void pulse(double delay_rad) {
    const emt::Plant plant = emt::compile(study_.network);
    std::map<std::string, emt::GateId> gates;
    for (const std::string& name : plant.gate_names()) gates.emplace(name, plant.gate(name));
    study_.drive_period_s = carrier_s;
    study_.drive = [gates, delay_rad, kind = kind_]() -> std::function<void(emt::ControlledPlant&)> {
      return [gates, delay_rad, kind](emt::ControlledPlant& target) {
        for (int phase = 0; phase < 3; ++phase) {
          const Fire fire = [&](const std::string& gate, bool on, double at_s) {
            target.fire(gates.at(std::string("B.") + "abc"[phase] + gate), on, at_s);
          };
          const double theta = 2 * pi * 50 * target.time_s() - 2 * pi / 3 * phase;
          const double level = 0.8 * std::cos(theta - 0.3);
          if (kind == Bridges::thyristors) {
            thyristors(fire, theta - delay_rad, target.time_s());
          } else if (kind == Bridges::two_level) {
            two_levels(fire, level, target.time_s());
          } else {
            three_levels(fire, level, target.time_s());
          }
        }
      };
    };
  }
  static void thyristors(const Fire& fire, double theta, double now_s) {
    const auto within = [](double angle) { return std::fmod(angle + 20 * pi, 2 * pi) < 2 * pi / 3; };
    fire("_upper", within(theta + pi / 3), now_s);
    fire("_lower", within(theta - 2 * pi / 3), now_s);
  }
  static void two_levels(const Fire& fire, double level, double now_s) {
    const double share = 0.5 + level / 2;
    const double rise = now_s + carrier_s * (1 - share) / 2, fall = now_s + carrier_s * (1 + share) / 2;
    fire("_lower", now_s < carrier_s / 2, now_s);
    fire("_lower", false, rise);
    fire("_upper", true, rise + dead_s);
    fire("_upper", false, fall);
    fire("_lower", true, fall + dead_s);
  }
  static void three_levels(const Fire& fire, double level, double now_s) {
    const double share = std::abs(level);
    const double rise = now_s + carrier_s * (1 - share) / 2, fall = now_s + carrier_s * (1 + share) / 2;
    const std::string outer = level > 0 ? "_1" : "_4", inner = level > 0 ? "_3" : "_2";
    fire(level > 0 ? "_4" : "_1", false, now_s);
    fire(level > 0 ? "_2" : "_3", true, now_s);
    fire(outer, false, now_s);
    fire(inner, true, now_s + dead_s);
    fire(inner, false, rise);
    fire(outer, true, rise + dead_s);
    fire(outer, false, fall);
    fire(inner, true, fall + dead_s);
  }

  Bridges kind_{};
  emt::Study study_;
};

class RandomConverter : public testing::TestWithParam<unsigned> {};

TEST_P(RandomConverter, DoesWhatItsVariableStepSolutionDoes) {
  const emt::Study study = ConverterWriter(GetParam()).study();
  const emt::Series exact = emt::solve_reference(study, 1e-6);
  for (const double step_s : {2e-6, 5e-6, 20e-6}) {
    const emt::Series fixed = emt::simulate(study, step_s);
    const double bound = 5e-5 + 5e-3 * std::pow(step_s / 20e-6, 2);  // second order
    for (std::size_t s = 0; s < exact.names.size(); ++s) {
      double largest = 0;
      for (const double v : exact.values[s]) largest = std::max(largest, std::abs(v));
      EXPECT_LT(rms_apart(exact, fixed, s, 6), bound * largest) << exact.names[s] << " at " << step_s;
    }
  }
}

INSTANTIATE_TEST_SUITE_P(Seeds, RandomConverter, testing::Values(1U, 2U, 3U, 4U, 6U, 7U, 9U, 12U));

}  // namespace
}  // namespace zavrek::casefile
