// Factors of a small partition kept per state of its switches: A = L D L^T with L^-1 written out, so that a
// solution is two products with triangular matrices, x = L^-T (D^-1 (L^-1 b)), without the waiting of row
// upon row that sparse sweeps have. (A^-1 as one matrix would need as many numbers, but where a stiff source
// lies on a bus that hardly anything earths, it loses the small differences between its nodes.) A state is
// met for the first time when it is needed; its columns are then made one per solution, so that no step pays
// for all. At most `most_states` are kept; another one takes the place of the oldest.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <cstring>
#include <vector>

#include "emt/lanes.hpp"

namespace zavrek::emt::internal {

class StateFactors {
 public:
  static constexpr int most_groups = 12;
  static constexpr int most_states = 64;

  /// `nodes`: local positions that hold a node, ascending; `numbers`: the adjustable conductances that make
  /// up the state.
  void build(int groups, std::vector<int> nodes, std::vector<int> numbers) {
    groups_ = groups;
    nodes_ = std::move(nodes);
    numbers_ = std::move(numbers);
    const auto width = static_cast<std::size_t>(groups * lanes);
    for (State& state : states_) {
      state.values.assign(numbers_.size(), 0.0);
      state.columns.assign(nodes_.size() * width, 0.0);
      state.rows.assign(nodes_.size() * width, 0.0);
      state.reciprocal.assign(width, 0.0);
    }
    row_of_.assign(width, -1);
    for (std::size_t k = 0; k < nodes_.size(); ++k)
      row_of_[static_cast<std::size_t>(nodes_[k])] = static_cast<int>(k);
  }
  [[nodiscard]] bool in_use() const { return groups_ > 0; }
  /// Whether the state at hand can be solved by `solve`.
  [[nodiscard]] bool ready() const noexcept { return current_ != nullptr && current_->ready == count(); }
  [[nodiscard]] bool growing() const noexcept { return current_ != nullptr && current_->ready < count(); }

  /// Looks the state up, or makes room for it.
  void choose(const double* adjustable) noexcept {
    const std::uint64_t key = key_of(adjustable);
    for (State& state : states_) {
      if (state.used && state.key == key && matches(state, adjustable)) {
        current_ = &state;
        return;
      }
    }
    current_ = &states_[static_cast<std::size_t>(oldest_++ % most_states)];
    current_->used = true;
    current_->key = key;
    current_->ready = 0;
    for (std::size_t k = 0; k < numbers_.size(); ++k) current_->values[k] = adjustable[numbers_[k]];
  }

  /// Makes the next column: `forward(lanes_of_b)` turns a right-hand side into L^-1 b; `reciprocal(group)`
  /// gives the lanes of D^-1.
  template <class Forward, class Reciprocal>
  void grow(Forward&& forward, Reciprocal&& reciprocal) noexcept {
    State& state = *current_;
    const int width = groups_ * lanes;
    if (state.ready == 0) {
      for (int g = 0; g < groups_; ++g)
        store(&state.reciprocal[static_cast<std::size_t>(g * lanes)], reciprocal(g));
    }
    double* column = &state.columns[static_cast<std::size_t>(state.ready * width)];
    std::fill(column, column + width, 0.0);
    const int node = nodes_[static_cast<std::size_t>(state.ready)];
    column[node] = 1;
    forward(column);
    for (int r = node; r < width; ++r) {
      const int row = row_of_[static_cast<std::size_t>(r)];
      if (row >= 0) state.rows[static_cast<std::size_t>(row * width + node)] = column[r];
    }
    ++state.ready;
  }

  /// In place; `b` holds the partition's lanes.
  void solve(double* b) const noexcept { (this->*solvers[static_cast<std::size_t>(groups_ - 1)])(b); }

  /// Bytes kept at most.
  [[nodiscard]] std::size_t bytes() const {
    return in_use()
               ? most_states * sizeof(double) * (2 * states_[0].columns.size() + states_[0].reciprocal.size())
               : 0;
  }

 private:
  struct State {
    bool used = false;
    std::uint64_t key = 0;
    int ready = 0;               // columns
    std::vector<double> values;  // of its conductances
    Numbers columns;             // nodes * width: columns of L^-1
    Numbers rows;                // nodes * width: its rows
    Numbers reciprocal;          // width: D^-1
  };
  using Solver = void (StateFactors::*)(double*) const noexcept;

  [[nodiscard]] int count() const noexcept { return static_cast<int>(nodes_.size()); }
  [[nodiscard]] std::uint64_t key_of(const double* adjustable) const noexcept {
    std::uint64_t key = 1469598103934665603U;  // FNV-1a over the bits
    for (const int number : numbers_) {
      std::uint64_t bits = 0;
      std::memcpy(&bits, &adjustable[number], sizeof bits);
      key = (key ^ (bits >> 32U) ^ bits) * 1099511628211U;
    }
    return key;
  }
  [[nodiscard]] bool matches(const State& state, const double* adjustable) const noexcept {
    for (std::size_t k = 0; k < numbers_.size(); ++k) {
      if (state.values[k] != adjustable[numbers_[k]]) return false;
    }
    return true;
  }

  /// The number of groups is known to the compiler, which keeps the sums in registers.
  template <int Groups>
  void solve_as(double* b) const noexcept {
    const State& state = *current_;
    constexpr int width = Groups * lanes;
    const int n = count();
    const int* nodes = nodes_.data();
    Lanes sum[Groups] = {};
    const double* column = state.columns.data();
    for (int k = 0; k < n; ++k, column += width) {
      const double value = b[nodes[k]];
      for (int g = 0; g < Groups; ++g) sum[g] += load(column + g * lanes) * value;
    }
    double middle[width];
    for (int g = 0; g < Groups; ++g) {
      store(middle + g * lanes, sum[g] * load(&state.reciprocal[static_cast<std::size_t>(g * lanes)]));
      sum[g] = Lanes{};
    }
    const double* row = state.rows.data();
    for (int k = 0; k < n; ++k, row += width) {
      const double value = middle[nodes[k]];
      for (int g = 0; g < Groups; ++g) sum[g] += load(row + g * lanes) * value;
    }
    for (int g = 0; g < Groups; ++g) store(b + g * lanes, sum[g]);
  }
  static constexpr std::array<Solver, most_groups> solvers{
      &StateFactors::solve_as<1>,  &StateFactors::solve_as<2>,  &StateFactors::solve_as<3>,
      &StateFactors::solve_as<4>,  &StateFactors::solve_as<5>,  &StateFactors::solve_as<6>,
      &StateFactors::solve_as<7>,  &StateFactors::solve_as<8>,  &StateFactors::solve_as<9>,
      &StateFactors::solve_as<10>, &StateFactors::solve_as<11>, &StateFactors::solve_as<12>};

  int groups_ = 0;
  std::vector<int> nodes_;
  std::vector<int> numbers_;
  std::vector<int> row_of_;  // per lane: which of nodes_, or -1
  std::array<State, most_states> states_;
  State* current_ = nullptr;
  int oldest_ = 0;
};

}  // namespace zavrek::emt::internal
