// Semiconductor valves: characteristics of straight pieces whose choice depends on a gate.
//   off       i = g_off v
//   forward   i = g (v - e), from p to q
//   reverse   i = g_r (v + e_r), against it (a diode beside a transistor)
// In each piece the valve stays as long as its voltage lies within two bounds: below e and above -e_r when
// off (without a gate, or a diode beside it, there is no such bound), above e in forward, below -e_r in
// reverse. Every change of piece is a discontinuity, located inside the step: gate edges by their time stamp,
// the end of conduction by the zero of the current, its beginning by the zero of v - e. Behind each, the
// pieces must fit the solution: a valve that does not is changed over at the same instant and the solution is
// made again. The voltages of the valves stand side by side among the plant's values, and so do their
// currents and whether they conduct: `measure` fills the voltages from those of the nodes, but for valves of
// a condensed part of the network (condensed.hpp), which fills them itself.
#pragma once

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdint>
#include <utility>
#include <vector>

#include "emt/assembly.hpp"
#include "emt/lanes.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::emt::internal {

class ValveGroup {
 public:
  static constexpr double never = 1e300;

  /// `number` is that of its adjustable conductance. Starts off.
  void add(const ValvePart& part, const int* node_position, int number) {
    valves_.push_back({part.kind, node_position[part.ends.p], node_position[part.ends.q], number, part.off_S,
                       1 / part.on_ohm, part.drop_V, 1 / part.reverse_ohm, part.reverse_drop_V});
    if (size() % lanes == 1) {
      for (Numbers* numbers : {&siemens_, &source_, &conducts_, &slack_, &behind_})
        numbers->resize(room(), 0.0);
      low_.resize(room(), -never);
      high_.resize(room(), never);
    }
    changes_.push_back(0);
    obey(size() - 1);
  }
  /// Positions that the voltages take, and so many again each of the others: whole lanes.
  [[nodiscard]] std::size_t room() const { return (size() + lanes - 1) / lanes * lanes; }
  /// Positions of the first valve's values; those of the others follow.
  void set_places(int voltages, int currents, int conducts) {
    voltages_at_ = voltages;
    currents_at_ = currents;
    conducts_at_ = conducts;
  }
  /// Valve k belongs to a condensed part of the network: that part drives and measures it.
  void set_apart(std::size_t k) {
    valves_[k].apart = true;
    ++apart_;
  }
  [[nodiscard]] bool all_apart() const noexcept { return apart_ == size(); }
  [[nodiscard]] std::pair<int, int> ends(std::size_t k) const noexcept {
    return {valves_[k].p, valves_[k].q};
  }
  [[nodiscard]] int voltage(std::size_t k) const noexcept { return voltages_at_ + static_cast<int>(k); }
  /// What its piece drives from p to q against its current.
  [[nodiscard]] double source(std::size_t k) const noexcept { return source_[k]; }

  [[nodiscard]] bool empty() const { return valves_.empty(); }
  [[nodiscard]] std::size_t size() const { return valves_.size(); }
  [[nodiscard]] int number(std::size_t k) const { return valves_[k].number; }
  [[nodiscard]] double siemens(std::size_t k) const noexcept { return siemens_[k]; }

  /// A gate edge at an instant of plant time; edges of one valve come in the order of their times. False when
  /// too many wait already.
  bool fire(std::size_t k, bool on, double at_s) noexcept {
    Valve& v = valves_[k];
    if (v.broken != Failure::none && v.broken != Failure::late) return true;
    at_s += v.late_s;
    // A pulse shorter than the dead time before it has no length.
    if (v.waiting > 0) {
      const int last = (v.first_edge + v.waiting - 1) % static_cast<int>(v.edges.size());
      at_s = std::max(at_s, v.edges[static_cast<std::size_t>(last)].at_s);
    }
    if (v.waiting == static_cast<int>(v.edges.size())) return false;
    v.edges[static_cast<std::size_t>((v.first_edge + v.waiting++) % static_cast<int>(v.edges.size()))] = {
        at_s, on};
    if (at_s < next_edge_ && !v.held) next_edge_ = at_s;
    return true;
  }
  void fail(std::size_t k, Failure how, double late_s) noexcept {
    Valve& v = valves_[k];
    if (v.broken == Failure::shorted || v.broken == Failure::dead) return;
    v.broken = how;
    v.late_s = how == Failure::late ? late_s : 0;
    if (how == Failure::none || how == Failure::late) return;
    v.waiting = 0;
    v.gate = false;
    find_next_edge();
    obey_gate(k);
  }

