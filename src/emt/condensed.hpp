// A small part of the network (the partition of a shard) condensed into what goes into a solution and what
// comes out of it. With the switches at rest a solution is linear in its drive d,
//   d = (memory of the parts; known voltages; history currents of models; those of lines into their nodes),
//   memory for the next trapezoidal step = A_m d + a_m,     voltages of the valves = A_v d + a_v,
//   values that somebody reads = A_k d + a_k,               memory for a half Euler step = A_e d + a_e,
// where a is what the sources of the valves and of bent characteristics add. A depends on the conductances of
// the switches alone; it is kept per state of the switches. One product with it then takes the place of the
// whole step: right-hand side, two triangular sweeps and the passes over all parts; node voltages and
// currents that nobody reads are not calculated, and can be had later from the drive (`complete`).
//
// What drives a current from one node to another is one number of the drive, not two: a part that hardly
// anything earths answers each of the two with a large voltage of all its nodes, in whose rounding the small
// differences between them would be lost.
//
// A state met again, or for long, gets its columns one by one, each with one solution made the long way, so
// that no step pays for all; until then solutions are made the long way. States are kept in sets of eight; a
// ninth of a set takes the place of its oldest. Their number is the largest power of two whose memory stays
// below `most_bytes`.
#pragma once

#include <cstdint>
#include <utility>
#include <vector>

#include "emt/product.hpp"
#include "emt/rule.hpp"

namespace zavrek::emt::internal {

class Core;
struct Shard;

class Condensed {
 public:
  static constexpr std::size_t most_bytes = std::size_t{32} << 20U;
  static constexpr std::size_t most_states = 2048;

  /// Where its numbers stand in the plant's value array. `memory`: that of the parts by the trapezoidal rule;
  /// `euler`: by the half Euler rule; `drive`: what led to the solution.
  struct Places {
    int memory = 0, euler = 0, drive = 0;
  };

  /// The history current of a model's end, from p to q.
  struct ModelEnd {
    const double* history;
    int p, q;
  };
  /// What acts on a shard from outside: `ports` are the positions of nodes into which `rhs` brings currents.
  struct Outside {
    std::vector<ModelEnd> ends;
    std::vector<int> ports;
  };

  /// All of `core` stands but its values.
  Condensed(Core& core, std::size_t shard, const Places& places, const Outside& outside);

  /// Numbers of memory that the shard's parts and `segments` bent characteristics have.
  [[nodiscard]] static int memory_of(Shard& shard, int segments);

  /// Keeps a value (its position) up with every solution. Allocates.
  void keep(int position);

  /// Memories from values that are whole, ahead of the first step.
  void begin(double* values) noexcept;

  /// The drive of the solution to come in `now`: from the memory in `old`, the known voltages in `now` and
  /// the currents in `rhs`, which is emptied.
  void take_drive(Rule rule, const double* old, double* now, double* rhs) const noexcept;
  /// The solution to the drive in `now`; the long way when all values are wanted (`whole`).
  void solve(double* now, bool whole) noexcept;
  /// Of it only what is looked at within a step: voltages of the valves and values kept up.
  void see(double* now) noexcept;
  /// That and the memory for a half Euler step behind it.
  void see_and_know_euler(double* now) noexcept;
  /// The memory, behind `see` or for a drive on the line through two that were seen.
  void remember(double* now) noexcept;
  /// Its numbers that are needed to go back to an instant between two solutions: the drive, or the memory for
  /// a half Euler step where that is known already;
  [[nodiscard]] std::pair<int, int> carried_back(bool euler) const noexcept {
    return {euler || !ready() ? places_.euler : places_.drive,
            euler ? places_.euler + filled_up(memory_) : places_.drive + filled_up(drives_)};
  }
  /// and on the line through two half-step points. Where the memory can be found from the drive it is left
  /// out.
  [[nodiscard]] std::pair<int, int> carried_on() const noexcept {
    return {ready() ? places_.drive : places_.memory, places_.drive + filled_up(drives_)};
  }
  /// The memory for a half Euler step behind the solution in `values`, which was made with the conductances
  /// at hand.
  void know_euler(double* values) noexcept;
  /// Memory of capacitances on the line through two solutions that know their Euler memory: their voltages
  /// there, but the currents of the second.
  void take_charging(double along, const double* first, const double* second, double* into) const noexcept;
  /// Writes all values of the solution in `values`, which was made with the conductances at hand.
  void complete(double* values) noexcept;

