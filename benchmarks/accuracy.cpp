// Prints docs/accuracy.md: deviation from answers that were computed without this project's code.
#include <cmath>
#include <tuple>

#include <fmt/format.h>

#include "emt/circuits.hpp"
#include "emt/converters.hpp"
#include "emt/rights_of_way.hpp"
#include "feeders.hpp"
#include "protection/synchrophasor_cases.hpp"

namespace {

/// Two circuits of 80 km on one tower, and two tracks of 40 km.
void print_lines() {
  using namespace zavrek;
  fmt::print(
      "\n## Lines\n\nTwo circuits of 80 km on one tower, 60 MW and 5 MW: voltages and currents of the "
      "steady state beside the matrix exponential\nof the six conductors, largest deviation.\n\n| model | "
      "step "
      "| 50 Hz | 350 Hz | 1000 Hz |\n| --- | ---: | ---: | ---: | ---: |\n");
  for (const char* parameters : {"constant", "frequency"}) {
    const bool follows = parameters[0] == 'f';
    const double step_s = follows ? 2e-6 : 10e-6;
    fmt::print("| {} | {:.0f} us |", follows ? "fitted in phases" : "constant parameters", 1e6 * step_s);
    for (const double hertz : {50.0, 350.0, 1000.0}) {
      network::Network n = test::two_lines(80e3);
      n.frequency_Hz = hertz;
      test::way_of(n).parameters = parameters;
      network::LineGeometry geometry = n.geometries[0];
      geometry.frequency_Hz = hertz;
      const emt::LineConstants constants =
          follows ? emt::line_constants_at(geometry, hertz) : emt::line_constants(geometry);
      fmt::print(" {:.1e} |", test::deviation_from_distributed(n, constants, 80e3, step_s));
    }
    fmt::print("\n");
  }
  constexpr double fault_steps[] = {20e-6, 10e-6, 5e-6, 2e-6};
  fmt::print(
      "\nA fault at the end of one of two tracks of 40 km, fitted in phases, beside the variable step: rms "
      "of "
      "3 ms, samples at fronts left out.\n\n| signal |");
  for (const double step : fault_steps) fmt::print(" {:.0f} us |", 1e6 * step);
  fmt::print("\n| --- | ---: | ---: | ---: | ---: |\n");
  const emt::Study study = test::track_fault();
  const emt::Series exact = emt::solve_reference(study);
  for (const std::size_t signal : {0, 1}) {
    fmt::print("| {} |", signal == 0 ? "current into the track" : "voltage at the other track's end");
    for (const double step : fault_steps)
      fmt::print(" {:.1e} |", test::error_beside_fronts(study, exact, signal, step));
    fmt::print("\n");
  }
}

/// Beside each limit of the standard, in one table of classes and rates.
void print_synchrophasors() {
  using namespace zavrek::test;
  fmt::print(
      "\n## Synchrophasors\n\nThe cases of IEC/IEEE 60255-118-1:2018 at 50 Hz: the largest error, and the "
      "limit of the "
      "class. TVE in %, frequency in Hz,\nits rate in Hz/s.\n\n| class, reports | case | TVE | limit | "
      "frequency | limit "
      "| rate | limit |\n| --- | --- | ---: | ---: | ---: | ---: | ---: | ---: |\n");
  const auto limit = [](double value) {
    return std::isinf(value) ? std::string("none") : fmt::format("{:g}", value);
  };
  const std::pair<Performance, double> kinds[] = {{Performance::p, 50},
                                                  {Performance::p, 100},
                                                  {Performance::m, 10},
                                                  {Performance::m, 25},
                                                  {Performance::m, 50}};
  for (const auto& [performance, reports] : kinds) {
    for (const PhasorCase& one : phasor_cases(performance, reports))
      fmt::print("| {}, {:g} | {} | {:.3f} | {} | {:.1e} | {} | {:.1e} | {} |\n",
                 performance == Performance::p ? 'P' : 'M', reports, one.name, 100 * one.found.vector,
                 limit(100 * one.limit.vector), one.found.frequency, limit(one.limit.frequency),
                 one.found.rate, limit(one.limit.rate));
  }
  fmt::print(
      "\nResponse to a step of 10 % or 10 degrees: how long each error is above its steady limit, in "
      "ms.\n\n| class, "
      "reports | step | TVE | limit | frequency | limit | rate | limit |\n| --- | --- | ---: | ---: | ---: | "
      "---: | ---: "
      "| ---: |\n");
  for (const auto& [performance, reports] : kinds) {
    const PhasorStep most = phasor_step_limit(performance, reports);
    for (const bool of_angle : {false, true}) {
      const PhasorStep step = phasor_step(performance, reports, of_angle);
      fmt::print("| {}, {:g} | {} | {:.1f} | {:.0f} | {:.1f} | {:.0f} | {:.1f} | {:.0f} |\n",
                 performance == Performance::p ? 'P' : 'M', reports, of_angle ? "angle" : "amplitude",
                 1e3 * step.vector_s, 1e3 * most.vector_s, 1e3 * step.frequency_s, 1e3 * most.frequency_s,
                 1e3 * step.rate_s, 1e3 * most.rate_s);
    }
  }
}

}  // namespace

