// Devices that ship with Zavrek and stand in for real ones, each a party of its own on the other side of a
// wire.
#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "zavrek/control.hpp"
#include "zavrek/protection.hpp"
#include "zavrek/wire.hpp"
#include "zavrek/wire/control_link.hpp"

namespace zavrek::bench {

/// A stream that a stand-in reads.
struct StandInStream {
  std::string id = "S1";
  std::uint16_t appid = 0x4000;
};
/// A binary input of a stand-in: one entry of a GOOSE publisher's data set.
struct StandInInput {
  std::string name;
  std::string publisher;
  std::uint16_t appid = 0;
  std::size_t entry = 0;
};

/// How a relay stand-in is reached.
struct StandInPorts {
  std::string name = "R1";
  std::vector<StandInStream> streams{StandInStream{}};  ///< one for each of its places
  std::vector<StandInInput> inputs;
  std::uint16_t goose_appid = 0x0001;
  double rate_Hz = 4000;
  double frequency_Hz = 50;
};

/// A relay between two wires: sampled values (and GOOSE for its inputs) in, GOOSE (start, trip, further
/// outputs) out. Samples of several streams go together by their count. Lost samples are bridged with the
/// last value up to a quarter cycle; beyond that the relay starts afresh. Samples whose quality is bad are
/// treated as lost.
class RelayStandIn {
 public:
  RelayStandIn(protection::RelaySettings settings, StandInPorts ports);
  /// Takes one frame; anything that is no sample of its stream is counted and ignored.
  void take(wire::Bytes frame, wire::Now now, wire::Link& link);
  /// Retransmission; call at least each millisecond.
  void poll(wire::Now now, wire::Link& link);

  [[nodiscard]] long long samples() const { return samples_; }
  [[nodiscard]] long long lost() const { return lost_; }
  [[nodiscard]] long long malformed() const { return malformed_; }
  [[nodiscard]] const protection::Relay& relay() const { return relay_; }

 private:
  void take_sample(std::size_t stream);
  void take_input(wire::Bytes frame, std::int64_t now_ns);
  void bridge(int missing);
  void push(wire::Now now, wire::Link& link);

  struct Input {
    std::size_t place;  // of the relay's inputs
    std::size_t entry;
    wire::GooseSubscriber subscriber;
  };
  protection::Relay relay_;
  StandInPorts ports_;
  wire::GoosePublisher publisher_;
  wire::SampledValues incoming_;
  std::vector<Input> inputs_;
  std::vector<protection::Sample> last_;  // per stream
  std::vector<char> arrived_;             // per stream: has the sample that is being gathered
  std::vector<bool> outputs_;
  int gathering_ = -1;  // count of that sample
  long long samples_ = 0;
  long long lost_ = 0;
  long long malformed_ = 0;
};

/// The message a stand-in publishes (its two entries are those of a relay without further outputs), and a
/// subscriber to it.
[[nodiscard]] wire::Goose stand_in_message(const StandInPorts& ports);
[[nodiscard]] wire::GooseSubscriber stand_in_subscriber(const StandInPorts& ports);

/// Runs a stand-in on `interface` until `stop` becomes true (set by a signal handler, say).
struct StandInCounts {
  long long samples, lost, malformed;
  std::string medium;
};
StandInCounts run_stand_in(const protection::RelaySettings& settings, const StandInPorts& ports,
                           const std::string& interface, wire::Medium medium, const std::atomic<bool>& stop);

struct ControlCounts {
  long long periods = 0, malformed = 0, unsent = 0;
};
/// Serves a controller until it is told to end or `stop` is set; one that begins again at period 0 is made
/// anew.
ControlCounts serve_controller(const std::function<control::Controller()>& make, wire::ControlPort& port,
                               const std::atomic<bool>& stop);

}  // namespace zavrek::bench
