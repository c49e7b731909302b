// Earth faults where overcurrent alone does not find them, open conductors, broken current circuits.
//
//   in line with the residual voltage   I cos phi = Re(3I0 conj(-3V0)) / |3V0|, across it I sin phi = Im(...)
//   / |3V0|:
//                                       towards an earth fault in front the first is positive (compensated
//                                       neutral), and the second (insulated neutral)
//   restricted earth fault              |Ir + In| > pickup + slope |Ir - In| / 2, both towards the winding
//   open conductor                      |I2| / |I1|
#include "protection/function.hpp"

namespace zavrek::protection {

namespace {

class ResidualPart : public DelayedFunction {
 public:
  explicit ResidualPart(const EarthPower& settings)
      : settings_(settings),
        active_(settings.quantity == "active"),
        way_(settings.direction == "reverse" ? -1 : 1) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    const double residual_voltage_V = size_of(end.voltage[3]);
    const Phasor product = end.current[3] * std::conj(-end.voltage[3]);
    const double part =
        residual_voltage_V > 0 ? way_ * (active_ ? product.real() : product.imag()) / residual_voltage_V : 0;
    started_ = residual_voltage_V >= settings_.voltage_V &&
               part > settings_.pickup_A * (started_ ? settings_.drop_off : 1);
    tell(own, settings_.delay_s, in.dt_s);
  }

 private:
  EarthPower settings_;
  bool active_;
  double way_;
};

class Restricted : public DelayedFunction {
 public:
  explicit Restricted(const RestrictedEarth& settings) : settings_(settings) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const Phasor& line = place_of(in.measured, settings_.end).current[3];
    const Phasor& neutral = place_of(in.measured, settings_.neutral_end).current[3];
    const double differential = size_of(line + neutral), restraint = size_of(line - neutral) / 2;
    started_ = differential >
               (settings_.pickup_A + settings_.slope * restraint) * (started_ ? settings_.drop_off : 1);
    tell(own, settings_.delay_s, in.dt_s);
  }

 private:
  RestrictedEarth settings_;
};

class OpenConductor : public ConfirmedFunction {
 public:
  explicit OpenConductor(const Unbalance& settings) : settings_(settings) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    const double positive = size_of(end.i.positive);
    const double threshold = settings_.pickup * (started_ ? settings_.drop_off : 1);
    started_ = positive >= settings_.least_current_A && size_of(end.i.negative) > threshold * positive;
    tell(own, settings_.delay_s, in.dt_s);
  }

 private:
  Unbalance settings_;
};

class BrokenCircuit : public Function {
 public:
  explicit BrokenCircuit(const CurrentWatch& settings) : settings_(settings) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    const bool broken = size_of(end.current[3]) > settings_.residual_current_A &&
                        size_of(end.voltage[3]) < settings_.residual_voltage_V;
    own[0] = own[1] = wait(travel_, broken, settings_.delay_s, in.dt_s) ? 1 : 0;
  }
  void rest() noexcept override { travel_.clear(); }
  void visit_state(StateArchive& archive) override { archive(travel_); }

 private:
  CurrentWatch settings_;
  Travel travel_;
};

}  // namespace

std::unique_ptr<Function> make_function(const EarthPower& settings, const Surroundings&) {
  return std::make_unique<ResidualPart>(settings);
}
std::unique_ptr<Function> make_function(const RestrictedEarth& settings, const Surroundings&) {
  return std::make_unique<Restricted>(settings);
}
std::unique_ptr<Function> make_function(const Unbalance& settings, const Surroundings&) {
  return std::make_unique<OpenConductor>(settings);
}
std::unique_ptr<Function> make_function(const CurrentWatch& settings, const Surroundings&) {
  return std::make_unique<BrokenCircuit>(settings);
}

}  // namespace zavrek::protection
