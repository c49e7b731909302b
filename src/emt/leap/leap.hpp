// Several steps of a linear network as one product. Between switchings the memory of all parts, the waves
// under way on lines and the sources together advance linearly,
//   z(n + k) = A z(n),    y = C z(n),
// z the memories (condensed.hpp), the waves that coming steps read, and cos(w n h), sin(w n h) for each
// frequency of the sources; y the values that somebody reads: at the last of the k steps those that are
// watched, at each what measuring models (which read the network and do not act on it) need. These models
// then advance step by step. Nothing between two leaps is calculated.
//
// Where leaps follow each other, several come from one product: the rows C, C A, C A^2, ... give what is read
// at the end of each, A to the last power the z behind them all, so that a leap needs few rows of memories
// (142 rows for four leaps where one takes 88, in a network of 70). To go on with single steps, those since
// the product began are made again that way. What is left differs from single steps by rounding alone.
//
// (A power by repeated squaring: C. Moler, C. Van Loan, SIAM Review 45 (2003), section 3.)
//
// A and C depend on the adjustable conductances. Those of a state that lasts are found a few columns at a
// time: of one step by a step of the network from one unit of z, of a leap and of several by products with
// the matrix before. The last few states are kept.
#pragma once

#include <algorithm>
#include <complex>
#include <memory>
#include <utility>
#include <vector>

#include "emt/groups/wave_group.hpp"
#include "emt/solve/lanes.hpp"
#include "emt/solve/product.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

class Core;

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
    return place < 0 ? nullptr : found_ + place;
  }
  /// Whether it can be read at all.
  [[nodiscard]] bool knows(int row) const noexcept {
    return place_of_row_[static_cast<std::size_t>(row)] != unknown_row;
  }
  [[nodiscard]] const double* values() const noexcept { return now_.data(); }

  /// How far the matrices are made. Not while landed. A plant that is set back makes no column again that is
  /// there, but leaps from the same step on as the first time.
  void visit_state(StateArchive& archive);
  /// The same of a copy of the core.
  [[nodiscard]] std::unique_ptr<Leap> clone(Core& core);

 private:
  static constexpr int sum_of_values = -1, unknown_row = -2;
  static constexpr std::size_t most_states = 4;
  static constexpr int longest_stay = 8;  // leaps that did not happen, before columns are made
  static constexpr int fewest_columns = 8, most_columns = 96;  // made at once, multiples of four,
  static constexpr int most_products = 500'000;                // with so many numbers multiplied
  static constexpr int most_at_once = 8;                       // leaps of one product
  /// What some steps make of z, by columns: the numbers of parts and lines behind them, then values.
  struct Power {
    double* matrix = nullptr;  // in `matrices_`
    int columns = 0;           // that this run has come to
    int stored = 0;            // that are there, from a run before (`visit_state`): not less
  };
  /// The form of a power in all states: one step, or first `lower`, then `upper`.
  struct Shape {
    int steps = 1;
    int lower = 0, upper = 0;
    int each = 0;  // values found on the way, in the order of time,
    int last = 0;  // and others of its end, which do not count within a greater power
    Rows rows;
    [[nodiscard]] int values() const noexcept { return each + last; }
  };
  struct State {
    std::vector<double> conductances;  // that the matrices are for
    bool met = false;                  // by this run
    int stays = 0;
    Power leap, several;
    /// What is stored is kept for the same conductances.
    void make_for(const std::vector<double>& wanted) noexcept {
      if (conductances == wanted) return;
      std::copy(wanted.begin(), wanted.end(), conductances.begin());
      leap.stored = several.stored = 0;
    }
  };
  /// cos(w n h) and sin(w n h) in z, and what the known nodes make of them a step later: pairs by node.
  struct Tone {
    double omega;
    std::vector<std::complex<double>> nodes;
  };

  [[nodiscard]] bool find_tones();
  void find_places(const std::vector<int>& watched);
  [[nodiscard]] bool quiet() const noexcept;
  void choose() noexcept;
  void start_making() noexcept;
  [[nodiscard]] bool wants(int number, int end) noexcept;
  void carry(StateArchive& archive, int number, Power& power);
  void make_columns() noexcept;
  void make_column(int column) noexcept;
  void multiply_columns(int power) noexcept;
  void plan_powers(int observed, int read);
  void add_power(int lower, int upper);
  void make_room();
  [[nodiscard]] int columns_at_once(int rows) const noexcept;
  void turn_tones(int unit, int steps, double* into) const noexcept;
  /// Of the present state; the powers on the way belong to the state that is being made.
  [[nodiscard]] Power& power(int number) noexcept {
    if (number == one_leap_) return state_->leap;
    return number == several_leaps() ? state_->several : on_the_way_[static_cast<std::size_t>(number)];
  }
  [[nodiscard]] int several_leaps() const noexcept { return static_cast<int>(shapes_.size()) - 1; }
  [[nodiscard]] const Shape& shape(int number) const noexcept {
    return shapes_[static_cast<std::size_t>(number)];
  }
  [[nodiscard]] bool made(int number) noexcept { return power(number).columns == numbers_; }
  [[nodiscard]] double* column_of(int number, int column) noexcept {
    return &power(number).matrix[static_cast<std::size_t>(column * shape(number).rows.count())];
  }
  template <class Visit>
  void for_each_stored(Visit&& visit) noexcept;
  void read_stored(double* z) noexcept;
  void write_stored(const double* z) noexcept;
  void write_tones(long long step, double* z) const noexcept;
  [[nodiscard]] bool multiply() noexcept;
  void land() noexcept;
  void measure() noexcept;

  Core* core_;
  int steps_;
  std::vector<int> watched_;  // rows of signals
  bool possible_ = false;
  std::vector<double*> of_parts_;  // the numbers of z that are memories of parts
  int stored_ = 0;                 // these and those of lines; those of the tones follow
  int numbers_ = 0;                // of z
  std::vector<Shape> shapes_;      // of the powers: one step first, several leaps last
  int one_leap_ = 0;
  int several_ = 1;  // leaps of one product
  std::vector<Tone> tones_;
  std::vector<int> observed_;             // positions that measuring models read at each step
  std::vector<int> read_;                 // rows of signals, found at the last
  std::vector<std::pair<int, int>> own_;  // slots of the models: first and count
  std::vector<int> place_of_row_;         // where `found_` holds a signal, or one of the two above

  std::unique_ptr<double[]> matrices_;  // of all states; not a number is touched before it is made
  std::vector<State> states_;
  State* state_ = nullptr;
  std::vector<Power> on_the_way_;       // of the state `making_`
  std::vector<double> on_the_way_for_;  // and the conductances of what is stored of them
  State* making_ = nullptr;
  std::size_t oldest_ = 0;
  long long discontinuities_ = -1;  // of the core when the state was chosen
  Numbers z_, before_;              // behind and before the leaps of the latest product
  Numbers unit_, nothing_, out_, fours_, fours_out_;
  bool landed_ = false;
  int calm_ = 0;                    // leaps in a row
  int at_once_ = 0, taken_ = 0;     // leaps of the latest product, and how many of them were taken
  const double* found_ = nullptr;   // y of the latest leap, in `out_`
  Numbers now_, then_;              // values while landed, and those of a step before for the models
  std::vector<double> own_before_;  // slots of the models when the latest product was made
  Numbers probe_, rhs_;
  WaveGroup::Kept waves_;
};

}  // namespace zavrek::emt::internal
