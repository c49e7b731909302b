// What controllers of plants do beside the fast loops: hold a plan, shed loads, let voltages meet.
#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "control/function.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::control {

namespace {
class PlanFunction final : public BlockFunction {
 public:
  PlanFunction(const Plan& b, double period) : b_(b), period_(period) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    since_ = in[1] != beat_ ? 0 : since_ + period_;
    begun_ = begun_ || in[1] != beat_;
    beat_ = in[1];
    const bool fresh = begun_ && since_ < b_.lasts_s - 1e-9 * period_;
    out[0] = fresh ? in[0] : in[2];
    out[1] = fresh ? 1 : 0;
  }
  void visit_state(StateArchive& archive) override { archive(since_, beat_, begun_); }

 private:
  const Plan& b_;
  double period_, since_ = 0, beat_ = 0;
  bool begun_ = false;  // it has moved once
};
}  // namespace
template <>
Made make(const Plan& b, double period) {
  return {std::make_unique<PlanFunction>(b, period), {b.input, b.beat, b.otherwise}, {"", "fresh"}, {}};
}

namespace {
class SheddingFunction final : public BlockFunction {
 public:
  SheddingFunction(const LoadShedding& b, double period) : b_(b), period_(period), on_(b.loads.size(), 1.0) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    const bool lost = is_on(in[0]);
    const double available = in[1], *needs = in + 2;
    double kept = 0;
    bool fits = true;
    for (std::size_t k = 0; k < on_.size(); ++k) {
      fits = fits && !(lost && is_on(on_[k]) && kept + needs[k] > available);
      if (lost && !fits) on_[k] = 0;
      if (is_on(on_[k])) kept += needs[k];
    }
    restore(lost, available, needs, kept);
    out[0] = static_cast<double>(std::count(on_.begin(), on_.end(), 0.0));
    std::copy(on_.begin(), on_.end(), out + 1);
    out[1 + on_.size()] = kept;
  }
  void visit_state(StateArchive& archive) override { archive(since_, on_); }

 private:
  void restore(bool lost, double available, const double* needs, double& kept) noexcept {
    const auto next = static_cast<std::size_t>(std::find(on_.begin(), on_.end(), 0.0) - on_.begin());
    const bool may = next < on_.size() && (!lost || kept + needs[next] <= (1 - b_.margin) * available);
    since_ = may ? since_ + period_ : 0;
    if (!may || since_ < b_.restore_after_s - 1e-9 * period_) return;
    on_[next] = 1;
    kept += needs[next];
    since_ = 0;
  }
  const LoadShedding& b_;
  double period_, since_ = 0;
  std::vector<double> on_;
};

/// "offices: 120 kW" in its name and what it needs.
std::pair<std::string, std::string> load_of(const std::string& block, const std::string& text) {
  const std::size_t colon = text.find(':');
  std::string name = text.substr(0, colon), needs = colon == std::string::npos ? "" : text.substr(colon + 1);
  needs.erase(0, needs.find_first_not_of(' '));
  if (name.empty() || needs.empty() || name.find(' ') != std::string::npos)
    throw Error(fmt::format(
        "load_shedding.{}, loads: \"{}\" is no load; write one such as \"offices: 120 kW\"", block, text));
  return {std::move(name), std::move(needs)};
}
}  // namespace
template <>
Made make(const LoadShedding& b, double period) {
  Made made{std::make_unique<SheddingFunction>(b, period), {b.lost, b.available}, {""}, {0}};
  for (const std::string& text : b.loads) {
    auto [name, needs] = load_of(b.name, text);
    made.inputs.push_back(std::move(needs));
    made.outputs.push_back(std::move(name));
    made.start.push_back(1);
  }
  made.outputs.emplace_back("kept");
  made.start.push_back(0);
  return made;
}

namespace {
class SynchroniserFunction final : public BlockFunction {
 public:
  SynchroniserFunction(const Synchroniser& b, double period) : b_(b), period_(period) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    const double v1 = in[0], v2 = in[3], slip_Hz = in[1] - in[4];
    const double angle = std::remainder(in[2] - in[5], 2 * pi);
    const double meets = std::remainder(angle + 2 * pi * slip_Hz * b_.closing_time_s, 2 * pi);
    const bool live = std::min(v1, v2) > b_.least_voltage_V;
    const bool holds = live && std::abs(v1 - v2) <= b_.voltage * std::max(v1, v2) &&
                       std::abs(slip_Hz) <= b_.frequency_Hz && std::abs(meets) <= b_.angle_rad;
    since_ = holds ? since_ + period_ : 0;
    out[0] = holds && since_ >= b_.lasts_s - 1e-9 * period_ ? 1 : 0;
    out[1] = angle;
    out[2] = slip_Hz;
  }
  void visit_state(StateArchive& archive) override { archive(since_); }

 private:
  const Synchroniser& b_;
  double period_, since_ = 0;
};
}  // namespace
template <>
Made make(const Synchroniser& b, double period) {
  return {std::make_unique<SynchroniserFunction>(b, period),
          {b.amplitude_1, b.frequency_1, b.angle_1, b.amplitude_2, b.frequency_2, b.angle_2},
          {"", "angle", "slip"},
          {}};
}

}  // namespace zavrek::control
