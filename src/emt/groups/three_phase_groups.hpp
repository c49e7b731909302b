// The equations of series_group.hpp and capacitance_group.hpp for blocks of up to three phases whose ends are
// whole groups of lanes: no gathers, every vector is loaded and stored at once. Blocks whose phases are not
// coupled keep one number per phase instead of nine.
#pragma once

#include <cstddef>
#include <vector>

#include "emt/groups/series_group.hpp"
#include "emt/parts/parts.hpp"
#include "emt/parts/rule.hpp"
#include "emt/solve/lanes.hpp"

namespace zavrek::emt::internal {

/// How the matrices of a group are kept: three columns of lanes, or less where less says it.
struct Coupled {
  static constexpr std::size_t numbers = block_numbers;
  static void append(const Eigen::MatrixXd& matrix, Numbers& into) { append_block(matrix, into); }
  static Lanes product(const double* matrix, Lanes x) noexcept { return times(matrix, x); }
};
/// Every phase alike to every other, as a transposed element has it: one number on the diagonal, one beside
/// it.
struct Balanced {
  static constexpr std::size_t numbers = 2;
  static void append(const Eigen::MatrixXd& matrix, Numbers& into) {
    into.push_back(matrix(0, 0) - matrix(0, 1));
    into.push_back(matrix(0, 1));
  }
  static Lanes product(const double* matrix, Lanes x) noexcept {
    return matrix[0] * x + matrix[1] * spread_sum(x);
  }
};
struct Uncoupled {
  static constexpr std::size_t numbers = lanes;
  static void append(const Eigen::MatrixXd& matrix, Numbers& into) {
    for (Eigen::Index k = 0; k < lanes; ++k) into.push_back(k < matrix.rows() ? matrix(k, k) : 0);
  }
  static Lanes product(const double* matrix, Lanes x) noexcept { return load(matrix) * x; }
};

/// Subtracts the history current of a block from the right-hand side at its two ends; nodes below `floor`
/// have no equation.
inline void push_history(double* history, double* rhs, int p, int q, int floor, Lanes value) noexcept {
  store(history, value);
  if (p >= floor) store(rhs + p, load(rhs + p) - value);
  if (q >= floor) store(rhs + q, load(rhs + q) + value);
}

/// Enters the history currents of all blocks.
inline void drive_lanes(const std::vector<int>& p, const std::vector<int>& q, const Numbers& history,
                        double* rhs, int floor) noexcept {
  for (std::size_t b = 0; b < p.size(); ++b) {
    const Lanes value = load(&history[b * lanes]);
    if (p[b] >= floor) store(rhs + p[b], load(rhs + p[b]) - value);
    if (q[b] >= floor) store(rhs + q[b], load(rhs + q[b]) + value);
  }
}

/// Calls `visit` with the phases of all blocks; the fourth lane holds nothing.
template <class Visit>
void visit_phases(Numbers& numbers, Visit&& visit) noexcept {
  for (std::size_t k = 0; k < numbers.size(); ++k) {
    if (k % lanes < 3) visit(numbers[k]);
  }
}

template <class Matrix, bool Capacitive>
class ThreePhaseSeries {
 public:
  /// Matrices of three phases; `p` and `q` are the positions of the groups of lanes at the ends.
  void add(const StepMatrices& m, const Eigen::MatrixXd& conductance, int p, int q, int first_current,
           int first_charge) {
    p_.push_back(p);
    q_.push_back(q);
    current_.push_back(first_current);
    charge_.push_back(first_charge);
    Matrix::append(conductance, conductance_);
    Matrix::append(m.kept, kept_);
    for (int k = 0; k < lanes; ++k) elastic_.push_back(k < 3 ? m.elastic[k] : 0);
    history_.resize(history_.size() + lanes, 0.0);
    if constexpr (Capacitive) carried_.resize(history_.size(), 0.0);
  }

