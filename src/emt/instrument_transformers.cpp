// Ideal current and voltage transformers: signals of other elements and buses, scaled by the ratio.
#include <fmt/format.h>

#include "emt/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

Terms scaled(Terms terms, double factor) {
  for (Term& term : terms) term.coefficient *= factor;
  return terms;
}

}  // namespace

template <>
void assemble(const network::CurrentTransformer& ct, Assembly& assembly) {
  const std::string suffix = ct.end == "far" ? "_far" : "";
  std::vector<Terms> secondary;
  for (std::size_t k = 0; k < 3; ++k) {
    const std::string name = ct.on + ".i" + "abc"[k] + suffix;
    const Terms* primary = assembly.find_signal(name);
    if (!primary && k == 0) {
      throw Error(Flaw{.file = {},
                       .place = "ct." + ct.name,
                       .field = "on",
                       .text = fmt::format("\"{}\" has no current at its {} end", ct.on, ct.end)});
    }
    if (primary) secondary.push_back(scaled(*primary, ct.secondary_A / ct.primary_A));
  }
  assembly.phase_signals(ct.name + ".i", "A", secondary);
}

template <>
void assemble(const network::VoltageTransformer& vt, Assembly& assembly) {
  std::vector<Terms> secondary;
  for (const NodeId node : assembly.nodes(vt.bus)) {
    secondary.push_back({voltage_of(node, vt.secondary_V / vt.primary_V)});
  }
  assembly.phase_signals(vt.name + ".v", "V", secondary, assembly.bus(vt.bus).phases);
}

}  // namespace zavrek::emt::internal
