// Devices that ship with Zavrek and stand in for real ones, each a party of its own on the other side of a
// wire.
#pragma once

#include <array>
#include <atomic>
#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/bench/account.hpp"
#include "zavrek/card.hpp"
#include "zavrek/control.hpp"
#include "zavrek/protection.hpp"
#include "zavrek/wire.hpp"
#include "zavrek/wire/control_link.hpp"

namespace zavrek::bench {

/// A stream that a stand-in reads.
struct StandInStream {
  std::string id = "S1";
  std::uint16_t appid = 0x4000;
  double rate_Hz = 0;  ///< 0: as the relay samples
  /// Where ia ib ic in va vb vc vn stand among its values.
  std::array<std::size_t, 8> places{0, 1, 2, 3, 4, 5, 6, 7};
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
  std::vector<std::string> entries;  ///< data set of its message; its outputs as booleans when empty
  std::uint32_t revision = 1;        ///< confRev of that
  wire::MacAddress source = wire::own_source();  ///< of its messages
  double rate_Hz = 4000;
  double frequency_Hz = 50;
};

/// A relay between two wires: sampled values (and GOOSE for its inputs) in, GOOSE (start, trip, further
/// outputs) out. Samples of several streams, which have one rate, go together by their count; what comes at
/// another rate than the relay's is interpolated. Samples of a stream that are lost, of bad quality or under
/// test are bridged with its last value up to a quarter cycle; beyond that the relay measures nothing, and
/// starts afresh with the next. A stream that another source sends too counts for nothing while the first is
/// heard.
class RelayStandIn {
 public:
  RelayStandIn(protection::RelaySettings settings, StandInPorts ports);
  /// Takes one frame; anything that is no sample of its stream is counted and ignored.
  void take(wire::Bytes frame, wire::Now now, wire::Link& link);
  /// Retransmission; call at least each millisecond.
  void poll(wire::Now now, wire::Link& link);

  /// Of samples and of the messages for its inputs; `received` are samples.
  [[nodiscard]] Account account() const;
  [[nodiscard]] const protection::Relay& relay() const { return relay_; }

