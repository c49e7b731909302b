// Averaged legs. A leg between the poles j and its a.c. terminal x gives, while its gates pulse, the mean of
// the step: with w_j the share of the step for which x hangs on pole j,
//   i = g (sum w_j v_j - v_x - e),   into the a.c. side,   w_j i out of pole j,
// that is one conductance g in the direction (w, -1): symmetric and positive semidefinite, so that the
// network stays what its solver wants. Shares in which no gate is on (dead times) go to the pole that the
// diodes would choose by the sign of the current; e is the drop of what conducts. The mean of a step stands
// at its end, so the trapezoidal rule feels it half a step late. A leg whose gates are off and stay off, or
// that has a broken valve, is switched: its valves then are what valve_group.hpp says, so blocked bridges
// rectify, charge their link and feed its faults as in full depth. So is a leg with one gate (of a buck or a
// boost) as long as its current comes to an end within the period: where nothing flows no share says when.
#pragma once

#include <algorithm>
#include <array>
#include <cmath>
#include <utility>
#include <vector>

#include "emt/groups/valve_group.hpp"
#include "emt/parts/parts.hpp"

namespace zavrek::emt::internal {

class LegGroup {
 public:
  /// `number`: of its first adjustable conductance, poles * poles of them row by row, along the ends (pole,
  /// x).
  void add(const LegPart& part, const int* node_position, int number) {
    Leg leg{
        .part = part, .x = node_position[part.x], .number = number, .siemens = 1 / part.on_resistance_ohm};
    for (std::size_t k = 0; k < part.poles.size(); ++k) leg.pole[k] = node_position[part.poles[k]];
    leg.band_A = part.drop_V > 0 ? part.drop_V / (5 * part.on_resistance_ohm) : 1;
    legs_.push_back(std::move(leg));
  }
  [[nodiscard]] bool empty() const { return legs_.empty(); }

  /// Ahead of a step from `from` to `until`: takes the edges that lie in it. `adjust(number, siemens)` is
  /// called for all that changes; returns whether a leg began or ceased to pulse, which is a discontinuity.
  template <class Adjust>
  bool begin_step(double from, double until, ValveGroup& valves, Adjust&& adjust) noexcept {
    bool jumps = false;
    for (Leg& leg : legs_) {
      const bool pulses = wants_to_pulse(leg, from, until, valves);
      if (!leg.pulses && !pulses) continue;
      bool jumped = false;
      if (pulses != leg.pulses) {
        jumps = jumped = true;
        leg.pulses = pulses;
        for (const int k : leg.part.valves) {
          valves.hold(static_cast<std::size_t>(k), pulses);
          adjust(valves.number(static_cast<std::size_t>(k)), valves.siemens(static_cast<std::size_t>(k)));
        }
        if (!pulses) {
          leg.share.fill(0);
          leg.current = 0;
          enter(leg, 0, adjust);
          continue;
        }
        leg.current = 0;
      }
      const std::array<double, 3> before = leg.share;
      take_shares(leg, from, until, valves);
      const double level = std::clamp(leg.current / leg.band_A, -1.0, 1.0);
      leg.source_A = leg.siemens * leg.part.drop_V * level;
      if (!jumped && leg.share == before) continue;
      // Half a step late is late on the one side and on the other, but for a current that ends between.
      jumps |= has_one_gate(leg);
      enter(leg, leg.siemens, adjust);
    }
    return jumps;
  }

  void visit_state(StateArchive& archive) {
    for (Leg& leg : legs_) {
      archive(leg.pulses);
      archive(leg.shorted);
      archive(leg.discontinuous);
      archive(leg.whole_periods);
      archive(leg.share);
      for (double* number :
           {&leg.current, &leg.source_A, &leg.earlier, &leg.last_on, &leg.spacing, &leg.ended_at})
        archive(*number);
    }
  }

  void inject(double* rhs) const noexcept {
    for (const Leg& leg : legs_) {
      if (!leg.pulses) continue;
      rhs[leg.x] -= leg.source_A;
      for (std::size_t k = 0; k < leg.part.poles.size(); ++k) rhs[leg.pole[k]] += leg.share[k] * leg.source_A;
    }
  }
  /// Behind the valves' own update: the mean current of each valve. Nothing goes on from what lies beyond a
  /// step.
  void update(double* now, const ValveGroup& valves, bool goes_on) noexcept {
    for (Leg& leg : legs_) {
      if (!leg.pulses) continue;
      double volts = -now[leg.x];
      for (std::size_t k = 0; k < leg.part.poles.size(); ++k) volts += leg.share[k] * now[leg.pole[k]];
      const double through = leg.siemens * volts - leg.source_A;
      if (goes_on) leg.earlier = std::exchange(leg.current, through);
      for (const LegPart::Flow& flow : leg.part.flows) {
        const auto [current, conducts] = valves.slots(static_cast<std::size_t>(flow.valve));
        const bool whole = flow.pole < 0;
        const double share = whole ? 1 : leg.share[static_cast<std::size_t>(flow.pole)];
        now[current] = whole ? std::max(0.0, flow.sign * through) : flow.sign * share * through;
        now[conducts] = share;
      }
    }
  }

 private:
  struct Leg {
    LegPart part;
    std::array<int, 3> pole{};
    int x = 0, number = 0;
    double siemens = 0;
    double band_A = 1;  // currents below it see a part of the drop
    bool pulses = false;
    bool shorted = false;  // its gates joined two poles
    std::array<double, 3> share{};
    double current = 0, source_A = 0;
    double earlier = 0;                    // the current one solution before
    double last_on = -1e300, spacing = 0;  // of its gates
    bool discontinuous =
        true;               // with one gate: its current ends within the period, the last time at `ended_at`
    int whole_periods = 0;  // in which it did not, since
    double ended_at = -1e300;
  };
  static constexpr int periods_to_trust = 2;
  static constexpr double longest_spacing_s = 1e-3;

