// Imposed current: i(t) out of each phase of a bus is what its knob says, at the end of a step as it stands
// by then; a knob that moves at every step is no discontinuity. With a damping G,
//   i(t) = told + G (v(t) - v(t - T)),   T the round trip,
// so that a loop Z Y e^-sT becomes Z (Y - G) / (1 + Z G) e^-sT (the damped impedance method with G in place
// of the other side's impedance).
#include <algorithm>
#include <cmath>

#include "emt/parts/assembly.hpp"
#include "zavrek/network/phasor.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr double most_A = 1e9;

class ImposedCurrentModel final : public Model {
 public:
  struct Values {
    std::complex<double> starts_with;
    double damping_S;
    int round_trip;        // steps
    double omega, step_s;  // of the network
  };
  ImposedCurrentModel(Slot told, const Values& values)
      : told_(told), values_(values), before_(static_cast<std::size_t>(values.round_trip) + 1, 0.0) {}
  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<ImposedCurrentModel>(*this);
  }
  void visit_state(StateArchive& archive) override { archive(before_, newest_); }
  [[nodiscard]] int slots() const override { return 1; }
  [[nodiscard]] std::vector<Slot> knobs() const override { return {told_}; }
  [[nodiscard]] Eigen::MatrixXd conductance(double) const override {
    return Eigen::MatrixXd::Constant(1, 1, values_.damping_S);
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double>, double omega) const override {
    return Eigen::MatrixXcd::Constant(
        1, 1, values_.damping_S * (1.0 - std::polar(1.0, -omega * values_.step_s * values_.round_trip)));
  }
  [[nodiscard]] Eigen::VectorXcd injection(const Eigen::VectorXcd&, std::complex<double>) override {
    return Eigen::VectorXcd::Constant(1, values_.starts_with);
  }
  void start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double,
             double* values) override {
    values[places.first] = i[0].real();
    values[places.knobs[0]] = (i[0] - values_.damping_S * (v[0] - v[0] * ago(values_.round_trip))).real();
    for (std::size_t k = 0; k < before_.size(); ++k) before_[k] = (v[0] * ago(static_cast<int>(k))).real();
    newest_ = 0;
  }
  [[nodiscard]] States states() const override { return {values_.damping_S == 0, 0, 0, false}; }
  void slopes(const Places& places, double* values, double* currents, double*) noexcept override {
    currents[0] = values[places.first] = values[places.knobs[0]];
  }
  bool begin(const Interval& span, const Places& places, const double* old, double* history,
             double*) noexcept override {
    history[0] = old[places.knobs[0]];
    if (values_.damping_S == 0) return false;
    // Kept at grid points: that a step begins at is the newest.
    const auto grid = std::llround(span.grid_s / span.step_s);
    if (grid != newest_) {
      newest_ = grid;
      std::rotate(before_.begin(), before_.end() - 1, before_.end());
      before_[0] = old[places.p[0]] - old[places.q[0]];
    }
    const double age = values_.round_trip - (span.until_s - span.grid_s) / span.step_s;
    const double whole = std::clamp(std::floor(age), 0.0, static_cast<double>(before_.size()) - 2);
    const auto k = static_cast<std::size_t>(whole);
    const double past = before_[k] + std::max(0.0, age - whole) * (before_[k + 1] - before_[k]);
    history[0] -= values_.damping_S * past;
    return false;
  }
  void end(const Interval&, const Places& places, const double*, double* now, const double* history,
           const double*) noexcept override {
    now[places.first] = values_.damping_S * (now[places.p[0]] - now[places.q[0]]) + history[0];
  }

 private:
  [[nodiscard]] std::complex<double> ago(int steps) const {
    return std::polar(1.0, -values_.omega * values_.step_s * steps);
  }
  Slot told_;
  Values values_;
  std::vector<double> before_;  // voltages at grid points, the newest first
  long long newest_ = 0;
};

}  // namespace

template <>
void assemble(const network::ImposedCurrent& imposed, Assembly& assembly) {
  const std::string owner = "imposed_current." + imposed.name;
  const std::string letters = assembly.bus(imposed.bus).phases;
  const std::vector<NodeId> nodes = assembly.nodes(imposed.bus);
  const std::vector<std::complex<double>> start =
      network::parse_phasors(owner, "starts_with", imposed.starts_with, "A", nodes.size());
  std::vector<Terms> currents;
  assembly.tell_each_step();
  for (std::size_t k = 0; k < nodes.size(); ++k) {
    const Slot knob = assembly.knob(imposed.name + "." + letters[k], "A", 0, -most_A, most_A, true);
    const Slot first = assembly.model(
        {.owner = owner,
         .ends = {{nodes[k], ground_node}},
         .model = std::make_unique<ImposedCurrentModel>(
             knob, ImposedCurrentModel::Values{start[k], imposed.damping_S, imposed.round_trip_steps,
                                               assembly.omega(), assembly.step_s()})});
    currents.push_back({value_of(first)});
  }
  assembly.phase_signals(imposed.name + ".i", "A", currents, letters);
}

}  // namespace zavrek::emt::internal
