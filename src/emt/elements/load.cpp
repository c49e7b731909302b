// Load: per phase Z = U^2 / (P - jQ) at nominal voltage, as R with L (Q > 0) or C (Q < 0) in series; what
// depends on the voltage otherwise is a model of its own (voltage_dependent_load.hpp). `NAME.i*` flows into
// the load.
#include <numbers>

#include <fmt/format.h>

#include "emt/elements/terminals.hpp"
#include "emt/elements/voltage_dependent_load.hpp"
#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

template <>
void assemble(const network::Load& load, Assembly& assembly) {
  const std::string owner = "load." + load.name;
  const Terminals at = connect(assembly, owner, load.bus, load.phases, load.connection);
  const auto n = static_cast<double>(at.ends.size());
  std::vector<Slot> currents;
  if (load.constant_current + load.constant_power > 0) {
    if (load.constant_current + load.constant_power > 1) {
      throw Error(Flaw{.file = {},
                       .place = owner,
                       .field = "constant_power",
                       .text = "makes more than the whole together with constant_current"});
    }
    const VoltageDependentLoad::Values values{load.active_W / n, load.reactive_var / n, at.nominal_V,
                                              assembly.omega(),  load.constant_current, load.constant_power,
                                              load.response_s,   load.least_voltage};
    const Slot first = assembly.model(
        {.owner = owner,
         .ends = at.ends,
         .model = std::make_unique<VoltageDependentLoad>(static_cast<int>(at.ends.size()), values)});
    for (int k = 0; k < static_cast<int>(at.ends.size()); ++k) currents.push_back({first.index + k});
  } else {
    const double apparent = load.active_W * load.active_W + load.reactive_var * load.reactive_var;
    if (apparent == 0)
      throw Error(
          Flaw{.file = {}, .place = owner, .field = "active", .text = "neither active nor reactive power"});
    const double scale = at.nominal_V * at.nominal_V * n / apparent;
    const double reactance = scale * load.reactive_var;
    currents = uncoupled_series(assembly, owner, at.ends, scale * load.active_W,
                                reactance > 0 ? reactance / assembly.omega() : 0,
                                reactance < 0 ? -reactance * assembly.omega() : 0);
  }
  terminal_signals(assembly, load.name, at, currents);
}

}  // namespace zavrek::emt::internal
