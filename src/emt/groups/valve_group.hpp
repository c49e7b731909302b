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
#include <bit>
#include <cmath>
#include <utility>
#include <vector>

#include "emt/groups/commutations.hpp"
#include "emt/groups/gate_edges.hpp"
#include "emt/parts/parts.hpp"
#include "emt/solve/lanes.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::emt::internal {

class ValveGroup {
 public:
  static constexpr double never = GateEdges::never;
  static constexpr double most_changes = 4;  // of a valve at one instant

  /// `number` is that of its adjustable conductance. Starts off.
  void add(const ValvePart& part, const int* node_position, int number) {
    valves_.push_back({part.kind, node_position[part.ends.p], node_position[part.ends.q], number, part.off_S,
                       1 / part.on_resistance_ohm, part.drop_V, 1 / part.diode_resistance_ohm,
                       part.diode_drop_V});
    edges_.add_valve();
    if (part.kind == ValveKind::thyristor) {
      thyristors_.push_back(size() - 1);
      make_room();
    }
    fours_.resize(room() / lanes);
    sources_.push_back(0);
    load_segment(size() - 1);
  }
  /// Positions that the voltages take, and so many again each of the others: whole lanes.
  [[nodiscard]] std::size_t room() const { return (size() + lanes - 1) / lanes * lanes; }
  /// Positions of the first valve's values; those of the others follow.
  void set_places(int voltages, int currents, int conducts) {
    voltages_at_ = voltages;
    currents_at_ = currents;
    conducts_at_ = conducts;
  }
  void move_voltages(int to) { voltages_at_ = to; }
  /// From the first position to behind the last, but for voltages that were moved.
  [[nodiscard]] std::pair<int, int> stretch() const {
    const int room_taken = static_cast<int>(room());
    const bool moved = voltages_at_ + room_taken != currents_at_;
    return {moved ? currents_at_ : voltages_at_, conducts_at_ + room_taken};
  }
  /// Valve k belongs to a condensed part of the network: that part drives and measures it.
  void set_in_condensed(std::size_t k) {
    valves_[k].in_condensed = true;
    ++in_condensed_;
  }
  [[nodiscard]] bool all_in_condensed() const noexcept { return in_condensed_ == size(); }
  [[nodiscard]] std::pair<int, int> ends(std::size_t k) const noexcept {
    return {valves_[k].p, valves_[k].q};
  }
  [[nodiscard]] int voltage(std::size_t k) const noexcept { return voltages_at_ + static_cast<int>(k); }
  /// What its piece drives from p to q against its current.
  [[nodiscard]] double source(std::size_t k) const noexcept { return sources_[k]; }

  [[nodiscard]] bool empty() const { return valves_.empty(); }
  [[nodiscard]] std::size_t size() const { return valves_.size(); }
  [[nodiscard]] int number(std::size_t k) const { return valves_[k].number; }
  [[nodiscard]] double siemens(std::size_t k) const noexcept { return four(k).siemens[lane(k)]; }
  /// A gate edge at an instant of plant time; edges of one valve come in the order of their times. False when
  /// too many wait already.
  bool fire(std::size_t k, bool on, double at_s) noexcept {
    const Valve& v = valves_[k];
    if (v.broken != Failure::none && v.broken != Failure::late) return true;
    return edges_.push(k, on, at_s + v.late_s);
  }
  void fail(std::size_t k, Failure how, double late_s) noexcept {
    Valve& v = valves_[k];
    if (v.broken == Failure::shorted || v.broken == Failure::dead) return;
    v.broken = how;
    v.late_s = how == Failure::late ? late_s : 0;
    if (how == Failure::none || how == Failure::late) return;
    edges_.forget(k);
    v.gate = false;
    load_gate(k);
  }

  void visit_state(StateArchive& archive) {
    archive(valves_);
    archive(fours_);
    archive(sources_);
    archive(states_);
    archive(marked_);
    archive(unrecovered_);
    archive(nodes_scale_);
    archive(volts_high_);
    archive(amperes_high_);
    archive(left_);
    edges_.visit_state(archive);
  }
  /// For what the step lists.
  void make_room() {
    unrecovered_.reserve(thyristors_.size());
    edges_.make_room();
  }

