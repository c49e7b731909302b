// What it costs to save a plant, to set it back and to clone it, for the plants of the demo cases. Baseline:
// to compile it; floor: to copy as many bytes. Each at its best of some rounds, in the middle of a run.
#include <algorithm>
#include <chrono>
#include <cstdio>
#include <cstring>
#include <string>
#include <vector>

#include "zavrek/casefile.hpp"

namespace {

using namespace zavrek;
using Clock = std::chrono::steady_clock;

template <class Work>
double best_us(Work&& work) {
  double best = 1e12;
  for (int round = 0; round < 15; ++round) {
    const auto begun = Clock::now();
    work();
    best = std::min(best, std::chrono::duration<double, std::micro>(Clock::now() - begun).count());
  }
  return best;
}

void advance(emt::Plant& plant, int steps) {
  for (int k = 0; k < steps; ++k) {
    if (plant.step() == emt::Status::diverged) throw Error("the plant diverged");
  }
}

/// A plant that was set back must go where it went before.
void check(emt::Plant& plant, const emt::PlantState& state) {
  advance(plant, 100);
  const double time_s = plant.time_s(), before = plant.value({0});
  plant.restore(state);
  advance(plant, 100);
  if (plant.time_s() != time_s || plant.value({0}) != before)
    throw Error("a plant set back went another way");
}

void measure(const std::string& demo) {
  const network::Network network = casefile::read_case(ZAVREK_DEMO "/" + demo).network;
  emt::Plant plant = emt::compile(network);
  advance(plant, 1000);
  emt::PlantState state = plant.save();
  check(plant, state);
  const double compile_us = best_us([&] { (void)emt::compile(network); });
  const double clone_us = best_us([&] { (void)plant.clone(); });
  const double save_us = best_us([&] { plant.save(state); });
  const double restore_us = best_us([&] { plant.restore(state); });
  std::vector<char> from(state.bytes(), 1), to(state.bytes());
  const double copy_us = best_us([&] { std::memcpy(to.data(), from.data(), from.size()); });
  std::printf("%-14s%10.1f%12.0f%10.0f%9.1f%9.1f%9.1f\n", demo.c_str(),
              static_cast<double>(state.bytes()) / 1024, compile_us, clone_us, save_us, restore_us, copy_us);
}

}  // namespace

int main() {
  std::puts("states of plants: us");
  std::printf("%-14s%10s%12s%10s%9s%9s%9s\n", "", "KiB", "compile", "clone", "save", "restore", "copy");
  for (const char* demo :
       {"veskar", "line", "transformer", "harbour", "crane", "battery", "converter", "island", "link"})
    measure(demo);
  return 0;
}
