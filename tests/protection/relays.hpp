// Relays of few words, and quantities to feed them.
#pragma once

#include <cmath>
#include <numbers>

#include "zavrek/protection.hpp"

namespace zavrek::protection {

inline constexpr double pi = std::numbers::pi;
inline constexpr double rate_Hz = 4000;

/// A function called `name`, filled in by `fill`.
template <class Kind, class Fill>
Kind function(const std::string& name, Fill&& fill) {
  Kind made;
  made.name = name;
  fill(made);
  return made;
}

inline Stage definite(const std::string& name, double pickup_A, double delay_s) {
  return function<Stage>(name, [&](Stage& s) {
    s.pickup_A = pickup_A;
    s.delay_s = delay_s;
  });
}
inline Stage inverse(const std::string& name, const std::string& curve, double pickup_A, double multiplier) {
  return function<Stage>(name, [&](Stage& s) {
    s.characteristic = curve;
    s.pickup_A = pickup_A;
    s.time_multiplier = multiplier;
  });
}

inline RelaySettings relay_of(std::vector<FunctionSettings> functions) {
  RelaySettings settings;
  settings.name = "R";
  settings.functions = std::move(functions);
  return settings;
}

/// Steady phasors (rms) of one place, from which samples are made.
struct Steady {
  std::array<Phasor, 3> current{}, voltage{};
  double frequency_Hz = 50;

  static Steady balanced(double current_A, double lag_rad, double phase_voltage_V) {
    Steady s;
    for (std::size_t k = 0; k < 3; ++k) {
      const double turn = -2 * pi / 3 * static_cast<double>(k);
      s.voltage[k] = std::polar(phase_voltage_V, turn);
      s.current[k] = std::polar(current_A, turn - lag_rad);
    }
    return s;
  }
  [[nodiscard]] Sample at(double time_s) const {
    Sample sample;
    const Phasor turn = std::polar(std::numbers::sqrt2, 2 * pi * frequency_Hz * time_s);
    for (std::size_t k = 0; k < 3; ++k) {
      sample.current_A[k] = (current[k] * turn).real();
      sample.voltage_V[k] = (voltage[k] * turn).real();
      sample.current_A[3] += sample.current_A[k];
      sample.voltage_V[3] += sample.voltage_V[k];
    }
    return sample;
  }
};

/// Feeds a relay, and counts its time.
class Feeder {
 public:
  explicit Feeder(RelaySettings settings, int ends = 1)
      : relay(std::move(settings), rate_Hz, 50, ends), samples_(static_cast<std::size_t>(ends)) {}

  void feed(const std::vector<Steady>& ends, double for_s) {
    for (long k = std::lround(for_s * rate_Hz); k > 0; --k) step(ends);
  }
  void feed(const Steady& one, double for_s) { feed(std::vector{one}, for_s); }
  /// Until `signal` rises; the time that took, infinite beyond `limit_s`.
  double until(const std::string& signal, const std::vector<Steady>& ends, double limit_s) {
    const std::size_t bit = relay.find_signal(signal);
    for (long k = 0; k < std::lround(limit_s * rate_Hz); ++k) {
      step(ends);
      if (relay.signal(bit)) return static_cast<double>(k + 1) / rate_Hz;
    }
    return INFINITY;
  }
  double until(const std::string& signal, const Steady& one, double limit_s) {
    return until(signal, std::vector{one}, limit_s);
  }
  [[nodiscard]] bool on(const std::string& signal) const { return relay.signal(relay.find_signal(signal)); }

  Relay relay;

 private:
  void step(const std::vector<Steady>& ends) {
    for (std::size_t e = 0; e < ends.size(); ++e) samples_[e] = ends[e].at(time_s_);
    relay.push(samples_);
    time_s_ += 1 / rate_Hz;
  }
  std::vector<Sample> samples_;
  double time_s_ = 0;
};

}  // namespace zavrek::protection
