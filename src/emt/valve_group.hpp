// Semiconductor valves: characteristics of straight pieces whose choice depends on a gate.
//   off       i = g_off v
//   forward   i = g (v - e), from p to q
//   reverse   i = g_r (v + e_r), against it (a diode beside a transistor)
// Every change of piece is a discontinuity, located inside the step: gate edges by their time stamp, the end
// of conduction by the zero of the current, its beginning by the zero of v - e. Behind each, the pieces must
// fit the solution: a valve that does not is changed over at the same instant and the solution is made again.
#pragma once

#include <algorithm>
#include <array>
#include <cmath>
#include <utility>
#include <vector>

#include "emt/assembly.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::emt::internal {

class ValveGroup {
 public:
  static constexpr double never = 1e300;

  /// `number` is that of its adjustable conductance. Starts off.
  void add(const ValvePart& part, const int* node_position, int current, int conducts, int number) {
    valves_.push_back({part.kind, node_position[part.ends.p], node_position[part.ends.q], current, conducts,
                       number, part.off_S, 1 / part.on_ohm, part.drop_V, 1 / part.reverse_ohm,
                       part.reverse_drop_V});
  }

  [[nodiscard]] bool empty() const { return valves_.empty(); }
  [[nodiscard]] std::size_t size() const { return valves_.size(); }
  [[nodiscard]] int number(std::size_t k) const { return valves_[k].number; }
  [[nodiscard]] double siemens(std::size_t k) const noexcept {
    const Valve& v = valves_[k];
    return v.piece == Piece::off ? v.off_S : v.piece == Piece::forward ? v.on_S : v.reverse_S;
  }

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
    obey_gate(v);
  }

  // --- asked by averaged legs (leg_group.hpp), which hold their valves off and take their edges -----------
  void hold(std::size_t k, bool held) noexcept {
    Valve& v = valves_[k];
    v.held = held;
    v.piece = Piece::off;
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
    return {valves_[k].current, valves_[k].conducts};
  }

  // --- asked by the reference (reference.cpp), which knows time only as instants --------------------------
  [[nodiscard]] double current(std::size_t k, double voltage) const noexcept {
    return conductance(valves_[k]) * voltage - source_of(valves_[k]);
  }
  [[nodiscard]] double margin(std::size_t k, const double* values) const noexcept {
    const Valve& v = valves_[k];
    return margin(v, values[v.p] - values[v.q], values[v.current]);
  }
  /// Lets the gates follow their edges until an instant; whether there were any.
  bool take_all(double until) noexcept {
    bool any = false;
    for (Valve& v : valves_) {
      if (!take(v, until)) continue;
      obey_gate(v);
      any = true;
    }
    if (any) find_next_edge();
    return any;
  }
  /// Valve k leaves its piece.
  void leave(std::size_t k, const double* values) noexcept {
    Valve& v = valves_[k];
    follow(v, values[v.p] - values[v.q]);
  }

  void inject(double* rhs) const noexcept {
    for (const Valve& v : valves_) {
      const double history = -source_of(v);
      rhs[v.p] -= history;
      rhs[v.q] += history;
    }
  }
  void update(double* now) noexcept {
    left_ = false;
    for (const Valve& v : valves_) {
      const double voltage = now[v.p] - now[v.q];
      const double current = conductance(v) * voltage - source_of(v);
      now[v.current] = current;
      now[v.conducts] = v.piece == Piece::off ? 0 : 1;
      left_ |= margin(v, voltage, current) < -tolerance(v, now);
    }
  }
  /// Whether nothing is due by `until`, when the solution at its end is the one that `update` saw last.
  [[nodiscard]] bool quiet(double until) const noexcept { return !left_ && next_edge_ >= until; }

  /// What holds just behind an event is not what stood before it: the values of the valves there are kept
  /// apart, read off the two half-step points behind it.
  void look_behind(const double* middle, const double* end) noexcept {
    for (Valve& v : valves_) {
      const double before_end = middle[v.p] - middle[v.q];
      v.voltage_behind = 2 * before_end - (end[v.p] - end[v.q]);
      v.current_behind = 2 * middle[v.current] - end[v.current];
    }
  }
  void look_behind(const double* present) noexcept {
    for (Valve& v : valves_) {
      v.voltage_behind = present[v.p] - present[v.q];
      v.current_behind = present[v.current];
    }
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
    const double margin_after = margin(v, after[v.p] - after[v.q], after[v.current]);
    if (margin_after >= -tolerance(v, after)) return time;
    const double margin_before = std::max(0.0, margin(v, v.voltage_behind, v.current_behind));
    return std::min(time, from + (until - from) * margin_before / (margin_before - margin_after));
  }

  /// Carries out what is due at `event`: edges by then, and the end or beginning of conduction that `after`
  /// shows.
  void change_over(std::size_t k, double event, double slack, const double* after) noexcept {
    Valve& v = valves_[k];
    if (take(v, event + slack)) {
      find_next_edge();
      obey_gate(v);
    } else {
      follow(v, after[v.p] - after[v.q]);
    }
  }

  /// Changes over each valve that does not fit the solution in `values`; true when any did. No valve changes
  /// more than twice at one instant (`begin_instant`).
  void begin_instant() noexcept {
    for (Valve& v : valves_) v.changes = 0;
  }
  template <class Changed>
  bool fit(const double* values, Changed&& changed) noexcept {
    bool any = false;
    for (std::size_t k = 0; k < valves_.size(); ++k) {
      Valve& v = valves_[k];
      const double voltage = values[v.p] - values[v.q];
      if (margin(v, voltage, values[v.current]) >= -tolerance(v, values) || v.changes == 2) continue;
      ++v.changes;
      follow(v, voltage);
      changed(k);
      any = true;
    }
    return any;
  }

 private:
  enum class Piece : char { off, forward, reverse };
  struct Edge {
    double at_s;
    bool on;
  };
  struct Valve {
    ValveKind kind;
    int p, q, current, conducts, number;
    double off_S, on_S, drop_V, reverse_S, reverse_drop_V;
    Piece piece = Piece::off;
    bool gate = false;
    bool held = false;  // by an averaged leg
    Failure broken = Failure::none;
    double late_s = 0;
    int changes = 0;
    double voltage_behind = 0, current_behind = 0;
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

  [[nodiscard]] static double conductance(const Valve& v) noexcept {
    return v.piece == Piece::off ? v.off_S : v.piece == Piece::forward ? v.on_S : v.reverse_S;
  }
  /// G e of the piece: what flows against the direction of i at v = 0.
  [[nodiscard]] static double source_of(const Valve& v) noexcept {
    if (v.piece == Piece::off) return 0;
    return v.piece == Piece::forward ? v.on_S * v.drop_V : -v.reverse_S * v.reverse_drop_V;
  }
  [[nodiscard]] static bool may_conduct_forward(const Valve& v) noexcept {
    return v.kind == ValveKind::diode || v.gate;
  }
  /// A piece that holds whatever the solution says.
  [[nodiscard]] static bool is_imposed(const Valve& v) noexcept {
    return v.held || v.kind == ValveKind::contact || v.broken == Failure::shorted;
  }

  /// How far the solution is from leaving the piece, in volts or amperes; negative when it has.
  [[nodiscard]] static double margin(const Valve& v, double voltage, double current) noexcept {
    if (is_imposed(v)) return 1;
    switch (v.piece) {
      case Piece::forward:
        return current;
      case Piece::reverse:
        return -current;
      case Piece::off:
        break;
    }
    double room = 1e300;
    if (may_conduct_forward(v) && v.broken != Failure::dead) room = v.drop_V - voltage;
    if (v.kind == ValveKind::transistor) room = std::min(room, voltage + v.reverse_drop_V);
    return room;
  }
  /// What rounding of the node voltages makes of a margin.
  [[nodiscard]] static double tolerance(const Valve& v, const double* values) noexcept {
    const double rounding = 1e-13 * (std::abs(values[v.p]) + std::abs(values[v.q]));
    return v.piece == Piece::off ? 1e-7 + rounding : 1e-9 + conductance(v) * rounding;
  }

  /// To the piece that the solution asks for.
  static void follow(Valve& v, double voltage) noexcept {
    if (v.piece != Piece::off) {
      v.piece = Piece::off;
    } else {
      v.piece = voltage > 0 && v.broken != Failure::dead ? Piece::forward : Piece::reverse;
    }
  }
  static void obey_gate(Valve& v) noexcept {
    if (v.broken == Failure::shorted) {
      v.piece = Piece::forward;
    } else if (v.kind == ValveKind::contact) {
      v.piece = v.gate ? Piece::forward : Piece::off;
    } else if (v.kind == ValveKind::transistor && !v.gate && v.piece == Piece::forward) {
      v.piece = Piece::off;
    } else if (v.broken == Failure::dead && v.piece == Piece::forward) {
      v.piece = Piece::off;
    }
  }
  void find_next_edge() noexcept {
    next_edge_ = never;
    for (const Valve& v : valves_) {
      if (v.waiting > 0 && !v.held)
        next_edge_ = std::min(next_edge_, v.edges[static_cast<std::size_t>(v.first_edge)].at_s);
    }
  }

  std::vector<Valve> valves_;
  double next_edge_ = never;
  bool left_ = false;  // some valve did not fit the latest solution
};

}  // namespace zavrek::emt::internal
