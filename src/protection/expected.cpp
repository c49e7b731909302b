#include <algorithm>
#include <cmath>
#include <span>
#include <vector>

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

namespace {

/// All that is made of currents, that much larger.
void scale_currents(const Measured& measured, double factor, Measured& into) {
  into = measured;
  for (End& end : into.ends) {
    for (auto* phasors : {&end.second, &end.fifth}) {
      for (Phasor& phasor : *phasors) phasor *= factor;
    }
    for (Phasor& phasor : end.current) phasor *= factor;
    for (Phasor* part : {&end.i.positive, &end.i.negative, &end.i.zero}) *part *= factor;
  }
}

/// A relay that decides on what another measures, its currents scaled.
struct Beside {
  Relay relay;
  double factor;
  ExpectedOperation found{};
  bool tripped = false;
  std::size_t next_change = 0;
  Measured scaled{};

  const Measured& see(const Measured& measured) {
    if (factor == 1) return measured;
    scale_currents(measured, factor, scaled);
    return scaled;
  }
  void set_inputs(const RecordedInputs& seen, double time_s) {
    for (; next_change < seen.inputs.size() && seen.inputs[next_change].time_s <= time_s; ++next_change) {
      const RecordedInputs::Change& change = seen.inputs[next_change];
      for (std::size_t k = 0; k < relay.inputs().size(); ++k) {
        if (relay.inputs()[k] == change.input) relay.set_input(k, change.on);
      }
    }
  }
};

std::size_t half_cycle(const RecordedInputs& seen) {
  return static_cast<std::size_t>(std::lround(seen.rate_Hz / seen.frequency_Hz / 2));
}

/// How many samples to decide on: those there are, or, where they end before a window of the fault is full
/// but behind half a cycle of it, as many as fill it.
std::size_t whole_window(const RecordedInputs& seen, std::size_t window) {
  const std::size_t count = seen.ends.front().size(), wanted = seen.inception + window;
  const bool known = seen.hold_s > 0 && count >= seen.inception + half_cycle(seen);
  return known ? std::max(count, wanted) : count;
}

/// Behind the last sample the wave goes on: half a cycle later it is the opposite.
Sample sample_at(const RecordedInputs& seen, std::size_t end, std::size_t k) {
  const std::vector<Sample>& samples = seen.ends[end];
  bool opposite = false;
  for (const std::size_t half = half_cycle(seen); k >= samples.size(); k -= half) opposite = !opposite;
  Sample sample = samples[k];
  if (!opposite) return sample;
  for (double& value : sample.current_A) value = -value;
  for (double& value : sample.voltage_V) value = -value;
  return sample;
}

}  // namespace

std::vector<ExpectedOperation> expected_operations(const RelaySettings& settings, const RecordedInputs& seen,
                                                   std::span<const double> factors) {
  const int ends = static_cast<int>(seen.ends.size());
  const auto make = [&] { return Relay(attentive(settings), seen.rate_Hz, seen.frequency_Hz, ends); };
  Relay measuring = make();
  std::vector<Beside> all;
  for (const double factor : factors) all.push_back({make(), factor});
  const auto window = static_cast<std::size_t>(measuring.measuring().window());
  const double interval = 1 / seen.rate_Hz;
  std::vector<Sample> now(seen.ends.size());
  const std::size_t full = whole_window(seen, window);
  for (std::size_t k = 0; k < full; ++k) {
    for (std::size_t e = 0; e < seen.ends.size(); ++e) now[e] = sample_at(seen, e, k);
    const bool ready = measuring.measure(now);
    const bool before = k < seen.inception;
    if (before ? !ready : k + 1 < seen.inception + window) continue;
    // The window that begins at an instant is decided on at that instant.
    const auto at_s = [&](std::size_t sample) {
      return (static_cast<double>(sample) - static_cast<double>(seen.inception)) * interval;
    };
    const double begins_s = at_s(before ? k : k + 1 - window);
    for (Beside& one : all) {
      if (one.tripped) continue;
      one.set_inputs(seen, begins_s);
      one.relay.decide(one.see(measuring.measured()), before ? measuring.measuring().interval_s() : interval);
      if (before || !one.relay.trip()) continue;
      one.tripped = true;
      one.found = {std::max(0.0, at_s(k + 2 - window) - one.relay.tripped_before_s()), name_of(one.relay)};
    }
  }
  std::vector<ExpectedOperation> found;
  for (Beside& one : all) {
    double time_s = full + 1 > seen.inception + window
                        ? static_cast<double>(full + 1 - window - seen.inception) * interval
                        : 0;
    if (!one.tripped) (void)hold(one.relay, one.see(measuring.measured()), seen.hold_s, time_s, one.found);
    found.push_back(std::move(one.found));
  }
  return found;
}

ExpectedOperation expected_operation(const RelaySettings& settings, const RecordedInputs& seen) {
  constexpr double as_seen = 1;
  return expected_operations(settings, seen, {&as_seen, 1}).front();
}

ExpectedOperation expected_operation(const RelaySettings& settings, std::span<const Held> past,
                                     const Measured& during, double limit_s) {
  constexpr double past_step_s = 5e-3;
  Relay relay(attentive(settings), 4000, 50, static_cast<int>(during.ends.size()));
  for (const Held& held : past) {
    const auto steps = static_cast<int>(std::ceil(held.for_s / past_step_s));
    for (int k = 0; k < steps; ++k) relay.decide(held.measured, held.for_s / steps);
  }
  relay.await_trip();
  ExpectedOperation found;
  double time_s = 0;
  (void)hold(relay, during, limit_s, time_s, found);
  return found;
}

ExpectedOperation expected_operation(const RelaySettings& settings, const Measured& before,
                                     const Measured& during, double limit_s) {
  const Held rest{before, 1};
  return expected_operation(settings, {&rest, 1}, during, limit_s);
}

}  // namespace zavrek::protection
