#include "trial/judge/explain.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>

#include <fmt/format.h>

#include "bench/wiring_fault.hpp"

namespace zavrek::trial::internal {

using protection::RecordedInputs;
using protection::RelaySettings;
using protection::Sample;

namespace {

/// Factors are tried in steps of so much, then narrowed down between those that fit and those that do not.
constexpr int coarse_steps = 16;
constexpr int halvings = 6;

/// How the time of an operation compares with what was measured: 0 when it fits, else on which side it lies.
using Compare = std::function<int(double factor)>;

/// The first factors, next to each other, that would explain what was measured; without any where none does.
Explanation search(std::string text, const Compare& side_of) {
  const double ratio = std::log(Explanation::most / Explanation::least);
  const auto factor_at = [&](double place) {
    return Explanation::least * std::exp(ratio * place / coarse_steps);
  };
  std::array<int, coarse_steps + 1> sides{};
  for (int k = 0; k <= coarse_steps; ++k) sides[static_cast<std::size_t>(k)] = side_of(factor_at(k));
  const auto side = [&](int k) { return sides[static_cast<std::size_t>(k)]; };
  // Between a place that fits and one that does not: the last that fits.
  const auto edge = [&](double fits, double other) {
    for (int k = 0; k < halvings; ++k) {
      const double middle = (fits + other) / 2;
      (side_of(factor_at(middle)) == 0 ? fits : other) = middle;
    }
    return fits;
  };
  for (int k = 0; k <= coarse_steps; ++k) {
    if (side(k) == 0) {
      int last = k;
      while (last < coarse_steps && side(last + 1) == 0) ++last;
      return {std::move(text), factor_at(k == 0 ? 0 : edge(k, k - 1)),
              factor_at(last == coarse_steps ? coarse_steps : edge(last, last + 1))};
    }
    if (k == coarse_steps || side(k + 1) == 0 || side(k + 1) == side(k)) continue;
    // It is passed between two places: either it fits on the way, or the time jumps over it.
    double below = k, above = k + 1;
    for (int round = 0; round < halvings; ++round) {
      const double middle = (below + above) / 2;
      const int now = side_of(factor_at(middle));
      if (now == 0) return {std::move(text), factor_at(edge(middle, below)), factor_at(edge(middle, above))};
      (now == side(k) ? below : above) = middle;
    }
  }
  return {};
}

/// "phases a and b of its currents were exchanged", "phase c of its voltages were dead".
std::string wired_so(const std::string& wiring, const std::string& whose) {
  if (wiring == "reversed") return whose + " were reversed";
  if (wiring.ends_with("swapped"))
    return fmt::format("phases {} of {} were exchanged", wiring.substr(0, 7), whose);
  return fmt::format("phase {} of {} were {}", wiring[0], whose, wiring.substr(2));
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

std::vector<Explanation> explanations(const Device& device, const RecordedInputs& seen,
                                      std::optional<double> measured_s, double tolerance_s,
                                      double tolerance_share) {
  std::vector<Explanation> found;
  const RelaySettings& approved = device.approved_relay;
  const auto time_of = [&](const RelaySettings& settings, const RecordedInputs& what) {
    return protection::expected_operation(settings, what).time_s;
  };
  const double own_s = time_of(approved, seen);
  const auto side = [&](double time_s) {
    if (!measured_s) return std::isfinite(time_s) ? -1 : 0;
    if (!std::isfinite(time_s)) return 1;
    if (std::abs(*measured_s - time_s) <= std::max(tolerance_s, tolerance_share * time_s)) return 0;
    return time_s < *measured_s ? -1 : 1;
  };
  /// `time_with` a factor; what leaves the time alone at both ends is not looked at any closer.
  const auto try_factors = [&](const std::string& text, const std::function<double(double)>& time_with) {
    if (time_with(Explanation::least) == own_s && time_with(Explanation::most) == own_s) return;
    Explanation explanation = search(text, [&](double factor) { return side(time_with(factor)); });
    const bool nothing_wrong = explanation.low <= 1 && explanation.high >= 1;
    if (explanation.has_factor() && !nothing_wrong) found.push_back(std::move(explanation));
  };
  // Each place by itself: one current transformer is wired wrongly at a time.
  for (std::size_t end = 0; end < seen.ends.size(); ++end) {
    for (const bool voltages : {false, true}) {
      const std::string of = voltages ? "voltages" : "currents";
      const std::string whose =
          seen.ends.size() == 1 ? "its " + of : fmt::format("the {} of {}", of, device.reads[end]);
      RecordedInputs other = seen;
      const auto time_when = [&](const std::string& wiring, double factor) {
        other.ends[end] = seen.ends[end];
        for (Sample& sample : other.ends[end])
          (voltages ? bench::internal::miswire_voltages : bench::internal::miswire_currents)(sample, wiring,
                                                                                             factor);
        return time_of(approved, other);
      };
      for (const std::string& wiring : Device::wirings()) {
        if (wiring == "straight") continue;
        const double with_it_s = time_when(wiring, 1);
        if (with_it_s == own_s || side(with_it_s) != 0) continue;
        found.push_back({wired_so(wiring, whose)});
      }
      try_factors(fmt::format("the ratio of {} were {{}} times what it should be", whose),
                  [&](double factor) { return time_when("straight", factor); });
    }
  }
  for (std::size_t k = 0; k < approved.functions.size(); ++k) {
    for (const bool time : {false, true}) {
      RelaySettings other = approved;
      const Dials dials = dials_of(other.functions[k]);
      double* dial = time ? dials.time : dials.threshold;
      if (!dial || !network::is_set(*dial) || *dial == 0) continue;
      const double own = *dial;
      try_factors(fmt::format("the {} of {} were {{}} times as approved",
                              time ? dials.time_word : dials.threshold_word,
                              protection::base_of(approved.functions[k]).name),
                  [&](double factor) {
                    *dial = own * factor;
                    return protection::validate(other).empty() ? time_of(other, seen) : own_s;
                  });
    }
  }
  return found;
}

}  // namespace zavrek::trial::internal
