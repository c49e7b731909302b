// A line of fitted modes in time. With the fits Yc = d + sum r/(s - p) and H = e^(-s tau) sum q/(s - b), per
// mode and end
//   i_near = Yc * v_near - H * w_far,    w_far = Yc * v_far + i_far   (what leaves the far end),
// each partial fraction being a state, dx/dt = p x + r u:
//   x1 = a x0 + c (u1 + u0),  a = (1 + p h/2)/(1 - p h/2),  c = (h/2) r/(1 - p h/2);   half Euler  x1 = x0/(1
//   - p h/2) + c u1
// The conductance d + sum c is the same for both; everything delayed is known. What leaves the ends is kept
// per step.
#pragma once

#include <algorithm>
#include <vector>

#include "emt/elements/lines/sent_waves.hpp"
#include "emt/parts/model.hpp"
#include "zavrek/emt/frequency_line.hpp"

namespace zavrek::emt::internal {

class FrequencyLineModel : public Model {
 public:
  FrequencyLineModel(FrequencyLine line, double step_s, double network_omega);

  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<FrequencyLineModel>(*this);
  }
  void visit_state(StateArchive& archive) override {
    sent_.visit_state(archive);
    archive(modal_history_);
  }
  /// Ends: near phases, then far phases, to ground. Slots: their currents, what leaves the ends per mode,
  /// states.
  [[nodiscard]] int slots() const override { return state_slot() + 4 * states_; }
  [[nodiscard]] double largest_step_s() const override {
    const std::vector<double> times = travel_times_s();
    return *std::min_element(times.begin(), times.end());
  }
  [[nodiscard]] std::vector<double> travel_times_s() const override {
    std::vector<double> times;
    for (const FittedMode& mode : line_.modes) times.push_back(mode.delay_s);
    return times;
  }
  [[nodiscard]] States states() const override {
    return {true, state_slot(), 4 * states_, false, sent_slot(), 2 * n_};
  }
  void look_back(const Past& past, double time_s) noexcept override;
  void slopes(const Places& places, double* values, double* currents, double* slopes) noexcept override;
  [[nodiscard]] Eigen::MatrixXd conductance(double step_s) const override;
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double omega) const override;
  void start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double step_s,
             double* values) override;
  [[nodiscard]] std::optional<WrittenLaw> law(double step_s) const override;
  bool begin(const Interval& stretch, const Places& places, const double* old, double* history,
             double* conductance) noexcept override;
  void end(const Interval& stretch, const Places& places, const double* old, double* now,
           const double* history, const double* conductance) noexcept override;

 private:
  struct Fraction {  // of one function: complex state x with its weight in the output
    std::complex<double> advance, gain, euler;
    double weight;  // 1, or 2 for a pair of poles
  };
  struct Function {
    std::vector<Fraction> fractions;
    int first = 0;  // of its states within one end of one mode
  };
  struct Mode {
    double direct = 0;  // d + sum c
    double constant = 0;
    Function admittance, propagation;
    double delay_steps = 0;
  };
  using Complex = std::complex<double>;

  [[nodiscard]] Function function_of(const RationalFit& fit, double step_s);
  [[nodiscard]] int sent_slot() const { return 2 * n_; }
  [[nodiscard]] int state_slot() const { return 4 * n_; }
  /// Slot of the real part of a state.
  [[nodiscard]] int slot_of(const Function& f, int end, std::size_t k) const {
    return state_slot() + 2 * (end * states_ + f.first + static_cast<int>(k));
  }
  void read_voltages(const Places& places, const double* values, std::vector<double>& into) const noexcept;
  /// Modal quantity of an end from phases.
  [[nodiscard]] double modal(const std::vector<double>& transform, const double* phases,
                             int mode) const noexcept;

  FrequencyLine line_;
  int n_;
  int states_ = 0;  // complex states of one end
  double step_, omega_;
  std::vector<Mode> modes_;
  SentWaves sent_;                       // of the modes of the near end, then of the far one
  std::vector<double> modal_history_;    // 2 n
  std::vector<double> before_, behind_;  // 2 n: voltages at the ends of a stretch
  std::vector<double> arriving_;         // 2 n, for the reference: what left the other end a travel time ago
};

}  // namespace zavrek::emt::internal
