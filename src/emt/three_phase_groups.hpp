// The equations of series_group.hpp and capacitance_group.hpp for three-phase blocks whose ends are
// whole groups of lanes: no gathers, every vector is loaded and stored at once.
#pragma once

#include <cstddef>
#include <vector>

#include "emt/assembly.hpp"
#include "emt/lanes.hpp"
#include "emt/rule.hpp"
#include "emt/series_group.hpp"

namespace zavrek::emt::internal {

template <bool Capacitive>
class ThreePhaseSeries {
 public:
  /// Matrices of three phases; `p` and `q` are the positions of the groups of lanes at the ends.
  void add(const StepMatrices& m, const Eigen::MatrixXd& conductance, int p, int q, int first_current,
           int first_charge) {
    p_.push_back(p);
    q_.push_back(q);
    current_.push_back(first_current);
    charge_.push_back(first_charge);
    append_block(conductance, conductance_);
    append_block(m.passed, passed_);
    append_block(m.inductive, inductive_);
    for (int k = 0; k < lanes; ++k) elastic_.push_back(k < 3 ? m.elastic[k] : 0);
    history_.resize(history_.size() + lanes, 0.0);
  }

  void inject(Rule rule, const double* old, double* rhs) noexcept {
    if (rule == Rule::trapezoidal) {
      inject_as<Rule::trapezoidal>(old, rhs);
    } else {
      inject_as<Rule::half_euler>(old, rhs);
    }
  }

  void update(Rule rule, const double* old, double* now) noexcept {
    const Arrays a = arrays();
    const std::size_t blocks = p_.size();
    for (std::size_t b = 0; b < blocks; ++b) (void)update_block(a, b, rule, old, now);
  }

  /// `update` of a trapezoidal step and `inject` of the next one into `ahead`, in one pass over the numbers.
  void pass(const double* old, double* now, double* ahead) noexcept {
    const Arrays a = arrays();
    const std::size_t blocks = p_.size();
    for (std::size_t b = 0; b < blocks; ++b) {
      const Lanes v = load(now + a.p[b]) - load(now + a.q[b]);
      const Lanes i = update_block(a, b, Rule::trapezoidal, old, now);
      Lanes drive = v + times(&a.passed[b * block_numbers], i);
      if constexpr (Capacitive) drive -= 2.0 * load(now + a.charge[b]);
      push_history(a, b, drive, ahead);
    }
  }

 private:
  /// The vectors' data, read once before a loop: stores of lanes might alias the vectors themselves.
  struct Arrays {
    const int *p, *q, *current, *charge;
    const double *conductance, *passed, *inductive, *elastic;
    double* history;
  };
  [[nodiscard]] Arrays arrays() noexcept {
    return {p_.data(),      q_.data(),         current_.data(), charge_.data(), conductance_.data(),
            passed_.data(), inductive_.data(), elastic_.data(), history_.data()};
  }

  static Lanes update_block(const Arrays& a, std::size_t b, Rule rule, const double* old,
                            double* now) noexcept {
    const Lanes v = load(now + a.p[b]) - load(now + a.q[b]);
    const Lanes i = load(&a.history[b * lanes]) + times(&a.conductance[b * block_numbers], v);
    if constexpr (Capacitive) {
      const Lanes moved = rule == Rule::trapezoidal ? i + load(old + a.current[b]) : i;
      store(now + a.charge[b], load(old + a.charge[b]) + load(&a.elastic[b * lanes]) * moved);
    }
    (void)old;
    (void)rule;
    store(now + a.current[b], i);
    return i;
  }

  static void push_history(const Arrays& a, std::size_t b, Lanes drive, double* rhs) noexcept {
    const Lanes history = times(&a.conductance[b * block_numbers], drive);
    store(&a.history[b * lanes], history);
    store(rhs + a.p[b], load(rhs + a.p[b]) - history);
    if (a.q[b] != 0) store(rhs + a.q[b], load(rhs + a.q[b]) + history);  // ground waits for nobody
  }

  template <Rule rule>
  void inject_as(const double* old, double* rhs) noexcept {
    const Arrays a = arrays();
    const std::size_t blocks = p_.size();
    for (std::size_t b = 0; b < blocks; ++b) {
      const double* from_current = rule == Rule::trapezoidal ? a.passed : a.inductive;
      Lanes drive = times(&from_current[b * block_numbers], old + a.current[b]);
      if constexpr (rule == Rule::trapezoidal) drive += load(old + a.p[b]) - load(old + a.q[b]);
      if constexpr (Capacitive) drive -= (rule == Rule::trapezoidal ? 2.0 : 1.0) * load(old + a.charge[b]);
      push_history(a, b, drive, rhs);
    }
  }

  std::vector<int> p_, q_;    // per block: positions of the groups of lanes at its ends
  std::vector<int> current_;  // per block: position of its currents
  std::vector<int> charge_;   // per block: position of its capacitor voltages; -1 without
  Numbers conductance_;       // blocks: G
  Numbers passed_;            // blocks: 2L/h - R - hS/2
  Numbers inductive_;         // blocks: 2L/h
  Numbers elastic_;           // lanes per block: hS/2
  Numbers history_;           // lanes per block: history currents of the instant being solved
};

class ThreePhaseCapacitance {
 public:
  void add(const Eigen::MatrixXd& conductance, int p, int q, int first_current) {
    p_.push_back(p);
    q_.push_back(q);
    current_.push_back(first_current);
    append_block(conductance, conductance_);
    history_.resize(history_.size() + lanes, 0.0);
  }

  void inject(Rule rule, const double* old, double* rhs) noexcept {
    const Arrays a = arrays();
    const std::size_t blocks = p_.size();
    const double keep = rule == Rule::trapezoidal ? 1 : 0;
    for (std::size_t b = 0; b < blocks; ++b) {
      const Lanes v = load(old + a.p[b]) - load(old + a.q[b]);
      push_history(a, b, -times(&a.conductance[b * block_numbers], v) - keep * load(old + a.current[b]), rhs);
    }
  }

  void update(double* now) noexcept {
    const Arrays a = arrays();
    const std::size_t blocks = p_.size();
    for (std::size_t b = 0; b < blocks; ++b) {
      const Lanes v = load(now + a.p[b]) - load(now + a.q[b]);
      store(now + a.current[b], load(&a.history[b * lanes]) + times(&a.conductance[b * block_numbers], v));
    }
  }

  /// `update` of a step and `inject` of the next trapezoidal one into `ahead`, in one pass.
  void pass(const double* /*old*/, double* now, double* ahead) noexcept {
    const Arrays a = arrays();
    const std::size_t blocks = p_.size();
    for (std::size_t b = 0; b < blocks; ++b) {
      const Lanes charging =
          times(&a.conductance[b * block_numbers], load(now + a.p[b]) - load(now + a.q[b]));
      const Lanes i = load(&a.history[b * lanes]) + charging;
      store(now + a.current[b], i);
      push_history(a, b, -charging - i, ahead);
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

  static void push_history(const Arrays& a, std::size_t b, Lanes history, double* rhs) noexcept {
    store(&a.history[b * lanes], history);
    store(rhs + a.p[b], load(rhs + a.p[b]) - history);
    if (a.q[b] != 0) store(rhs + a.q[b], load(rhs + a.q[b]) + history);  // ground waits for nobody
  }

  std::vector<int> p_, q_;    // per block: positions of the groups of lanes at its ends
  std::vector<int> current_;  // per block: position of its currents
  Numbers conductance_;       // blocks: 2C/h
  Numbers history_;           // lanes per block
};

}  // namespace zavrek::emt::internal
