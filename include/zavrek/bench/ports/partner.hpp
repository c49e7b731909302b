#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// Another simulator that holds the other half of the network.
struct Partner {
  std::string name;
  bool leads = true;
  std::string over = "memory";
  std::string meeting;
  std::string own, other;
  int channel = 1;
  std::vector<std::string> cuts, shows, takes;
  int delay = 1;
  double silence_s = 2, waits_s = 60;
  int processor = -1;
};

inline const network::Table& table(const Partner*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<Partner>(
          "partner",
          "another simulator that holds the other half of the network, in lockstep: each step either side "
          "says "
          "what stands at its end, and the next one takes it (docs/partners.md has every octet). One side "
          "leads "
          "by the clock, or as fast as it goes, the other follows its tick. Who comes first does not matter. "
          "NAME.round_trip is what a message takes to the partner's bench and back, NAME.waited what this "
          "side "
          "waited for it, NAME.linked is on while it is there")
          .flag("leads", &Partner::leads, "this side leads, the partner follows; or the other way round")
          .choice("over", &Partner::over, {"memory", "datagrams", "frames"},
                  "memory that both share on one computer (no system calls); UDP; Ethernet frames on the "
                  "interface of the bench")
          .text(
              "meeting", &Partner::meeting,
              "name under which both find the memory, the same on both sides; the port's name when left out",
              Need::optional)
          .text("own", &Partner::own, "address and port of this side over UDP: \"127.0.0.1:7001\"",
                Need::optional)
          .text("other", &Partner::other, "likewise of the partner", Need::optional)
          .count("channel", &Partner::channel, within(1, 65'535), "of frames: the same on both sides")
          .texts("cuts", &Partner::cuts,
                 "elements at which the network is cut: a line_end says and hears waves, an imposed_current "
                 "says "
                 "its bus's voltages and hears currents, an imposed_voltage the other way round; in the same "
                 "order on both sides")
          .texts("shows", &Partner::shows, "further values that the partner hears: \"Q1\", \"battery.p\"")
          .texts("takes", &Partner::takes,
                 "what further values from the partner set or operate here, in the order of its `shows`: "
                 "\"berth_load\", \"Q7\"")
          .count(
              "delay", &Partner::delay, within(1, 30),
              "steps from what is said to the step that it enters; more than one where the way takes longer "
              "than a step leaves")
          .quantity("silence", &Partner::silence_s, "s", within(0.01, 3600),
                    "after which a partner that says nothing is given up, and the run ends")
          .quantity("waits", &Partner::waits_s, "s", within(0.1, 86'400),
                    "for the partner to come, before the run")
          .count("processor", &Partner::processor, within(-1, 1023),
                 "that a paced run takes; -1: the last one where this side leads, the last but one where it "
                 "follows")
          .build();
  return built;
}

}  // namespace zavrek::bench
