// The compiled plant. All values of one instant stand in one array: ground, known node voltages,
// unknown node voltages in the order of their partitions, then currents and other slots. Two such
// arrays hold the present and the instant being solved; two more serve the half steps, and one what is made
// ahead for a discontinuity of the next step. The phases of a bus stand side by side (lanes.hpp).
#pragma once

#include <array>
#include <complex>
#include <memory>
#include <span>
#include <string>
#include <tuple>
#include <utility>
#include <vector>

#include "emt/capacitance_group.hpp"
#include "emt/condensed.hpp"
#include "emt/leap.hpp"
#include "emt/leg_group.hpp"
#include "emt/partition.hpp"
#include "emt/segment_group.hpp"
#include "emt/series_group.hpp"
#include "emt/three_phase_groups.hpp"
#include "emt/valve_group.hpp"
#include "emt/wave_group.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::emt::internal {

/// A pole as the step sees it.
struct Pole {
  int p, q;               // positions of its node voltages
  int current, position;  // positions of its slots
  double closed_S, open_S;
  bool closed;
  int number;       // of its adjustable conductance
  double close_at;  // pending instants, plant time; never() when none
  double part_at;
  double chop_A = 0;       // interrupts at once when it carries less
  double late_open_s = 0;  // beyond the operable's own times
  double late_close_s = 0;
  double ceased_at = -1e300;   // when it last interrupted
  double closed_at = -1e300;   // when it last closed
  network::Points strength{};  // withstand voltage over the time since then; empty: it never restrikes
  bool apart = false;          // a condensed part finds its current
  [[nodiscard]] bool waits() const noexcept {
    return close_at < 1e300 || part_at < 1e300 || (!closed && !strength.empty());
  }
  [[nodiscard]] double siemens() const { return closed ? closed_S : open_S; }
  /// Voltage that the open gap withstands at an instant.
  [[nodiscard]] double withstands(double time) const noexcept {
    const network::Points& s = strength;
    const double since = time - ceased_at;
    std::size_t k = 0;
    while (k + 1 < s.size() && s[k + 1].x <= since) ++k;
    if (since <= s[k].x || k + 1 == s.size()) return s[k].y;
    return s[k].y + (s[k + 1].y - s[k].y) * (since - s[k].x) / (s[k + 1].x - s[k].x);
  }
};

/// What every solution asks of a pole.
struct PoleFlow {
  int p, q;
  int current, position;  // current: -1 when a condensed part finds it
  double siemens, shown;  // position
};

/// A column of a partition's factors.
struct PartitionColumn {
  int partition, column;
  friend bool operator==(const PartitionColumn&, const PartitionColumn&) = default;
};

/// Conductances between unknown and known nodes: rhs[row] += siemens * v[known].
struct Coupling {
  int row, known;
  double siemens;
};

/// A coupling whose conductance is an adjustable one.
struct DrivenCoupling {
  int shard, coupling, number;
  double sign;
};

/// A known node; the phases of one source stand next to each other.
struct SourceNode {
  int position;
  std::size_t waveform;
  Waveform::Phase phase;
};
/// Known nodes that one waveform drives: it is evaluated once for all of them.
struct Driving {
  std::size_t waveform;
  int first, behind;  // of the source nodes
};

/// A model, its places and its stretch of the adjustable conductances.
struct ModelRow {
  std::unique_ptr<Model> model;
  Places places;
  int ends;
  int number;  // first of ends * ends adjustable conductances; -1 when it does not vary
  std::vector<PartitionColumn> marks;  // that it touches
  std::vector<char> apart;             // per end: a condensed part takes its history current itself
  std::vector<double> history, conductance;
  std::vector<std::complex<double>> input_phasors;
};

struct SignalRow {
  std::string name, unit;
  int first, count;  // terms
  std::complex<double> phasor;
  bool stands;  // up to date after every step
};

