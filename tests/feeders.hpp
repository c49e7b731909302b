// Published distribution feeders: the steady state of a case beside the voltages that were published for it.
#pragma once

#include <cmath>
#include <complex>
#include <numbers>
#include <string>
#include <vector>

#include "reference.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::test {

struct FeederNode {
  std::string node;
  std::string signal;
  double published = 0;  // per unit
  double calculated = 0;
  double phase_deg = 0;  // calculated less published
};

inline std::vector<FeederNode> feeder_nodes(const std::string& folder) {
  const trial::Case all = casefile::read_case(folder);
  const emt::Plant plant = emt::compile(all.network);
  std::vector<FeederNode> nodes;
  std::string text = record::read_file(folder + "/published.csv");
  text.erase(0, text.find('\n') + 1);
  while (!text.empty()) {
    const std::string line = text.substr(0, text.find('\n'));
    text.erase(0, line.size() + 1);
    const std::size_t a = line.find(','), b = line.find(',', a + 1), c = line.find(',', b + 1);
    FeederNode node{line.substr(0, a), line.substr(0, a) + ".v" + line.substr(a + 1, b - a - 1),
                    std::stod(line.substr(b + 1, c - b - 1))};
    const network::Bus& bus = *all.network.find_bus(node.node);
    const std::complex<double> v = plant.phasor(plant.signal(node.signal));
    const double base = bus.voltage_V * std::sqrt(bus.phases.size() == 1 ? 2.0 : 2.0 / 3);
    node.calculated = std::abs(v) / base;
    const std::complex<double> turned =
        v * std::polar(1.0, -std::stod(line.substr(c + 1)) * std::numbers::pi / 180);
    node.phase_deg = std::arg(turned) * 180 / std::numbers::pi;
    nodes.push_back(std::move(node));
  }
  return nodes;
}

}  // namespace zavrek::test
