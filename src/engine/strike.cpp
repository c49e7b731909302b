#include "engine/strike.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

#include <fmt/format.h>

namespace zavrek::engine::internal {
namespace {

constexpr double two_pi = 2 * std::numbers::pi;

struct Kind {
  std::string letters;  // lower case, without ground
  bool to_ground = false;
};

Kind kind_of(const std::string& phases) {
  static const std::vector<std::string> known{"AG",  "BG",  "CG",  "AB",  "BC",  "CA",
                                              "ABG", "BCG", "CAG", "ABC", "ABCG"};
  if (std::find(known.begin(), known.end(), phases) == known.end())
    throw Error(fmt::format("phases: \"{}\" is none of {}", phases, fmt::join(known, ", ")));
  Kind kind;
  for (const char letter : phases) {
    if (letter == 'G')
      kind.to_ground = true;
    else
      kind.letters += static_cast<char>(letter - 'A' + 'a');
  }
  return kind;
}

/// Phasor of a cosine at the last of `rows`, by the full cycle that ends there.
std::complex<double> phasor_of(const std::vector<double>& values, std::size_t last, std::size_t cycle) {
  std::complex<double> sum = 0;
  for (std::size_t k = 0; k < cycle; ++k)
    sum += values[last - k] * std::polar(1.0, two_pi * static_cast<double>(k) / static_cast<double>(cycle));
  return 2.0 / static_cast<double>(cycle) * sum;
}

}  // namespace

network::FaultPlace place_named(const std::string& on, double at) {
  const std::string along = network::is_set(at) ? fmt::format(":{:.6g}%", 100 * at) : std::string();
  return {"fault@" + on + along, on, at};
}

std::vector<PoleAsk> asks_of(const Strike& strike, const std::string& place) {
  const Kind kind = kind_of(strike.phases);
  // To ground: solid phases, the resistance behind their star point. Else each phase has its share.
  const double each = kind.to_ground             ? 0
                      : kind.letters.size() == 2 ? strike.resistance_ohm / 2
                                                 : strike.resistance_ohm;
  std::vector<PoleAsk> asks;
  for (const char letter : std::string("abc"))
    asks.push_back({fmt::format("{}.{}.resistance", place, letter), each, network::unset});
  asks.push_back({place + ".g.resistance", strike.resistance_ohm, network::unset});
  std::string poles = kind.letters + (kind.to_ground ? "g" : "");
  for (const char pole : poles) asks.push_back({fmt::format("{}.{}", place, pole), 1, 0});
  if (!strike.then_phases.empty()) {
    const Kind next = kind_of(strike.then_phases);
    const bool from_pair = !kind.to_ground && kind.letters.size() == 2 && strike.resistance_ohm > 0;
    if (from_pair || (kind.to_ground && !next.to_ground))
      throw Error(fmt::format("then: a fault {} with this resistance does not become {}", strike.phases,
                              strike.then_phases));
    for (const char pole : next.letters + (next.to_ground ? "g" : "")) {
      if (poles.find(pole) != std::string::npos) continue;
      poles += pole;
      asks.push_back({fmt::format("{}.{}", place, pole), 1, strike.then_after_s});
    }
  }
  if (strike.lasts_s > 0) {
    for (const char pole : poles) asks.push_back({fmt::format("{}.{}", place, pole), 0, strike.lasts_s});
  }
  return asks;
}

double instant_of_angle(const Traces& traces, const std::string& place, const std::string& phases,
                        double angle_rad, double soonest_s, double frequency_Hz) {
  const Kind kind = kind_of(phases);
  std::vector<std::size_t> columns;
  for (std::size_t k = 0; k < (kind.letters.size() == 2 ? 2U : 1U); ++k) {
    const std::string name = place + ".v" + kind.letters[k];
    const auto at = std::find(traces.signals.begin(), traces.signals.end(), name);
    if (at == traces.signals.end())
      throw Error(fmt::format("{} is not among the signals that are kept", name));
    columns.push_back(static_cast<std::size_t>(at - traces.signals.begin()));
  }
  const auto cycle = static_cast<std::size_t>(std::lround(traces.rate_Hz / frequency_Hz));
  const std::int64_t until = traces.rows.written();
  std::vector<double> rows;
  const std::int64_t first =
      traces.rows.read(until - static_cast<std::int64_t>(2 * cycle), until, columns, rows);
  std::vector<double> values;
  for (std::size_t k = 0; k + columns.size() <= rows.size(); k += columns.size())
    values.push_back(columns.size() == 2 ? rows[k] - rows[k + 1] : rows[k]);
  if (values.size() < 2 * cycle) throw Error("angle: less than two cycles have run yet");
  const std::size_t last = values.size() - 1;
  const std::complex<double> now = phasor_of(values, last, cycle),
                             before = phasor_of(values, last - cycle, cycle);
  double peak = 0;
  for (const double value : values) peak = std::max(peak, std::abs(value));
  if (!(std::abs(now) > 0.05 * peak))
    throw Error("angle: the voltage there has no fundamental by which it counts");
  const double drift =
      std::abs(before) > 0.05 * peak ? std::arg(now / before) / two_pi : 0;  // cycles in a cycle
  const double actual_Hz = frequency_Hz * (1 + drift);
  // Of another frequency than the nominal one, the angle is right in the middle of its cycle of samples.
  const double half = 0.5 * static_cast<double>(cycle - 1);
  const double at_s = (static_cast<double>(first + static_cast<std::int64_t>(last)) - half) / traces.rate_Hz;
  const double middle_rad = std::arg(now) - two_pi * half / static_cast<double>(cycle);
  // From the rising zero: a cosine stands a quarter of a cycle behind it.
  const double ahead = (angle_rad - middle_rad - std::numbers::pi / 2) / two_pi;
  const double cycles = ahead + std::ceil((soonest_s - at_s) * actual_Hz - ahead);
  return at_s + cycles / actual_Hz;
}

}  // namespace zavrek::engine::internal
