#pragma once

#include <variant>

#include "zavrek/network/bank.hpp"
#include "zavrek/network/branch.hpp"
#include "zavrek/network/breaker.hpp"
#include "zavrek/network/bridge.hpp"
#include "zavrek/network/cable.hpp"
#include "zavrek/network/capacitive_voltage_transformer.hpp"
#include "zavrek/network/contactor.hpp"
#include "zavrek/network/current_source.hpp"
#include "zavrek/network/current_transformer.hpp"
#include "zavrek/network/dc.hpp"
#include "zavrek/network/dc_converter.hpp"
#include "zavrek/network/doubly_fed_machine.hpp"
#include "zavrek/network/imposed_current.hpp"
#include "zavrek/network/imposed_voltage.hpp"
#include "zavrek/network/induction_machine.hpp"
#include "zavrek/network/line.hpp"
#include "zavrek/network/line_end.hpp"
#include "zavrek/network/load.hpp"
#include "zavrek/network/meter.hpp"
#include "zavrek/network/one_phase_transformer.hpp"
#include "zavrek/network/own_element.hpp"
#include "zavrek/network/permanent_magnet_machine.hpp"
#include "zavrek/network/pv_array.hpp"
#include "zavrek/network/regulator.hpp"
#include "zavrek/network/right_of_way.hpp"
#include "zavrek/network/source.hpp"
#include "zavrek/network/submodule_arm.hpp"
#include "zavrek/network/switch.hpp"
#include "zavrek/network/synchronous_machine.hpp"
#include "zavrek/network/transformer.hpp"
#include "zavrek/network/valve.hpp"
#include "zavrek/network/voltage_transformer.hpp"

namespace zavrek::network {

/// Every kind of element. A new element is its header (description and field table), its source
/// in src/emt (equations and model), its test, and its row here.
using Element = std::variant<Source,               //
                             CurrentSource,        //
                             ImposedCurrent,       //
                             ImposedVoltage,       //
                             Branch,               //
                             OwnElement,           //
                             Cable,                //
                             Line,                 //
                             LineEnd,              //
                             RightOfWay,           //
                             Transformer,          //
                             OnePhaseTransformer,  //
                             Regulator,            //
                             Load,                 //
                             Capacitor,            //
                             Reactor,              //
                             HarmonicFilter,       //
                             Arrester,             //
                             InductionMachine,     //
                             SynchronousMachine,   //
                             PermanentMagnetMachine, DoublyFedMachine,
                             Valve,               //
                             Bridge,              //
                             DcConverter,         //
                             Chopper,             //
                             SubmoduleArm,        //
                             PvArray,             //
                             DcLink,              //
                             DcSource,            //
                             Battery,             //
                             Breaker,             //
                             Disconnector,        //
                             EarthingSwitch,      //
                             Contactor,           //
                             Meter,               //
                             CurrentTransformer,  //
                             VoltageTransformer,  //
                             CapacitiveVoltageTransformer>;

/// Calls `visit` with a null pointer of every kind, in the order of the registry.
template <class Visit, class... Kinds>
void for_each_kind(std::variant<Kinds...>*, Visit&& visit) {
  (visit(static_cast<Kinds*>(nullptr)), ...);
}
template <class Visit>
void for_each_kind(Visit&& visit) {
  for_each_kind(static_cast<Element*>(nullptr), visit);
}

[[nodiscard]] inline const std::string& name_of(const Element& element) {
  return std::visit([](const auto& e) -> const std::string& { return e.name; }, element);
}
[[nodiscard]] inline const Table& table_of(const Element& element) {
  return std::visit([](const auto& e) -> const Table& { return table(&e); }, element);
}
[[nodiscard]] inline const void* fields_of(const Element& element) {
  return std::visit([](const auto& e) -> const void* { return &e; }, element);
}
[[nodiscard]] inline void* fields_of(Element& element) {
  return std::visit([](auto& e) -> void* { return &e; }, element);
}

}  // namespace zavrek::network