  // --- asked by averaged legs (leg_group.hpp), which hold their valves off and take their edges -----------
  void hold(std::size_t k, bool held) noexcept {
    valves_[k].held = held;
    valves_[k].piece = Piece::off;
    load_segment(k);
    edges_.hold(k, held);
  }
  [[nodiscard]] bool broken(std::size_t k) const noexcept {
    return valves_[k].broken == Failure::shorted || valves_[k].broken == Failure::dead;
  }
  [[nodiscard]] bool gate(std::size_t k) const noexcept { return valves_[k].gate; }
  [[nodiscard]] double next_edge(std::size_t k) const noexcept { return edges_.next(k); }
  void take_edges(std::size_t k, double until) noexcept { (void)edges_.take(k, until, valves_[k].gate); }
  [[nodiscard]] bool conducts(std::size_t k) const noexcept { return valves_[k].piece != Piece::off; }
  /// When its gate came on last, and when its current last came to an end by itself.
  [[nodiscard]] double came_on_s(std::size_t k) const noexcept { return valves_[k].came_on_s; }
  [[nodiscard]] double ended_s(std::size_t k) const noexcept { return valves_[k].ended_s; }
  [[nodiscard]] std::pair<int, int> slots(std::size_t k) const noexcept {
    return {currents_at_ + static_cast<int>(k), conducts_at_ + static_cast<int>(k)};
  }

  // --- asked by the reference (reference.cpp), which knows time only as instants --------------------------
  [[nodiscard]] double current(std::size_t k, double voltage) const noexcept {
    return siemens(k) * voltage - source(k);
  }
  [[nodiscard]] double margin(std::size_t k, double volts) const noexcept {
    return std::min(volts - four(k).low[lane(k)], four(k).high[lane(k)] - volts);
  }
  /// Lets the gates follow their edges until an instant; whether there were any.
  bool take_all(double until) noexcept {
    bool any = false;
    for (std::size_t k = 0; k < size(); ++k) any |= take(k, until);
    return any;
  }
  /// Valve k leaves its piece.
  void leave(std::size_t k, const double* values) noexcept { commutate(k, values[voltage(k)]); }

  void inject(double* rhs) const noexcept {
    for (std::size_t k = 0; k < size(); ++k) {
      const Valve& v = valves_[k];
      if (v.in_condensed) continue;
      rhs[v.p] += source(k);
      rhs[v.q] -= source(k);
    }
  }
  /// Voltages of the valves that no condensed part measures; of all of them when `all`.
  void measure(double* now, bool all = false) noexcept {
    nodes_scale_ = 0;
    if (all_in_condensed() && !all) return;
    for (std::size_t k = 0; k < size(); ++k) {
      const Valve& v = valves_[k];
      if (v.in_condensed && !all) continue;
      now[voltage(k)] = now[v.p] - now[v.q];
      nodes_scale_ = std::max(nodes_scale_, std::abs(now[v.p]) + std::abs(now[v.q]));
    }
  }
  /// Currents from the voltages.
  void update(double* now) noexcept {
    Lanes volts_high{}, amperes_high{}, beyond = all_lanes(-never);
    const double* volts = now + voltages_at_;
    double *amperes = now + currents_at_, *on = now + conducts_at_;
    for (const Four& f : fours_) {
      const Lanes v = load(volts), i = f.siemens * v - f.source;
      store(amperes, i);
      store(on, f.conducts);
      volts_high = greater(volts_high, greater(v, -v));
      amperes_high = greater(amperes_high, greater(i, -i));
      beyond = greater(beyond, -f.margin(v) - f.slack);
      volts += lanes;
      amperes += lanes;
      on += lanes;
    }
    volts_high_ = volts_high;
    amperes_high_ = amperes_high;
    left_ = any(beyond > Lanes{}) && any_beyond(now + voltages_at_);
  }
  /// Whether all fit the solution that `update` saw last.
  [[nodiscard]] bool consistent() const noexcept { return !left_; }
  /// Whether nothing is due by `until`, when the solution at its end is the one that `update` saw last.
  [[nodiscard]] bool quiet(double until) const noexcept { return !left_ && edges_.earliest() >= until; }

  /// What a solution gave that all valves fit: from its instant on they are watched for leaving their pieces.
  /// In a step without an event so far that is the present, behind an event the half-step point. (Not the
  /// event itself: on the line through the half-step points a valve may be out there that was off at the
  /// first of them and comes on before the second.)
  void watch_from(const double* fitted) noexcept {
    fitted += voltages_at_;
    for (Four& f : fours_) {
      f.fitted = load(fitted);
      fitted += lanes;
    }
  }

