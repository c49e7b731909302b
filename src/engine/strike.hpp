// A fault of any kind, struck while a run goes: which poles close when, at which angle of the voltage.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "engine/session.hpp"

namespace zavrek::engine::internal {

/// "fault@berth1", "fault@infeed:30%"
[[nodiscard]] network::FaultPlace place_named(const std::string& on, double at);

struct Strike {
  std::string on;
  double at = network::unset;
  std::string phases = "ABC";  ///< as of network::Fault
  double resistance_ohm = 0;
  std::optional<double> angle_rad;  ///< of the faulted voltage from its rising zero; at once when left out
  double lasts_s = 0.2;             ///< 0: until it is cleared
  std::string then_phases;          ///< what it becomes
  double then_after_s = 0;
};

/// What is asked of a place for it: resistances first, then poles.
struct PoleAsk {
  std::string what;
  double value = 0;
  double after_s = 0;  ///< of the inception; NaN for what is done ahead of it
};
/// Throws Error for phases that are none of three, or cannot follow from the first.
[[nodiscard]] std::vector<PoleAsk> asks_of(const Strike& strike, const std::string& place);

/// Where the voltage stands, by the fundamental over the latest cycle of rows, and the next instant not
/// before `soonest_s` at which it has the angle. Throws Error where there is none.
[[nodiscard]] double instant_of_angle(const Traces& traces, const std::string& place,
                                      const std::string& phases, double angle_rad, double soonest_s,
                                      double frequency_Hz);

}  // namespace zavrek::engine::internal
