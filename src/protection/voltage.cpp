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
  explicit Voltage(const VoltageStage& settings)
      : stage_(settings),
        over_(settings.when == "over"),
        definite_(settings.characteristic == "definite"),
        highest_(over_ == (settings.of == "any")),
        quantity_(settings.quantity == "positive"      ? Quantity::positive
                  : settings.quantity == "negative"    ? Quantity::negative
                  : settings.quantity == "residual"    ? Quantity::residual
                  : settings.quantity == "phase-phase" ? Quantity::between
                                                       : Quantity::phase) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const double voltage = decisive(place_of(in.measured, stage_.end));
    const double factor = started_ ? (over_ ? stage_.drop_off : 1 / stage_.drop_off) : 1;
    const double threshold = factor * stage_.pickup_V;
    started_ = over_ ? voltage > threshold : voltage < threshold && voltage >= stage_.block_below_V;
    if (started_) {
      const double time = time_s(voltage);
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
    if (quantity_ == Quantity::positive) return size_of(end.v.positive);
    if (quantity_ == Quantity::negative) return size_of(end.v.negative);
    if (quantity_ == Quantity::residual) return size_of(end.voltage[3]);
    double low = INFINITY, high = 0;
    for (std::size_t k = 0; k < 3; ++k) {
      const double v = size_of(quantity_ == Quantity::between ? end.voltage[k] - end.voltage[(k + 1) % 3]
                                                              : end.voltage[k]);
      low = std::min(low, v);
      high = std::max(high, v);
    }
    return highest_ ? high : low;
  }
  [[nodiscard]] double time_s(double voltage_V) const noexcept {
    const double multiple = voltage_V / stage_.pickup_V;
    if (over_ ? !(multiple > 1) : !(multiple < 1)) return INFINITY;
    return definite_ ? stage_.delay_s : stage_.time_multiplier / std::abs(multiple - 1);
  }

  enum class Quantity { phase, between, positive, negative, residual };
  VoltageStage stage_;
  bool over_, definite_;
  bool highest_;  // of the three decides
  Quantity quantity_;
};

class Frequency : public DelayedFunction {
 public:
  explicit Frequency(const FrequencyStage& settings)
      : stage_(settings),
        way_(settings.when == "over" || settings.when == "rising" ? 1 : -1),
        rate_(settings.when == "rising" || settings.when == "falling") {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, stage_.end);
    started_ = end.frequency_valid && size_of(end.v.positive) >= stage_.least_voltage_V && beyond(end);
    tell(own, stage_.delay_s, in.dt_s);
  }

 private:
  [[nodiscard]] bool beyond(const End& end) const noexcept {
    if (rate_) return way_ * end.frequency_rate > stage_.rate_Hz_per_s * (started_ ? 0.9 : 1);
    const double slack = started_ ? stage_.drop_off_Hz : 0;
    return way_ * (end.frequency_Hz - stage_.pickup_Hz) > -slack;
  }

  FrequencyStage stage_;
  double way_;
  bool rate_;
};

class Power : public DelayedFunction {
 public:
  explicit Power(const PowerStage& settings)
      : stage_(settings),
        way_(settings.direction == "reverse" ? -1 : 1),
        active_(settings.quantity == "active") {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, stage_.end);
    Phasor power{};
    for (std::size_t k = 0; k < 3; ++k) power += end.voltage[k] * std::conj(end.current[k]);
    const double counted = way_ * (active_ ? power.real() : power.imag());
    started_ = counted > stage_.pickup_W * (started_ ? stage_.drop_off : 1);
    tell(own, stage_.delay_s, in.dt_s);
  }

 private:
  PowerStage stage_;
  double way_;
  bool active_;
};

/// A fuse that blows leaves voltage out of balance while the current stays balanced; three that blow take
/// the voltage away while the current does not change.
class PotentialWatch : public Function {
 public:
  explicit PotentialWatch(const LossOfPotential& settings) : settings_(settings) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    const double quiet =
        network::is_set(settings_.negative_current_A) ? settings_.negative_current_A : INFINITY;
    const bool unbalanced = network::is_set(settings_.negative_V) &&
                            size_of(end.v.negative) > settings_.negative_V &&
                            size_of(end.i.negative) < quiet && size_of(end.current[3]) / 3 < quiet;
    own[0] = own[1] = wait(travel_, unbalanced || collapsed(end), settings_.delay_s, in.dt_s) ? 1 : 0;
  }
  void rest() noexcept override {
    travel_.clear();
    was_well_ = gone_ = false;
  }
  void visit_state(StateArchive& archive) override { archive(travel_, well_current_, was_well_, gone_); }

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