  /// Earliest edge that waits.
  [[nodiscard]] double next_edge() const noexcept { return edges_.earliest(); }
  /// Finds for each valve the instant within (from, until] at which it changes over, by itself behind
  /// `watched`, the instant of `watch_from`. The earliest of them, never when there is none.
  double find_events(double from, double watched, double until, const double* after) noexcept {
    Lanes earliest = all_lanes(never);
    const Lanes begin = all_lanes(from), end = all_lanes(until), none = all_lanes(never);
    const bool by_itself = watched < until;
    const Noise noise = by_itself ? rounding() : Noise{};
    const double *volts = after + voltages_at_, *edges = edges_.due().data();
    for (Four& f : fours_) {
      const Lanes edge = load(edges);
      f.time = edge < end ? greater(edge, begin) : none;
      if (by_itself) {
        const Lanes margin_after = f.margin(load(volts));
        const auto leaves = margin_after < -f.slack - noise.of(f);
        if (any(leaves)) {
          const Lanes margin_before = greater(Lanes{}, f.margin(f.fitted));
          const Lanes crosses = watched + (until - watched) * margin_before / (margin_before - margin_after);
          f.time = leaves ? lesser(f.time, crosses) : f.time;
        }
      }
      earliest = lesser(earliest, f.time);
      volts += lanes;
      edges += lanes;
    }
    return least_of(earliest);
  }
  /// Those that change over by `last`, of what was found.
  void list_events(double last, std::vector<int>& into) const noexcept {
    for (std::size_t g = 0; g < fours_.size(); ++g)
      for_each_bit(bits_of(fours_[g].time <= last),
                   [&](std::size_t k) { into.push_back(static_cast<int>(g * lanes + k)); });
  }

  /// Carries out what is due at `event`: edges by then, and the end or beginning of conduction that `after`
  /// shows. Whether the valve is on another piece, or, from what it fitted last to `after`, beyond a bound of
  /// its piece.
  bool change_over(std::size_t k, double event, double slack, const double* after) noexcept {
    const Piece before = valves_[k].piece;
    if (!take(k, event + slack)) {
      commutate(k, after[voltage(k)]);
      if (valves_[k].piece == Piece::off) valves_[k].ended_s = event;
    }
    const Four& f = four(k);
    const double within = f.slack[lane(k)] + rounding().of(f)[lane(k)];
    return valves_[k].piece != before ||
           std::min(margin(k, fitted(k)), margin(k, after[voltage(k)])) < -within;
  }

  /// What happens until `end_instant` happens at one instant. A thyristor that carries current when it begins
  /// has no time to recover: forward voltage turns it on again, gate or none. So it is a diode for that long,
  /// and which pieces fit does not depend on the way on which they are found: a resistive network of diodes
  /// has one solution. (With a thyristor that blocks whatever the voltage there are others: it may be off
  /// though it carries current.)
  void begin_instant() noexcept {
    for (Four& f : fours_) f.changes = Lanes{};
    for (const std::size_t k : thyristors_) {
      if (valves_[k].piece == Piece::forward) unrecovered_.push_back(k);
    }
    for (const std::size_t k : unrecovered_) valves_[k].recovered = false;
  }
  void end_instant() noexcept {
    for (const std::size_t k : unrecovered_) {
      valves_[k].recovered = true;
      if (valves_[k].piece == Piece::off) load_segment(k);
    }
    unrecovered_.clear();
  }
  /// Pieces and gates as they are; whether there are few enough to tell.
  [[nodiscard]] bool can_tell_states() const noexcept { return size() <= ValveStates::most; }
  [[nodiscard]] const ValveStates& states() const noexcept { return states_; }
  /// Between `mark` and `unmark` gates may take edges, pieces may change until `return_to_mark`, which puts
  /// both back; `changed` is called for the valves that it concerns. Of valves that can tell their states.
  void mark() noexcept {
    marked_ = states_;
    edges_.mark();
  }
  void unmark() noexcept { edges_.unmark(); }
  [[nodiscard]] bool was_taken(std::size_t k) const noexcept { return edges_.was_taken(k); }
  template <class Changed>
  void return_to_mark(Changed&& changed) noexcept {
    edges_.return_to_mark();
    const ValveStates now = states_;
    for (std::size_t k = 0; k < size(); ++k) {
      if (now.pieces.of(k) == marked_.pieces.of(k) && now.gate(k) == marked_.gate(k)) continue;
      valves_[k].piece = static_cast<Piece>(marked_.pieces.of(k));
      valves_[k].gate = marked_.gate(k);
      load_segment(k);
      changed(k);
    }
  }
  /// Puts the valves on these pieces, but for those that averaged legs hold or that may not be on them (a
  /// search would never put a transistor without its gate into conduction, and a solution cannot tell: any
  /// current of its direction fits). `changed` is called for those that were on others.
  template <class Changed>
  void assume(const Pieces& pieces, Changed&& changed) noexcept {
    for (std::size_t word = 0; word < pieces.words.size(); ++word) {
      const std::uint64_t differ = pieces.words[word] ^ states_.pieces.words[word];
      for_each_bit((differ | differ >> 1U) & Pieces::low_bits, [&](std::size_t twice) {
        const std::size_t k = word * Pieces::in_word + twice / 2;
        if (!may_be_on(valves_[k], static_cast<Piece>(pieces.of(k)))) return;
        valves_[k].piece = static_cast<Piece>(pieces.of(k));
        load_segment(k);
        changed(k);
      });
    }
  }
  /// Changes over the valves that do not fit the solution in `values`; true when any did. Where the current
  /// of an inductance finds no way it drives an off valve to millions of volts, and all that the solution
  /// says of currents elsewhere is wrong: only valves that are out by a hundredth of the worst change in one
  /// round. No valve changes more than `most_changes` times at one instant (`begin_instant`).
  template <class Changed>
  bool fit(const double* values, Changed&& changed) noexcept {
    Lanes farthest{};
    const Noise noise = rounding();
    const double* volts = values + voltages_at_;
    for (Four& f : fours_) {
      const Lanes beyond = -f.margin(load(volts));
      const auto out = (beyond > f.slack + noise.of(f)) & (f.changes < most_changes);
      f.misfit = out ? beyond : Lanes{};
      farthest = greater(farthest, f.misfit);
      volts += lanes;
    }
    const double worst = greatest_of(farthest);
    for (std::size_t k = 0; k < size() && worst > 0; ++k) {
      if (four(k).misfit[lane(k)] <= 0.01 * worst) continue;
      four(k).changes[lane(k)] += 1;
      commutate(k, values[voltage(k)]);
      changed(k);
    }
    return worst > 0;
  }

