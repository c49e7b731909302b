// A small part of the network (the partition of a shard) condensed into what goes into a solution and what
// comes out of it. With the switches at rest a solution is linear in its drive d,
//   d = (history m' of the parts; known voltages; history currents of models; those of lines into their
//   nodes), voltages of the valves = A_v d + a_v,   state x of the parts = A_x d + a_x, values that somebody
//   reads = A_k d + a_k,
// where a is what the sources of the valves and of bent characteristics add. The state is all that a half
// Euler step takes from what was before: its history m' is x'. A trapezoidal step takes x' + h/2 dx'/dt.
// Either rule finds x = m' + h/2 dx/dt, whence the history for the trapezoidal step to come,
//   m = x + h/2 dx/dt = 2 x - m',
// is had without a product. The parts' own product with the drive and a few voltages where the switches stand
// (divided.hpp) then takes the place of the whole step: right-hand side, two triangular sweeps and the passes
// over all parts; node voltages and currents that nobody reads are not calculated, and can be had later from
// the drive (`complete`).
//
// (Groups of a network behind few nodes as Norton equivalents: C. Dufour, J. Mahseredjian, J. Belanger, IEEE
// Trans. Power Delivery 26 (2011); here the states of the parts are outputs too.)
//
// What drives a current from one node to another is one number of the drive, not two: a part that hardly
// anything earths answers each of the two with a large voltage of all its nodes, in whose rounding the small
// differences between them would be lost.
#pragma once

#include <array>
#include <cstddef>
#include <memory>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "emt/condensed/divided.hpp"
#include "emt/groups/model_group.hpp"
#include "emt/groups/part_groups.hpp"
#include "emt/groups/pole_group.hpp"
#include "emt/groups/segment_group.hpp"
#include "emt/groups/valve_group.hpp"
#include "emt/parts/rule.hpp"
#include "emt/solve/product.hpp"

namespace zavrek::emt::internal {

class Condensed {
 public:
  static constexpr std::size_t most_matrices = 512;  // of an area
  static constexpr std::size_t most_ahead = 64;

  /// Where its numbers stand in the plant's value array. `history`: that of the parts for a trapezoidal step;
  /// `result`: what a product gives, block by block: the valves' voltages, the state of the parts, other
  /// values that are kept up; `drive`: what led to it.
  struct Places {
    int history = 0, result = 0, drive = 0;
  };
  /// Numbers at most, but for those that fill up lanes.
  struct Room {
    int history, valves, others, drive, junction;
    [[nodiscard]] int result() const {
      return filled_up(valves) + filled_up(history) + filled_up(others) + filled_up(junction);
    }
  };

  /// The history current of a model's end, from p to q.
  struct ModelEnd {
    std::size_t model, end;
    int p, q;
    const double* history = nullptr;
  };
  /// What acts on a shard from outside: `known` are positions of known nodes, `ports` those of nodes into
  /// which `rhs` brings currents.
  struct Outside {
    std::vector<int> known;
    std::vector<ModelEnd> ends;
    std::vector<int> ports;
  };
  /// What it looks at of the plant: the parts of its shard, whose node voltages stand from `first` to `end`,
  /// and the switches, of which some are its own. Outlives it.
  struct View {
    PartGroups& parts;
    std::vector<Coupling>& couplings;
    const std::vector<DrivenCoupling>& driven;
    int first, end, first_unknown;
    int voltages, values;  // of the plant's arrays
    Partition& partition;
    Conductances& conductances;
    const ValveGroup& valves;
    const SegmentGroup& segments;
    const PoleGroup& poles;
    const std::vector<Operable>& operables;
  };

  /// All that it looks at stands but values.
  Condensed(const View& view, const Places& places, Outside outside, const ModelGroup& models);
  /// The same of another plant.
  [[nodiscard]] std::unique_ptr<Condensed> clone(const View& view, const ModelGroup& models) const;

  /// Numbers of history that a shard's parts and `segments` bent characteristics have.
  [[nodiscard]] static int history_of(PartGroups& parts, int segments);

  /// The numbers of the valves, segments and poles that are its own: it drives, measures and finds them.
  [[nodiscard]] const std::vector<std::size_t>& valves() const noexcept { return valves_; }
  [[nodiscard]] const std::vector<std::size_t>& segments() const noexcept { return segments_; }
  [[nodiscard]] const std::vector<std::size_t>& poles() const noexcept { return poles_; }
  /// Whether there are no other valves: their voltages then stand at `valve_voltages`.
  [[nodiscard]] bool holds_all_valves() const noexcept { return all_valves_; }
  [[nodiscard]] int valve_voltages() const noexcept { return places_.result; }

  /// Keeps values (their positions) up with every solution. Allocates.
  void keep(std::span<const int> positions);

  /// History and state from values that are whole, and matrices, ahead of the first step.
  void begin(double* values);