/// Partitions next to each other, with the parts whose history currents act on them. Shards share nothing
/// while they are worked on, so that several cores may take one each; how many do changes no bit.
struct Shard {
  std::tuple<SeriesGroup<1, false>, SeriesGroup<1, true>, SeriesGroup<2, false>, SeriesGroup<3, false>,
             SeriesGroup<4, false>, ThreePhaseSeries<Coupled, false>, ThreePhaseSeries<Coupled, true>,
             ThreePhaseSeries<Balanced, false>, ThreePhaseSeries<Balanced, true>,
             ThreePhaseSeries<Uncoupled, false>, ThreePhaseSeries<Uncoupled, true>, CapacitanceGroup<1>,
             ThreePhaseCapacitance<Coupled>, ThreePhaseCapacitance<Balanced>,
             ThreePhaseCapacitance<Uncoupled>>
      parts;
  int first_partition, end_partition;
  int first, end;  // positions of its node voltages
  std::vector<Coupling> couplings{};
  std::unique_ptr<Condensed> condensed{};  // of one partition only
};

/// Calls `visit` with each group of a shard's parts.
template <class Visit>
void for_each_group(Shard& shard, Visit&& visit) noexcept {
  std::apply([&](auto&... group) { (visit(group), ...); }, shard.parts);
}

/// Calls `visit` with each number of the memory of a shard's parts.
template <class Visit>
void for_each_memory(Shard& shard, Visit&& visit) noexcept {
  for_each_group(shard, [&](auto& group) { group.for_each_memory(visit); });
}

class Core {
 public:
  static constexpr int events_per_step = 12;
  static constexpr int commutations_per_event = 12;
  static constexpr std::size_t most_refusals = 256;
  static constexpr double never() { return 1e300; }

  // --- the step ------------------------------------------------------------------------------
  /// A step, and where there may be a discontinuity in the next, what can be made for that already, unless
  /// one in this step took its time: what a discontinuity costs is so divided between two steps.
  [[nodiscard]] Status step() noexcept {
    come_down();
    const long long most = discontinuities + (half_made ? 1 : 0);  // for a step that may look ahead
    const long long before = discontinuities;
    const Status status = take_step();
    if (discontinuities <= most && may_meet_discontinuities()) look_ahead(discontinuities == before);
    return status;
  }
  /// Without looking ahead.
  [[nodiscard]] Status take_step() noexcept {
    if (!foreseen) advance();
    foreseen = took_edges = false;
    resolve_discontinuities();
    return finish();
  }

  [[nodiscard]] double time_s() const noexcept { return static_cast<double>(steps) * step_s; }
  /// Node voltages of a shard from its right-hand side, which then holds what the pass over the parts leaves
  /// for the solution after it.
  void solve_by_factors(Shard& shard, Rule coming, double* right, double* now) const noexcept;
  /// Writes the known voltages of an instant, or of a grid point.
  void impose_sources(double time, double* now) noexcept;
  void impose_sources_at(long long step, double* now) noexcept;
  [[nodiscard]] double sum_of(const SignalRow& row, const double* values) const noexcept;
  /// Of the present.
  [[nodiscard]] double value(const SignalRow& row) noexcept;
  void read(std::span<const SignalId> which, double* into) noexcept;
  /// Keeps signals up to date after every step, which is cheaper than finding them when they are read.
  /// Allocates.
  void watch(std::span<const SignalId> which);

  /// Makes ready for leaps of so many steps, in which the watched signals are found; whether there can be
  /// any. Allocates.
  bool ready_leaps(int count) {
    leap = std::make_unique<Leap>(*this, count, watched);
    if (!leap->possible()) leap.reset();
    return leap != nullptr;
  }
  /// Makes all values whole behind a leap.
  void come_down() noexcept {
    if (leap && leap->landed()) leap->leave();
  }

  bool request(int operable, bool close, double at_s) noexcept;
  void turn(int knob, double value) noexcept;
  bool fire(int gate, bool on, double at_s) noexcept;
  void fail(int gate, Failure how, double late_s) noexcept;
  /// Gives an adjustable conductance its value; the partitions that hold it are refactored by
  /// `refactor_dirty`.
  void adjust(int number, double siemens) noexcept;
  void adjust_pole(const Pole& pole, double siemens) noexcept;
  void adjust_valve(std::size_t k) noexcept { adjust(valves.number(k), valves.siemens(k)); }
  void refactor_dirty() noexcept;
  /// Memories of the condensed parts from the values that the present starts with.
  void begin_condensed();
  void find_moving();
  /// Which poles wait for something, and when the next may change over.
  void set_pole_alarm() noexcept;