  // --- asked by averaged legs (leg_group.hpp), which hold their valves off and take their edges -----------
  void hold(std::size_t k, bool held) noexcept {
    Valve& v = valves_[k];
    v.held = held;
    v.piece = Piece::off;
    obey(k);
    find_next_edge();
  }
  [[nodiscard]] bool broken(std::size_t k) const noexcept {
    return valves_[k].broken == Failure::shorted || valves_[k].broken == Failure::dead;
  }
  [[nodiscard]] bool gate(std::size_t k) const noexcept { return valves_[k].gate; }
  [[nodiscard]] double next_edge(std::size_t k) const noexcept {
    const Valve& v = valves_[k];
    return v.waiting > 0 ? v.edges[static_cast<std::size_t>(v.first_edge)].at_s : never;
  }
  void take_edges(std::size_t k, double until) noexcept { (void)take(valves_[k], until); }
  [[nodiscard]] std::pair<int, int> slots(std::size_t k) const noexcept {
    return {currents_at_ + static_cast<int>(k), conducts_at_ + static_cast<int>(k)};
  }

  // --- asked by the reference (reference.cpp), which knows time only as instants --------------------------
  [[nodiscard]] double current(std::size_t k, double voltage) const noexcept {
    return siemens_[k] * voltage - source_[k];
  }
  [[nodiscard]] double margin(std::size_t k, const double* values) const noexcept {
    return margin_of(k, values[voltage(k)]);
  }
  /// Lets the gates follow their edges until an instant; whether there were any.
  bool take_all(double until) noexcept {
    bool any = false;
    for (std::size_t k = 0; k < size(); ++k) {
      if (!take(valves_[k], until)) continue;
      obey_gate(k);
      any = true;
    }
    if (any) find_next_edge();
    return any;
  }
  /// Valve k leaves its piece.
  void leave(std::size_t k, const double* values) noexcept { follow(k, values[voltage(k)]); }

  void inject(double* rhs) const noexcept {
    for (std::size_t k = 0; k < size(); ++k) {
      const Valve& v = valves_[k];
      if (v.apart) continue;
      rhs[v.p] += source_[k];
      rhs[v.q] -= source_[k];
    }
  }
  /// Voltages of the valves that no condensed part measures; of all of them when `all`.
  void measure(double* now, bool all = false) noexcept {
    scale_ = 0;
    if (all_apart() && !all) return;
    for (std::size_t k = 0; k < size(); ++k) {
      const Valve& v = valves_[k];
      if (v.apart && !all) continue;
      now[voltage(k)] = now[v.p] - now[v.q];
      scale_ = std::max(scale_, std::abs(now[v.p]) + std::abs(now[v.q]));
    }
  }
  /// Currents from the voltages.
  void update(double* now) noexcept {
    Lanes highest{}, beyond = {-never, -never, -never, -never};
    for (std::size_t k = 0; k < low_.size(); k += lanes) {
      const Lanes v = load(now + voltages_at_ + k);
      store(now + currents_at_ + k, load(&siemens_[k]) * v - load(&source_[k]));
      store(now + conducts_at_ + k, load(&conducts_[k]));
      highest = v > highest ? v : highest;
      highest = -v > highest ? -v : highest;
      beyond = farther(k, v, beyond);
    }
    scale_ = std::max({scale_, highest[0], highest[1], highest[2], highest[3]});
    left_ = greatest(beyond) > rounding();
  }
  /// Whether any valve is beyond the bounds of its piece.
  [[nodiscard]] bool any_outside(const double* values) const noexcept {
    Lanes beyond = {-never, -never, -never, -never};
    for (std::size_t k = 0; k < low_.size(); k += lanes)
      beyond = farther(k, load(values + voltages_at_ + k), beyond);
    return greatest(beyond) > rounding();
  }
  /// Whether all fit the solution that `update` saw last.
  [[nodiscard]] bool fit_already() const noexcept { return !left_; }
  /// Whether nothing is due by `until`, when the solution at its end is the one that `update` saw last.
  [[nodiscard]] bool quiet(double until) const noexcept { return !left_ && next_edge_ >= until; }

