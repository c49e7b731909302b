// Coupled windings one of which has taps: v = R i + d(flux)/dt, flux = L(tap) i. The flux linkages are the
// states, so that they stay what they were when the taps move. With d = h/2 (either rule) and Z = R + L/d:
//   i1 = Z^-1 (v1 + flux0/d [+ v0 - R i0]),   flux1 = flux0 + d (v1 - R i1) [+ d (v0 - R i0)]
// An automatic control compares the rms voltage across some of the windings, less the drop of a line beyond
// (compensation r + j x on the current there), with its target and moves the taps.
#pragma once

#include <vector>

#include "emt/parts/model.hpp"

namespace zavrek::emt::internal {

struct TapControl {
  double target_V = 0;  // rms across a measured winding; no control at zero
  double band_V = 0;    // whole width
  double delay_s = 30;  // outside the band before the first move
  double travel_s = 5;  // between moves
  double drop_ohm = 0;  // compensation, on the current into the network at the measured winding
  double drop_H = 0;
  bool raise_lifts = true;  // whether a higher position lifts the measured voltage
};

class TappedWindings : public Model {
 public:
  /// Windings of all units one after the other: `resistance` and `inductance` of n windings at position 0.
  /// The windings in `tapped` have 1 + step * position times their turns, those in `measured` are regulated.
  TappedWindings(Eigen::MatrixXd resistance, Eigen::MatrixXd inductance, std::vector<int> tapped,
                 std::vector<int> measured, double step, int lowest, int highest, int position,
                 TapControl control, Slot knob);

  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<TappedWindings>(*this);
  }
  void visit_state(StateArchive& archive) override { archive(held_); }
  [[nodiscard]] int slots() const override { return 2 * n_ + slots_beyond; }
  [[nodiscard]] std::vector<Slot> knobs() const override { return {knob_}; }
  [[nodiscard]] bool varies() const override { return true; }
  [[nodiscard]] Eigen::MatrixXd conductance(double step_s) const override;
  [[nodiscard]] std::optional<WrittenLaw> law(double step_s) const override;
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double omega) const override;
  [[nodiscard]] bool revise(const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double omega) override;
  void start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double step_s,
             double* values) override;
  /// Fluxes, and the mean square that the control sees.
  [[nodiscard]] States states() const override { return {true, n_, n_ + (regulated() ? 1 : 0), true}; }
  void slopes(const Places& places, double* values, double* currents, double* slopes) noexcept override;
  bool act(const Places& places, double time_s, double* values) noexcept override;
  bool begin(const Interval& stretch, const Places& places, const double* old, double* history,
             double* conductance) noexcept override;
  void end(const Interval& stretch, const Places& places, const double* old, double* now,
           const double* history, const double* conductance) noexcept override;

  [[nodiscard]] bool jumps(const Places& places, const double* now) const noexcept override {
    return now[places.first + position_slot()] != held_;
  }

  /// Slot of the position, counted from the first.
  void stand_behind(const Places& places, const double* second, double* now) const noexcept override {
    write(control_of(second, places), places, now);
  }
  [[nodiscard]] int position_slot() const { return 2 * n_ + 1; }

 private:
  /// Its slots behind currents and fluxes.
  struct Control {
    double square, position;
    double outside_s;  // outside the band for so long
    double knob;       // as last seen
    double blind_s;    // still not looking: what a move makes of the voltage at its instant has no bound
  };
  static constexpr int slots_beyond = 5;

  [[nodiscard]] bool regulated() const noexcept { return control_.target_V > 0; }
  [[nodiscard]] Control control_of(const double* values, const Places& places) const noexcept;
  void write(const Control& control, const Places& places, double* values) const noexcept;
  [[nodiscard]] double position_by(const Control& control, double knob) const noexcept;
  [[nodiscard]] bool move(Control& control, double knob, double length_s) const noexcept;

  [[nodiscard]] Eigen::MatrixXd inductance_at(double position) const;
  void put_conductance(double position, double step_s, double* conductance) noexcept;
  void control(const Interval& stretch, const Places& places, const double* old, double* now) noexcept;
  void regulate(Control& control, double length_s) const noexcept;

  int n_;
  Eigen::MatrixXd resistance_, inductance_;
  std::vector<int> tapped_, measured_;
  double step_;
  int lowest_, highest_;
  TapControl control_;
  Slot knob_;
  double position_;              // at the start
  double held_ = -1e300;         // position whose conductance stands
  double acted_s_ = 0;           // when the reference last asked
  std::vector<double> scratch_;  // n x n
};

}  // namespace zavrek::emt::internal
