// Doubly-fed machine (shell in rotating_machine.hpp): the rotor's winding in the frame of the rotor, referred
// to the stator, theta from the stator's axis to the rotor's,
//   psi_s = Ls i_s + Lm i_r e^(j theta),   psi_r = Lr i_r + Lm i_s e^(-j theta),   v = R i + dpsi/dt   each.
// A step of length d with theta predicted gives both currents at once, with a = Ls/d + Rs, b = Lr/d + Rr, m =
// Lm/d and e what is known of either side:
//   i_s = (b (v_s + e_s) - m e^(j theta) (v_r + e_r)) / (a b - m^2),   i_r = (a (v_r + e_r) - m e^(-j theta)
//   (v_s + e_s)) / (a b - m^2),
// so that only what couples the two sides turns. Rotor fluxes are the x of the shell.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "emt/elements/machines/rotating_machine.hpp"

namespace zavrek::emt::internal {
namespace {

class DoublyFed final : public RotatingMachine {
 public:
  DoublyFed(const network::DoublyFedMachine& m, Common common, std::vector<Slot> knobs)
      : RotatingMachine(common, 2),
        knobs_(std::move(knobs)),
        ratio_(m.ratio),
        rotor_ohm_(m.rotor_resistance_ohm),
        start_speed_(m.start_speed_rad_per_s) {
    const double omega = common.nominal_omega;
    main_ = m.magnetizing_ohm / omega;
    stator_ = main_ + m.stator_leakage_ohm / omega;
    rotor_ = main_ + m.rotor_leakage_ohm / omega;
  }

  [[nodiscard]] std::unique_ptr<Model> clone() const override { return std::make_unique<DoublyFed>(*this); }
  [[nodiscard]] int slots() const override { return steps_slot() + 1; }
  /// How many stretches it has seen, up to two.
  [[nodiscard]] int steps_slot() const { return rotor_current_slot() + 3; }
  /// Of the rotor's currents, three.
  [[nodiscard]] int rotor_current_slot() const { return RotatingMachine::slots(); }
  [[nodiscard]] std::vector<Slot> knobs() const override { return knobs_; }
  [[nodiscard]] bool varies() const override { return true; }

  /// `struct doubly_fed` holds the machine's alone.
  [[nodiscard]] std::optional<WrittenLaw> law(double step_s) const override {
    std::optional<WrittenLaw> law = RotatingMachine::law(step_s);
    if (!law) return law;
    law->kind = "doubly_fed";
    law->jumps = true;
    for (auto& [name, number] : law->numbers) name = "machine." + name;
    for (auto& [name, array] : law->arrays) name = "machine." + name;
    return law;
  }
  [[nodiscard]] Eigen::MatrixXd conductance(double step_s) const override {
    Eigen::Matrix<double, 6, 6, Eigen::RowMajor> g;
    write_conductance(step_s / 2, 0, g.data());
    return g;
  }
  /// No current in the rotor: its voltages have another frequency than the network's.
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double) const override {
    Eigen::MatrixXcd y = Eigen::MatrixXcd::Zero(6, 6);
    const std::complex<double> stator = 1.0 / (common().stator_resistance_ohm + s * stator_);
    y.topLeftCorner(3, 3) = from_sequences(stator, stator);
    return y;
  }
  void start(const Places& places, const Eigen::VectorXcd&, const Eigen::VectorXcd& i, double,
             double* values) override {
    const Sequences current = sequences_of(i.head(3));
    const SpaceVector at_start = current.positive + std::conj(current.negative);
    const SpaceVector flux = main_ * at_start;
    start_from(places, 0, start_speed_, {flux.real(), flux.imag()}, at_start,
               steady_shaft_torque(start_speed_), values);
    for (int k = 0; k <= 3; ++k) values[places.first + rotor_current_slot() + k] = 0;
  }
  /// The voltage of the slip stands at the rings from the start on, where the steady state had none.
  [[nodiscard]] bool jumps(const Places& places, const double* now) const noexcept override {
    return now[places.first + steps_slot()] == 1;
  }

