// Photovoltaic array. Of one module, with i out of it and u the voltage of its junctions:
//   i = Iph - I0 (exp(u/a) - 1) - u/Rp,   v = u - Rs i,   a = n cells k T/q,
// not below the drop of the bypass diode. Iph grows with the irradiance; I0 follows the open-circuit voltage
// over temperature. Rs and Rp are such that the module gives its best current at its best voltage and most
// power there (Villalva, Gazoli, Filho, IEEE Trans. Power Electronics 24 (2009) 1198). Modules in shade and
// in the sun share the current of their string. The network sees the tangent at the voltage before the step;
// what that leaves is of second order in the change of the voltage.
#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr double boltzmann_over_charge = 8.617333e-5;  // V/K
constexpr double ideality = 1.1;
constexpr double bypass_drop_V = 0.5;
constexpr double standard_K = 298.15, standard_W_per_m2 = 1000;

/// One module at an irradiance and a temperature.
struct Module {
  double photo_A = 0, saturation_A = 0, a_V = 1, series_resistance_ohm = 0, parallel_ohm = 1e9;

  /// Junction voltage at which it gives i; Newton from above, where the curve is concave.
  [[nodiscard]] double junction(double i, double guess) const noexcept {
    double u = std::max(guess, a_V * std::log1p(std::max(0.0, photo_A - i) / saturation_A));
    for (int k = 0; k < 30; ++k) {
      const double e = saturation_A * std::exp(std::min(u / a_V, 300.0));
      const double f = photo_A - (e - saturation_A) - u / parallel_ohm - i;
      const double move = f / (e / a_V + 1 / parallel_ohm);
      u += move;
      if (std::abs(move) < 1e-10 * a_V) break;
    }
    return u;
  }
  /// Voltage and its slope over the current.
  struct Point {
    double volts, slope;
  };
  [[nodiscard]] Point at(double i) const noexcept {
    const double u = junction(i, -1e300), v = u - series_resistance_ohm * i;
    if (v < -bypass_drop_V) return {-bypass_drop_V, -1e-4};
    return {v, -series_resistance_ohm -
                   1 / (saturation_A / a_V * std::exp(std::min(u / a_V, 300.0)) + 1 / parallel_ohm)};
  }
};

/// Rs and Rp of a module.
class Fit {
 public:
  Fit(const network::PvArray& array, const std::string& owner) : b_(array) {
    a_ = ideality * b_.cells * boltzmann_over_charge * standard_K;
    saturation_ = b_.short_circuit_current_A / std::expm1(b_.open_circuit_voltage_V / a_);
    if (b_.best_voltage_V >= b_.open_circuit_voltage_V || b_.best_current_A >= b_.short_circuit_current_A ||
        excess(0) < 0) {
      throw Error(
          Flaw{.file = {},
               .place = owner,
               .field = "best_voltage",
               .text = fmt::format("a module of {} cells with {} V and {} A cannot give {} A at {} V; "
                                   "check the four values and the cells",
                                   b_.cells, b_.open_circuit_voltage_V, b_.short_circuit_current_A,
                                   b_.best_current_A, b_.best_voltage_V)});
    }
    double low = 0, high = (b_.open_circuit_voltage_V - b_.best_voltage_V) / b_.best_current_A;
    for (int k = 0; k < 60; ++k) {
      const double middle = (low + high) / 2;
      (excess(middle) > 0 && still_rises(middle) ? low : high) = middle;
    }
    series_resistance_ohm = low;
    parallel_ohm = parallel(low);
  }
  double series_resistance_ohm = 0, parallel_ohm = 0;
  [[nodiscard]] double a_V() const { return a_; }

