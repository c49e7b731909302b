// Blocks of N coupled series branches, v = R i + L di/dt + u, du/dt = S i (u: series capacitor).
// With step h and Z = R + 2L/h + hS/2, G = Z^-1, K = G (2L/h - R - hS/2):
//   trapezoidal   i = G v + (G v' + K i' - 2 G u'),          u = u' + (hS/2)(i + i')
//   half Euler    i = G v + ((K + 1)/2 i' - G u'),           u = u' + (hS/2) i
// since G 2L/h = (K + 1)/2. Primes mark the previous instant. G v stands in the nodal matrix, the rest is the
// history current.
#pragma once

#include <array>
#include <cstddef>
#include <vector>

#include "emt/assembly.hpp"
#include "emt/rule.hpp"

namespace zavrek::emt::internal {

/// What a step of length h makes of a series part, in the letters above.
struct StepMatrices {
  Eigen::MatrixXd kept;     // K
  Eigen::VectorXd elastic;  // hS/2
};
[[nodiscard]] inline StepMatrices step_matrices(const SeriesPart& part, const Eigen::MatrixXd& conductance,
                                                double step_s) {
  StepMatrices m{{}, step_s / 2 * part.elastance};
  Eigen::MatrixXd passed = 2 / step_s * part.inductance - part.resistance;
  passed.diagonal() -= m.elastic;
  m.kept = conductance * passed;
  return m;
}

template <int N, bool Capacitive>
class SeriesGroup {
 public:
  /// `ends` and slots are positions in the plant's value array.
  void add(const SeriesPart& part, const Eigen::MatrixXd& conductance, double step_s,
           const int* node_position, int first_current, int first_charge) {
    const auto [kept, elastic] = step_matrices(part, conductance, step_s);
    for (int k = 0; k < N; ++k) {
      p_.push_back(node_position[part.ends[static_cast<std::size_t>(k)].p]);
      q_.push_back(node_position[part.ends[static_cast<std::size_t>(k)].q]);
      if constexpr (Capacitive) elastic_.push_back(elastic[k]);
      for (int m = 0; m < N; ++m) {
        conductance_.push_back(conductance(k, m));
        kept_.push_back(kept(k, m));
      }
    }
    history_.resize(p_.size());
    current_.push_back(first_current);
    charge_.push_back(first_charge);
  }

  [[nodiscard]] std::size_t blocks() const { return current_.size(); }

  /// Adds the history currents of the coming instant to the right-hand side `rhs`.
  void inject(Rule rule, const double* old, double* rhs) noexcept {
    if (rule == Rule::trapezoidal) {
      inject_as<Rule::trapezoidal>(old, rhs);
    } else {
      inject_as<Rule::half_euler>(old, rhs);
    }
  }

  /// Writes branch currents (and capacitor voltages) of the instant whose node voltages stand in `now`.
  void update(Rule rule, const double* old, double* now) const noexcept {
    for (std::size_t b = 0; b < blocks(); ++b) {
      const double* g = &conductance_[b * N * N];
      double v[N];
      for (int k = 0; k < N; ++k) v[k] = now[p_[b * N + k]] - now[q_[b * N + k]];
      for (int k = 0; k < N; ++k) {
        double i = history_[b * N + k];
        for (int m = 0; m < N; ++m) i += g[k * N + m] * v[m];
        now[current_[b] + k] = i;
        if constexpr (Capacitive) {
          const double moved = rule == Rule::trapezoidal ? i + old[current_[b] + k] : i;
          now[charge_[b] + k] = old[charge_[b] + k] + elastic_[b * N + k] * moved;
        }
      }
    }
    (void)old;
    (void)rule;
  }

  /// `update` of a trapezoidal step and `inject` of the next one into `ahead`.
  void pass(const double* old, double* now, double* ahead) noexcept {
    update(Rule::trapezoidal, old, now);
    inject(Rule::trapezoidal, now, ahead);
  }

 private:
  template <Rule rule>
  void inject_as(const double* old, double* rhs) noexcept {
    constexpr bool whole = rule == Rule::trapezoidal;
    for (std::size_t b = 0; b < blocks(); ++b) {
      const double* g = &conductance_[b * N * N];
      const double* kept = &kept_[b * N * N];
      const double* i = &old[current_[b]];
      double drive[N];
      for (int k = 0; k < N; ++k) {
        drive[k] = whole ? old[p_[b * N + k]] - old[q_[b * N + k]] : 0;
        if constexpr (Capacitive) drive[k] -= (whole ? 2 : 1) * old[charge_[b] + k];
      }
      for (int k = 0; k < N; ++k) {
        double h = whole ? 0 : i[k];
        for (int m = 0; m < N; ++m) h += kept[k * N + m] * i[m];
        if (!whole) h /= 2;
        for (int m = 0; m < N; ++m) h += g[k * N + m] * drive[m];
        history_[b * N + k] = h;
        rhs[p_[b * N + k]] -= h;
        rhs[q_[b * N + k]] += h;
      }
    }
  }

  std::vector<int> p_, q_;           // blocks * N: positions of the terminals' node voltages
  std::vector<double> conductance_;  // blocks * N * N, row-major: G
  std::vector<double> kept_;         // blocks * N * N: K
  std::vector<double> elastic_;      // blocks * N: hS/2; empty unless Capacitive
  std::vector<double> history_;      // blocks * N: history current of the instant being solved
  std::vector<int> current_;         // blocks: position of the first current
  std::vector<int> charge_;          // blocks: position of the first capacitor voltage
};

}  // namespace zavrek::emt::internal