  void slopes(const Places& places, double* values, double* currents, double* slopes) noexcept override {
    RotatingMachine::slopes(places, values, currents, slopes);
    double* slots = values + places.first;
    const SpaceVector ir =
        rotor_current(slots + state(rotor_state()), phase_vector(slots) * turned_back(slots));
    for (int k = 0; k < 3; ++k) slots[rotor_current_slot() + k] = currents[3 + k] = phase_of(ir, k) / ratio_;
  }

  bool begin(const Interval& stretch, const Places& places, const double* old, double* history,
             double* conductance) noexcept override {
    const bool whole = stretch.rule == Rule::trapezoidal;
    const double* slots = old + places.first;
    const SpaceVector is = phase_vector(slots), ir = ratio_ * phase_vector(slots + rotor_current_slot());
    const SpaceVector flux_s{slots[flux_slot], slots[flux_slot + 1]}, flux_r = rotor_flux_of(slots);
    predict(stretch, places, old, is, flux_s);
    const double d = stretch.step_s / 2;
    SpaceVector es = flux_s / d, er = flux_r / d;
    if (whole) {
      es += ends_voltage(places, old, 0) - common().stator_resistance_ohm * is;
      er += ends_voltage(places, old, 3) / ratio_ - rotor_ohm_ * ir;
    }
    const SpaceVector turn = std::polar(1.0, predicted()[0]);
    const Solved g = solved(d);
    const SpaceVector js = g.stator * es + g.mutual * turn * er,
                      jr = g.rotor * er + g.mutual * std::conj(turn) * es;
    for (int k = 0; k < 3; ++k) {
      history[k] = phase_of(js, k);
      history[3 + k] = phase_of(jr, k) / ratio_;
    }
    write_conductance(d, predicted()[0], conductance);
    return true;
  }

  void end(const Interval& stretch, const Places& places, const double* old, double* now,
           const double* history, const double* conductance) noexcept override {
    const bool whole = stretch.rule == Rule::trapezoidal;
    double phases[6];
    for (std::size_t k = 0; k < 6; ++k) {
      phases[k] = history[k];
      for (std::size_t m = 0; m < 6; ++m)
        phases[k] += conductance[6 * k + m] * (now[places.p[m]] - now[places.q[m]]);
    }
    const double* before = old + places.first;
    double* slots = now + places.first;
    for (int k = 0; k < 3; ++k) {
      slots[current_slot + k] = phases[k];
      slots[rotor_current_slot() + k] = phases[3 + k];
    }
    const SpaceVector is = phase_vector(slots), ir = ratio_ * phase_vector(slots + rotor_current_slot());
    const double d = stretch.step_s / 2, rs = common().stator_resistance_ohm;
    SpaceVector flux_s =
        SpaceVector(before[flux_slot], before[flux_slot + 1]) + d * (ends_voltage(places, now, 0) - rs * is);
    SpaceVector flux_r =
        rotor_flux_of(before) + d * (ends_voltage(places, now, 3) / ratio_ - rotor_ohm_ * ir);
    if (whole) {
      flux_s += d * (ends_voltage(places, old, 0) - rs * phase_vector(before));
      flux_r += d * (ends_voltage(places, old, 3) / ratio_ -
                     rotor_ohm_ * ratio_ * phase_vector(before + rotor_current_slot()));
    }
    slots[steps_slot()] = std::min(before[steps_slot()] + 1, 2.0);
    correct(stretch, places, old, now, is, flux_s);
    slots[state(rotor_state())] = flux_r.real();
    slots[state(rotor_state()) + 1] = flux_r.imag();
  }

 protected:
  [[nodiscard]] double mean_inductance() const override { return stator_ - main_ * main_ / rotor_; }
  [[nodiscard]] double saliency() const override { return 0; }
  [[nodiscard]] SpaceVector rotor_flux(const double* x) const noexcept override {
    return main_ / rotor_ * SpaceVector(x[0], x[1]);
  }
  [[nodiscard]] std::optional<std::vector<std::pair<std::string, double>>> written_rotor() const override {
    return {{{"rotor_kind", 3},
             {"main", main_},
             {"stator", stator_},
             {"rotor", rotor_},
             {"rotor_resistance", rotor_ohm_},
             {"ratio", ratio_}}};
  }
  void derivative(const double* x, SpaceVector current, SpaceVector, double, const Places& places,
                  const double* values, double* dx) const noexcept override {
    const SpaceVector slope =
        ends_voltage(places, values, 3) / ratio_ - rotor_ohm_ * rotor_current(x, current);
    dx[0] = slope.real();
    dx[1] = slope.imag();
  }

