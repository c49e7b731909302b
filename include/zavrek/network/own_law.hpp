#pragma once

#include <complex>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <utility>
#include <vector>

namespace zavrek::network {

/// The equations of an element of one's own, as a class; zavrek/element.h says the same in C, and what each
/// function is to do. It keeps nothing: what it remembers are states, which stand in the plant.
class OwnLaw {
 public:
  struct Parameter {
    std::string name, unit;
    double start = 0, least = -1e300, most = 1e300;
    bool changeable = false;  ///< while a plant runs
  };
  struct State {
    std::string name, unit;  ///< of its signal; none when the name is empty
  };
  struct Span {
    double step_s;  ///< of the plant
    bool whole;     ///< a whole step by the trapezoidal rule; else half of one, by backward Euler
    double until_s;
    double omega;  ///< of the network
  };
  OwnLaw() = default;
  OwnLaw(const OwnLaw&) = delete;
  OwnLaw& operator=(const OwnLaw&) = delete;
  virtual ~OwnLaw() = default;

  /// 1 for one in each phase alone, else as many as the buses have phases.
  [[nodiscard]] virtual int ends() const { return 1; }
  [[nodiscard]] virtual std::vector<State> states() const { return {}; }
  [[nodiscard]] virtual std::vector<Parameter> parameters() const { return {}; }
  [[nodiscard]] virtual bool varies() const { return false; }

  using Numbers = std::span<const double>;
  using Phasors = std::span<const std::complex<double>>;
  virtual void conductance(Numbers parameters, double step_s, std::span<double> g) const = 0;
  virtual void admittance(Numbers parameters, std::complex<double> s, double omega,
                          std::span<std::complex<double>> y) const = 0;
  virtual void start(Numbers /*parameters*/, std::complex<double> /*s*/, double /*omega*/, Phasors /*v*/,
                     Phasors /*i*/, std::span<double> /*states*/) const {}
  virtual bool begin(const Span& span, Numbers parameters, Numbers states, Numbers v, Numbers i,
                     std::span<double> history, std::span<double> g) const noexcept = 0;
  virtual void finish(const Span& /*span*/, Numbers /*parameters*/, Numbers /*states*/, Numbers /*v*/,
                      Numbers /*i*/, std::span<double> /*at_end*/) const noexcept {}
};

/// Gives a law, and keeps it while it is there itself.
using OwnLawSource = std::function<const OwnLaw*()>;
template <class Law>
[[nodiscard]] OwnLawSource kept(std::shared_ptr<Law> law) {
  return [law = std::move(law)]() -> const OwnLaw* { return law.get(); };
}

}  // namespace zavrek::network
