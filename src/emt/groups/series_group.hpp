// Blocks of N coupled series branches, v = R i + L di/dt + u, du/dt = S i (u: series capacitor).
// With step h and Z = R + 2L/h + hS/2, G = Z^-1, K = G (2L/h - R - hS/2):
//   trapezoidal   i = G v + (G v' + K i' - 2 G u'),          u = u' + (hS/2)(i + i')
//   half Euler    i = G v + ((K + 1)/2 i' - G u'),           u = u' + (hS/2) i
// since G 2L/h = (K + 1)/2. Primes mark the previous instant. G v stands in the nodal matrix, the rest is the
// history current. It and what u carries on, u - (hS/2) i, are all that a solution takes from the one before:
// the block's history.
#pragma once

#include <array>
#include <cstddef>
#include <vector>

#include "emt/groups/history.hpp"
#include "emt/parts/parts.hpp"
#include "emt/parts/rule.hpp"

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
    if constexpr (Capacitive) carried_.resize(p_.size());
    current_.push_back(first_current);
    charge_.push_back(first_charge);
  }

  [[nodiscard]] std::size_t blocks() const { return current_.size(); }

  /// Calls `visit` with each number of the history, in one order always.
  template <class Visit>
  void for_each_history(Visit&& visit) noexcept {
    for (double& number : history_) visit(number);
    for (double& number : carried_) visit(number);
  }
  /// Enters the history currents that it holds.
  void drive(double* rhs, int floor) const noexcept { enter_histories(p_, q_, history_, rhs, floor); }

  /// History currents of a solution by the rule of `coming`, after the values in `old`; nodes below `floor`
  /// have no equation.
  void inject(const Weights& coming, const double* old, double* rhs, int floor) noexcept {
    for (std::size_t b = 0; b < blocks(); ++b) {
      const double* g = &conductance_[b * N * N];
      const double* kept = &kept_[b * N * N];
      const double* i = &old[current_[b]];
      double drive[N];
      for (int k = 0; k < N; ++k) {
        drive[k] = coming.voltage * (old[p_[b * N + k]] - old[q_[b * N + k]]);
        if constexpr (Capacitive) drive[k] -= coming.charge * old[charge_[b] + k];
      }
      for (int k = 0; k < N; ++k) {
        double h = 0;
        for (int m = 0; m < N; ++m) h += kept[k * N + m] * i[m];
        h = coming.kept * h + coming.own * i[k];
        for (int m = 0; m < N; ++m) h += g[k * N + m] * drive[m];
        history_[b * N + k] = h;
        if constexpr (Capacitive)
          carried_[b * N + k] = old[charge_[b] + k] + coming.before * elastic_[b * N + k] * i[k];
        if (p_[b * N + k] >= floor) rhs[p_[b * N + k]] -= h;
        if (q_[b * N + k] >= floor) rhs[q_[b * N + k]] += h;
      }
    }
  }

  /// History currents from states in `stands` and slopes elsewhere: with x = (K + 1)/2 i - G u and
  /// h/2 x' = G (v - u) + (K - 1)/2 i, the sum of x and the weighed h/2 x'; what u carries on alike.
  void inject_apart(const double* stands, Sloped first, Sloped second, double* rhs, int floor) noexcept {
    for (std::size_t b = 0; b < blocks(); ++b) {
      const double *g = &conductance_[b * N * N], *kept = &kept_[b * N * N];
      const double* i = &stands[current_[b]];
      double both[N], driven[N];  // what K, what G takes
      double own[N];
      for (int k = 0; k < N; ++k) {
        both[k] = own[k] = i[k] / 2;
        driven[k] = 0;
        if constexpr (Capacitive) {
          const double u = stands[charge_[b] + k];
          driven[k] = -u;
          carried_[b * N + k] = u;
        }
      }
      for (const Sloped& s : {first, second}) {
        for (int k = 0; k < N; ++k) {
          const double half = s.weight * s.values[current_[b] + k] / 2;
          both[k] += half;
          own[k] -= half;
          driven[k] += s.weight * (s.values[p_[b * N + k]] - s.values[q_[b * N + k]]);
          if constexpr (Capacitive) {
            driven[k] -= s.weight * s.values[charge_[b] + k];
            carried_[b * N + k] += s.weight * elastic_[b * N + k] * s.values[current_[b] + k];
          }
        }
      }
      for (int k = 0; k < N; ++k) {
        double h = own[k];
        for (int m = 0; m < N; ++m) h += kept[k * N + m] * both[m] + g[k * N + m] * driven[m];
        history_[b * N + k] = h;
        if (p_[b * N + k] >= floor) rhs[p_[b * N + k]] -= h;
        if (q_[b * N + k] >= floor) rhs[q_[b * N + k]] += h;
      }
    }
  }

  /// Branch currents (and capacitor voltages) of the solution in `now`, then `inject` of the one to come.
  void pass(const Weights& coming, double* now, double* rhs, int floor) noexcept {
    for (std::size_t b = 0; b < blocks(); ++b) {
      const double* g = &conductance_[b * N * N];
      double v[N];
      for (int k = 0; k < N; ++k) v[k] = now[p_[b * N + k]] - now[q_[b * N + k]];
      for (int k = 0; k < N; ++k) {
        double i = history_[b * N + k];
        for (int m = 0; m < N; ++m) i += g[k * N + m] * v[m];
        now[current_[b] + k] = i;
        if constexpr (Capacitive) now[charge_[b] + k] = carried_[b * N + k] + elastic_[b * N + k] * i;
      }
    }
    inject(coming, now, rhs, floor);
  }

 private:
  std::vector<int> p_, q_;           // blocks * N: positions of the terminals' node voltages
  std::vector<double> conductance_;  // blocks * N * N, row-major: G
  std::vector<double> kept_;         // blocks * N * N: K
  std::vector<double> elastic_;      // blocks * N: hS/2; empty unless Capacitive
  std::vector<double> history_;      // blocks * N: history current of the instant being solved
  std::vector<double> carried_;  // blocks * N: what the capacitor voltages carry on; empty unless Capacitive
  std::vector<int> current_;     // blocks: position of the first current
  std::vector<int> charge_;      // blocks: position of the first capacitor voltage
};

}  // namespace zavrek::emt::internal
