// What a function of a relay is to the relay: told what was measured, it sets its signals.
#pragma once

#include <algorithm>
#include <cmath>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "zavrek/protection/measuring.hpp"
#include "zavrek/protection/settings.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::protection {

/// Something that must last: counts to one while on.
class Travel {
 public:
  /// `rate_per_s`: of travel; infinite arrives at once. True once arrived, until `clear`.
  bool advance(double rate_per_s, double dt_s) noexcept {
    if (arrived_) {
      before_s_ += dt_s;
      return true;
    }
    const double left = 1 - travel_;
    travel_ += std::isfinite(rate_per_s) ? rate_per_s * dt_s : 2;
    // A millionth of slack: a delay that is a whole number of steps must not take one more.
    if (travel_ < 1 - 1e-6) return false;
    arrived_ = true;
    before_s_ = std::isfinite(rate_per_s) ? std::max(0.0, dt_s - left / rate_per_s) : dt_s;
    return true;
  }
  /// Towards rest, at a rate of its own.
  void retreat(double rate_per_s, double dt_s) noexcept {
    arrived_ = false;
    travel_ = std::isfinite(rate_per_s) ? std::max(0.0, travel_ - rate_per_s * dt_s) : 0;
  }
  /// Neither on nor back: arrived it is no more, but as good as there.
  void stay() noexcept { arrived_ = false; }
  void clear() noexcept { *this = {}; }
  [[nodiscard]] bool arrived() const noexcept { return arrived_; }
  [[nodiscard]] double travel() const noexcept { return travel_; }
  /// How long before the end of the latest step it arrived.
  [[nodiscard]] double before_s() const noexcept { return before_s_; }

 private:
  double travel_ = 0;
  double before_s_ = 0;
  bool arrived_ = false;
};

/// Waits `delay_s` of being on without a break.
[[nodiscard]] inline bool wait(Travel& travel, bool on, double delay_s, double dt_s) noexcept {
  if (on) return travel.advance(delay_s > 0 ? 1 / delay_s : INFINITY, dt_s);
  travel.clear();
  return false;
}

/// A condition over signals, compiled to postfix.
class Condition {
 public:
  /// Throws Error that says what is wrong with the text. `find` gives the place of a signal or throws.
  template <class Find>
  Condition(const std::string& text, Find&& find) {
    for (Token& token : parse(text)) {
      if (token.operation == '$') token.place = find(token.name);
      steps_.push_back({token.operation, token.place});
    }
  }
  Condition() = default;
  [[nodiscard]] bool given() const noexcept { return !steps_.empty(); }
  [[nodiscard]] bool holds(std::span<const char> bits) const noexcept {
    return !steps_.empty() && evaluate(bits);
  }
  /// Names in a condition; throws as the constructor does.
  [[nodiscard]] static std::vector<std::string> names_in(const std::string& text);

 private:
  static constexpr std::size_t deepest = 32;
  struct Token {
    char operation;  // '$' signal, '&', '|', '!'
    std::string name;
    std::size_t place = 0;
  };
  struct Step {
    char operation;
    std::size_t place;
  };
  [[nodiscard]] bool evaluate(std::span<const char> bits) const noexcept;
  [[nodiscard]] static std::vector<Token> parse(const std::string& text);
  std::vector<Step> steps_;
};

/// Nominal values and ratios that functions need to read their settings.
struct Surroundings {
  const RelaySettings& relay;
  double frequency_Hz;
};

class Function {
 public:
  virtual ~Function() = default;
  /// Conditions that it reads, in the order of `Inputs::conditions`.
  [[nodiscard]] virtual std::vector<std::string> conditions() const { return {}; }

  struct Inputs {
    const Measured& measured;
    double dt_s;
    std::span<const bool> conditions;
  };
  /// Sets `own`, one for each of its settings' `signals()`. Not called while blocked; then `rest` is.
  virtual void run(const Inputs& in, std::span<char> own) noexcept = 0;
  virtual void rest() noexcept = 0;
  /// What it remembers from one decision to the next.
  virtual void visit_state(StateArchive& archive) = 0;
  /// How long before the end of the latest step its trip rose.
  [[nodiscard]] virtual double tripped_before_s() const noexcept { return 0; }
};

/// A function that starts, and trips when it has travelled.
class DelayedFunction : public Function {
 public:
  void rest() noexcept override {
    started_ = false;
    travel_.clear();
  }
  void visit_state(StateArchive& archive) override { archive(travel_, started_); }
  [[nodiscard]] double tripped_before_s() const noexcept override { return travel_.before_s(); }

 protected:
  /// Its start, and its trip behind a delay.
  void tell(std::span<char> own, double delay_s, double dt_s) noexcept {
    own[1] = wait(travel_, started_, delay_s, dt_s) ? 1 : 0;
    own[0] = started_ ? 1 : 0;
  }

  Travel travel_;
  bool started_ = false;
};

/// One that looks at a ratio, which passes through anything while windows fill: its start shows once it has
/// lasted longer than that.
class ConfirmedFunction : public DelayedFunction {
 public:
  void rest() noexcept override {
    DelayedFunction::rest();
    confirmed_.clear();
  }
  void visit_state(StateArchive& archive) override {
    DelayedFunction::visit_state(archive);
    archive(confirmed_);
  }

 protected:
  void tell(std::span<char> own, double delay_s, double dt_s) noexcept {
    DelayedFunction::tell(own, delay_s, dt_s);
    own[0] = wait(confirmed_, started_, confirm_s, dt_s) ? 1 : 0;
  }

 private:
  static constexpr double confirm_s = 0.025;
  Travel confirmed_;
};

[[nodiscard]] std::unique_ptr<Function> make_function(const Stage& settings, const Surroundings& around);
[[nodiscard]] std::unique_ptr<Function> make_function(const VoltageStage& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const FrequencyStage& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const Zone& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const PowerSwing& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const SwitchOntoFault& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const Differential& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const BreakerFailure& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const Reclose& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const Synchrocheck& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const Thermal& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const PowerStage& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const LossOfPotential& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const Unbalance& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const EarthPower& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const RestrictedEarth& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const Overfluxing& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const FieldLoss& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const PoleSlip& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const MotorStart& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const VectorShift& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const CurrentWatch& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const Logic& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const Latch& settings, const Surroundings&);
[[nodiscard]] std::unique_ptr<Function> make_function(const Output& settings, const Surroundings&);

/// The place of a function, from its settings.
[[nodiscard]] inline const End& place_of(const Measured& measured, int end) noexcept {
  return measured.ends[static_cast<std::size_t>(end - 1)];
}

[[nodiscard]] inline double dot(const Phasor& a, const Phasor& b) noexcept {
  return (a * std::conj(b)).real();
}

}  // namespace zavrek::protection
