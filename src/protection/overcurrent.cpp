// Overcurrent stages.
//
//   progress' = 1 / t(M) above pickup, t the characteristic, M the current over pickup; trip at 1
//   forward:  Re(I conj(Vp)) > 0, Vp the polarising voltage turned back by the characteristic angle:
//             phase a  j Vbc (a healthy voltage along Va), residual  -V0, negative sequence  -V2
#include "protection/function.hpp"

#include <cstdint>
#include <limits>

namespace zavrek::protection {

namespace {

double on_points(const Points& points, double multiple) {
  if (points.empty() || multiple < points.front().x) return std::numeric_limits<double>::infinity();
  for (std::size_t k = 1; k < points.size(); ++k) {
    if (multiple > points[k].x) continue;
    // Straight in the logarithms, as characteristics are drawn.
    const double share = std::log(multiple / points[k - 1].x) / std::log(points[k].x / points[k - 1].x);
    return points[k - 1].y * std::pow(points[k].y / points[k - 1].y, share);
  }
  return points.back().y;
}

class Overcurrent : public DelayedFunction {
 public:
  explicit Overcurrent(const Stage& settings)
      : stage_(settings),
        curve_(find_curve(settings.characteristic)),
        quantity_(settings.quantity == "earth"      ? Quantity::earth
                  : settings.quantity == "negative" ? Quantity::negative
                                                    : Quantity::phase),
        directed_(settings.direction != "none"),
        restrained_(network::is_set(settings.second_harmonic)),
        by_voltage_(settings.voltage != "none"),
        restrains_(settings.voltage == "restrains"),
        instant_(settings.reset == "instant"),
        inverse_(settings.reset == "inverse" && curve_ != nullptr),
        sign_(settings.direction == "reverse" ? -1.0 : 1.0),
        turn_(std::polar(1.0, -settings.angle_rad)) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, stage_.end);
    // As if the current were that much larger where voltage lets the pickup fall.
    const double share = by_voltage_ ? share_at(least_between(end)) : 1;
    const double current = restrained_ && held_back(end) ? 0 : counted(end) / share;
    const double threshold = started_ ? stage_.drop_off * stage_.pickup_A : stage_.pickup_A;
    started_ = current > threshold;
    if (started_) {
      rested_s_ = 0;
      if (current > stage_.pickup_A) travel_.advance(1 / operate_time(current), in.dt_s);
    } else {
      fall_back(current, in.dt_s);
    }
    own[0] = started_ ? 1 : 0;
    own[1] = started_ && travel_.arrived() ? 1 : 0;
  }
  void visit_state(StateArchive& archive) override {
    DelayedFunction::visit_state(archive);
    archive(rested_s_);
  }

 private:
  enum class Quantity : std::uint8_t { phase, earth, negative };

  [[nodiscard]] double operate_time(double current) const noexcept {
    const double multiple = std::min(current / stage_.pickup_A, stage_.flat_above);
    if (curve_) return curve_->time_s(multiple, stage_.time_multiplier);
    return stage_.points.empty() ? stage_.delay_s : on_points(stage_.points, multiple);
  }

  void fall_back(double current, double dt_s) noexcept {
    if (instant_) return travel_.clear();
    if (inverse_)
      return travel_.retreat(1 / curve_->reset_time_s(current / stage_.pickup_A, stage_.time_multiplier),
                             dt_s);
    // Definite (IEC 60255-151): what was travelled is held, and gone after the delay.
    rested_s_ += dt_s;
    if (rested_s_ > stage_.reset_delay_s) return travel_.clear();
    travel_.stay();
  }

  [[nodiscard]] double share_at(double between_V) const noexcept {
    const double of_full = between_V / stage_.full_voltage_V;
    if (restrains_) return std::clamp(of_full, Stage::lowest_share, 1.0);
    return of_full < 1 ? 1 : INFINITY;
  }
  [[nodiscard]] static double least_between(const End& end) noexcept {
    double least = INFINITY;
    for (std::size_t k = 0; k < 3; ++k)
      least = std::min(least, size_of(end.voltage[k] - end.voltage[(k + 1) % 3]));
    return least;
  }

  [[nodiscard]] bool held_back(const End& end) const noexcept {
    double fundamental = 0, second = 0;
    for (std::size_t k = 0; k < 3; ++k) {
      fundamental = std::max(fundamental, size_of(end.current[k]));
      second = std::max(second, size_of(end.second[k]));
    }
    return second > stage_.second_harmonic * fundamental;
  }