 private:
  /// Current that the parallel resistance must take at the best point; it has to be positive.
  [[nodiscard]] double excess(double rs) const {
    const double u = b_.best_voltage_V + rs * b_.best_current_A;
    return b_.short_circuit_current_A - saturation_ * std::expm1(u / a_) - b_.best_current_A;
  }
  [[nodiscard]] double parallel(double rs) const {
    return (b_.best_voltage_V + rs * b_.best_current_A) / excess(rs);
  }
  /// Whether dP/dv = i + v di/dv is negative at the best point: with less Rs the power has fallen there.
  [[nodiscard]] bool still_rises(double rs) const {
    const double u = b_.best_voltage_V + rs * b_.best_current_A;
    const double g = saturation_ / a_ * std::exp(u / a_) + 1 / parallel(rs);
    return b_.best_current_A - b_.best_voltage_V * g / (1 + rs * g) > 0;
  }
  const network::PvArray& b_;
  double a_ = 1, saturation_ = 0;
};

class PvModel final : public Model {
 public:
  struct Knobs {
    Slot irradiance, temperature, shaded, shade;
  };
  PvModel(const network::PvArray& array, const std::string& owner, Knobs knobs)
      : b_(array), fit_(array, owner), knobs_(knobs) {
    const double values[] = {b_.irradiance_W_per_m2, b_.temperature_K, b_.shaded, b_.shade};
    std::copy(std::begin(values), std::end(values), seen_);
    light();
    const double best = b_.modules * b_.best_voltage_V;
    siemens_ = slope_at(current_at(best, 0));
  }
  [[nodiscard]] std::unique_ptr<Model> clone() const override { return std::make_unique<PvModel>(*this); }
  void visit_state(StateArchive& archive) override {
    archive(seen_);
    archive(siemens_);
    archive(guess_);
    if (archive.restores()) light();
  }
  [[nodiscard]] int slots() const override { return 2; }  // i, p
  [[nodiscard]] std::vector<Slot> knobs() const override {
    return {knobs_.irradiance, knobs_.temperature, knobs_.shaded, knobs_.shade};
  }
  [[nodiscard]] bool varies() const override { return true; }
  [[nodiscard]] Eigen::MatrixXd conductance(double) const override {
    return Eigen::MatrixXd::Constant(1, 1, siemens_);
  }
  [[nodiscard]] std::optional<WrittenLaw> law(double) const override {
    return WrittenLaw{.kind = "pv_array",
                      .numbers = {{"modules", static_cast<double>(b_.modules)},
                                  {"strings", static_cast<double>(b_.strings)},
                                  {"short_circuit", b_.short_circuit_current_A},
                                  {"open_circuit", b_.open_circuit_voltage_V},
                                  {"per_K", b_.current_coefficient_per_K},
                                  {"volts_per_K", b_.voltage_coefficient_per_K},
                                  {"a", fit_.a_V()},
                                  {"series", fit_.series_resistance_ohm},
                                  {"parallel", fit_.parallel_ohm}},
                      .memory = {siemens_, guess_, seen_[0], seen_[1], seen_[2], seen_[3], lit_.photo_A,
                                 lit_.saturation_A, lit_.a_V},
                      .varies = true};
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double>, double) const override {
    return Eigen::MatrixXcd::Constant(1, 1, siemens_);
  }
  void start(const Places&, const Eigen::VectorXcd&, const Eigen::VectorXcd&, double, double*) override {}
  [[nodiscard]] States states() const override { return {true, 0, 0, false}; }
  void slopes(const Places& places, double* values, double* currents, double*) noexcept override {
    const double v = values[places.p[0]] - values[places.q[0]];
    guess_ = current_at(v, guess_);
    currents[0] = -guess_ * b_.strings;
    write(values + places.first, -currents[0], v);
  }
  bool begin(const Interval&, const Places& places, const double* old, double* history,
             double* conductance) noexcept override {
    bool turned = false;
    for (std::size_t k = 0; k < 4; ++k) {
      turned |= seen_[k] != old[places.knobs[k]];
      seen_[k] = old[places.knobs[k]];
    }
    if (turned) light();
    const double v = old[places.p[0]] - old[places.q[0]];
    guess_ = current_at(v, guess_);
    // The slope is entered anew only when it has moved: each time costs a factoring.
    const double wanted = slope_at(guess_);
    const bool changes = std::abs(wanted - siemens_) > 0.02 * siemens_;
    if (changes) conductance[0] = siemens_ = wanted;
    history[0] = -guess_ * b_.strings - siemens_ * v;
    return changes;
  }
  void end(const Interval&, const Places& places, const double*, double* now, const double* history,
           const double*) noexcept override {
    const double v = now[places.p[0]] - now[places.q[0]];
    write(now + places.first, -(siemens_ * v + history[0]), v);
  }