 private:
  [[nodiscard]] bool of_its_source(std::size_t stream, std::int64_t now_ns);
  void take_asdu(std::size_t stream, const wire::Asdu& asdu, wire::Now now, wire::Link& link);
  void take_sample(std::size_t stream, const wire::Asdu& asdu);
  void take_input(wire::Bytes frame, std::int64_t now_ns);
  void bridge(int missing);
  void begin_again();
  [[nodiscard]] int most_missing() const noexcept;
  void push(wire::Now now, wire::Link& link);
  void feed();

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
  std::vector<protection::Sample> last_, before_, between_;  // per stream
  std::vector<char> arrived_;  // per stream: has the sample that is being gathered
  std::vector<int> missing_;   // per stream: samples since its last good one
  std::vector<int> suspects_;  // per stream: count of a sample that was far off, else -1
  /// An entry of its message: an output, or what goes with one.
  struct Entry {
    enum class What : char { value, position, quality, time, structure } what = What::value;
    std::size_t output = 0;
    int members = 0;
    std::int64_t changed_ns = 0;  // UTC
  };
  [[nodiscard]] static std::vector<Entry> entries_of(const StandInPorts& ports,
                                                     const std::vector<std::string>& outputs);
  void publish(wire::Now now, wire::Link& link);
  std::vector<Entry> entries_;
  std::vector<wire::Datum> published_;
  std::vector<bool> outputs_;
  bool blind_ = false;                 // one has had none for too long
  int gathering_ = -1;                 // count of that sample
  int stream_rate_;                    // samples a second
  long long fed_ = 0, relay_fed_ = 0;  // samples of the streams, and of the relay
  struct Followed {
    wire::MacAddress source{};
    std::int64_t last_ns = 0;
  };
  std::vector<Followed> followed_;  // per stream: who publishes it
  Account account_;
};

/// The message a stand-in publishes (its two entries are those of a relay without further outputs), and a
/// subscriber to it.
[[nodiscard]] wire::Goose stand_in_message(const StandInPorts& ports);
[[nodiscard]] wire::GooseSubscriber stand_in_subscriber(const StandInPorts& ports);

/// Runs a stand-in on `interface` until `stop` becomes true (set by a signal handler, say). Returns what it
/// counted; what it carries is the medium.
Account run_stand_in(const protection::RelaySettings& settings, const StandInPorts& ports,
                     const std::string& interface, wire::Medium medium, const std::atomic<bool>& stop);

/// How a relay stand-in hangs on a terminal board.
struct StandInTerminals {
  std::string name = "R1";
  std::string board = "board";
  /// A current or a voltage: which of ia ib ic va vb vc of which of its places, and its terminal.
  struct Measured {
    std::size_t place = 0, quantity = 0, terminal = 0;
    double factor = 1;  ///< -1 where it is wired the wrong way round
  };
  /// A binary input or an output: its name, its terminal, and the voltage that wets it; 0 where dry.
  struct Contact {
    std::string name;
    std::size_t terminal = 0;
    double wetting_V = 0;
  };
  std::vector<Measured> measures;
  std::vector<Contact> reads, gives;
  std::size_t tells_from = 0;  ///< where it tells what it measures and sees, in the order of its inputs
  double frequency_Hz = 50;
  int oversampling = 2;  ///< conversions for one sample of the relay, of which there are 80 per cycle
};

/// A relay with a converter of its own between the terminals of a board: secondary amperes and volts in,
/// through an anti-alias filter (second order, at 0.4 of the relay's samples), contacts in and out.
class RelayAtBoard {
 public:
  /// Throws Error when the board is not there, a name is unknown, or its settings lack a ratio that it needs.
  RelayAtBoard(const protection::RelaySettings& settings, const StandInTerminals& terminals);
  /// One conversion.
  void convert();
  [[nodiscard]] double conversions_per_s() const noexcept { return rate_Hz_; }
  [[nodiscard]] bool served() const noexcept { return board_.served(); }
  [[nodiscard]] const protection::Relay& relay() const { return relay_; }

 private:
  /// Butterworth, by the bilinear transformation (A. V. Oppenheim, R. W. Schafer, ch. 7).
  struct Filter {
    double x1 = 0, x2 = 0, y1 = 0, y2 = 0;
  };
  void decide();
  void tell_measured();
  void tell(card::Board::Part part, std::size_t place, double value);
  struct Line {
    std::size_t place, quantity, terminal, tells;
    double to_primary, factor;
    Filter filter;
    double squares = 0, cosines = 0, sines = 0;  // summed over the cycle under way
  };
  struct Contact {
    std::size_t number, terminal, tells;
    double level;  // closed from half of it on; what stands there when closed
  };
  protection::Relay relay_;
  card::Board board_;
  double rate_Hz_, frequency_Hz_;
  int oversampling_, phase_ = 0;
  int samples_told_ = 0;  // of those that the next values told are of
  double b0_, b1_, a1_, a2_;
  std::vector<Line> lines_;
  std::vector<Contact> reads_, gives_;
  std::vector<protection::Sample> samples_;
};

/// Waits for its board, and runs one until `stop` is set or the bench has gone.
Account run_stand_in(const protection::RelaySettings& settings, const StandInTerminals& terminals,
                     const std::atomic<bool>& stop);

/// Serves a controller until it is told to end or `stop` is set; one that begins again at period 0 is made
/// anew. Returns what it counted; `received` are periods.
/// With a key only sessions under it are served.
Account serve_controller(const std::function<control::Controller()>& make, wire::ControlPort& port,
                         const std::atomic<bool>& stop, const std::optional<wire::ControlKey>& only = {});

}  // namespace zavrek::bench
