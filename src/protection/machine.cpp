// Functions of machines and transformers: flux, excitation, slipping poles, starts.
//
//   flux            B = (U / Un) / (f / fn), U the largest voltage between phases; inverse t = T / (B / Bp -
//   1) excitation      Z = V1 / I1, I1 into the machine, in the circle of diameter Xd whose top lies X'd/2
//   below the origin slipping poles  Z crosses from one blinder to the other, slower than a fault does
#include "protection/function.hpp"

#include <array>
#include <numbers>

namespace zavrek::protection {

namespace {

class Flux : public DelayedFunction {
 public:
  Flux(const Overfluxing& settings, double nominal_Hz)
      : settings_(settings), nominal_Hz_(nominal_Hz), definite_(settings.characteristic == "definite") {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    double largest = 0;
    for (std::size_t k = 0; k < 3; ++k)
      largest = std::max(largest, size_of(end.voltage[k] - end.voltage[(k + 1) % 3]));
    const double frequency = end.frequency_valid && end.frequency_Hz > 0 ? end.frequency_Hz : nominal_Hz_;
    const double multiple = largest / settings_.rated_voltage_V * nominal_Hz_ / frequency / settings_.pickup;
    started_ = multiple > (started_ ? settings_.drop_off : 1);
    if (!started_) {
      travel_.clear();
    } else if (multiple > 1) {
      const double time_s = definite_ ? settings_.delay_s : settings_.time_multiplier / (multiple - 1);
      travel_.advance(time_s > 0 ? 1 / time_s : INFINITY, in.dt_s);
    }
    own[0] = started_ ? 1 : 0;
    own[1] = started_ && travel_.arrived() ? 1 : 0;
  }

 private:
  Overfluxing settings_;
  double nominal_Hz_;
  bool definite_;
};

class Excitation : public ConfirmedFunction {
 public:
  explicit Excitation(const FieldLoss& settings)
      : settings_(settings),
        way_(settings.current == "out" ? -1 : 1),
        centre_(0, -(settings.offset_ohm + settings.diameter_ohm / 2)) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    const Phasor current = way_ * end.i.positive;
    // |V / I - centre| < radius, without the division.
    const double radius = settings_.diameter_ohm / 2 * (started_ ? 1.02 : 1);
    started_ = size_of(end.v.positive) >= settings_.least_voltage_V && size_of(current) > 0 &&
               size_of(end.v.positive - centre_ * current) < radius * size_of(current);
    tell(own, settings_.delay_s, in.dt_s);
  }

 private:
  FieldLoss settings_;
  double way_;
  Phasor centre_;
};

class Slipping : public Function {
 public:
  explicit Slipping(const PoleSlip& settings)
      : settings_(settings), turn_(std::polar(1.0, std::numbers::pi / 2 - settings.angle_rad)) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    own[0] = own[1] = 0;
    since_s_ += in.dt_s;
    if (since_s_ > settings_.forget_s) count_ = 0;
    if (size_of(end.i.positive) > 0) follow(end.v.positive / end.i.positive * turn_, in.dt_s);
    own[0] = between_s_ > 0 || count_ > 0 ? 1 : 0;
    own[1] = count_ >= settings_.slips ? 1 : 0;
  }
  void rest() noexcept override {
    side_ = from_ = count_ = 0;
    between_s_ = since_s_ = 0;
  }
  void visit_state(StateArchive& archive) override { archive(side_, from_, count_, between_s_, since_s_); }

 private:
  /// `z` with the line upright: the blinders stand at either side of it.
  void follow(const Phasor& z, double dt_s) noexcept {
    const bool within = z.imag() < settings_.forward_ohm && z.imag() > -settings_.reverse_ohm;
    const int side = z.real() > settings_.blinder_ohm ? 1 : z.real() < -settings_.blinder_ohm ? -1 : 0;
    if (side == 0) {
      if (side_ != 0) {
        from_ = within ? side_ : 0;
        between_s_ = 0;
      }
      if (!within) from_ = 0;
      between_s_ += dt_s;
    } else {
      if (side_ == 0 && from_ == -side && between_s_ >= settings_.least_time_s) {
        ++count_;
        since_s_ = 0;
      }
      from_ = 0;
      between_s_ = 0;
    }
    side_ = side;
  }

  PoleSlip settings_;
  Phasor turn_;
  int side_ = 0, from_ = 0, count_ = 0;
  double between_s_ = 0, since_s_ = 0;
};

