// A line fitted in phases, in time. With the partial fractions of Yc and of each front's H (phase_line.hpp)
//   i = Yc v - sum of H w,   w = Yc v + i   of the other end a delay ago,
// each pole and conductor being a state, dx/dt = p x + u:
//   x1 = a x0 + c (u1 + u0),  a = (1 + p h/2)/(1 - p h/2),  c = (h/2)/(1 - p h/2);   half Euler  x1 = x0/(1 -
//   p h/2) + c u1
// and what an end draws is one real matrix times its states. The conductance is the same for both rules;
// everything delayed is known. What leaves the ends is kept per step.
#pragma once

#include <complex>
#include <vector>

#include "emt/elements/lines/sent_waves.hpp"
#include "emt/parts/model.hpp"
#include "emt/solve/product.hpp"
#include "zavrek/emt/phase_line.hpp"

namespace zavrek::emt::internal {

class PhaseLineModel : public Model {
 public:
  PhaseLineModel(PhaseLine line, double step_s, double network_omega);

  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<PhaseLineModel>(*this);
  }
  void visit_state(StateArchive& archive) override { sent_.visit_state(archive); }
  /// Ends: near conductors, then far ones, to ground. Slots: their currents, what leaves the ends, states.
  [[nodiscard]] int slots() const override { return state_slot() + 2 * reals_; }
  [[nodiscard]] double largest_step_s() const override;
  [[nodiscard]] std::vector<double> travel_times_s() const override;
  [[nodiscard]] States states() const override {
    return {true, state_slot(), 2 * reals_, false, sent_slot(), 2 * n_};
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
  using Complex = std::complex<double>;
  /// A pole, one state for each conductor: real parts from `first` on, of a pair the imaginary ones behind.
  struct Pole {
    Complex pole, advance, gain, euler;
    int first;
    bool pair;
  };
  struct Front {
    int first_pole, end_pole;
    double delay_s, delay_steps;
  };

  void add_poles(const MatrixFit& fit, double sign);
  [[nodiscard]] int sent_slot() const { return 2 * n_; }
  [[nodiscard]] int state_slot() const { return 4 * n_; }
  void read_voltages(const Places& places, const double* values, int end, double* into) const noexcept;
  /// The delayed waves of each front at an end, front by front.
  void read_arriving(int end, double time_steps, double* into) const noexcept;
  /// States of an end over a stretch into `ahead`, but for what the voltage at its end adds: what is known
  /// ahead of it.
  void advance(const Interval& stretch, int end, const double* states, const double* v0,
               double* ahead) noexcept;
  [[nodiscard]] Complex delay(const Front& front, double omega) const;

  PhaseLine line_;
  int n_;
  double step_, omega_;
  std::vector<Pole> poles_;            // of the admittance, then of the fronts
  int own_poles_ = 0, own_reals_ = 0;  // those of the admittance, and their states
  std::vector<Front> fronts_;
  int reals_ = 0;  // of the states of one end
  // By columns of whole lanes: the current of the states of an end, and of the voltages of an end at once, as
  // the fit has it and behind a step.
  Rows rows_;
  std::vector<double> output_, constant_, direct_;
  SentWaves sent_;                // of the conductors of the near end, then of the far one
  std::vector<double> ahead_[2];  // of the stretch that began last, per end
  std::vector<double> v_, i_, own_, zero_;
  std::vector<double> arriving_, arrived_;
};

}  // namespace zavrek::emt::internal