 private:
  enum class Piece : char { off, forward, reverse };
  struct Valve {
    ValveKind kind;
    int p, q, number;
    double off_S, on_S, drop_V, reverse_S, diode_drop_V;
    Piece piece = Piece::off;
    bool gate = false;
    bool held = false;          // by an averaged leg
    bool in_condensed = false;  // driven and measured by a condensed part
    bool recovered = true;      // a thyristor that did not just carry current at the instant at hand
    Failure broken = Failure::none;
    double late_s = 0;
    double came_on_s = -never, ended_s = -never;
  };

  /// Lets the gate follow its edges until an instant, and the valve its gate; whether there were any.
  bool take(std::size_t k, double until) noexcept {
    Valve& v = valves_[k];
    const bool was = v.gate;
    if (!edges_.take(k, until, v.gate)) return false;
    if (v.gate && !was) v.came_on_s = until;
    load_gate(k);
    return true;
  }

  [[nodiscard]] static bool may_conduct_forward(const Valve& v, bool gate) noexcept {
    return (v.kind == ValveKind::diode || gate || !v.recovered) && v.broken != Failure::dead;
  }
  /// Whether it may go from the piece that it is on to another, given its gate.
  [[nodiscard]] static bool may_be_on(const Valve& v, Piece piece) noexcept {
    if (is_imposed(v)) return false;
    if (piece == Piece::forward) return may_conduct_forward(v, v.gate);
    return piece == Piece::off || v.kind == ValveKind::transistor;
  }
  /// A piece that holds whatever the solution says.
  [[nodiscard]] static bool is_imposed(const Valve& v) noexcept {
    return v.held || v.kind == ValveKind::contact || v.broken == Failure::shorted;
  }
  /// The piece that its gate and its failure put it on; else the one it is on.
  [[nodiscard]] static Piece imposed(const Valve& v, bool gate) noexcept {
    if (v.broken == Failure::shorted) return Piece::forward;
    if (v.kind == ValveKind::contact) return gate ? Piece::forward : Piece::off;
    const bool turns_off = v.broken == Failure::dead || (v.kind == ValveKind::transistor && !gate);
    return turns_off && v.piece == Piece::forward ? Piece::off : v.piece;
  }

