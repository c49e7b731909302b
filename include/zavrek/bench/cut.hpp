// Whether a loop through a cut is stable, reckoned before it is closed.
#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/description.hpp"

namespace zavrek::bench {

/// What the model answers at a bus when a current is drawn from it for one step: volts behind each step, per
/// ampere, for three equal currents of positive sequence and for three of zero sequence (the same where the
/// bus has one phase).
struct StepResponse {
  double step_s = 0;
  std::vector<double> positive, zero;
};
/// Of the currents that `draws` may draw; `steps` of them. The difference of two runs of the network from its
/// steady state: what is not linear in it is taken as it stands there. Throws Error.
[[nodiscard]] StepResponse step_response(const network::Network& network, const std::string& draws,
                                         int steps);

/// The other way round, at an imposed_voltage: amperes that flow out of it behind each step, per volt that it
/// stands higher for one step.
[[nodiscard]] StepResponse step_response_of_voltage(const network::Network& network,
                                                    const std::string& imposes, int steps);

/// A device at a cut, and what the loop through it has beside.
struct LoopOfCut {
  double resistance_ohm = 0, inductance_H = 0, capacitance_F = 0;
  /// Volts at the device per volt of the model, times amperes of the model per ampere there.
  double scale = 1;
  double share = 1;                     ///< of the currents that is fed back
  double filter_Hz = 0;                 ///< low-pass filter of first order on them; 0: none
  std::vector<double> corners_Hz;       ///< likewise of what else lies on the way: amplifier, converters
  bool mean = false;                    ///< of two steps of the voltage
  double delay_s = 0;                   ///< beyond the step that the model itself takes
  const StepResponse* draws = nullptr;  ///< another model in place of the device
  double damping_S = 0;                 ///< at the model's bus (ImposedCurrent::damping_S)
};
struct CutJudgement {
  bool stable = false;
  double gain_margin = 0;  ///< by which the loop's gain may grow; less than 1 when it is unstable
  double at_Hz = 0;        ///< where it would then oscillate
  double delay_s = 0;      ///< once around
  double error = 0;   ///< of the bus's voltage at the frequency of the network, against no cut, of its size
  std::string words;  ///< all that, and what would help
};
/// By the Nyquist criterion for sampled systems (G. F. Franklin, J. D. Powell, M. Workman, "Digital Control
/// of Dynamic Systems", ch. 7) on the loop's frequency response: model and device are stable by themselves.
[[nodiscard]] CutJudgement judge_loop(const StepResponse& model, const LoopOfCut& loop, double frequency_Hz);

/// Of a bus that is cut between two simulators: voltages go from the imposed_current of one half to the
/// imposed_voltage of the same name in the other, currents back, each `delay` steps late. Without damping
/// where that leaves gain enough, else with the damping that leaves most.
struct PartnerCut {
  CutJudgement judgement;
  double damping_S = 0;
};
[[nodiscard]] PartnerCut propose_partner_cut(const network::Network& near, const network::Network& far,
                                             const std::string& name, int delay);

/// Of a power_cut of a bench. Throws Error where it names what is not there.
[[nodiscard]] CutJudgement judge_cut(const Setup& setup, const PowerCut& cut);

}  // namespace zavrek::bench
