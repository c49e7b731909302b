// The compiled plant, and its step. What the members hold is said where their types are: values by instant in
// instants.hpp, factors and adjustable conductances in conductances.hpp, each kind of part in its group.
#pragma once

#include <array>
#include <memory>
#include <span>
#include <vector>

#include "emt/groups/leg_group.hpp"
#include "emt/groups/model_group.hpp"
#include "emt/groups/pole_group.hpp"
#include "emt/groups/segment_group.hpp"
#include "emt/groups/source_group.hpp"
#include "emt/groups/valve_group.hpp"
#include "emt/groups/wave_group.hpp"
#include "emt/step/commutator.hpp"
#include "emt/step/instants.hpp"
#include "emt/step/lookahead.hpp"
#include "emt/step/shard.hpp"
#include "emt/step/signal_table.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::emt::internal {

class Core {
 public:
  static constexpr int events_per_step = 12;
  static constexpr int commutations_per_event = 12;

  struct Options {
    double step_s = 0;
    bool euler_throughout = false;
    bool told_each_step = false;  // what enters a step is known right ahead of it: no step is made before
  };
  struct Counters {
    long long steps = 0;
    long long steps_at_event_limit = 0;
    long long discontinuities = 0;
    int culprit = -1;  // position of a node voltage that is not finite
  };
  /// Voltages beyond their bounds, the first instant of each.
  struct Excesses {
    struct One {
      int position = 0;
      double volts = 0, at_s = 0;
    };
    std::array<One, 8> all{};
    int count = 0;
  };
  /// Why the next step starts with a discontinuity.
  struct Restart {
    bool settle_first = false;  // it starts from rest
    bool pending = false;       // a knob was turned, a model meets other equations
    bool legs = false;          // averaged legs do
    [[nodiscard]] bool due() const noexcept { return settle_first || pending || legs; }
  };

  // --- the step ------------------------------------------------------------------------------
  /// A step, and where there may be a discontinuity in the next, what can be made for that already, unless
  /// one in this step took its time: what a discontinuity costs is so divided between two steps.
  [[nodiscard]] Status step() noexcept {
    const long long most = counters.discontinuities + (ahead.half_step_solved() ? 1 : 0);
    const long long before = counters.discontinuities;
    const Status status = take_step();
    if (counters.discontinuities <= most && may_meet_discontinuities())
      look_ahead(counters.discontinuities == before);
    return status;
  }
  /// Without looking ahead.
  [[nodiscard]] Status take_step() noexcept {
    if (lines.hears()) lines.hear(at.present.data());
    if (!ahead.reaches(Lookahead::Rung::solved)) advance();
    ahead.edges_taken = false;
    resolve_discontinuities();
    return finish();
  }

  [[nodiscard]] double time_s() const noexcept { return grid_time_s(0); }
  /// Of the grid point so many steps after the present. Never inlined: a product that the compiler contracts
  /// with a sum beside it is rounded otherwise, and what is looked ahead must be the step's own to the bit.
  [[nodiscard]] [[gnu::noinline]] double grid_time_s(int steps_on) const noexcept;

  // --- what is read ---------------------------------------------------------------------------
  /// Of the present.
  [[nodiscard]] double value(const SignalRow& row) noexcept;
  /// Looks for voltages that no bus of the network explains.
  void look_over() noexcept;
  /// Keeps signals up to date after every step, which is cheaper than finding them when they are read.
  /// Allocates.
  void watch(std::span<const SignalId> which);

  // --- what is done to it ---------------------------------------------------------------------
  void start_anew() noexcept {
    forget_event();
    restart.pending = true;
  }
  bool request(int operable, bool close, double at_s) noexcept;
  bool set_resistance(int operable, double ohm) noexcept;
  [[nodiscard]] bool has_resistance(int operable) const noexcept;
  void turn(int knob, double value) noexcept;
  bool fire(int gate, bool on, double at_s) noexcept;
  void fail(int gate, Failure how, double late_s) noexcept;

  // --- for the compiler and leaps ---------------------------------------------------------------
  /// Node voltages of a shard from its right-hand side, which then holds what the pass over the parts leaves
  /// for the solution after it.
  void solve_by_factors(Shard& shard, Rule coming, double* right, double* now) const noexcept;
  /// One trapezoidal step of a network of lines, parts and poles alone, from their histories and the known
  /// voltages in `now`. `right` has room for the right-hand side.
  void step_linear(double* right, double* now) noexcept;
  /// The history currents that the parts hold, into an empty right-hand side.
  void drive_parts(double* right) noexcept;
  void adjust_valve(std::size_t k) noexcept { conductances.adjust(valves.number(k), valves.siemens(k)); }
  /// Makes the factors that stale conductances ask for.
  void refactor() noexcept;
  /// History and state of the condensed parts from the values that the present starts with.
  void begin_condensed();
  void find_ranges();
  /// For all that the step lists.
  void make_room();

  // --- its state --------------------------------------------------------------------------------
  /// All that steps and commands change. What follows from it (factors, matrices) is made again where it
  /// differs. Throws Error when it comes from another network, or when other signals were watched then.
  void visit_state(StateArchive& archive);
  [[nodiscard]] std::unique_ptr<Core> clone() const;

  // --- filled by compile ------------------------------------------------------------------------
  Options options;
  Counters counters;
  Excesses excesses;
  Restart restart;
  Summary summary;

  Instants at;
  ValueMap map;
  HistoryRhs history;
  Lookahead ahead;
  EventSet due;
  Conductances conductances;

