// The verbs of the tool: what each is told, and what it returns as the exit code. main.cpp alone knows
// the command line.
#pragma once

#include <cstddef>
#include <string>

#include "zavrek/wire.hpp"

namespace zavrek::tool {

inline constexpr int done = 0;
inline constexpr int failed_verdict = 1;
inline constexpr int bad_input = 2;

struct CheckOptions {
  std::string folder;
  bool json = false;
  bool signals = false;
};
[[nodiscard]] int check(const CheckOptions& options);

struct RunOptions {
  std::string folder;
  std::string duration = "1 s";
  std::string pace = "wall";
  std::string place;
  std::string record;
  std::string figure;
};
[[nodiscard]] int run(const RunOptions& options);

struct TestOptions {
  std::string folder;
  std::string out;
  std::string only;
  std::string place;
  std::string interface;
  std::string encoding = "binary";
  bool free = false;
  bool json = false;
  bool no_figures = false;
};
[[nodiscard]] int test(const TestOptions& options);

struct PlotOptions {
  std::string record;
  std::string figure;
  std::string title;
  std::size_t panels = 4;
};
[[nodiscard]] int plot(const PlotOptions& options);

struct LineOptions {
  std::string geometry;
  bool json = false;
};
[[nodiscard]] int line(const LineOptions& options);

struct RelayOptions {
  std::string settings;
  std::string interface = "lo";
  std::string medium = "automatic";
  std::string frequency = "50 Hz";
  wire::StandInPorts ports;
};
[[nodiscard]] int relay(const RelayOptions& options);

struct FitnessOptions {
  std::string step = "50 us";
  std::string duration = "3 s";
};
[[nodiscard]] int fitness(const FitnessOptions& options);

/// Lists all kinds when `kind` is empty.
[[nodiscard]] int describe(const std::string& kind);

}  // namespace zavrek::tool