  /// What the step asks of four valves, by their pieces: i = siemens v - source as long as low <= v <= high.
  struct Four {
    Lanes siemens{}, source{}, conducts{};
    Lanes low = all_lanes(-never), high = all_lanes(never);
    Lanes slack{};                  // how far beyond its bounds counts as within
    Lanes ohm{};                    // where it conducts
    Lanes fitted{};                 // voltages of `watch_from`
    Lanes changes{};                // at the instant at hand
    Lanes misfit{};                 // how far it is out, when it may still change
    Lanes time = all_lanes(never);  // of the event that was found
    /// How far the solution is from leaving the pieces, in volts; negative when it has.
    [[nodiscard]] Lanes margin(Lanes volts) const noexcept { return lesser(volts - low, high - volts); }
  };
  template <class Visit>
  static void for_each_bit(std::uint64_t bits, Visit&& visit) noexcept {
    for (; bits != 0; bits &= bits - 1) visit(static_cast<std::size_t>(std::countr_zero(bits)));
  }
  [[nodiscard]] double fitted(std::size_t k) const noexcept { return four(k).fitted[lane(k)]; }
  [[nodiscard]] static std::size_t lane(std::size_t k) noexcept { return k % lanes; }
  [[nodiscard]] Four& four(std::size_t k) noexcept { return fours_[k / lanes]; }
  [[nodiscard]] const Four& four(std::size_t k) const noexcept { return fours_[k / lanes]; }

  /// What rounding makes of a margin: 5e-13 of the voltages was seen at a clamping diode between the leakages
  /// of two valves, 3e-11 of the currents where a link was shorted; valves then took turns in an instant
  /// without end.
  struct Noise {
    double volts = 0, amperes = 0;
    [[nodiscard]] Lanes of(const Four& f) const noexcept { return volts + amperes * f.ohm; }
  };
  [[nodiscard]] Noise rounding() const noexcept {
    return {2e-12 * std::max(nodes_scale_, greatest_of(volts_high_)), 1e-10 * greatest_of(amperes_high_)};
  }
  [[nodiscard]] bool any_beyond(const double* volts) const noexcept {
    const Noise noise = rounding();
    auto beyond = Lanes{} < Lanes{};
    for (const Four& f : fours_) {
      beyond |= f.margin(load(volts)) < -f.slack - noise.of(f);
      volts += lanes;
    }
    return any(beyond);
  }
  /// Numbers of the piece that the valve is on.
  void load_segment(std::size_t k) noexcept {
    const Valve& v = valves_[k];
    Four& f = four(k);
    const std::size_t l = lane(k);
    f.conducts[l] = v.piece == Piece::off ? 0 : 1;
    f.ohm[l] = v.piece == Piece::off ? 0 : v.piece == Piece::forward ? 1 / v.on_S : 1 / v.reverse_S;
    f.slack[l] = v.piece == Piece::off ? 1e-7 : 1e-9 * f.ohm[l];
    f.source[l] = 0;
    f.low[l] = -never;
    f.high[l] = never;
    switch (v.piece) {
      case Piece::off:
        f.siemens[l] = v.off_S;
        if (may_conduct_forward(v, v.gate)) f.high[l] = v.drop_V;
        if (v.kind == ValveKind::transistor) f.low[l] = -v.diode_drop_V;
        break;
      case Piece::forward:
        f.siemens[l] = v.on_S;
        f.source[l] = v.on_S * v.drop_V;
        f.low[l] = v.drop_V;
        break;
      case Piece::reverse:
        f.siemens[l] = v.reverse_S;
        f.source[l] = -v.reverse_S * v.diode_drop_V;
        f.high[l] = -v.diode_drop_V;
        break;
    }
    sources_[k] = f.source[l];
    states_.enter(k, static_cast<unsigned>(v.piece), v.gate);
    if (!is_imposed(v)) return;
    f.low[l] = -never;
    f.high[l] = never;
  }
  /// To the piece that the solution asks for.
  void commutate(std::size_t k, double voltage) noexcept {
    Valve& v = valves_[k];
    if (v.piece != Piece::off) {
      v.piece = Piece::off;
    } else {
      v.piece = voltage > 0 && v.broken != Failure::dead ? Piece::forward : Piece::reverse;
    }
    load_segment(k);
  }
  void load_gate(std::size_t k) noexcept {
    valves_[k].piece = imposed(valves_[k], valves_[k].gate);
    load_segment(k);
  }

  std::vector<Valve> valves_;
  std::vector<Four> fours_;
  std::vector<double> sources_;  // the same as in the fours
  ValveStates states_, marked_;
  GateEdges edges_;
  std::vector<std::size_t> thyristors_;
  std::vector<std::size_t> unrecovered_;  // room for all thyristors: those that are diodes at this instant
  int voltages_at_ = 0, currents_at_ = 0, conducts_at_ = 0;
  std::size_t in_condensed_ = 0;  // how many
  double nodes_scale_ = 0;        // of the node voltages at the valves in the latest solution,
  Lanes volts_high_{};            // of the valves' own,
  Lanes amperes_high_{};          // and of their currents
  bool left_ = false;             // some valve did not fit the latest solution
};

}  // namespace zavrek::emt::internal
