// Valve: i = g (v - e) of the piece that its gate and current put it on (groups/valve_group.hpp).
//   continuous  the same, on a piece that stays until a root of its margin or an edge of its gate
#include <algorithm>
#include <cstdint>

#include "emt/kinds/part_kind.hpp"

namespace zavrek::emt::internal {
namespace {

class ValveEquations final : public PartEquations {
 public:
  using PartEquations::PartEquations;

  /// One that is off counts as well: what an inductance drives through it tells which diode takes over.
  void hold(ContinuousFrame::Held& held) const override {
    for (const ValvePart& part : frame_.assembly.valve_parts) held.tied.push_back(part.ends);
  }
  void read(double /*t*/, const double* /*y*/) override {
    if (frame_.assembly.valve_parts.empty()) return;
    frame_.core.valves.measure(frame_.values.data(), true);
    frame_.core.valves.update(frame_.values.data());
  }
  void residual(double /*t*/, const double* /*y*/, const double* /*dy*/, double* f) override {
    for (std::size_t k = 0; k < frame_.assembly.valve_parts.size(); ++k) {
      const Ends& ends = frame_.assembly.valve_parts[k].ends;
      frame_.add_current(ends, frame_.core.valves.current(k, frame_.across(ends)), f);
    }
  }
};

class ValveKindOfPart final : public ListedKind<ValvePart, &Assembly::valve_parts, ValveEquations> {
 public:
  void stamp(const Assembly& assembly, Stamps& stamps) const override {
    for (const ValvePart& part : assembly.valve_parts) stamps.reserve({part.ends});
  }
  /// Voltages, currents and conduction of all, each in whole lanes.
  void place(const Assembly& assembly, SlotPlaces& places) const override {
    if (places.in_lanes()) return;
    const int count = static_cast<int>(assembly.valve_parts.size());
    const int room = (count + lanes - 1) / lanes * lanes;
    const int first = places.layout().valves = places.take_aligned(3 * room);
    for (int k = 0; k < count; ++k) {
      const ValvePart& part = assembly.valve_parts[static_cast<std::size_t>(k)];
      places.put(part.current, first + room + k);
      places.put(part.conducts, first + 2 * room + k);
    }
  }

  void lower(const Stamps& /*stamps*/, Lowering& lowering) const override {
    Core& core = lowering.core;
    for (const ValvePart& part : lowering.assembly.valve_parts) {
      const int number = lowering.add_adjustable({part.ends}, Eigen::MatrixXd::Constant(1, 1, part.off_S));
      core.valves.add(part, lowering.layout.node_position.data(), number);
    }
    const int room = static_cast<int>(core.valves.room()), first = lowering.layout.valves;
    core.valves.set_places(first, first + room, first + 2 * room);
    core.controls.gates = lowering.assembly.gates;
    lower_legs(lowering.assembly, core.commutator);
  }

  void stamp_phasors(Phasors& phasors) const override {
    for (const ValvePart& part : phasors.assembly.valve_parts) phasors.add(part.ends, part.ends, part.off_S);
  }

 private:
  /// Legs of transistors, which their gates rule; one that shares its current with none is a leg by itself.
  static void lower_legs(const Assembly& assembly, Commutator& commutator) {
    std::vector<std::vector<int>> legs = assembly.sharing_valves;
    std::vector<bool> told(assembly.valve_parts.size(), false);
    for (const std::vector<int>& leg : legs) {
      for (const int valve : leg) told[static_cast<std::size_t>(valve)] = true;
    }
    for (std::size_t k = 0; k < told.size(); ++k) {
      if (!told[k]) legs.push_back({static_cast<int>(k)});
    }
    for (const std::vector<int>& leg : legs) {
      const auto first = static_cast<std::size_t>(leg.front());
      if (assembly.valve_parts[first].kind != ValveKind::transistor) continue;
      std::uint64_t kind = 0;
      for (const int valve : leg)
        kind = kind << 2U |
               static_cast<std::uint64_t>(assembly.valve_parts[static_cast<std::size_t>(valve)].kind);
      commutator.commutations.add_leg(first, leg.size(), kind);
    }
  }
};

}  // namespace

const PartKind& valve_kind() { return the_only<ValveKindOfPart>(); }

}  // namespace zavrek::emt::internal
