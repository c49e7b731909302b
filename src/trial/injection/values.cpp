#include "trial/injection/values.hpp"

#include <algorithm>
#include <cmath>

namespace zavrek::trial {

using protection::FunctionSettings;
using protection::RelaySettings;

namespace internal {
namespace {

constexpr double farthest_Hz = 0.1;          // of nominal, from a threshold of frequency
constexpr double either_way[] = {-1, 0, 1};  // tolerances of a value

/// Multiples of the threshold at which an inverse characteristic is tried, and those where a definite one is.
constexpr double inverse_multiples[] = {1.3, 2, 3.5, 6, 10, 18};
constexpr double definite_multiples[] = {1.1, 1.5, 2.5, 5};
constexpr double under_multiples[] = {0.9, 0.75, 0.5, 0.25};

}  // namespace

bool inverse(const FunctionSettings& function) {
  if (const auto* stage = std::get_if<protection::Stage>(&function))
    return stage->characteristic != "definite";
  if (const auto* stage = std::get_if<protection::VoltageStage>(&function))
    return stage->characteristic != "definite";
  if (const auto* flux = std::get_if<protection::Overfluxing>(&function))
    return flux->characteristic != "definite";
  return std::holds_alternative<protection::Thermal>(function);
}

double deviation_Hz(const Probe& probe, double nominal_Hz) {
  return std::max(std::abs(probe.threshold - nominal_Hz), 0.01 * nominal_Hz);
}

double value_at(const FunctionSettings& function, const Probe& probe, double multiple, double nominal_Hz) {
  if (!std::holds_alternative<protection::FrequencyStage>(function) || probe.unit != "Hz")
    return probe.threshold * multiple;
  // A tenth of nominal is as far from the threshold as any network goes.
  const double beyond = (multiple - 1) * deviation_Hz(probe, nominal_Hz);
  return probe.threshold + std::clamp(beyond, -farthest_Hz * nominal_Hz, farthest_Hz * nominal_Hz);
}

double tolerance_of_value(const Probe& probe, double value, double share) {
  return probe.unit == "Hz" ? 0.5 * share : std::abs(value) * share;
}

double definite_delay(const FunctionSettings& function) {
  if (inverse(function)) return network::unset;
  if (const auto* stage = std::get_if<protection::Stage>(&function)) return stage->delay_s;
  if (const auto* voltage = std::get_if<protection::VoltageStage>(&function)) return voltage->delay_s;
  if (const auto* frequency = std::get_if<protection::FrequencyStage>(&function)) return frequency->delay_s;
  if (const auto* power = std::get_if<protection::PowerStage>(&function)) return power->delay_s;
  if (const auto* earth = std::get_if<protection::EarthPower>(&function)) return earth->delay_s;
  if (const auto* restricted = std::get_if<protection::RestrictedEarth>(&function))
    return restricted->delay_s;
  if (const auto* flux = std::get_if<protection::Overfluxing>(&function)) return flux->delay_s;
  if (const auto* zone = std::get_if<protection::Zone>(&function)) return zone->delay_s;
  return network::unset;
}

}  // namespace internal

using namespace internal;

std::vector<double> proposed_values(const RelaySettings& settings, const FunctionSettings& function,
                                    const Probe& probe, double longest_s, double value_tolerance) {
  std::vector<double> candidates;
  if (!probe.operates_above) {
    candidates.assign(std::begin(under_multiples), std::end(under_multiples));
  } else if (inverse(function)) {
    candidates.assign(std::begin(inverse_multiples), std::end(inverse_multiples));
  } else {
    candidates.assign(std::begin(definite_multiples), std::end(definite_multiples));
  }
  const std::size_t wanted = inverse(function) ? 3 : 2;
  const double nominal = probe.before.measured.ends.front().frequency_Hz;
  std::vector<double> values;
  // It operates first over all that the value may be: near another's threshold any time would do.
  const auto meant = [&](double multiple) {
    const double value = value_at(function, probe, multiple, nominal);
    const double off = tolerance_of_value(probe, value, value_tolerance);
    return std::all_of(std::begin(either_way), std::end(either_way), [&](double way) {
      const Stimulus during = probe.at(value + way * off);
      return protection::expected_operation(settings, probe.before.measured, during.measured, longest_s)
                 .stage == probe.function;
    });
  };
  for (const double multiple : candidates) {
    if (meant(multiple)) values.push_back(value_at(function, probe, multiple, nominal));
  }
  // Where other stages take over between the usual multiples, look in between.
  for (double m = 1.04; values.size() < wanted && m < 30; m *= 1.07) {
    const double multiple = probe.operates_above ? m : 1 / m;
    const double value = value_at(function, probe, multiple, nominal);
    const bool near =
        std::any_of(values.begin(), values.end(), [&](double v) { return std::abs(v / value - 1) < 0.03; });
    if (!near && meant(multiple)) values.push_back(value);
  }
  std::sort(values.begin(), values.end());
  values.erase(std::unique(values.begin(), values.end()), values.end());
  return values;
}

}  // namespace zavrek::trial
