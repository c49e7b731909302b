#pragma once

#include <variant>

#include "zavrek/bench/ports/analogue_in.hpp"
#include "zavrek/bench/ports/analogue_out.hpp"
#include "zavrek/bench/ports/breaker_drive.hpp"
#include "zavrek/bench/ports/can_bus.hpp"
#include "zavrek/bench/ports/card.hpp"
#include "zavrek/bench/ports/contact_in.hpp"
#include "zavrek/bench/ports/contact_out.hpp"
#include "zavrek/bench/ports/disturbance_recorder.hpp"
#include "zavrek/bench/ports/dnp3.hpp"
#include "zavrek/bench/ports/ethercat_slave.hpp"
#include "zavrek/bench/ports/iec104.hpp"
#include "zavrek/bench/ports/intruder.hpp"
#include "zavrek/bench/ports/message.hpp"
#include "zavrek/bench/ports/modbus_client.hpp"
#include "zavrek/bench/ports/modbus_server.hpp"
#include "zavrek/bench/ports/panel.hpp"
#include "zavrek/bench/ports/partner.hpp"
#include "zavrek/bench/ports/party.hpp"
#include "zavrek/bench/ports/power_cut.hpp"
#include "zavrek/bench/ports/stream.hpp"
#include "zavrek/bench/ports/stream_in.hpp"
#include "zavrek/bench/ports/subscription.hpp"
#include "zavrek/bench/ports/synchrophasor.hpp"
#include "zavrek/bench/ports/time_code.hpp"
#include "zavrek/network/registry.hpp"

namespace zavrek::bench {

/// Every kind of port that a bench can name. A new one is its header (description and field table), its
/// source in src/bench/ports (`check` and `make_port`), its test, and its row here.
using PortSettings =
    std::variant<Stream,    //
                 StreamIn,  //
                 Message,   //
                 Subscription, Card, AnalogueOut, AnalogueIn, ContactOut, ContactIn, TimeCode,
                 DisturbanceRecorder, BreakerDrive, Panel, PowerCut, Intruder, ModbusServer, ModbusClient,
                 Iec104Station, Iec104Controller, Dnp3Outstation, Dnp3Master, CanBus, SynchrophasorUnit,
                 SynchrophasorClient, EtherCatSlave, Party, Partner>;

/// Calls `visit` with a null pointer of every kind, in the order of the registry.
template <class Visit>
void for_each_kind(const PortSettings*, Visit&& visit) {
  network::for_each_kind(static_cast<PortSettings*>(nullptr), visit);
}

[[nodiscard]] inline const std::string& name_of(const PortSettings& port) {
  return std::visit([](const auto& p) -> const std::string& { return p.name; }, port);
}
[[nodiscard]] inline const network::Table& table_of(const PortSettings& port) {
  return std::visit([](const auto& p) -> const network::Table& { return table(&p); }, port);
}

}  // namespace zavrek::bench
