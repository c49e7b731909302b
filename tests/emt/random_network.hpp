// Networks made of chance, from a seed: a tree of one-phase buses with some loops.
#pragma once

#include <cmath>
#include <random>
#include <string>
#include <vector>

#include "zavrek/emt.hpp"

namespace zavrek::emt {

struct RandomNetwork {
  network::Network network;
  std::vector<network::Branch> branches;  // as in the network, for the energies
};

/// A tree of one-phase buses with some loops: series R-L between them, R-L or R-L-C to ground at each.
inline RandomNetwork random_network(unsigned seed) {
  using namespace network;
  std::mt19937 random(seed);
  const auto between = [&](double low, double high) {
    return std::exp(std::uniform_real_distribution<double>(std::log(low), std::log(high))(random));
  };
  RandomNetwork r;
  Network& n = r.network;
  n.start = "zero";
  const int buses = 3 + static_cast<int>(random() % 6);
  for (int k = 0; k <= buses; ++k) n.buses.push_back({"b" + std::to_string(k), 1e3, "a"});
  n.elements.emplace_back(Source{.name = "e", .bus = "b0", .voltage_V = 700, .angle_rad = between(0.1, 3)});
  const auto add = [&](const std::string& from, const std::string& to, bool capacitive) {
    Branch b{.name = "z" + std::to_string(r.branches.size()),
             .between = {from, to},
             .resistance_ohm = between(0.1, 20),
             .inductance_H = between(1e-3, 50e-3)};
    if (capacitive) b.capacitance_F = between(5e-6, 500e-6);
    r.branches.push_back(b);
    n.elements.emplace_back(b);
  };
  for (int k = 1; k <= buses; ++k) {
    add("b" + std::to_string(random() % static_cast<unsigned>(k)), "b" + std::to_string(k), false);
    add("b" + std::to_string(k), "ground", random() % 2 == 0);
  }
  for (int k = 0; k < buses / 3; ++k) {
    const auto a = random() % static_cast<unsigned>(buses + 1),
               b = random() % static_cast<unsigned>(buses + 1);
    if (a != b) add("b" + std::to_string(a), "b" + std::to_string(b), false);
  }
  return r;
}

}  // namespace zavrek::emt
