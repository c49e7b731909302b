// The equations of series_group.hpp and capacitance_group.hpp for three-phase blocks whose ends are
// whole groups of lanes: no gathers, every vector is loaded and stored at once.
#pragma once

#include <cstddef>
#include <vector>

#include "emt/assembly.hpp"
#include "emt/lanes.hpp"
#include "emt/rule.hpp"

namespace zavrek::emt::internal {

template <bool Capacitive>
class ThreePhaseSeries {
 public:
  void add(const SeriesPart& part, const Eigen::MatrixXd& conductance, double step_s, const int* node_position,
           int first_current, int first_charge) {
    const Eigen::MatrixXd inductive = 2 / step_s * part.inductance;
    const Eigen::VectorXd elastic = step_s / 2 * part.elastance;
    Eigen::MatrixXd passed = inductive - part.resistance;
    passed.diagonal() -= elastic;
    p_.push_back(node_position[part.ends[0].p]);
    q_.push_back(node_position[part.ends[0].q]);
    current_.push_back(first_current);
    charge_.push_back(first_charge);
    append_block(conductance, conductance_);
    append_block(passed, passed_);
    append_block(inductive, inductive_);
    for (int k = 0; k < lanes; ++k) elastic_.push_back(k < 3 ? elastic[k] : 0);
    history_.resize(history_.size() + lanes, 0.0);
  }

  void inject(Rule rule, const double* old, double* rhs) noexcept {
    if (rule == Rule::trapezoidal) {
      inject_as<Rule::trapezoidal>(old, rhs);
    } else {
      inject_as<Rule::half_euler>(old, rhs);
    }
  }

  void update(Rule rule, const double* old, double* now) const noexcept {
    for (std::size_t b = 0; b < p_.size(); ++b) {
      const Lanes v = load(now + p_[b]) - load(now + q_[b]);
      const Lanes i = load(&history_[b * lanes]) + times(&conductance_[b * block_numbers], v);
      store(now + current_[b], i);
      if constexpr (Capacitive) {
        const Lanes moved = rule == Rule::trapezoidal ? i + load(old + current_[b]) : i;
        store(now + charge_[b], load(old + charge_[b]) + load(&elastic_[b * lanes]) * moved);
      }
    }
    (void)old;
    (void)rule;
  }

 private:
  template <Rule rule>
  void inject_as(const double* old, double* rhs) noexcept {
    for (std::size_t b = 0; b < p_.size(); ++b) {
      const auto& from_current = rule == Rule::trapezoidal ? passed_ : inductive_;
      Lanes drive = times(&from_current[b * block_numbers], old + current_[b]);
      if constexpr (rule == Rule::trapezoidal) drive += load(old + p_[b]) - load(old + q_[b]);
      if constexpr (Capacitive) drive -= (rule == Rule::trapezoidal ? 2.0 : 1.0) * load(old + charge_[b]);
      const Lanes history = times(&conductance_[b * block_numbers], drive);
      store(&history_[b * lanes], history);
      store(rhs + p_[b], load(rhs + p_[b]) - history);
      store(rhs + q_[b], load(rhs + q_[b]) + history);
    }
  }

  std::vector<int> p_, q_;           // per block: positions of the groups of lanes at its ends
  std::vector<int> current_;         // per block: position of its currents
  std::vector<int> charge_;          // per block: position of its capacitor voltages; -1 without
  std::vector<double> conductance_;  // blocks: G
  std::vector<double> passed_;       // blocks: 2L/h - R - hS/2
  std::vector<double> inductive_;    // blocks: 2L/h
  std::vector<double> elastic_;      // lanes per block: hS/2
  std::vector<double> history_;      // lanes per block: history currents of the instant being solved
};

class ThreePhaseCapacitance {
 public:
  void add(const CapacitancePart& part, double step_s, const int* node_position, int first_current) {
    p_.push_back(node_position[part.ends[0].p]);
    q_.push_back(node_position[part.ends[0].q]);
    current_.push_back(first_current);
    append_block(Eigen::MatrixXd(2 / step_s * part.capacitance), conductance_);
    history_.resize(history_.size() + lanes, 0.0);
  }

  void inject(Rule rule, const double* old, double* rhs) noexcept {
    const double keep = rule == Rule::trapezoidal ? 1 : 0;
    for (std::size_t b = 0; b < p_.size(); ++b) {
      const Lanes v = load(old + p_[b]) - load(old + q_[b]);
      const Lanes history = -(times(&conductance_[b * block_numbers], v) + keep * load(old + current_[b]));
      store(&history_[b * lanes], history);
      store(rhs + p_[b], load(rhs + p_[b]) - history);
      store(rhs + q_[b], load(rhs + q_[b]) + history);
    }
  }

  void update(double* now) const noexcept {
    for (std::size_t b = 0; b < p_.size(); ++b) {
      const Lanes v = load(now + p_[b]) - load(now + q_[b]);
      store(now + current_[b], load(&history_[b * lanes]) + times(&conductance_[b * block_numbers], v));
    }
  }

 private:
  std::vector<int> p_, q_;           // per block: positions of the groups of lanes at its ends
  std::vector<int> current_;         // per block: position of its currents
  std::vector<double> conductance_;  // blocks: 2C/h
  std::vector<double> history_;      // lanes per block
};

}  // namespace zavrek::emt::internal