 private:
  struct Solved {
    double stator, rotor, mutual;  // S, of the referred sides
  };
  [[nodiscard]] Solved solved(double d) const noexcept {
    const double a = stator_ / d + common().stator_resistance_ohm, b = rotor_ / d + rotor_ohm_, m = main_ / d;
    const double whole = a * b - m * m;
    return {b / whole, a / whole, -m / whole};
  }
  /// 6 x 6 in phases: components of amplitude-invariant axes go back and forth with a factor of 2/3.
  void write_conductance(double d, double theta, double* out) const noexcept {
    const Solved g = solved(d);
    for (int r = 0; r < 3; ++r) {
      for (int c = 0; c < 3; ++c) {
        const double apart = 2 * std::numbers::pi / 3 * (r - c);
        out[6 * r + c] = 2.0 / 3 * g.stator * std::cos(apart);
        out[6 * (3 + r) + 3 + c] = 2.0 / 3 * g.rotor / (ratio_ * ratio_) * std::cos(apart);
        out[6 * r + 3 + c] = 2.0 / 3 * g.mutual / ratio_ * std::cos(apart - theta);
        out[6 * (3 + r) + c] = 2.0 / 3 * g.mutual / ratio_ * std::cos(apart + theta);
      }
    }
  }
  [[nodiscard]] static SpaceVector phase_vector(const double* at) noexcept {
    return to_space_vector(at[0], at[1], at[2]);
  }
  [[nodiscard]] static SpaceVector ends_voltage(const Places& places, const double* values,
                                                std::size_t first) noexcept {
    const auto across = [&](std::size_t k) {
      return values[places.p[first + k]] - values[places.q[first + k]];
    };
    return to_space_vector(across(0), across(1), across(2));
  }
  [[nodiscard]] SpaceVector rotor_flux_of(const double* slots) const noexcept {
    const double* x = slots + state(rotor_state());
    return {x[0], x[1]};
  }
  [[nodiscard]] SpaceVector turned_back(const double* slots) const noexcept {
    return std::polar(1.0, -slots[state(0)]);
  }
  /// Referred to the stator; `current` of the stator in the frame of the rotor.
  [[nodiscard]] SpaceVector rotor_current(const double* x, SpaceVector current) const noexcept {
    return (SpaceVector(x[0], x[1]) - main_ * current) / rotor_;
  }

  std::vector<Slot> knobs_;
  double ratio_, rotor_ohm_, start_speed_;
  double main_ = 0, stator_ = 0, rotor_ = 0;  // H: Lm, Ls, Lr
};

}  // namespace

template <>
void assemble(const network::DoublyFedMachine& machine, Assembly& assembly) {
  const std::string owner = "doubly_fed_machine." + machine.name;
  std::vector<Slot> knobs = shaft_knobs(assembly, machine);
  const RotatingMachine::Common common = common_of(owner, machine, assembly);
  std::vector<Ends> ends = machine_ends(assembly, owner, machine.bus);
  const std::vector<Ends> rotor = machine_ends(assembly, owner, machine.rotor);
  ends.insert(ends.end(), rotor.begin(), rotor.end());
  auto model = std::make_unique<DoublyFed>(machine, common, std::move(knobs));
  const int rotor_currents = model->rotor_current_slot();
  const Slot first = assembly.model({.owner = owner, .ends = std::move(ends), .model = std::move(model)});
  machine_signals(assembly, machine.name, first);
  std::vector<Terms> currents;
  for (int k = 0; k < 3; ++k) currents.push_back({value_of({first.index + rotor_currents + k})});
  for (std::size_t k = 0; k < 3; ++k)
    assembly.signal(machine.name + ".i" + "abc"[k] + "_far", "A", currents[k]);
}

}  // namespace zavrek::emt::internal