 private:
  static void write(double* slots, double current, double v) noexcept {
    slots[0] = current;
    slots[1] = current * v;
  }
  /// The modules at the irradiance, temperature and shade that were seen last.
  void light() noexcept {
    const double kelvin = seen_[1], warmer = kelvin - standard_K;
    const double a = fit_.a_V() * kelvin / standard_K;
    const double short_circuit = b_.short_circuit_current_A * (1 + b_.current_coefficient_per_K * warmer);
    const double open_circuit = b_.open_circuit_voltage_V * (1 + b_.voltage_coefficient_per_K * warmer);
    const double photo = short_circuit * seen_[0] / standard_W_per_m2;
    lit_ = {photo, short_circuit / std::expm1(open_circuit / a), a, fit_.series_resistance_ohm,
            fit_.parallel_ohm};
    dim_ = lit_;
    dim_.photo_A *= seen_[3];
    in_shade_ = seen_[2] * b_.modules;
    in_sun_ = b_.modules - in_shade_;
  }
  [[nodiscard]] Module::Point string_at(double i) const noexcept {
    const Module::Point sun = lit_.at(i);
    if (in_shade_ == 0) return {in_sun_ * sun.volts, in_sun_ * sun.slope};
    const Module::Point shade = dim_.at(i);
    return {in_sun_ * sun.volts + in_shade_ * shade.volts, in_sun_ * sun.slope + in_shade_ * shade.slope};
  }
  /// Current of one string at a voltage: Newton, kept within a bracket.
  [[nodiscard]] double current_at(double v, double guess) const noexcept {
    double low = -2 * b_.short_circuit_current_A, high = 2.2 * b_.short_circuit_current_A;
    double i = std::clamp(guess, low, high);
    for (int k = 0; k < 40; ++k) {
      const Module::Point point = string_at(i);
      const double miss = point.volts - v;
      (miss > 0 ? low : high) = i;
      const double next = i - miss / point.slope;
      const double before = i;
      i = next > low && next < high ? next : (low + high) / 2;
      if (std::abs(i - before) < 1e-9 * b_.short_circuit_current_A) break;
    }
    return i;
  }
  [[nodiscard]] double slope_at(double i) const noexcept { return -b_.strings / string_at(i).slope; }

  network::PvArray b_;
  Fit fit_;
  Knobs knobs_;
  double seen_[4];
  Module lit_, dim_;
  double in_sun_ = 0, in_shade_ = 0;  // modules of a string
  double siemens_ = 0, guess_ = 0;
};

}  // namespace

template <>
void assemble(const network::PvArray& array, Assembly& assembly) {
  const std::string owner = "pv_array." + array.name;
  const auto knob = [&](const char* field, const char* unit, double value, double low, double high) {
    return assembly.knob(array.name + "." + field, unit, value, low, high);
  };
  const PvModel::Knobs knobs{knob("irradiance", "W/m2", array.irradiance_W_per_m2, 0, 2000),
                             knob("temperature", "K", array.temperature_K, 200, 400),
                             knob("shaded", "", array.shaded, 0, 1), knob("shade", "", array.shade, 0, 1)};
  const Slot first = assembly.model({.owner = owner,
                                     .ends = {{assembly.terminal(owner, "bus", array.bus + ".p"),
                                               assembly.terminal(owner, "bus", array.bus + ".n")}},
                                     .model = std::make_unique<PvModel>(array, owner, knobs)});
  assembly.signal(array.name + ".i", "A", {value_of(first)});
  assembly.signal(array.name + ".p", "W", {value_of({first.index + 1})});
}

}  // namespace zavrek::emt::internal