  /// As in series_group.hpp.
  template <class Visit>
  void for_each_history(Visit&& visit) noexcept {
    visit_phases(history_, visit);
    visit_phases(carried_, visit);
  }
  void drive(double* rhs, int floor) const noexcept { drive_lanes(p_, q_, history_, rhs, floor); }

  void inject(const Weights& coming, const double* old, double* rhs, int floor) noexcept {
    const std::size_t blocks = p_.size();
    if (blocks == 0) return;
    const Arrays a = arrays();
    const bool by_voltage = coming.voltage != 0;
    for (std::size_t b = 0; b < blocks; ++b) {
      const double* g = &a.conductance[b * Matrix::numbers];
      Lanes driven{};
      if (by_voltage) driven = Matrix::product(g, load(old + a.p[b]) - load(old + a.q[b]));
      look_ahead(a, b, coming, driven, load(old + a.current[b]), old, rhs, floor);
    }
  }

  /// As in series_group.hpp.
  void inject_apart(const double* stands, Sloped first, Sloped second, double* rhs, int floor) noexcept {
    const Arrays a = arrays();
    for (std::size_t b = 0; b < p_.size(); ++b) {
      Lanes both = 0.5 * load(stands + a.current[b]), own = both, driven{}, carried{};
      if constexpr (Capacitive) {
        carried = load(stands + a.charge[b]);
        driven = -carried;
      }
      for (const Sloped& s : {first, second}) {
        const Lanes half = s.weight / 2 * load(s.values + a.current[b]);
        both += half;
        own -= half;
        driven += s.weight * (load(s.values + a.p[b]) - load(s.values + a.q[b]));
        if constexpr (Capacitive) {
          driven -= s.weight * load(s.values + a.charge[b]);
          carried += 2 * load(&a.elastic[b * lanes]) * half;
        }
      }
      if constexpr (Capacitive) store(&a.carried[b * lanes], carried);
      push_history(&a.history[b * lanes], rhs, a.p[b], a.q[b], floor,
                   own + Matrix::product(&a.kept[b * Matrix::numbers], both) +
                       Matrix::product(&a.conductance[b * Matrix::numbers], driven));
    }
  }

  /// Currents of the solution in `now` and `inject` of the one to come, in one pass over the numbers.
  void pass(const Weights& coming, double* now, double* rhs, int floor) noexcept {
    const std::size_t blocks = p_.size();
    if (blocks == 0) return;
    const Arrays a = arrays();
    for (std::size_t b = 0; b < blocks; ++b) {
      const double* g = &a.conductance[b * Matrix::numbers];
      const Lanes driven = Matrix::product(g, load(now + a.p[b]) - load(now + a.q[b]));
      const Lanes i = load(&a.history[b * lanes]) + driven;
      if constexpr (Capacitive)
        store(now + a.charge[b], load(&a.carried[b * lanes]) + load(&a.elastic[b * lanes]) * i);
      store(now + a.current[b], i);
      look_ahead(a, b, coming, driven, i, now, rhs, floor);
    }
  }

 private:
  /// The vectors' data, read once before a loop: stores of lanes might alias the vectors themselves.
  struct Arrays {
    const int *p, *q, *current, *charge;
    const double *conductance, *kept, *elastic;
    double *history, *carried;
  };
  [[nodiscard]] Arrays arrays() noexcept {
    return {p_.data(),    q_.data(),       current_.data(), charge_.data(), conductance_.data(),
            kept_.data(), elastic_.data(), history_.data(), carried_.data()};
  }