  /// The current that the stage compares: only what flows its way.
  [[nodiscard]] double counted(const End& end) const noexcept {
    if (quantity_ == Quantity::earth) return towards(end.current[3], -end.v.zero, stage_.least_voltage_V / 3);
    if (quantity_ == Quantity::negative)
      return towards(end.i.negative, -end.v.negative, stage_.least_voltage_V);
    double largest = 0;
    if (!directed_) {
      for (std::size_t k = 0; k < 3; ++k) largest = std::max(largest, std::norm(end.current[k]));
      return std::sqrt(largest);
    }
    for (std::size_t k = 0; k < 3; ++k) {
      Phasor along = Phasor(0, 1) * (end.voltage[(k + 1) % 3] - end.voltage[(k + 2) % 3]);
      if (size_of(along) < std::sqrt(3.0) * stage_.least_voltage_V)
        along = end.v1_memory * std::polar(1.0, -2 * M_PI / 3 * static_cast<double>(k));
      largest = std::max(largest, towards(end.current[k], along, 0));
    }
    return largest;
  }

  [[nodiscard]] double towards(const Phasor& current, const Phasor& voltage, double least) const noexcept {
    const double magnitude = size_of(current);
    if (!directed_) return magnitude;
    const double size = size_of(voltage);
    return size > 0 && size >= least && sign_ * dot(current, voltage * turn_) > 0 ? magnitude : 0;
  }

  Stage stage_;
  const Curve* curve_;
  Quantity quantity_;
  bool directed_, restrained_, by_voltage_, restrains_;
  bool instant_, inverse_;  // how it resets, if not by its delay
  double sign_;
  Phasor turn_;
  double rested_s_ = 0;
};

/// IEC 60255-149: the temperature over the trip temperature follows (I / (k In))^2 with one time constant.
class ThermalImage : public Function {
 public:
  explicit ThermalImage(const Thermal& settings) : settings_(settings) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    double largest = 0;
    for (std::size_t k = 0; k < 3; ++k) largest = std::max(largest, size_of(end.current[k]));
    if (settings_.negative_factor > 0)
      largest = std::sqrt(std::norm(end.i.positive) + settings_.negative_factor * std::norm(end.i.negative));
    const double load = largest / (settings_.factor * settings_.rated_A);
    const double goal = load * load;
    // Exact for a constant current over the step, whatever its length.
    const double rest = std::exp(-in.dt_s / settings_.time_constant_s);
    const double before = temperature_;
    temperature_ = goal + (temperature_ - goal) * rest;
    const bool was = tripped_;
    tripped_ = temperature_ >= (tripped_ ? 0.97 : 1.0);
    if (tripped_ && !was && goal > 1 && before < 1)
      before_s_ = in.dt_s - settings_.time_constant_s * std::log((goal - before) / (goal - 1));
    own[0] = temperature_ >= settings_.alarm ? 1 : 0;
    own[1] = tripped_ ? 1 : 0;
  }
  void rest() noexcept override {
    temperature_ = 0;
    tripped_ = false;
  }
  [[nodiscard]] double tripped_before_s() const noexcept override { return before_s_; }
  void visit_state(StateArchive& archive) override { archive(temperature_, before_s_, tripped_); }

 private:
  Thermal settings_;
  double temperature_ = 0, before_s_ = 0;
  bool tripped_ = false;
};

}  // namespace

double Stage::operate_time_s(double current_A) const {
  const double multiple = current_A / pickup_A;
  if (!(multiple > 1)) return std::numeric_limits<double>::infinity();
  if (const Curve* curve = find_curve(characteristic))
    return curve->time_s(std::min(multiple, flat_above), time_multiplier);
  return characteristic == "points" ? on_points(points, std::min(multiple, flat_above)) : delay_s;
}

double composite_time_s(const RelaySettings& settings, const std::string& quantity, double primary_A) {
  double first = std::numeric_limits<double>::infinity();
  for (const auto* stage : settings.all<Stage>()) {
    // A stage that others hold back is none that grades with them.
    if (stage->quantity == quantity && stage->trips && stage->blocked_by.empty())
      first = std::min(first, stage->operate_time_s(primary_A * settings.current_scale()));
  }
  return first;
}

double Thermal::operate_time_s(double current_A, double before_A) const {
  const double goal = std::pow(current_A / (factor * rated_A), 2);
  const double start = std::pow(before_A / (factor * rated_A), 2);
  if (!(goal > 1)) return std::numeric_limits<double>::infinity();
  return start >= 1 ? 0 : time_constant_s * std::log((goal - start) / (goal - 1));
}

std::unique_ptr<Function> make_function(const Stage& settings, const Surroundings&) {
  return std::make_unique<Overcurrent>(settings);
}

std::unique_ptr<Function> make_function(const Thermal& settings, const Surroundings&) {
  return std::make_unique<ThermalImage>(settings);
}

}  // namespace zavrek::protection