  // --- filled by compile ----------------------------------------------------------------------
  double step_s = 0;
  long long steps = 0;
  long long crowded_steps = 0;
  long long discontinuities = 0;
  bool euler_throughout = false;
  bool settle_first = false;  ///< the first step starts from rest: treat t = 0 as a discontinuity
  int voltages = 0;           ///< ground, known and unknown nodes: the first `voltages` values
  int first_unknown = 0;

  Numbers present, next, middle, end;
  Numbers struck;  ///< values at the event that is made ready
  Numbers whole;   ///< the present with what condensed parts do not keep up, when `whole_stands`
  bool whole_stands = false;
  /// Stretches of values, in whole lanes, that a solution writes, but for what condensed parts hold and for
  /// known voltages: those that another solution starts from, and those that are only shown. The others need
  /// not follow an event.
  std::vector<std::pair<int, int>> moving, shown;
  /// Which values are up to date after every step; of positions that hold none, none is.
  std::vector<char> stands;
  std::vector<int> shard_of_value;  ///< of those that are not
  /// Stretches of the currents of capacitances outside condensed parts. A jump of their voltage is a blow of
  /// current in the first half step behind it, of which nothing may be carried on.
  std::vector<std::pair<int, int>> charging;
  Numbers rhs;  ///< of the solution to come; the passes over the parts leave there what they already know
  /// Whether they did, by `ahead_rule`, and nothing disturbed the values since.
  bool ahead_holds = false;
  Rule ahead_rule = Rule::trapezoidal;
  bool foreseen = false;  ///< `next` holds the solution at the end of the step to come, already

  std::vector<Shard> shards;
  bool all_condensed = false;
  WaveGroup lines;
  SegmentGroup segments;
  ValveGroup valves;
  LegGroup legs;
  std::vector<LikelyPart> likely_states;  ///< of all valves
  std::vector<Gate> gates;
  std::vector<ModelRow> models;
  std::vector<Waveform> waveforms;
  std::vector<Waveform::Grid> waveforms_on_grid;
  std::vector<SourceNode> sources;
  std::vector<Driving> drivings;
  std::vector<DrivenCoupling> driven;
  std::vector<Partition> partitions;
  std::vector<double> adjustable;  ///< conductances that may change: of poles, segments, models
  std::vector<std::vector<PartitionColumn>> adjusts;  ///< per adjustable conductance: where it stands
  std::vector<Pole> poles;
  std::vector<PoleFlow> pole_flows;  ///< of each
  std::vector<int> pending;          ///< room for all poles: those that wait for something
  double pole_alarm_s = never();     ///< no pole changes over before
  bool poles_awake = false;  ///< one may within this step: all values are found, not only those kept up
  std::vector<int> due;      ///< room for all poles: those that change over at the event at hand
  std::vector<int> due_segments;
  std::vector<int> due_valves;
  Commutations commutations;           ///< of the valves
  bool may_remember = true;            ///< and these are asked
  ValveStates begun;                   ///< behind the gate edges of the event at hand
  std::array<Pieces, 2> likely;        ///< that these may end on
  bool valves_watched_behind = false;  ///< from the half-step point behind an event of this step on
  bool stale = false;                  ///< whether any partition must be refactored
  std::vector<int> readied;            ///< room for all poles: factors are made as these will stand
  bool event_found = false;            ///< the first event of the step to come: it is `ready_for`
  double ready_for = never();          ///< event made ready (`make_ready`); never when there is none
  bool took_edges = false;             ///< this step took edges that changed nothing: it has done enough
  bool half_made = false;              ///< how the valves fit just behind it is found: they stand so

  std::vector<Term> terms;  // of all signals, positions instead of node and slot numbers
  std::vector<SignalRow> signals;
  std::vector<int> watched;  // rows of signals
  std::vector<Operable> operables;
  std::vector<Refusal> refusals;  ///< room for `most_refusals`
  std::vector<Knob> knobs;
  bool turned = false;                      ///< a knob was turned: the next step starts with a discontinuity
  std::vector<std::string> position_names;  // of node voltages
  int culprit = -1;
  Summary summary;
  Crew* crew = nullptr;  ///< helps with the shards when there is one
  std::unique_ptr<Leap> leap;