  std::vector<Shard> shards;
  bool all_condensed = false;
  WaveGroup lines;
  SegmentGroup segments;
  ValveGroup valves;
  LegGroup legs;
  PoleGroup poles;
  ModelGroup models;
  SourceGroup sources;
  Commutator commutator;

  SignalTable signals;
  Controls controls;
  StepWorkers* workers = nullptr;  // help with the shards when there are any

  Core() = default;
  Core& operator=(const Core&) = delete;

  [[nodiscard]] Condensed::View view_of(Shard& shard) noexcept {
    return {shard.parts,
            shard.couplings,
            shard.driven,
            shard.first,
            shard.end,
            map.first_unknown,
            map.voltages,
            static_cast<int>(at.present.size()),
            conductances.partitions[static_cast<std::size_t>(shard.first_partition)],
            conductances,
            valves,
            segments,
            poles,
            controls.operables};
  }

 private:
  Core(const Core&) = default;

  // --- core.cpp: the arithmetic of a step ---------------------------------------------------------
  void advance() noexcept;
  [[nodiscard]] Status finish() noexcept;
  [[nodiscard]] bool finite() const noexcept;
  void begin_legs(double until) noexcept;
  /// `steps_after_newest`: of an instant, from the newest entry of the lines' rings on.
  void solve(const Interval& interval, Rule coming, double steps_after_newest, const double* old,
             double* now) noexcept;
  void prepare(const Interval& interval, double steps_after_newest, const double* old, double* now) noexcept;
  void inject_histories(Rule rule, const double* old) noexcept;
  void inject_apart(const double* stands, Sloped first, Sloped second) noexcept;
  void inject_at_event(const double* stands) noexcept;
  /// Of the present, what slopes follow from.
  [[nodiscard]] const double* slopes_of(const double* old) const noexcept {
    return at.sloping_stands && old == at.present.data() ? at.sloping.data() : old;
  }
  void begin_parts(const Interval& interval, double steps_after_newest, const double* old) noexcept;
  /// Whether condensed parts, and the valves, have their solution at the instant at hand.
  enum class CondensedPart : bool { to_solve, already_solved };
  void conclude(const Interval& interval, Rule coming, const double* old, double* now,
                CondensedPart condensed = CondensedPart::to_solve) noexcept;
  void solve_shards(Rule coming, double* now, CondensedPart condensed) noexcept;
  void solve_shard(Shard& shard, Rule coming, double* now, CondensedPart condensed) noexcept;
  void end_parts(const Interval& interval, const double* old, double* now, CondensedPart condensed) noexcept;
  void impose_sources(double time, double* now) noexcept {
    sources.impose_at(counters.steps, time - time_s(), now);
  }
  void expand_condensed() noexcept;
  void wake_poles(double until) noexcept;
  void read_condensed_poles() noexcept;
  void adjust_pole(const Pole& pole, double siemens) noexcept {
    if (conductances.siemens(pole.number) != siemens) conductances.adjust(pole.number, siemens);
  }

  // --- events.cpp: discontinuities ----------------------------------------------------------------
  void resolve_discontinuities() noexcept {
    const double until = grid_time_s(1);
    const bool calm = !restart.due() && !poles.awake() && segments.empty() &&
                      !commutator.watched_from_half_step &&
                      sources.corner_s() >= until - coincidence_tolerance_s();
    if (!calm || ahead.half_step_solved() || !valves.quiet(until)) meet_discontinuities(until);
    ahead.rung = Lookahead::Rung::nothing;
  }
  void meet_discontinuities(double until) noexcept;
  [[nodiscard]] double find_due(double from, double until) noexcept;
  void settle(double from, double until, double event) noexcept;
  [[nodiscard]] bool change_valves(double event) noexcept;
  void operate_due(double event) noexcept;
  void solve_behind(double event, double offset, bool half_step_solved) noexcept;
  void keep_slopes(double steps) noexcept;
  [[nodiscard]] bool fit_valves(const Interval& interval, double steps_after_newest,
                                const double* old) noexcept;
  template <class Solve>
  [[nodiscard]] bool find_fit(Solve&& solve) noexcept;
  void guess_commutations() noexcept;
  void assume_pieces(const Pieces& pieces) noexcept;
  [[nodiscard]] bool see_valves() noexcept;
  [[nodiscard]] bool revise_valves() noexcept;
  /// Of an event behind the newest ring entry, in steps.
  [[nodiscard]] double offset_of(double event) const noexcept { return (event - time_s()) / options.step_s; }
  /// Events this close to each other are one.
  [[nodiscard]] double coincidence_tolerance_s() const noexcept { return 1e-6 * options.step_s; }
  static void blend(const Numbers& from, const Numbers& to, double share, Numbers& into, int first,
                    int end) noexcept;
  template <class Visit>
  void for_each_carried(Visit&& visit) const noexcept;
  void go_back(double share) noexcept;
  void go_back_behind(double steps) noexcept;
  void stand_behind(const Behind& behind, Numbers& into, int first, int end) const noexcept;
  void go_on(double steps) noexcept;

  // --- ahead.cpp: what is made for the next step ----------------------------------------------------
  /// Whether the next step may meet a discontinuity.
  [[nodiscard]] bool may_meet_discontinuities() const noexcept {
    return legs.empty() && !options.euler_throughout && !options.told_each_step && !restart.pending &&
           (!valves.empty() || !segments.empty() || poles.alarm_s() < grid_time_s(1) + options.step_s);
  }
  void look_ahead(bool calm) noexcept;
  void make_ready(double until) noexcept;
  void make_half(double event) noexcept;
  void take_half_back() noexcept;
  void forget_event() noexcept;
  void forget_ahead() noexcept;
  void keep_to_poles() noexcept;
};

}  // namespace zavrek::emt::internal
