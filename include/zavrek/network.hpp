#pragma once

#include <string>
#include <vector>

#include "zavrek/network/bus.hpp"
#include "zavrek/network/fault.hpp"
#include "zavrek/network/geometry.hpp"
#include "zavrek/network/registry.hpp"

namespace zavrek::network {

/// The description of a primary system: plain data.
struct Network {
  std::string title;
  double frequency_Hz = 50;
  double step_s = 50e-6;
  std::string start = "steady";      ///< "steady": sinusoidal steady state; "zero": all at rest
  std::string rule = "trapezoidal";  ///< "trapezoidal", or "euler" for backward Euler throughout
  std::vector<Bus> buses;
  std::vector<Element> elements;
  std::vector<LineGeometry> geometries;
  std::vector<Fault> faults;       ///< that a run may strike
  std::vector<FaultPlace> places;  ///< where it may strike any

  // Compiled once: to copy all kinds of them costs every other source seconds.
  Network();
  Network(const Network&);
  Network(Network&&) noexcept;
  Network& operator=(const Network&);
  Network& operator=(Network&&) noexcept;
  ~Network();

  [[nodiscard]] const Bus* find_bus(std::string_view name) const;
  [[nodiscard]] const Element* find_element(std::string_view name) const;
};

inline const Table& table(const Network*) {
  static const Table built =
      TableOf<Network>("network", "what holds for the whole network")
          .text("title", &Network::title, "one line for reports", Need::optional)
          .quantity("frequency", &Network::frequency_Hz, "Hz",
                    within(limits::least_frequency_Hz, limits::most_frequency_Hz), "nominal frequency")
          .quantity("step", &Network::step_s, "us", within(1e-8, 1e-2), "time step")
          .choice("start", &Network::start, {"steady", "zero"},
                  "start in the sinusoidal steady state, or with everything at rest")
          .choice("rule", &Network::rule, {"trapezoidal", "euler"}, "integration rule")
          .build();
  return built;
}

/// The reserved name of the reference node.
inline constexpr std::string_view ground = "ground";

/// What a signal of the plant is: "current out of it, into its bus"; empty for what no table says.
[[nodiscard]] std::string meaning_of(const Network& network, std::string_view signal);

/// Everything that is wrong with names and references: doubled names, unknown buses and elements
/// (with the nearest known name), missing required fields. Empty when the description holds together.
[[nodiscard]] std::vector<Flaw> validate(const Network& network);

}  // namespace zavrek::network
