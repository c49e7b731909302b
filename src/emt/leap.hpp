// Several steps of a linear network as one product. Between switchings the memory of all parts, the waves
// under way on lines and the sources together advance linearly,
//   z(n + k) = A z(n),    y = C z(n),
// z the memories (condensed.hpp), the waves that coming steps read, and cos(w n h), sin(w n h) for each
// frequency of the sources; y the values that somebody reads: at the last of the k steps those that are
// watched, at each what measuring models (which read the network and do not act on it) need. These models
// then advance step by step. Nothing between two leaps is calculated; to go on with single steps, the last k
// are made again that way, from the z that the leap began with. What is left differs from single steps by
// rounding alone.
//
// A and C depend on the adjustable conductances. Those of a state that lasts are found column by column, a
// few at a time, by as many steps of the network from one unit of z; the last few states are kept.
#pragma once

#include <complex>
#include <utility>
#include <vector>

#include "emt/lanes.hpp"
#include "emt/product.hpp"
#include "emt/wave_group.hpp"

namespace zavrek::emt::internal {

class Core;
struct Shard;

class Leap {
 public:
  /// More numbers in z, or values in y for each of them, make single steps the cheaper way.
  static constexpr int most_numbers = 192;

  /// Over `steps` steps of `core`, all of which stands but its values. `watched`: rows of its signals.
  /// Allocates.
  Leap(Core& core, int steps, const std::vector<int>& watched);

  /// Whether the network can leap at all, whatever its switches do.
  [[nodiscard]] bool possible() const noexcept { return possible_; }
  /// Leaps, and the core counts the steps; false, and nothing happened, when single steps are due: a
  /// discontinuity may come, or the matrices of this state are not there yet.
  bool take() noexcept;
  /// Makes the core's values whole behind a leap: it must be there for everything but `take` and `value`.
  void leave() noexcept;
  [[nodiscard]] bool landed() const noexcept { return landed_; }
  /// While landed: the value of a watched signal (its row), null when it is a sum of `values`.
  [[nodiscard]] const double* found(int row) const noexcept {
    const int place = place_of_row_[static_cast<std::size_t>(row)];
    return place < 0 ? nullptr : &out_[static_cast<std::size_t>(place)];
  }
  /// Whether it can be read at all.
  [[nodiscard]] bool knows(int row) const noexcept {
    return place_of_row_[static_cast<std::size_t>(row)] != unknown_row;
  }
  [[nodiscard]] const double* values() const noexcept { return now_.data(); }

 private:
  static constexpr int sum_of_values = -1, unknown_row = -2;
  static constexpr std::size_t most_states = 4;
  static constexpr int longest_stay = 8;  // leaps that did not happen, before columns are made
  static constexpr int columns_at_once = 8;
  struct State {
    std::vector<double> conductances;
    int stays = 0, columns = 0;
    Numbers matrix;  // columns of `rows_` numbers
  };
  /// cos(w n h) and sin(w n h) in z, and what the known nodes make of them: pairs by step, then node.
  struct Tone {
    double omega;
    std::vector<std::complex<double>> nodes;
  };

  [[nodiscard]] bool find_tones();
  void find_places(const std::vector<int>& watched);
  [[nodiscard]] bool quiet() const noexcept;
  void choose() noexcept;
  void make_columns() noexcept;
  void make_column(int column) noexcept;
  template <class Visit>
  void for_each_stored(Visit&& visit) noexcept;
  void read_stored(double* z) noexcept;
  void write_stored(const double* z) noexcept;
  void write_tones(long long step, double* z) const noexcept;
  void measure(const double* found) noexcept;

  Core* core_;
  int steps_;
  bool possible_ = false;
  int stored_ = 0;   // numbers of z in parts and lines; those of the tones follow
  int numbers_ = 0;  // of z
  std::vector<Tone> tones_;
  std::vector<int> observed_;             // positions that measuring models read at each step
  std::vector<int> read_;                 // rows of signals, found at the last
  std::vector<std::pair<int, int>> own_;  // slots of the models: first and count
  std::vector<int> place_of_row_;         // where `out_` holds a signal, or one of the two above

  std::vector<State> states_;
  State* state_ = nullptr;
  std::size_t oldest_ = 0;
  long long discontinuities_ = -1;  // of the core when the state was chosen
  Rows rows_;
  Numbers z_, before_;  // now; when the latest leap began
  Numbers unit_, nothing_, out_;
  bool landed_ = false;
  Numbers now_, then_;              // values while landed, and those of a step before for the models
  std::vector<double> own_before_;  // slots of the models when the latest leap began
  Numbers probe_, rhs_;
  WaveGroup::Kept waves_;
};

}  // namespace zavrek::emt::internal
