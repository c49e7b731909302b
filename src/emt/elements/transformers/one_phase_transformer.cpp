// Transformer of one phase: two coupled windings, v = R i + L di/dt with
//   L = Lm [1, n; n, n^2] + diag(Lk/2, n^2 Lk/2),   R = diag(Rk/2, n^2 Rk/2),   n: low over high rated
//   voltage,
// Rk and Lk from the short-circuit test, on the high side. Lm follows from the magnetising current, iron loss
// is a resistance and saturation a bent inductance across the high winding. Currents flow into the windings.
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "emt/elements/terminals.hpp"
#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

class OnePhaseBuilder {
 public:
  OnePhaseBuilder(const network::OnePhaseTransformer& t, Assembly& assembly)
      : t_(t),
        assembly_(assembly),
        owner_("one_phase_transformer." + t.name),
        high_(winding("high_phases", t.high, t.high_phases)),
        low_(winding("low_phases", t.low, t.low_phases)),
        base_ohm_(t.high_voltage_V * t.high_voltage_V / t.rating_VA) {}

  void run() {
    into_high_ = {value_of(add_windings())};
    const Slot low{into_high_.front().index + 1};
    add_iron();
    add_saturation();
    terminals("", high_, into_high_);
    terminals("_far", low_, {value_of(low)});
  }

 private:
  [[noreturn]] void reject(const char* field, std::string text) const {
    throw Error(Flaw{.file = {}, .place = owner_, .field = field, .text = std::move(text)});
  }

  Terminals winding(const char* field, const std::string& bus, const std::string& phases) {
    Terminals at = connect(assembly_, owner_, bus, phases, "delta");
    if (at.ends.size() != 1)
      reject(field, fmt::format("\"{}\" are {} phases; one or two are wanted, such as \"a\" or \"ab\"",
                                at.letters, at.letters.size()));
    return at;
  }

  Slot add_windings() {
    const double loss = t_.copper_loss_W / t_.rating_VA, uk = t_.short_circuit_voltage;
    if (loss >= uk) reject("copper_loss", "is more than the short-circuit voltage allows; check both");
    const double ratio = t_.low_voltage_V / t_.high_voltage_V;
    const double r = loss * base_ohm_ / 2, x = std::sqrt(uk * uk - loss * loss) * base_ohm_ / 2;
    Eigen::Matrix2d coupling;
    coupling << 1, ratio, ratio, ratio * ratio;
    const Eigen::Matrix2d own = coupling.diagonal().asDiagonal();
    return assembly_.series({.owner = owner_,
                             .ends = {high_.ends[0], low_.ends[0]},
                             .resistance = r * own,
                             .inductance = (main_ohm() * coupling + x * own) / assembly_.omega(),
                             .elastance = {},
                             .first_current = {},
                             .first_charge_voltage = {}});
  }

  [[nodiscard]] double main_ohm() const {
    const double iron = t_.iron_loss_W / t_.rating_VA;
    if (iron >= t_.magnetizing_current)
      reject("iron_loss", "takes more than the magnetizing current; check both");
    return base_ohm_ / std::sqrt(t_.magnetizing_current * t_.magnetizing_current - iron * iron);
  }

  void add_iron() {
    const double siemens = t_.iron_loss_W / (t_.high_voltage_V * t_.high_voltage_V);
    if (siemens == 0) return;
    const Ends& ends = high_.ends[0];
    assembly_.conductance(ends, siemens);
    into_high_.push_back(voltage_of(ends.p, siemens));
    into_high_.push_back(voltage_of(ends.q, -siemens));
  }

  void add_saturation() {
    if (!network::is_set(t_.knee)) {
      if (t_.residual_flux != 0)
        reject("residual_flux", "needs a knee: without saturation it has no meaning");
      return;
    }
    const double omega = assembly_.omega();
    const double rated_Vs = std::numbers::sqrt2 * t_.high_voltage_V / omega;
    const double beyond = omega / (t_.air_core * base_ohm_) - omega / main_ohm();
    if (beyond <= 0) reject("air_core", "is more than the magnetizing current allows; check both");
    const SegmentPart& part = assembly_.segments({.owner = owner_,
                                                  .ends = high_.ends[0],
                                                  .inductive = true,
                                                  .corners = bent_at(t_.knee * rated_Vs, beyond),
                                                  .residual = t_.residual_flux * rated_Vs});
    into_high_.push_back(value_of(part.current));
    assembly_.signal(t_.name + ".flux", "V s", {value_of(part.state)});
  }

  /// The current into the winding at each of its phases.
  void terminals(const char* suffix, const Terminals& at, const Terms& into) {
    for (std::size_t k = 0; k < at.letters.size(); ++k) {
      Terms terms = into;
      for (Term& term : terms) term.coefficient *= k == 0 ? 1 : -1;
      assembly_.signal(fmt::format("{}.i{}{}", t_.name, at.letters[k], suffix), "A", terms);
    }
  }

  const network::OnePhaseTransformer& t_;
  Assembly& assembly_;
  std::string owner_;
  Terminals high_, low_;
  double base_ohm_;
  Terms into_high_;
};

}  // namespace

template <>
void assemble(const network::OnePhaseTransformer& t, Assembly& assembly) {
  OnePhaseBuilder(t, assembly).run();
}

}  // namespace zavrek::emt::internal
