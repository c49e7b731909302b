// What stands between a number and a terminal: filter, delay, converter, amplifier; and contacts with their
// times, bounces and debouncing.
#pragma once

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <string>
#include <vector>

#include "bench/names.hpp"
#include "bench/random.hpp"
#include "zavrek/bench/exchange.hpp"
#include "zavrek/bench/ports/analogue_out.hpp"
#include "zavrek/count.hpp"

namespace zavrek::bench::internal {

/// First order, exact for a value that stays through a step.
class LowPass {
 public:
  LowPass() = default;
  LowPass(double corner_Hz, double step_s) : share_(share_of(corner_Hz, step_s)) {}
  /// Of what is new in each step; 1 without a corner.
  [[nodiscard]] static double share_of(double corner_Hz, double step_s);
  [[nodiscard]] double next(double value) noexcept {
    if (!begun_) state_ = value;
    begun_ = true;
    return state_ += share_ * (value - state_);
  }

 private:
  double share_ = 1, state_ = 0;
  bool begun_ = false;
};

/// A whole number of steps late; zero until then.
class DelayLine {
 public:
  DelayLine() = default;
  DelayLine(double delay_s, double step_s)
      : ring_(static_cast<std::size_t>(std::lround(delay_s / step_s)), 0.0) {}
  [[nodiscard]] double next(double value) noexcept {
    if (ring_.empty()) return value;
    std::swap(value, ring_[at_]);
    at_ = (at_ + 1) % ring_.size();
    return value;
  }

 private:
  std::vector<double> ring_;
  std::size_t at_ = 0;
};

/// Rounds to the steps of its converter, and cuts off beyond its range.
class Converter {
 public:
  Converter() = default;
  /// `full_scale`: what has the terminal at the range.
  Converter(const Conversion& conversion, double full_scale);
  /// From the terminal to volts.
  [[nodiscard]] double volts(double terminal) noexcept;
  [[nodiscard]] double terminal(double volts) const noexcept { return volts * per_volt_; }
  [[nodiscard]] long long cut_off() const noexcept { return cut_off_; }

 private:
  double per_volt_ = 1, range_V_ = 10, least_V_ = 0;
  Count cut_off_;
};

/// An amplifier behind a converter, of which nothing is ideal.
class Amplifier {
 public:
  Amplifier() = default;
  Amplifier(const AnalogueOut& settings, double full_scale, const std::string& unit, double step_s,
            std::uint64_t seed);
  [[nodiscard]] double next(double wanted) noexcept;
  [[nodiscard]] long long cut_off() const noexcept { return cut_off_; }

 private:
  double limit_ = INFINITY, most_change_ = INFINITY, noise_ = 0, state_ = 0;
  LowPass bandwidth_;
  Random random_;
  Count cut_off_;
};

/// Changes that come `delay` later, only if they last for `lasting`.
class Lagging {
 public:
  Lagging() = default;
  Lagging(double lasting_s, double to_on_s, double to_off_s)
      : lasting_s_(lasting_s), to_on_s_(to_on_s), to_off_s_(to_off_s) {}
  /// Of an instant no earlier than the last.
  [[nodiscard]] bool next(bool wanted, double now_s) noexcept {
    if (wanted != wanted_) {
      wanted_ = wanted;
      since_s_ = now_s;
    }
    const double late_s = lasting_s_ + (wanted_ ? to_on_s_ : to_off_s_);
    if (is_ != wanted_ && now_s - since_s_ >= late_s - 1e-9) {
      is_ = wanted_;
      changed_s_ = now_s;
    }
    return is_;
  }
  void begin(bool is) noexcept { is_ = wanted_ = is; }
  [[nodiscard]] double changed_s() const noexcept { return changed_s_; }

 private:
  double lasting_s_ = 0, to_on_s_ = 0, to_off_s_ = 0;
  bool is_ = false, wanted_ = false;
  double since_s_ = -INFINITY, changed_s_ = -INFINITY;
};

}  // namespace zavrek::bench::internal
