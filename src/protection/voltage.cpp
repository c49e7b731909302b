// Stages of voltage, frequency and power, and the watch over the voltage circuits.
//
//   inverse overvoltage   t = T / (M - 1), undervoltage t = T / (1 - M), M the voltage over pickup (IEC
//   60255-127) power                 S = sum V conj(I); forward is out of the bus, into the line
#include "protection/function.hpp"

#include <limits>

namespace zavrek::protection {

namespace {

class Voltage : public DelayedFunction {
 public:
  explicit Voltage(const VoltageStage& settings) : stage_(settings), over_(settings.when == "over") {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const double voltage = decisive(place_of(in.measured, stage_.end));
    const double factor = started_ ? (over_ ? stage_.drop_off : 1 / stage_.drop_off) : 1;
    const double threshold = factor * stage_.pickup_V;
    started_ = over_ ? voltage > threshold : voltage < threshold && voltage >= stage_.block_below_V;
    if (started_) {
      const double time = stage_.operate_time_s(voltage);
      if (std::isfinite(time)) travel_.advance(1 / time, in.dt_s);
    } else {
      travel_.clear();
    }
    own[0] = started_ ? 1 : 0;
    own[1] = travel_.arrived() ? 1 : 0;
  }

 private:
  /// The one of the three voltages that decides: for "any" the furthest out, for "all" the least.
  [[nodiscard]] double decisive(const End& end) const noexcept {
    if (stage_.quantity == "positive") return size_of(end.v.positive);
    if (stage_.quantity == "negative") return size_of(end.v.negative);
    if (stage_.quantity == "residual") return size_of(end.voltage[3]);
    const bool between = stage_.quantity == "phase-phase";
    double low = INFINITY, high = 0;
    for (std::size_t k = 0; k < 3; ++k) {
      const double v = std::abs(between ? end.voltage[k] - end.voltage[(k + 1) % 3] : end.voltage[k]);
      low = std::min(low, v);
      high = std::max(high, v);
    }
    return over_ == (stage_.of == "any") ? high : low;
  }

  VoltageStage stage_;
  bool over_;
};

class Frequency : public DelayedFunction {
 public:
  explicit Frequency(const FrequencyStage& settings) : stage_(settings) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, stage_.end);
    started_ = end.frequency_valid && size_of(end.v.positive) >= stage_.least_voltage_V && beyond(end);
    own[1] = wait(travel_, started_, stage_.delay_s, in.dt_s) ? 1 : 0;
    own[0] = started_ ? 1 : 0;
  }

 private:
  [[nodiscard]] bool beyond(const End& end) const noexcept {
    const double slack = started_ ? stage_.drop_off_Hz : 0;
    if (stage_.when == "over") return end.frequency_Hz > stage_.pickup_Hz - slack;
    if (stage_.when == "under") return end.frequency_Hz < stage_.pickup_Hz + slack;
    const double rate = stage_.when == "rising" ? end.frequency_rate : -end.frequency_rate;
    return rate > stage_.rate_Hz_per_s * (started_ ? 0.9 : 1);
  }

  FrequencyStage stage_;
};

class Power : public DelayedFunction {
 public:
  explicit Power(const PowerStage& settings) : stage_(settings) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, stage_.end);
    Phasor power{};
    for (std::size_t k = 0; k < 3; ++k) power += end.voltage[k] * std::conj(end.current[k]);
    const double part = stage_.quantity == "active" ? power.real() : power.imag();
    const double counted = stage_.direction == "reverse" ? -part : part;
    started_ = counted > stage_.pickup_W * (started_ ? stage_.drop_off : 1);
    own[1] = wait(travel_, started_, stage_.delay_s, in.dt_s) ? 1 : 0;
    own[0] = started_ ? 1 : 0;
  }

 private:
  PowerStage stage_;
};

/// A fuse that blows leaves voltage out of balance while the current stays balanced; three that blow take
/// the voltage away while the current does not change.
class PotentialWatch : public Function {
 public:
  explicit PotentialWatch(const LossOfPotential& settings) : settings_(settings) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    const double quiet = network::is_set(settings_.negative_A) ? settings_.negative_A : INFINITY;
    const bool unbalanced = network::is_set(settings_.negative_V) &&
                            size_of(end.v.negative) > settings_.negative_V &&
                            size_of(end.i.negative) < quiet && size_of(end.current[3]) / 3 < quiet;
    own[0] = own[1] = wait(travel_, unbalanced || collapsed(end), settings_.delay_s, in.dt_s) ? 1 : 0;
  }
  void rest() noexcept override {
    travel_.clear();
    was_well_ = gone_ = false;
  }

 private:
  [[nodiscard]] bool collapsed(const End& end) noexcept {
    if (!network::is_set(settings_.collapsed_V)) return false;
    if (size_of(end.v.positive) >= settings_.collapsed_V) {
      well_current_ = end.i.positive;
      was_well_ = true;
      gone_ = false;
      return false;
    }
    const double change = network::is_set(settings_.change_A) ? settings_.change_A : INFINITY;
    const bool carries = size_of(end.i.positive) > 0;
    gone_ = was_well_ && carries && std::abs(size_of(end.i.positive) - std::abs(well_current_)) < change;
    return gone_;
  }

  LossOfPotential settings_;
  Travel travel_;
  Phasor well_current_;
  bool was_well_ = false, gone_ = false;
};

}  // namespace

double VoltageStage::operate_time_s(double voltage_V) const {
  const double multiple = voltage_V / pickup_V;
  const bool beyond = when == "over" ? multiple > 1 : multiple < 1;
  if (!beyond) return std::numeric_limits<double>::infinity();
  if (characteristic == "definite") return delay_s;
  return time_multiplier / std::abs(multiple - 1);
}

std::unique_ptr<Function> make_function(const VoltageStage& settings, const Surroundings&) {
  return std::make_unique<Voltage>(settings);
}
std::unique_ptr<Function> make_function(const FrequencyStage& settings, const Surroundings&) {
  return std::make_unique<Frequency>(settings);
}
std::unique_ptr<Function> make_function(const PowerStage& settings, const Surroundings&) {
  return std::make_unique<Power>(settings);
}
std::unique_ptr<Function> make_function(const LossOfPotential& settings, const Surroundings&) {
  return std::make_unique<PotentialWatch>(settings);
}

}  // namespace zavrek::protection
