#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/ports/bus_address.hpp"

namespace zavrek::bench {

/// A unit that measures synchrophasors of the plant and tells them (IEC/IEEE 60255-118-1, IEEE C37.118.2).
struct SynchrophasorUnit {
  std::string name;
  std::string address = "127.0.0.1";
  int port = 4712;
  std::string transport = "tcp", to;
  int id = 1;
  std::string performance = "P";
  int reports = 50;
  std::vector<std::string> phasors, sequences, analogues, digitals;
  std::string frequency_of;
  std::string form = "rectangular", numbers = "float";
  double full_scale_voltage_V = 0, full_scale_current_A = 0;
};

inline const network::Table& table(const SynchrophasorUnit*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<SynchrophasorUnit>(
          "synchrophasor_unit",
          "measures synchrophasors, frequency and its rate of change of the plant, class P or M, and tells "
          "them (IEEE "
          "C37.118.2) to those who turn data on; settings for trials: NAME.silent, NAME.cut (0 or 1)")
          .text("address", &SynchrophasorUnit::address, "IP address of this computer", Need::optional)
          .count("port", &SynchrophasorUnit::port, within(0, 65'535), "of TCP or UDP")
          .choice("transport", &SynchrophasorUnit::transport, {"tcp", "udp"}, "what carries it")
          .text("to", &SynchrophasorUnit::to, "of UDP: whom it sends data unasked, \"127.0.0.1:4713\"",
                Need::optional)
          .count("id", &SynchrophasorUnit::id, within(1, 65'534), "identity of its stream")
          .choice("performance", &SynchrophasorUnit::performance, {"P", "M"},
                  "class: fast, or free of what aliases")
          .count("reports", &SynchrophasorUnit::reports, within(1, 200), "a second")
          .texts("phasors", &SynchrophasorUnit::phasors, "\"VA: yard.va\", \"IA: CT1.ia\"")
          .texts("sequences", &SynchrophasorUnit::sequences,
                 "positive sequences of yard.va, .vb, .vc: \"V1: yard.v\"")
          .texts("analogues", &SynchrophasorUnit::analogues, "\"P: battery.p in kW\"")
          .texts("digitals", &SynchrophasorUnit::digitals, "\"Q1\", \"R1.trip\"")
          .text("frequency_of", &SynchrophasorUnit::frequency_of,
                "three phases whose positive sequence gives the frequency, \"yard.v\"; the first of "
                "sequences when left "
                "out",
                Need::optional)
          .choice("form", &SynchrophasorUnit::form, {"rectangular", "polar"}, "of phasors")
          .choice("numbers", &SynchrophasorUnit::numbers, {"float", "integer"},
                  "of phasors and the frequency")
          .quantity("full_scale_voltage", &SynchrophasorUnit::full_scale_voltage_V, "kV",
                    network::at_least(0), "that integers reach; needed with them")
          .quantity("full_scale_current", &SynchrophasorUnit::full_scale_current_A, "A", network::at_least(0),
                    "that integers reach; needed with them")
          .build();
  return built;
}

/// Hears a unit outside, and judges it by what the plant does.
struct SynchrophasorClient {
  std::string name;
  std::string address = "127.0.0.1";
  int port = 4712;
  int id = 1;
  std::string performance = "M";
  std::vector<std::string> compares;
  std::string frequency_of;
};

inline const network::Table& table(const SynchrophasorClient*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<SynchrophasorClient>(
          "synchrophasor_client",
          "hears a unit of synchrophasors outside (IEEE C37.118.2 over TCP), and compares what it tells with "
          "the plant "
          "at the same instant: NAME.vector_error (the largest of the channels), NAME.frequency_error (Hz), "
          "NAME.rate_error (Hz/s), NAME.delay (s, from the instant to its coming), NAME.frequency, "
          "NAME.rate; point "
          "NAME.alive")
          .text("address", &SynchrophasorClient::address, "IP address of the unit", Need::optional)
          .count("port", &SynchrophasorClient::port, within(1, 65'535), "of TCP")
          .count("id", &SynchrophasorClient::id, within(1, 65'534), "identity of its stream")
          .choice("performance", &SynchrophasorClient::performance, {"P", "M"},
                  "class by which the plant is measured here, with the unit's rate")
          .texts("compares", &SynchrophasorClient::compares, "channels of the unit: \"VA: yard.va\"",
                 Need::required)
          .text("frequency_of", &SynchrophasorClient::frequency_of,
                "three phases whose positive sequence gives the frequency here: \"yard.v\"")
          .build();
  return built;
}

}  // namespace zavrek::bench
