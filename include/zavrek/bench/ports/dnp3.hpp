#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/ports/bus_address.hpp"

namespace zavrek::bench {

/// What an outstation and a master of DNP3 have.
struct Dnp3Fields : BusAddress {
  Dnp3Fields() { port = 20'000; }
  std::string name;
  int outstation = 10, master = 1;
  std::vector<std::string> binary_inputs, analogue_inputs, binary_outputs, analogue_outputs;
  bool unsolicited = true;
  double answer_time_s = 5;
};
template <class Port>
network::TableOf<Port> add_dnp3_fields(network::TableOf<Port> table) {
  using network::within;
  table.count("outstation", &Port::outstation, within(0, 65'519), "address of the outstation")
      .count("master", &Port::master, within(0, 65'519), "address of the master")
      .flag("unsolicited", &Port::unsolicited, "the outstation tells events unasked, once its master lets it")
      .quantity("answer_time", &Port::answer_time_s, "s", within(0.01, 3600),
                "that a response waits for its confirmation, and a request for its answer");
  return table;
}

/// An outstation (IEEE 1815): the plant as a master sees it.
struct Dnp3Outstation : Dnp3Fields {
  std::vector<std::string> other_masters;
  int events = 200;
  double scan_s = 0.1, select_time_s = 10;
  std::string clock = "bench";
};

inline const network::Table& table(const Dnp3Outstation*) {
  using network::within;
  static const network::Table built =
      add_bus_address(
          add_dnp3_fields(
              network::TableOf<Dnp3Outstation>("dnp3_outstation",
                                               "an outstation of DNP3 (IEEE 1815) over TCP or a serial line: "
                                               "classes 0 to 3, events with time, "
                                               "unsolicited responses, controls that are answered once the "
                                               "plant has done them; settings for "
                                               "trials: NAME.silent, NAME.cut (0 or 1)")
                  .texts(
                      "binary_inputs", &Dnp3Outstation::binary_inputs,
                      "what is on or off: \"0: Q0\", \"1: R1.trip class 2\" (class 1 when left out, 0 for no "
                      "events)")
                  .texts("analogue_inputs", &Dnp3Outstation::analogue_inputs,
                         "numbers: \"0: battery.p in kW within 1 kW class 3\" (class 2 when left out); "
                         "types: float32, "
                         "int32, int16")
                  .texts("binary_outputs", &Dnp3Outstation::binary_outputs,
                         "what opens and closes: \"0: QO select\", which must be selected first; latched on "
                         "or close "
                         "closes, latched off or trip opens")
                  .texts("analogue_outputs", &Dnp3Outstation::analogue_outputs,
                         "knobs and set points: \"0: battery_power in kW as int16\"")
                  .texts("other_masters", &Dnp3Outstation::other_masters,
                         "further masters that it serves at the same time, by their addresses: \"4\", "
                         "\"10 to 58\"; each has events of its own")
                  .count("events", &Dnp3Outstation::events, within(1, 1'000'000),
                         "kept of each class at most")
                  .quantity("scan", &Dnp3Outstation::scan_s, "ms", within(0.001, 3600),
                            "between looks at numbers")
                  .quantity("select_time", &Dnp3Outstation::select_time_s, "s", within(0.01, 3600),
                            "that a selection lasts")
                  .choice("clock", &Dnp3Outstation::clock, {"bench", "master"},
                          "of its events: that of the bench, or as the master sets it")),
          "port of TCP")
          .build();
  return built;
}

/// A master: reads what the plant is to do from an outstation outside.
struct Dnp3Master : Dnp3Fields {
  double poll_s = 1, integrity_s = 60;
};

inline const network::Table& table(const Dnp3Master*) {
  using network::within;
  static const network::Table built =
      add_bus_address(
          add_dnp3_fields(
              network::TableOf<Dnp3Master>("dnp3_master",
                                           "a master of DNP3 (IEEE 1815): what comes from the outstation "
                                           "outside is opened, closed and set "
                                           "here, and what the plant shows goes there as controls; settings "
                                           "for trials: NAME.silent, NAME.cut "
                                           "(0 or 1)")
                  .texts("binary_inputs", &Dnp3Master::binary_inputs,
                         "states there that open and close here: \"0: QO\"")
                  .texts("analogue_inputs", &Dnp3Master::analogue_inputs,
                         "numbers there that are set here: \"0: roof.irradiance\"")
                  .texts("binary_outputs", &Dnp3Master::binary_outputs,
                         "what is on or off here is latched on or off there: \"0: Q0 select\"")
                  .texts("analogue_outputs", &Dnp3Master::analogue_outputs,
                         "numbers that are set there: \"0: battery.p in kW within 1 kW as int16\"")
                  .quantity("poll", &Dnp3Master::poll_s, "s", within(0.01, 86'400),
                            "from one poll of events to the next")
                  .quantity("integrity", &Dnp3Master::integrity_s, "s", within(0.1, 86'400),
                            "from one poll of everything to the next")),
          "port of TCP, of the outstation")
          .build();
  return built;
}

}  // namespace zavrek::bench