  /// Goes over to the conductances as they stand.
  void choose() noexcept;

  [[nodiscard]] const Places& places() const noexcept { return places_; }
  /// Numbers from `places().memory` on.
  [[nodiscard]] int memory() const noexcept { return memory_; }
  [[nodiscard]] std::size_t bytes() const noexcept;
  [[nodiscard]] std::size_t states() const noexcept { return states_.size(); }

 private:
  static constexpr std::size_t ways = 8;
  static constexpr int longest_stay = 16;
  struct State {
    bool used = false;
    std::uint64_t key = 0;
    int visits = 0, stays = 0;
    int columns = 0;  // made so far
    Numbers values;   // of the adjustable conductances
    Numbers a;        // columns of rows_.count() numbers: of the drive, then of the sources
    Numbers constant;
    Numbers sources;  // that the constants were made from
  };
  struct Source {
    int p, q;
  };

  void make_room();
  [[nodiscard]] bool ready() const noexcept { return state_->columns == columns_; }
  /// Rows of a, each block in whole lanes: the memory for the trapezoidal rule, then these.
  [[nodiscard]] int valve_row() const noexcept { return filled_up(memory_); }
  [[nodiscard]] int scattered_row() const noexcept {
    return valve_row() + filled_up(static_cast<int>(valves_.size()));
  }
  [[nodiscard]] int euler_row() const noexcept {
    return scattered_row() + filled_up(static_cast<int>(scattered_.size()));
  }
  void multiply(const Rows& rows, const double* now) noexcept {
    rows.multiply(state_->a.data(), state_->constant.data(), now + places_.drive, drives_, out_.data());
  }
  void put_seen(double* now) const noexcept;
  [[nodiscard]] std::uint64_t key_of_conductances() noexcept;
  void read_sources() noexcept;
  void sum_constants() noexcept;
  void solve_long(const double* drive, const double* sources, double* now, double* memory,
                  double* euler) noexcept;
  void solve_segments(const double* carried, double* now, double* memory, double* euler) const noexcept;
  void grow() noexcept;

  Core* core_;
  std::size_t shard_;
  Places places_;
  int memory_ = 0;          // numbers
  int parts_memory_ = 0;    // of them without those of segments
  int drives_ = 0;          // numbers of the drive
  int columns_ = 0;         // these and the sources
  std::vector<int> known_;  // positions of known nodes that act on the shard
  Outside outside_;
  std::vector<std::size_t> valves_, segments_, poles_;
  std::vector<Source> ends_;    // of the sources: valves, then segments
  std::vector<int> numbers_;    // of the adjustable conductances
  Numbers weights_;             // of theirs in the key
  std::vector<int> charging_;   // numbers of the memory that belong to capacitances
  std::vector<int> scattered_;  // positions of the values kept up, but for the valves' voltages
  int valve_voltages_ = -1;     // first position of these, when the shard has all valves there are
  Numbers sources_;             // as the pieces stand
  Numbers conductances_;        // the adjustable ones, side by side
  Rows rows_;                   // all of a; some of them:
  Rows step_rows_, memory_rows_, seen_rows_, seen_and_euler_rows_, euler_rows_;

  std::vector<State> states_;
  std::vector<std::uint8_t> oldest_;  // per set: the way to give up next
  State* state_ = nullptr;

  // Room to work in.
  Numbers out_;          // rows_
  Numbers rhs_, spill_;  // as the plant's right-hand side
  Numbers probe_;        // as the plant's values
  Numbers unit_;         // columns
};

}  // namespace zavrek::emt::internal
