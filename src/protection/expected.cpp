#include <algorithm>

#include "zavrek/protection/relay.hpp"

namespace zavrek::protection {

namespace {

/// What arrives within a step is found exactly, so that only logic is as coarse as the step: a thousandth of
/// the time passed, within bounds.
constexpr double shortest_step_s = 1e-3;
constexpr double longest_step_s = 50e-3;

/// The same relay, deciding at every sample.
RelaySettings attentive(RelaySettings settings) {
  settings.decisions = 0;
  return settings;
}

std::string name_of(const Relay& relay) {
  return relay.tripped_by() ? base_of(relay.settings().functions[*relay.tripped_by()]).name : "trip";
}

/// `relay` at something that stays as it is; `time_s` counts on.
bool hold(Relay& relay, const Measured& measured, double for_s, double& time_s, ExpectedOperation& found) {
  const double until = time_s + for_s;
  while (time_s < until) {
    const double step_s = std::clamp(1e-3 * time_s, shortest_step_s, longest_step_s);
    relay.decide(measured, step_s);
    time_s += step_s;
    if (!relay.trip()) continue;
    found = {std::max(0.0, time_s - relay.tripped_before_s()), name_of(relay)};
    return true;
  }
  return false;
}

}  // namespace

ExpectedOperation expected_operation(const RelaySettings& settings, const Seen& seen) {
  Relay relay(attentive(settings), seen.rate_Hz, seen.frequency_Hz, static_cast<int>(seen.ends.size()));
  const std::size_t count = seen.ends.front().size();
  const auto window = static_cast<std::size_t>(relay.measuring().window());
  const double interval = 1 / seen.rate_Hz;
  std::vector<Sample> now(seen.ends.size());
  const auto at = [&](std::size_t k) {
    for (std::size_t e = 0; e < seen.ends.size(); ++e) now[e] = seen.ends[e][k];
    return std::span<const Sample>(now);
  };
  std::size_t next_change = 0;
  const auto set_inputs = [&](double time_s) {
    for (; next_change < seen.inputs.size() && seen.inputs[next_change].time_s <= time_s; ++next_change) {
      const Seen::Change& change = seen.inputs[next_change];
      for (std::size_t k = 0; k < relay.inputs().size(); ++k) {
        if (relay.inputs()[k] == change.input) relay.set_input(k, change.on);
      }
    }
  };
  ExpectedOperation found;
  for (std::size_t k = 0; k < count; ++k) {
    if (k < seen.inception) {
      set_inputs((static_cast<double>(k) - static_cast<double>(seen.inception)) * interval);
      (void)relay.push(at(k));
      continue;
    }
    (void)relay.measure(at(k));
    if (k + 1 < seen.inception + window) continue;
    set_inputs(static_cast<double>(k + 1 - window - seen.inception) * interval);
    relay.decide(relay.measured(), interval);
    if (!relay.trip()) continue;
    const double end_s = static_cast<double>(k + 2 - window - seen.inception) * interval;
    return {std::max(0.0, end_s - relay.tripped_before_s()), name_of(relay)};
  }
  double time_s = count + 1 > seen.inception + window
                      ? static_cast<double>(count + 1 - window - seen.inception) * interval
                      : 0;
  (void)hold(relay, relay.measured(), seen.hold_s, time_s, found);
  return found;
}

ExpectedOperation expected_operation(const RelaySettings& settings, const Measured& before,
                                     const Measured& during, double limit_s) {
  Relay relay(attentive(settings), 4000, 50, static_cast<int>(during.ends.size()));
  ExpectedOperation found;
  for (int k = 0; k < 200; ++k) relay.decide(before, 5e-3);
  double time_s = 0;
  (void)hold(relay, during, limit_s, time_s, found);
  return found;
}

}  // namespace zavrek::protection