/// Against the angle two cycles before, less what it turned in the two before those: a frequency that is off
/// turns it steadily, a jump does not.
class Jump : public Function {
 public:
  Jump(const VectorShift& settings, double nominal_Hz) : settings_(settings), apart_s_(2 / nominal_Hz) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const Phasor now = place_of(in.measured, settings_.end).v.positive;
    time_s_ += in.dt_s;
    const Phasor &before = past_[(next_ + kept) % past_.size()], &long_before = past_[next_];
    const bool there =
        std::min({size_of(now), size_of(before), size_of(long_before)}) >= settings_.least_voltage_V;
    const double turned =
        there ? std::arg(now * std::conj(before)) - std::arg(before * std::conj(long_before)) : 0;
    if (std::abs(std::remainder(turned, 2 * std::numbers::pi)) > settings_.angle_rad)
      left_s_ = settings_.pulse_s;
    own[0] = own[1] = left_s_ > 0 ? 1 : 0;
    left_s_ = std::max(0.0, left_s_ - in.dt_s);
    if (time_s_ - last_s_ < apart_s_ / kept * (1 - 1e-6)) return;
    past_[next_] = now;
    next_ = (next_ + 1) % past_.size();
    last_s_ = time_s_;
  }
  void rest() noexcept override {
    past_.fill(0);
    left_s_ = 0;
  }
  void visit_state(StateArchive& archive) override { archive(time_s_, last_s_, left_s_, past_, next_); }

 private:
  static constexpr std::size_t kept = 16;  // in two cycles
  VectorShift settings_;
  double apart_s_, time_s_ = 0, last_s_ = 0, left_s_ = 0;
  std::array<Phasor, 2 * kept> past_{};  // the oldest stands at `next_`
  std::size_t next_ = 0;
};

class Starts : public Function {
 public:
  static constexpr int most = 16;
  explicit Starts(const MotorStart& settings) : settings_(settings) { rest(); }

  void run(const Inputs& in, std::span<char> own) noexcept override {
    constexpr double standing = 0.1;  // of the rated current
    const End& end = place_of(in.measured, settings_.end);
    double current = 0;
    for (std::size_t k = 0; k < 3; ++k) current = std::max(current, size_of(end.current[k]));
    const double share = current / settings_.rated_A;
    for (double& since : since_s_) since += in.dt_s;
    if (share < standing) {
      phase_ = Phase::standing;
      rising_s_ = 0;
    } else if (phase_ == Phase::standing && share > settings_.starting) {
      phase_ = Phase::starting;
      since_s_[static_cast<std::size_t>(next_)] = 0;
      next_ = (next_ + 1) % most;
    } else {
      if (phase_ == Phase::standing) rising_s_ += in.dt_s;
      const bool has_started = phase_ == Phase::starting && share < settings_.starting;
      const bool was_there = phase_ == Phase::standing && rising_s_ > longest_rise_s;
      if (has_started || was_there) phase_ = Phase::running;
    }
    const bool slow = wait(starting_, phase_ == Phase::starting, settings_.longest_s, in.dt_s);
    const bool stalls =
        network::is_set(settings_.stalled) && phase_ == Phase::running && share > settings_.stalled;
    const bool stalled = wait(stalling_, stalls, settings_.stall_delay_s, in.dt_s);
    int starts = 0;
    for (const double since : since_s_) starts += since < settings_.within_s ? 1 : 0;
    own[0] = phase_ == Phase::starting || stalls ? 1 : 0;
    own[1] = slow || stalled ? 1 : 0;
    own[2] = starts >= settings_.most_starts ? 1 : 0;
    before_s_ = slow ? starting_.before_s() : stalling_.before_s();
  }
  void rest() noexcept override {
    since_s_.fill(INFINITY);
    starting_.clear();
    stalling_.clear();
    phase_ = Phase::standing;
    next_ = 0;
    rising_s_ = 0;
  }
  [[nodiscard]] double tripped_before_s() const noexcept override { return before_s_; }
  void visit_state(StateArchive& archive) override {
    archive(phase_, starting_, stalling_, since_s_, next_, rising_s_, before_s_);
  }

 private:
  static constexpr double longest_rise_s = 0.1;  // of a current that a start begins with
  enum class Phase { standing, starting, running };
  MotorStart settings_;
  Phase phase_ = Phase::standing;
  Travel starting_, stalling_;
  std::array<double, most> since_s_{};  // the latest starts
  int next_ = 0;
  double rising_s_ = 0, before_s_ = 0;
};

}  // namespace

std::unique_ptr<Function> make_function(const Overfluxing& settings, const Surroundings& around) {
  return std::make_unique<Flux>(settings, around.frequency_Hz);
}
std::unique_ptr<Function> make_function(const FieldLoss& settings, const Surroundings&) {
  return std::make_unique<Excitation>(settings);
}
std::unique_ptr<Function> make_function(const PoleSlip& settings, const Surroundings&) {
  return std::make_unique<Slipping>(settings);
}
std::unique_ptr<Function> make_function(const VectorShift& settings, const Surroundings& around) {
  return std::make_unique<Jump>(settings, around.frequency_Hz);
}
std::unique_ptr<Function> make_function(const MotorStart& settings, const Surroundings&) {
  return std::make_unique<Starts>(settings);
}

}  // namespace zavrek::protection