  /// The drive of the solution to come in `now`: from history or state in `old`, the known voltages in `now`
  /// and the currents in `rhs`, which is emptied.
  void gather_inputs(Rule rule, const double* old, double* now, double* rhs) const noexcept;
  /// The solution to the drive in `now`; of all values when they are wanted (`whole`).
  void solve(double* now, bool whole) noexcept;
  /// The history for a trapezoidal step behind the solution in `now`, or behind one on the line through two.
  void remember(double* now) const noexcept;
  /// Its numbers that a half Euler step starts from,
  [[nodiscard]] std::pair<int, int> state() const noexcept {
    return {state_at(), state_at() + filled_up(history_)};
  }
  /// at a share of the whole step from `present` to `next`, into `into`: with the history m between the
  /// states x0 and x1, whose slopes change on a line,
  ///   x(s) = x0 + 2 s (m - x0) + s^2 (x1 - 2 m + x0);
  void state_within(double share, const double* present, const double* next, double* into) const noexcept;
  /// and all but the history,
  [[nodiscard]] std::array<std::pair<int, int>, 2> solution() const noexcept {
    return {{{places_.result, places_.result + rows_}, {places_.drive, places_.drive + filled_up(drives_)}}};
  }
  /// which for a trapezoidal step from an instant so many steps behind an event is found from the states of
  /// three half steps and that in `now`.
  void remember_behind(double steps, const double* middle, const double* end, const double* third,
                       double* now) const noexcept;
  /// Writes all values of the solution in `values`, whatever valves have changed over since.
  void complete(double* values) noexcept;

  /// Goes over to the conductances as they stand.
  void choose() noexcept;

  /// Its state: which matrices there are. What was lost since is made again when it is met.
  void visit_state(StateArchive& archive);

  /// Of the history: its first position and how many numbers.
  [[nodiscard]] std::pair<int, int> history() const noexcept { return {places_.history, history_}; }
  [[nodiscard]] std::size_t bytes() const noexcept { return divided_.bytes(); }
  /// Areas that have matrices of their own, how many are kept at most, and the nodes at which switches stand.
  [[nodiscard]] std::size_t areas() const noexcept { return divided_.areas(); }
  [[nodiscard]] std::size_t matrices() const noexcept { return divided_.matrices(); }
  [[nodiscard]] int junction_nodes() const noexcept { return divided_.junction_nodes(); }
  /// Numbers that one solution reads.
  [[nodiscard]] int numbers_read() const noexcept { return divided_.numbers_read(); }
  /// Matrices made before the first step, and since then.
  [[nodiscard]] long long made_ahead() const noexcept { return made_ahead_; }
  [[nodiscard]] long long made_since() const noexcept { return made_ - made_ahead_; }

 private:
  Condensed(const Condensed&) = default;
  Condensed(const Condensed& other, const View& view, const ModelGroup& models);
  void look_at(const ModelGroup& models);
  struct Source {
    int p, q;
  };

  [[nodiscard]] int state_at() const noexcept { return places_.result + state_row_; }
  void refactor() noexcept;
  void scatter(double* now) const noexcept;
  void read_sources() noexcept;
  void make_ahead();
  void find_maps();
  void arrange();
  void divide(const SparseLines& injected, const SparseLines& read, const SparseLines& direct);
  void take_up(const double* drive, double* now) noexcept;
  void inject_standing(const double* drive, const double* sources) noexcept;
  void pass(const double* drive, double* now, double* state) noexcept;

  std::optional<View> view_;  // always; that of a copy is another
  Places places_;
  int history_ = 0;        // numbers, with those that fill up lanes
  int parts_history_ = 0;  // of them without those of segments
  int drives_ = 0;         // numbers of the drive
  int columns_ = 0;        // these and the sources
  // First rows of these blocks of a; the valves' is 0. That of the junction is behind them all.
  int state_row_ = 0, scattered_row_ = 0, junction_row_ = 0;
  Outside outside_;
  std::vector<std::size_t> valves_, segments_, poles_;
  std::vector<int> varying_;    // conductances of models that change by themselves
  std::vector<Source> ends_;    // of the sources: valves, then segments
  std::vector<int> slots_;      // of the parts' history, then of segments, in the drive and the state
  std::vector<int> scattered_;  // positions of the values kept up, but for the valves' voltages,
  std::vector<int> kept_rows_;  // and where they stand in their block of the result
  bool all_valves_ = false;     // the shard has all there are: their voltages stand in the result
  Numbers sources_, slopes_;    // as the pieces stand; slopes of segments
  int rows_ = 0;                // of the result
  std::vector<std::pair<int, std::size_t>> pole_rows_;  // rows that are currents of poles

  Divided divided_;
  bool begun_ = false;
  long long made_ = 0, made_ahead_ = 0;

  // Room to work in.
  Numbers rhs_, spill_;  // as the plant's right-hand side
  Numbers probe_;        // as the plant's values
  Numbers state_;        // of the parts
};

}  // namespace zavrek::emt::internal
