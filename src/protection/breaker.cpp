// What looks after a breaker: failure to open, closing again, checking before closing.
#include "protection/function.hpp"

#include <numbers>

namespace zavrek::protection {

namespace {

/// Current still flows a delay after the trip.
class Failure : public DelayedFunction {
 public:
  explicit Failure(const BreakerFailure& settings) : settings_(settings) {}
  [[nodiscard]] std::vector<std::string> conditions() const override {
    return {settings_.started_by.empty() ? "trip" : settings_.started_by};
  }
  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    double largest = 0;
    for (std::size_t k = 0; k < 3; ++k) largest = std::max(largest, size_of(end.current[k]));
    started_ = largest > settings_.current_A && (started_ || in.conditions[0]);
    own[1] = wait(travel_, started_, settings_.delay_s, in.dt_s) ? 1 : 0;
    own[0] = started_ ? 1 : 0;
  }

 private:
  BreakerFailure settings_;
};

/// ready -> (trip, then the breaker open) dead time -> close -> reclaim -> ready; a trip within the reclaim
/// time takes the next shot, after the last one: lockout until the breaker has been closed for the reclaim
/// time.
class Reclosing : public Function {
 public:
  explicit Reclosing(const Reclose& settings) : settings_(settings) {
    for (const std::string& text : settings.dead_times) dead_s_.push_back(parse_quantity_as(text, "s"));
  }
  [[nodiscard]] std::vector<std::string> conditions() const override {
    return {settings_.started_by.empty() ? "trip" : settings_.started_by, settings_.closed};
  }
  void run(const Inputs& in, std::span<char> own) noexcept override {
    const bool trip = in.conditions[0], closed = in.conditions[1];
    spent_s_ += in.dt_s;
    switch (state_) {
      case State::ready:
        if (trip) go(shot_ < dead_s_.size() ? State::opening : State::lockout);
        break;
      case State::opening:
        if (!closed && !trip) go(State::dead);
        break;
      case State::dead:
        if (spent_s_ >= dead_s_[shot_] - 1e-9) {
          ++shot_;
          go(State::closing);
        }
        break;
      case State::closing:
      case State::reclaim:
        // A fault that is still there may trip again before the closing pulse is over.
        if (trip) {
          go(shot_ < dead_s_.size() ? State::opening : State::lockout);
        } else if (state_ == State::closing) {
          if (spent_s_ >= settings_.pulse_s) go(State::reclaim);
        } else if (spent_s_ >= settings_.reclaim_s) {
          shot_ = 0;
          go(State::ready);
        }
        break;
      case State::lockout:
        if (!closed || trip) spent_s_ = 0;
        if (spent_s_ >= settings_.reclaim_s) {
          shot_ = 0;
          go(State::ready);
        }
        break;
    }
    own[0] = state_ == State::opening || state_ == State::dead || state_ == State::closing ? 1 : 0;
    own[1] = state_ == State::closing ? 1 : 0;
    own[2] = state_ == State::lockout ? 1 : 0;
  }
  void rest() noexcept override {
    go(State::ready);
    shot_ = 0;
  }
  void visit_state(StateArchive& archive) override { archive(state_, shot_, spent_s_); }

 private:
  enum class State { ready, opening, dead, closing, reclaim, lockout };
  void go(State next) noexcept {
    state_ = next;
    spent_s_ = 0;
  }

  Reclose settings_;
  std::vector<double> dead_s_;
  State state_ = State::ready;
  std::size_t shot_ = 0;
  double spent_s_ = 0;
};

class Check : public Function {
 public:
  explicit Check(const Synchrocheck& settings) : settings_(settings) {}
  void run(const Inputs& in, std::span<char> own) noexcept override {
    const Phasor a = place_of(in.measured, settings_.end).v.positive;
    const Phasor b = place_of(in.measured, settings_.other_end).v.positive;
    const double angle = size_of(a) > 0 && size_of(b) > 0 ? std::arg(a * std::conj(b)) : 0;
    // The slip turns the angle; smoothed over a tenth of a second.
    const double turn = std::remainder(angle - before_, 2 * std::numbers::pi) / in.dt_s;
    before_ = angle;
    slip_ += std::min(1.0, in.dt_s / 0.1) * (turn / (2 * std::numbers::pi) - slip_);
    const bool fits = size_of(a) > settings_.voltage_V && size_of(b) > settings_.voltage_V &&
                      std::abs(size_of(a) - size_of(b)) < settings_.difference_V &&
                      std::abs(angle) < settings_.angle_rad && std::abs(slip_) < settings_.slip_Hz;
    own[0] = wait(travel_, fits, settings_.delay_s, in.dt_s) ? 1 : 0;
  }
  void rest() noexcept override { travel_.clear(); }
  void visit_state(StateArchive& archive) override { archive(travel_, before_, slip_); }

 private:
  Synchrocheck settings_;
  Travel travel_;
  double before_ = 0, slip_ = 0;
};

}  // namespace

std::unique_ptr<Function> make_function(const BreakerFailure& settings, const Surroundings&) {
  return std::make_unique<Failure>(settings);
}
std::unique_ptr<Function> make_function(const Reclose& settings, const Surroundings&) {
  return std::make_unique<Reclosing>(settings);
}
std::unique_ptr<Function> make_function(const Synchrocheck& settings, const Surroundings&) {
  return std::make_unique<Check>(settings);
}

}  // namespace zavrek::protection