 private:
  void advance() noexcept;
  void resolve_discontinuities() noexcept {
    const double until = static_cast<double>(steps + 1) * step_s;
    const bool calm = !settle_first && !turned && !poles_awake && segments.empty() && !valves_watched_behind;
    if (!calm || half_made || !valves.quiet(until)) meet_discontinuities(until);
    event_found = false;
  }
  [[nodiscard]] Status finish() noexcept;
  /// Whether the next step may.
  [[nodiscard]] bool may_meet_discontinuities() const noexcept {
    const double until = static_cast<double>(steps + 1) * step_s;
    return legs.empty() && !euler_throughout && !turned &&
           (!valves.empty() || !segments.empty() || pole_alarm_s < until + step_s);
  }
  void look_ahead(bool calm) noexcept;
  void make_half(double event) noexcept;
  void take_half_back() noexcept;
  void forget_ahead() noexcept;
  void make_ready(double until) noexcept;
  void inject_histories(Rule rule, const double* old) noexcept;
  void keep_to_poles() noexcept;
  void show_pole(std::size_t k) noexcept;
  void solve(const Stretch& stretch, Rule coming, double behind, const double* old, double* now) noexcept;
  void prepare(const Stretch& stretch, double behind, const double* old, double* now) noexcept;
  void conclude(const Stretch& stretch, Rule coming, const double* old, double* now,
                bool seen = false) noexcept;
  [[nodiscard]] bool fit_valves(const Stretch& stretch, double behind, const double* old) noexcept;
  template <class Solve>
  [[nodiscard]] bool find_fit(Solve&& solve) noexcept;
  /// Those of valves that condensed parts hold. (Elsewhere averaged legs hold valves off or let them go, and
  /// conductances of models change: the same states then end otherwise.)
  [[nodiscard]] bool remembers_commutations() const noexcept {
    return may_remember && valves.all_apart() && valves.can_tell_states();
  }
  void guess_commutations() noexcept;
  void assume_pieces(const Pieces& pieces) noexcept;
  [[nodiscard]] bool see_valves() noexcept;
  [[nodiscard]] bool revise_valves() noexcept;
  void solve_shard(Shard& shard, Rule rule, Rule coming, double* now, bool seen) noexcept;
  void solve_shards(Rule rule, Rule coming, double* now, bool seen) noexcept;
  void meet_discontinuities(double until) noexcept;
  /// Of an event behind the newest ring entry, in steps.
  [[nodiscard]] double offset_of(double event) const noexcept { return (event - time_s()) / step_s; }
  /// Events this close to each other are one.
  [[nodiscard]] double together() const noexcept { return 1e-6 * step_s; }
  void mark(const std::vector<PartitionColumn>& columns) noexcept;
  void begin_parts(const Stretch& stretch, double behind, const double* old) noexcept;
  void end_parts(const Stretch& stretch, const double* old, double* now, bool seen = false) noexcept;
  void make_whole() noexcept;
  void wake_poles(double until) noexcept;
  void know_poles() noexcept;
  [[nodiscard]] bool finite() const noexcept;
  void begin_legs(double until) noexcept;
  void update_poles(double* now) const noexcept;
  [[nodiscard]] double find_due(double from, double until) noexcept;
  [[nodiscard]] double event_time(const Pole& pole, double from, double until) const noexcept;
  [[nodiscard]] double restrike_time(const Pole& pole, double from, double until) const noexcept;
  void settle(double from, double until, double event) noexcept;
  void operate_due(double event) noexcept;
  static void blend(const Numbers& from, const Numbers& to, double share, Numbers& into, int first,
                    int behind) noexcept;
  void go_back(double share, Numbers& into) noexcept;
  void go_on(double along) noexcept;
  [[nodiscard]] bool change_valves(double event) noexcept;
  void leave_blows_behind(double along) noexcept;
  void solve_behind(double event, double offset) noexcept;
  void forget_event() noexcept;
};

}  // namespace zavrek::emt::internal
