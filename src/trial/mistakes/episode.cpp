#include "trial/mistakes/episode.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <span>

#include "trial/mistakes/wired.hpp"

namespace zavrek::trial::internal {
namespace {

using protection::End;
using protection::Held;
using protection::Measured;
using protection::Phasor;

constexpr double same_share = 2e-3;  // of the largest phasor of its kind
constexpr double same_Hz = 2e-3, same_Hz_per_s = 0.05;
constexpr double shortest_step_s = 1e-3, longest_step_s = 50e-3;

bool alike(std::span<const Phasor> a, std::span<const Phasor> b) {
  double largest = 0, change = 0;
  for (std::size_t k = 0; k < a.size(); ++k) {
    largest = std::max(largest, std::norm(a[k]));
    change = std::max(change, std::norm(a[k] - b[k]));
  }
  return change <= same_share * same_share * largest;
}

bool alike(const Measured& a, const Measured& b) {
  for (std::size_t e = 0; e < a.ends.size(); ++e) {
    const End &one = a.ends[e], &other = b.ends[e];
    if (!alike(one.current, other.current) || !alike(one.voltage, other.voltage) ||
        !alike(one.second, other.second) || !alike(one.fifth, other.fifth) ||
        !alike({&one.v1_memory, 1}, {&other.v1_memory, 1}) ||
        std::abs(one.frequency_Hz - other.frequency_Hz) > same_Hz ||
        std::abs(one.frequency_rate - other.frequency_rate) > same_Hz_per_s ||
        one.frequency_valid != other.frequency_valid)
      return false;
  }
  return true;
}

void append(std::vector<Held>& parts, const Measured& measured, double for_s) {
  if (!parts.empty() && alike(parts.back().measured, measured))
    parts.back().for_s += for_s;
  else
    parts.push_back({measured, for_s});
}

/// Calls `decide(measured, step)` along parts, in steps that grow with the time passed.
template <class Decide>
void walk(const std::vector<Held>& parts, const Device& wrong, double longest_s, Decide&& decide) {
  double time_s = 0;
  for (const Held& part : parts) {
    const Measured measured = as_wired(part.measured, wrong);
    for (double left_s = part.for_s; left_s > 1e-9 && time_s < longest_s;) {
      const double step_s = std::min(left_s, std::clamp(1e-2 * time_s, shortest_step_s, longest_step_s));
      time_s += step_s;
      left_s -= step_s;
      if (!decide(measured, step_s, time_s)) return;
    }
  }
}

}  // namespace

Episode episode_of(const protection::RelaySettings& settings, const protection::RecordedInputs& seen) {
  protection::RelaySettings attentive = settings;
  attentive.decisions = 0;
  protection::Relay measuring(attentive, seen.rate_Hz, seen.frequency_Hz, static_cast<int>(seen.ends.size()));
  const auto window = static_cast<std::size_t>(measuring.measuring().window());
  const std::size_t count = seen.ends.front().size();
  const double interval_s = 1 / seen.rate_Hz;
  std::vector<protection::Sample> now(seen.ends.size());
  Episode episode;
  for (std::size_t k = 0; k < count; ++k) {
    for (std::size_t e = 0; e < seen.ends.size(); ++e) now[e] = seen.ends[e][k];
    const bool ready = measuring.measure(now);
    // The window that begins at an instant is decided on at that instant.
    if (k < seen.inception) {
      if (ready && k + 1 >= window) append(episode.before, measuring.measured(), interval_s);
    } else if (k + 1 >= seen.inception + window) {
      append(episode.during, measuring.measured(), interval_s);
    }
  }
  if (episode.during.empty()) episode.during.push_back({measuring.measured(), 0});
  episode.during.back().for_s += static_cast<double>(window) * interval_s + seen.hold_s;
  if (episode.before.empty()) episode.before.push_back(episode.during.front());
  episode.inputs = seen.inputs;
  return episode;
}

double trip_time(const Device& wrong, const Episode& episode, double longest_s) {
  protection::RelaySettings settings = wrong.relay;
  settings.decisions = 0;
  const std::size_t places = episode.during.front().measured.ends.size();
  protection::Relay relay(settings, 4000, 50, static_cast<int>(places));
  std::size_t next = 0;
  const auto set_inputs = [&](double time_s) {
    for (; next < episode.inputs.size() && episode.inputs[next].time_s <= time_s; ++next) {
      const protection::RecordedInputs::Change& change = episode.inputs[next];
      for (std::size_t k = 0; k < relay.inputs().size(); ++k) {
        if (relay.inputs()[k] == change.input) relay.set_input(k, change.on);
      }
    }
  };
  double before_s = 0;
  for (const Held& part : episode.before) before_s += part.for_s;
  constexpr double for_good = std::numeric_limits<double>::infinity();
  walk(episode.before, wrong, for_good, [&](const Measured& measured, double step_s, double time_s) {
    set_inputs(time_s - before_s);
    relay.decide(measured, step_s);
    return true;
  });
  double found_s = for_good;
  bool is_there = episode.rises && relay.trip();
  walk(episode.during, wrong, longest_s, [&](const Measured& measured, double step_s, double time_s) {
    set_inputs(time_s);
    relay.decide(measured, step_s);
    is_there = is_there && relay.trip();
    if (!relay.trip() || is_there) return true;
    found_s = std::max(0.0, time_s - relay.tripped_before_s());
    return false;
  });
  return found_s;
}

}  // namespace zavrek::trial::internal