int main(int argc, char** argv) {
  using namespace zavrek::test;
  const std::string folder = argc > 1 ? argv[1] : "tests/data";
  constexpr double steps[] = {100e-6, 50e-6, 20e-6, 10e-6};
  fmt::print(
      "# Accuracy\n\nMade by `./dev accuracy`. Each circuit starts from rest; the answers in `tests/data` "
      "are closed forms or\n"
      "solutions with a relative error of 1e-9. Errors are shares of the answer's peak.\n\n");
  fmt::print("| circuit | error |");
  for (const double step : steps) fmt::print(" {:.0f} us |", 1e6 * step);
  fmt::print(" order |\n| --- | --- |");
  for (std::size_t k = 0; k < std::size(steps); ++k) fmt::print(" ---: |");
  fmt::print(" ---: |\n");
  for (const Circuit& circuit : reference_circuits()) {
    std::vector<Deviation> deviations;
    for (const double step : steps) deviations.push_back(deviation_of(circuit, folder, step));
    const auto row = [&](const char* name, double Deviation::*of) {
      fmt::print("| {} | {} |", circuit.title, name);
      for (const Deviation& d : deviations) fmt::print(" {:.1e} |", d.*of);
      const double first = deviations.front().*of, last = deviations.back().*of;
      if (first < 1e-8) {
        fmt::print(" exact |\n");
      } else {
        fmt::print(" {:.2f} |\n", std::log(first / last) / std::log(steps[0] / steps[3]));
      }
    };
    row("rms", &Deviation::rms);
    row("largest", &Deviation::largest);
  }
  fmt::print(
      "\nOrder: slope of the error over the step, from 100 us to 10 us; two is what the trapezoidal rule "
      "promises. On the open\n"
      "line the step only errs at the instant of the wave front itself, one sample in each round trip; the "
      "rms "
      "of so few samples\n"
      "falls with half an order more. \"exact\": nothing is left but the digits of the file (travel time and "
      "step divide evenly,\n"
      "and the circuit has no store of energy but the line).\n");
  constexpr double boost_steps[] = {20e-6, 10e-6, 5e-6, 2e-6, 1e-6};
  constexpr double switched_steps[] = {50e-6, 20e-6, 10e-6, 5e-6, 1e-6};
  fmt::print(
      "\n## Switched circuits\n\nRms error, as a share of the peak. The bridge switches 10,000 times a "
      "second; its edges lie inside the steps.\n\n| circuit |");
  for (const double step : switched_steps) fmt::print(" {:.0f} us |", 1e6 * step);
  fmt::print("\n| --- |");
  for (std::size_t k = 0; k < std::size(switched_steps); ++k) fmt::print(" ---: |");
  fmt::print("\n| diode, R-L, current |");
  for (const double step : switched_steps) {
    zavrek::emt::Plant plant = zavrek::emt::compile(diode_rl(), step);
    fmt::print(" {:.1e} |",
               rms_error(plant, "z.ia", read_reference(folder + "/diode_rl.csv", 1), [](auto&) {}));
  }
  fmt::print("\n| H bridge, 5 kHz carrier, current |");
  for (const double step : switched_steps) {
    zavrek::emt::Plant plant = zavrek::emt::compile(h_bridge(), step);
    EdgeFeeder feed(plant, folder);
    fmt::print(" {:.1e} |", rms_error(plant, "z.ia", read_reference(folder + "/bridge_pwm.csv", 1), feed));
  }
  fmt::print("\n");
  fmt::print(
      "\nA boost of 10 kHz (100 V, 100 uF) beside the variable step at 1e-9: largest error of its voltage in "
      "20 ms. "
      "Ten steps to a\nperiod are 10 us. In the last four rows its current ends within each period.\n\n| "
      "boost |");
  for (const double step : boost_steps) fmt::print(" {:.0f} us |", 1e6 * step);
  fmt::print("\n| --- |");
  for (std::size_t k = 0; k < std::size(boost_steps); ++k) fmt::print(" ---: |");
  fmt::print("\n");
  for (const auto& [inductance_H, load_ohm, start_V] :
       {std::tuple{500e-6, 20.0, 166.0}, {100e-6, 200.0, 250.0}, {50e-6, 200.0, 250.0}}) {
    zavrek::emt::Study study = boost(inductance_H, load_ohm, 0.4, start_V);
    const zavrek::emt::Series exact = zavrek::emt::solve_reference(study, 1e-9);
    for (const char* depth : {"switched", "averaged"}) {
      std::get<zavrek::network::DcConverter>(study.network.elements[1]).depth = depth;
      fmt::print("| {:.0f} uH, {} ohm, {} |", 1e6 * inductance_H, load_ohm, depth);
      for (const double step : boost_steps)
        fmt::print(" {:.1e} |", worst_apart(zavrek::emt::simulate(study, step), exact));
      fmt::print("\n");
    }
  }
  const LineDeviation line = line_deviation(folder);
  print_lines();
  print_synchrophasors();
  fmt::print(
      "\n## Line constants\n\nFour wires over earth, against published matrices of four digits (Carson, two "
      "terms; neutral eliminated). Largest of {}\n"
      "entries: resistance {:.1e} ohm/mile, reactance {:.1e} ohm/mile, susceptance {:.2f} % (the published "
      "ones imply a\n"
      "permittivity that much below that of vacuum).\n",
      line.entries, line.resistance_ohm_per_mile, line.reactance_ohm_per_mile, 100 * line.susceptance_share);
  fmt::print(
      "\n## Published feeders\n\nTest feeders of the IEEE distribution subcommittee (cases in `tests/data`): "
      "untransposed lines, "
      "unbalanced loads of\nconstant power, current and impedance, capacitor banks, regulators. Magnitudes "
      "of the node "
      "voltages in the steady\nstate at the start, against those published to four or five digits.\n\n"
      "| feeder | voltages | largest deviation | at | largest angle |\n| --- | ---: | ---: | --- | ---: |\n");
  for (const char* name : {"feeder4", "feeder13", "feeder34"}) {
    const std::vector<FeederNode> nodes = feeder_nodes(folder + "/" + name);
    const FeederNode* worst = &nodes.front();
    double angle = 0;
    const auto deviation = [](const FeederNode& n) { return std::abs(n.calculated / n.published - 1); };
    for (const FeederNode& node : nodes) {
      if (deviation(node) > deviation(*worst)) worst = &node;
      angle = std::max(angle, std::abs(node.phase_deg));
    }
    fmt::print("| {} | {} | {:.3f} % | {} | {:.3f} deg |\n", name, nodes.size(), 100 * deviation(*worst),
               worst->signal, angle);
  }
}
