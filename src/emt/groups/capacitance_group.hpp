// Blocks of N coupled capacitances, i = C dv/dt. With G = 2C/h:
//   trapezoidal   i = G v - (G v' + i'),      half Euler   i = G v - G v'
#pragma once

#include <cstddef>
#include <vector>

#include "emt/groups/history.hpp"
#include "emt/parts/parts.hpp"
#include "emt/parts/rule.hpp"

namespace zavrek::emt::internal {

template <int N>
class CapacitanceGroup {
 public:
  void add(const CapacitancePart& part, double step_s, const int* node_position, int first_current) {
    for (int k = 0; k < N; ++k) {
      p_.push_back(node_position[part.ends[static_cast<std::size_t>(k)].p]);
      q_.push_back(node_position[part.ends[static_cast<std::size_t>(k)].q]);
      for (int m = 0; m < N; ++m) conductance_.push_back(2 / step_s * part.capacitance(k, m));
    }
    history_.resize(p_.size());
    current_.push_back(first_current);
  }

  /// As in series_group.hpp.
  template <class Visit>
  void for_each_history(Visit&& visit) noexcept {
    for (double& number : history_) visit(number);
  }
  void drive(double* rhs, int floor) const noexcept { enter_histories(p_, q_, history_, rhs, floor); }

  /// History currents of a solution by the rule of `coming`, after the values in `old`; nodes below `floor`
  /// have no equation.
  void inject(const Weights& coming, const double* old, double* rhs, int floor) noexcept {
    for (std::size_t b = 0; b < current_.size(); ++b) {
      const double* g = &conductance_[b * N * N];
      double v[N];
      for (int k = 0; k < N; ++k) v[k] = old[p_[b * N + k]] - old[q_[b * N + k]];
      for (int k = 0; k < N; ++k) {
        double h = -coming.before * old[current_[b] + k];
        for (int m = 0; m < N; ++m) h -= g[k * N + m] * v[m];
        history_[b * N + k] = h;
        if (p_[b * N + k] >= floor) rhs[p_[b * N + k]] -= h;
        if (q_[b * N + k] >= floor) rhs[q_[b * N + k]] += h;
      }
    }
  }

  /// As in series_group.hpp: x = -G v, h/2 x' = -i.
  void inject_apart(const double* stands, Sloped first, Sloped second, double* rhs, int floor) noexcept {
    for (std::size_t b = 0; b < current_.size(); ++b) {
      const double* g = &conductance_[b * N * N];
      for (int k = 0; k < N; ++k) {
        const int i = current_[b] + k;
        double h = -first.weight * first.values[i] - second.weight * second.values[i];
        for (int m = 0; m < N; ++m) h -= g[k * N + m] * (stands[p_[b * N + m]] - stands[q_[b * N + m]]);
        history_[b * N + k] = h;
        if (p_[b * N + k] >= floor) rhs[p_[b * N + k]] -= h;
        if (q_[b * N + k] >= floor) rhs[q_[b * N + k]] += h;
      }
    }
  }

  /// Currents of the solution in `now`, then `inject` of the one to come.
  void pass(const Weights& coming, double* now, double* rhs, int floor) noexcept {
    for (std::size_t b = 0; b < current_.size(); ++b) {
      const double* g = &conductance_[b * N * N];
      double v[N];
      for (int k = 0; k < N; ++k) v[k] = now[p_[b * N + k]] - now[q_[b * N + k]];
      for (int k = 0; k < N; ++k) {
        double i = history_[b * N + k];
        for (int m = 0; m < N; ++m) i += g[k * N + m] * v[m];
        now[current_[b] + k] = i;
      }
    }
    inject(coming, now, rhs, floor);
  }

 private:
  std::vector<int> p_, q_;           // blocks * N: positions of the terminals' node voltages
  std::vector<double> conductance_;  // blocks * N * N, row-major: 2C/h
  std::vector<double> history_;      // blocks * N
  std::vector<int> current_;         // blocks: position of the first current
};

}  // namespace zavrek::emt::internal
