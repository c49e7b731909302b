#pragma once

#include <cstdint>
#include <span>

namespace zavrek::fuzz {

using FieldInput = std::span<const std::uint8_t>;
void modbus(FieldInput input);       ///< octets of a client
void modbus_line(FieldInput input);  ///< of one on a line
void telecontrol(FieldInput input);  ///< of a controlling station
void telecontrol_master(FieldInput input);
void dnp_link(FieldInput input);        ///< octets of a master
void dnp_outstation(FieldInput input);  ///< fragments of a master, in whole frames
void dnp_master(FieldInput input);      ///< fragments of an outstation
void phasor_unit(FieldInput input);
void phasor_client(FieldInput input);
void can_database(FieldInput input);
void can_datagram(FieldInput input);
void ethercat(FieldInput input);

}  // namespace zavrek::fuzz