  /// `driven` is G v', `i` stands for i'.
  static void look_ahead(const Arrays& a, std::size_t b, const Weights& coming, Lanes driven, Lanes i,
                         const double* values, double* rhs, int floor) noexcept {
    Lanes history = coming.voltage * driven + coming.own * i +
                    coming.kept * Matrix::product(&a.kept[b * Matrix::numbers], i);
    if constexpr (Capacitive) {
      const double* g = &a.conductance[b * Matrix::numbers];
      const Lanes charge = load(values + a.charge[b]);
      history -= coming.charge * Matrix::product(g, charge);
      store(&a.carried[b * lanes], charge + coming.before * load(&a.elastic[b * lanes]) * i);
    }
    push_history(&a.history[b * lanes], rhs, a.p[b], a.q[b], floor, history);
  }

  std::vector<int> p_, q_;    // per block: positions of the groups of lanes at its ends
  std::vector<int> current_;  // per block: position of its currents
  std::vector<int> charge_;   // per block: position of its capacitor voltages; -1 without
  Numbers conductance_;       // blocks: G
  Numbers kept_;              // blocks: K
  Numbers elastic_;           // lanes per block: hS/2
  Numbers history_;           // lanes per block: history currents of the instant being solved
  Numbers carried_;  // lanes per block: what the capacitor voltages carry on; empty unless Capacitive
};

template <class Matrix>
class ThreePhaseCapacitance {
 public:
  void add(const Eigen::MatrixXd& conductance, int p, int q, int first_current) {
    p_.push_back(p);
    q_.push_back(q);
    current_.push_back(first_current);
    Matrix::append(conductance, conductance_);
    history_.resize(history_.size() + lanes, 0.0);
  }

  template <class Visit>
  void for_each_history(Visit&& visit) noexcept {
    visit_phases(history_, visit);
  }
  void drive(double* rhs, int floor) const noexcept { drive_lanes(p_, q_, history_, rhs, floor); }

  void inject(const Weights& coming, const double* old, double* rhs, int floor) noexcept {
    const std::size_t blocks = p_.size();
    if (blocks == 0) return;
    const Arrays a = arrays();
    for (std::size_t b = 0; b < blocks; ++b)
      push_history(&a.history[b * lanes], rhs, a.p[b], a.q[b], floor,
                   -charge(a, b, old) - coming.before * load(old + a.current[b]));
  }

  void inject_apart(const double* stands, Sloped first, Sloped second, double* rhs, int floor) noexcept {
    const Arrays a = arrays();
    for (std::size_t b = 0; b < p_.size(); ++b) {
      const Lanes slope = first.weight * load(first.values + a.current[b]) +
                          second.weight * load(second.values + a.current[b]);
      push_history(&a.history[b * lanes], rhs, a.p[b], a.q[b], floor, -charge(a, b, stands) - slope);
    }
  }

  /// Currents of the solution in `now` and `inject` of the one to come, in one pass.
  void pass(const Weights& coming, double* now, double* rhs, int floor) noexcept {
    const std::size_t blocks = p_.size();
    if (blocks == 0) return;
    const Arrays a = arrays();
    for (std::size_t b = 0; b < blocks; ++b) {
      const Lanes charging = charge(a, b, now);
      const Lanes i = load(&a.history[b * lanes]) + charging;
      store(now + a.current[b], i);
      push_history(&a.history[b * lanes], rhs, a.p[b], a.q[b], floor, -charging - coming.before * i);
    }
  }

 private:
  struct Arrays {
    const int *p, *q, *current;
    const double* conductance;
    double* history;
  };
  [[nodiscard]] Arrays arrays() noexcept {
    return {p_.data(), q_.data(), current_.data(), conductance_.data(), history_.data()};
  }
  static Lanes charge(const Arrays& a, std::size_t b, const double* values) noexcept {
    return Matrix::product(&a.conductance[b * Matrix::numbers],
                           load(values + a.p[b]) - load(values + a.q[b]));
  }

  std::vector<int> p_, q_;    // per block: positions of the groups of lanes at its ends
  std::vector<int> current_;  // per block: position of its currents
  Numbers conductance_;       // blocks: 2C/h
  Numbers history_;           // lanes per block
};

}  // namespace zavrek::emt::internal
