#include "trial/explain.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace zavrek::trial::internal {

using protection::RelaySettings;
using protection::Sample;
using protection::Seen;

namespace {

/// Factors by which ratios, thresholds and times are mistaken most often: halves and doubles, a tap too far,
/// the factor between phase and phase-to-phase values.
constexpr double usual_factors[] = {0.5, 0.5774, 0.8, 1.25, 1.7321, 2};

void change_currents(Sample& sample, const std::string& wiring, double factor) noexcept {
  auto& i = sample.current_A;
  if (wiring == "a and b swapped") std::swap(i[0], i[1]);
  if (wiring == "b and c swapped") std::swap(i[1], i[2]);
  if (wiring == "c and a swapped") std::swap(i[2], i[0]);
  const double sign = wiring == "reversed" ? -factor : factor;
  for (double& current : i) current *= sign;
}

/// The settings that a stage's threshold and time stand in; null where it has none.
struct Dials {
  double* threshold = nullptr;
  double* time = nullptr;
  const char* threshold_word = "pickup";
  const char* time_word = "delay";
};
Dials dials_of(protection::FunctionSettings& function) {
  Dials dials;
  if (auto* stage = std::get_if<protection::Stage>(&function)) {
    const bool definite = stage->characteristic == "definite";
    dials = {&stage->pickup_A, definite ? &stage->delay_s : &stage->time_multiplier, "pickup",
             definite ? "delay" : "time multiplier"};
  } else if (auto* zone = std::get_if<protection::Zone>(&function)) {
    dials = {&zone->reach_ohm, &zone->delay_s, "reach", "delay"};
  } else if (auto* voltage = std::get_if<protection::VoltageStage>(&function)) {
    dials = {&voltage->pickup_V, &voltage->delay_s, "pickup", "delay"};
  } else if (auto* differential = std::get_if<protection::Differential>(&function)) {
    dials = {&differential->pickup, nullptr, "pickup", "delay"};
  }
  return dials;
}

}  // namespace

Sample as_wired(const Device& device, const Sample& sample) noexcept {
  Sample seen = sample;
  change_currents(seen, device.current_wiring, device.current_factor);
  return seen;
}

std::vector<std::string> explanations(const Device& device, const Seen& seen,
                                      std::optional<double> measured_s, double tolerance_s,
                                      double tolerance_share) {
  std::vector<std::string> found;
  const auto fits = [&](const RelaySettings& settings, const Seen& what) {
    const double time = protection::expected_operation(settings, what).time_s;
    if (!std::isfinite(time) || !measured_s) return std::isfinite(time) == measured_s.has_value();
    return std::abs(*measured_s - time) <= std::max(tolerance_s, tolerance_share * time);
  };
  const RelaySettings& approved = device.approved_relay;
  // Each place by itself: one current transformer is wired wrongly at a time.
  for (std::size_t end = 0; end < seen.ends.size(); ++end) {
    const std::string whose =
        seen.ends.size() == 1 ? "its currents" : fmt::format("the currents of {}", device.reads[end]);
    const auto rewired = [&](const std::string& wiring, double factor) {
      Seen other = seen;
      for (Sample& sample : other.ends[end]) change_currents(sample, wiring, factor);
      return fits(approved, other);
    };
    for (const char* wiring : {"a and b swapped", "b and c swapped", "c and a swapped", "reversed"}) {
      const bool turned = std::string(wiring) == "reversed";
      if (!rewired(wiring, 1)) continue;
      found.push_back(
          turned ? fmt::format("{} were reversed", whose)
                 : fmt::format("phases {} of {} were exchanged", std::string(wiring).substr(0, 7), whose));
    }
    for (const double factor : usual_factors) {
      if (rewired("straight", factor))
        found.push_back(fmt::format("the ratio of {} were {:.3g} times what it should be", whose, factor));
    }
  }
  for (std::size_t k = 0; k < approved.functions.size(); ++k) {
    for (const double factor : usual_factors) {
      for (const bool time : {false, true}) {
        RelaySettings other = approved;
        const Dials dials = dials_of(other.functions[k]);
        double* dial = time ? dials.time : dials.threshold;
        if (!dial || !network::is_set(*dial) || *dial == 0) continue;
        *dial *= factor;
        if (protection::validate(other).empty() && fits(other, seen))
          found.push_back(fmt::format("the {} of {} were {:.3g} times as approved",
                                      time ? dials.time_word : dials.threshold_word,
                                      protection::base_of(approved.functions[k]).name, factor));
      }
    }
  }
  return found;
}

}  // namespace zavrek::trial::internal