  static bool wants_to_pulse(Leg& leg, double from, double until, const ValveGroup& valves) noexcept {
    const double wakes_by = leg.pulses ? ValveGroup::never : until;
    bool any = false;
    for (const int k : leg.part.valves) {
      const auto v = static_cast<std::size_t>(k);
      if (valves.broken(v)) return false;
      any |= valves.gate(v) || valves.next_edge(v) < wakes_by;
    }
    const bool one_gate = has_one_gate(leg);
    if (one_gate && (leg.pulses ? ends(leg, from, until, valves) : stays_discontinuous(leg, from, valves)))
      return false;
    // Its diode is on for a part of every period: it pulses until two of them went by.
    any |= leg.pulses && one_gate && from - leg.last_on < 2 * leg.spacing;
    leg.shorted = leg.shorted && any;
    return any && !leg.shorted;
  }

  /// Of a leg with one gate that pulses: whether its current ends in the step, or just behind it, and ahead
  /// of the edge that brings it back.
  static bool ends(Leg& leg, double from, double until, const ValveGroup& valves) noexcept {
    const int sense = leg.part.in.empty() ? 1 : -1;
    const double flows = sense * leg.current, falls = sense * (leg.earlier - leg.current);
    const double at = flows <= 0  ? from
                      : falls > 0 ? from + (until - from) * flows / falls
                                  : ValveGroup::never;
    const std::size_t obeying = gate_of(leg);
    if (valves.gate(obeying) || at > std::min(until + (until - from) / 4, valves.next_edge(obeying)))
      return false;
    leg.discontinuous = true;
    leg.whole_periods = 0;
    leg.ended_at = from;
    return true;
  }
  /// Of one that is switched: counts the periods in which its current did not end.
  static bool stays_discontinuous(Leg& leg, double from, const ValveGroup& valves) noexcept {
    if (!leg.discontinuous) return false;
    bool conducts = false;
    for (const int k : leg.part.valves) {
      conducts |= valves.conducts(static_cast<std::size_t>(k));
      leg.ended_at = std::max(leg.ended_at, valves.ended_s(static_cast<std::size_t>(k)));
    }
    if (!conducts) leg.ended_at = from;
    const double on = valves.came_on_s(gate_of(leg));
    if (on <= leg.last_on) return true;
    leg.whole_periods = leg.ended_at > leg.last_on ? 0 : leg.whole_periods + 1;
    came_on(leg, on);
    leg.discontinuous = leg.whole_periods < periods_to_trust;
    return leg.discontinuous;
  }
  static bool has_one_gate(const Leg& leg) noexcept { return leg.part.out.empty() || leg.part.in.empty(); }
  /// The valve that the gate of a leg with one gate drives.
  static std::size_t gate_of(const Leg& leg) noexcept {
    return static_cast<std::size_t>((leg.part.in.empty() ? leg.part.out : leg.part.in).front().first);
  }

  /// Walks through the edges in the order of their times.
  static void take_shares(Leg& leg, double from, double until, ValveGroup& valves) noexcept {
    leg.share.fill(0);
    for (double at = from; at < until;) {
      double next = until;
      for (const int k : leg.part.valves)
        next = std::min(next, valves.next_edge(static_cast<std::size_t>(k)));
      next = std::max(next, at);
      leg.share[static_cast<std::size_t>(pole_of(leg, valves))] += (next - at) / (until - from);
      if (next > at) leg.shorted |= joins_poles(leg, valves);
      at = next;
      if (at >= until) break;
      for (const int k : leg.part.valves) {
        const auto v = static_cast<std::size_t>(k);
        const bool was = valves.gate(v);
        valves.take_edges(v, at);
        if (!was && valves.gate(v)) came_on(leg, at);
      }
    }
  }

  static void came_on(Leg& leg, double at) noexcept {
    leg.spacing = std::min(at - leg.last_on, longest_spacing_s);
    leg.last_on = at;
  }
  static bool on(int valve, const ValveGroup& valves) noexcept {
    return valve < 0 || valves.gate(static_cast<std::size_t>(valve));
  }
  /// The pole that x hangs on: by the gates that carry the current's direction, else by the diodes.
  static int pole_of(const Leg& leg, const ValveGroup& valves) noexcept {
    const bool outwards = has_one_gate(leg) ? leg.part.in.empty() : leg.current >= 0;
    for (const LegPart::Way& way : outwards ? leg.part.out : leg.part.in) {
      if (on(way.first, valves) && on(way.second, valves)) return way.pole;
    }
    return outwards ? static_cast<int>(leg.part.poles.size()) - 1 : 0;
  }
  static bool joins_poles(const Leg& leg, const ValveGroup& valves) noexcept {
    return !leg.part.out.empty() && !leg.part.in.empty() && leg.part.out.front().pole == 0 &&
           on(leg.part.out.front().first, valves) && on(leg.part.out.front().second, valves) &&
           on(leg.part.in.front().first, valves) && on(leg.part.in.front().second, valves);
  }

  template <class Adjust>
  static void enter(const Leg& leg, double siemens, Adjust&& adjust) noexcept {
    const std::size_t n = leg.part.poles.size();
    for (std::size_t r = 0; r < n; ++r) {
      for (std::size_t c = 0; c < n; ++c)
        adjust(leg.number + static_cast<int>(r * n + c), siemens * leg.share[r] * leg.share[c]);
    }
  }

  std::vector<Leg> legs_;
};

}  // namespace zavrek::emt::internal