  /// What holds just behind an event is not what stood before it: the values of the valves there are kept
  /// apart, read off the two half-step points behind it.
  void look_behind(const double* middle, const double* end) noexcept {
    for (std::size_t k = 0; k < behind_.size(); k += lanes)
      store(&behind_[k], 2 * load(middle + voltages_at_ + k) - load(end + voltages_at_ + k));
  }
  void look_behind(const double* present) noexcept {
    for (std::size_t k = 0; k < behind_.size(); k += lanes)
      store(&behind_[k], load(present + voltages_at_ + k));
  }

  /// Earliest edge that waits.
  [[nodiscard]] double next_edge() const noexcept { return next_edge_; }
  /// Instant within (from, until] at which valve k changes over, never when it does not; by its gate alone
  /// unless `by_itself`.
  [[nodiscard]] double event_time(std::size_t k, double from, double until, const double* after,
                                  bool by_itself) const noexcept {
    const Valve& v = valves_[k];
    double time = never;
    if (v.waiting > 0 && !v.held) {
      const Edge& edge = v.edges[static_cast<std::size_t>(v.first_edge)];
      if (edge.at_s < until) time = std::max(edge.at_s, from);
    }
    if (!by_itself) return time;
    const double margin_after = margin_of(k, after[voltage(k)]);
    if (margin_after >= -tolerance(k)) return time;
    const double margin_before = std::max(0.0, margin_of(k, behind_[k]));
    return std::min(time, from + (until - from) * margin_before / (margin_before - margin_after));
  }

  /// Carries out what is due at `event`: edges by then, and the end or beginning of conduction that `after`
  /// shows.
  void change_over(std::size_t k, double event, double slack, const double* after) noexcept {
    Valve& v = valves_[k];
    if (take(v, event + slack)) {
      find_next_edge();
      obey_gate(k);
    } else {
      follow(k, after[voltage(k)]);
    }
  }

  void begin_instant() noexcept { std::fill(changes_.begin(), changes_.end(), std::uint8_t{0}); }
  /// Changes over the valves that do not fit the solution in `values`; true when any did. Where the current
  /// of an inductance finds no way it drives an off valve to millions of volts, and all that the solution
  /// says of currents elsewhere is wrong: only valves that are out by a hundredth of the worst change in one
  /// round. No valve changes more than twice at one instant (`begin_instant`).
  template <class Changed>
  bool fit(const double* values, Changed&& changed) noexcept {
    double worst = 0;
    for (std::size_t k = 0; k < valves_.size(); ++k) worst = std::max(worst, misfit(k, values));
    for (std::size_t k = 0; k < valves_.size() && worst > 0; ++k) {
      if (misfit(k, values) <= 0.01 * worst) continue;
      ++changes_[k];
      follow(k, values[voltage(k)]);
      changed(k);
    }
    return worst > 0;
  }

 private:
  enum class Piece : char { off, forward, reverse };
  struct Edge {
    double at_s;
    bool on;
  };
  struct Valve {
    ValveKind kind;
    int p, q, number;
    double off_S, on_S, drop_V, reverse_S, reverse_drop_V;
    Piece piece = Piece::off;
    bool gate = false;
    bool held = false;   // by an averaged leg
    bool apart = false;  // driven and measured by a condensed part
    Failure broken = Failure::none;
    double late_s = 0;
    std::array<Edge, 16> edges{};
    int first_edge = 0, waiting = 0;
  };

  /// Lets the gate follow its edges until an instant; whether there were any.
  static bool take(Valve& v, double until) noexcept {
    bool edged = false;
    while (v.waiting > 0 && v.edges[static_cast<std::size_t>(v.first_edge)].at_s <= until) {
      v.gate = v.edges[static_cast<std::size_t>(v.first_edge)].on;
      v.first_edge = (v.first_edge + 1) % static_cast<int>(v.edges.size());
      --v.waiting;
      edged = true;
    }
    return edged;
  }

  [[nodiscard]] static bool may_conduct_forward(const Valve& v) noexcept {
    return (v.kind == ValveKind::diode || v.gate) && v.broken != Failure::dead;
  }
  /// A piece that holds whatever the solution says.
  [[nodiscard]] static bool is_imposed(const Valve& v) noexcept {
    return v.held || v.kind == ValveKind::contact || v.broken == Failure::shorted;
  }

  /// How far the solution is from leaving the piece, in volts; negative when it has.
  [[nodiscard]] double margin_of(std::size_t k, double voltage) const noexcept {
    return std::min(voltage - low_[k], high_[k] - voltage);
  }
  /// How far a valve that may still change is beyond its bounds, in volts; 0 within.
  [[nodiscard]] double misfit(std::size_t k, const double* values) const noexcept {
    const double beyond = -margin(k, values);
    return beyond > tolerance(k) && changes_[k] < 2 ? beyond : 0;
  }
  /// What rounding of the node voltages makes of a margin.
  [[nodiscard]] double rounding() const noexcept { return 1e-13 * scale_; }
  [[nodiscard]] double tolerance(std::size_t k) const noexcept { return slack_[k] + rounding(); }
  /// How far voltages are beyond the bounds of the valves from k on, or `so_far` where that is more.
  [[nodiscard]] Lanes farther(std::size_t k, Lanes v, Lanes so_far) const noexcept {
    const Lanes slack = load(&slack_[k]);
    const Lanes below = load(&low_[k]) - v - slack, above = v - load(&high_[k]) - slack;
    so_far = below > so_far ? below : so_far;
    return above > so_far ? above : so_far;
  }
  [[nodiscard]] static double greatest(Lanes of) noexcept { return std::max({of[0], of[1], of[2], of[3]}); }
  /// Numbers of the piece that the valve is on.
  void obey(std::size_t k) noexcept {
    const Valve& v = valves_[k];
    conducts_[k] = v.piece == Piece::off ? 0 : 1;
    slack_[k] = v.piece == Piece::off ? 1e-7 : v.piece == Piece::forward ? 1e-9 / v.on_S : 1e-9 / v.reverse_S;
    source_[k] = 0;
    low_[k] = -never;
    high_[k] = never;
    switch (v.piece) {
      case Piece::off:
        siemens_[k] = v.off_S;
        if (may_conduct_forward(v)) high_[k] = v.drop_V;
        if (v.kind == ValveKind::transistor) low_[k] = -v.reverse_drop_V;
        break;
      case Piece::forward:
        siemens_[k] = v.on_S;
        source_[k] = v.on_S * v.drop_V;
        low_[k] = v.drop_V;
        break;
      case Piece::reverse:
        siemens_[k] = v.reverse_S;
        source_[k] = -v.reverse_S * v.reverse_drop_V;
        high_[k] = -v.reverse_drop_V;
        break;
    }
    if (!is_imposed(v)) return;
    low_[k] = -never;
    high_[k] = never;
  }
  /// To the piece that the solution asks for.
  void follow(std::size_t k, double voltage) noexcept {
    Valve& v = valves_[k];
    if (v.piece != Piece::off) {
      v.piece = Piece::off;
    } else {
      v.piece = voltage > 0 && v.broken != Failure::dead ? Piece::forward : Piece::reverse;
    }
    obey(k);
  }
  void obey_gate(std::size_t k) noexcept {
    Valve& v = valves_[k];
    const bool turns_off = v.broken == Failure::dead || (v.kind == ValveKind::transistor && !v.gate);
    if (v.broken == Failure::shorted) {
      v.piece = Piece::forward;
    } else if (v.kind == ValveKind::contact) {
      v.piece = v.gate ? Piece::forward : Piece::off;
    } else if (turns_off && v.piece == Piece::forward) {
      v.piece = Piece::off;
    }
    obey(k);
  }
  void find_next_edge() noexcept {
    next_edge_ = never;
    for (const Valve& v : valves_) {
      if (v.waiting > 0 && !v.held)
        next_edge_ = std::min(next_edge_, v.edges[static_cast<std::size_t>(v.first_edge)].at_s);
    }
  }

  std::vector<Valve> valves_;
  std::vector<std::uint8_t> changes_;  // per valve, at the instant at hand
  // Per valve, by its piece: i = siemens v - source as long as low <= v <= high.
  Numbers siemens_, source_, low_, high_, conducts_;
  Numbers slack_;   // how far beyond its bounds counts as within
  Numbers behind_;  // voltages that held just behind the last event
  int voltages_at_ = 0, currents_at_ = 0, conducts_at_ = 0;
  std::size_t apart_ = 0;  // how many
  double next_edge_ = never;
  double scale_ = 0;   // of the node voltages at the valves in the latest solution
  bool left_ = false;  // some valve did not fit the latest solution
};

}  // namespace zavrek::emt::internal
