// Devices that ship with Zavrek and stand in for real ones, each a party of its own on the other side of a
// wire.
#pragma once

#include <algorithm>
#include <array>
#include <atomic>
#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "zavrek/bench/account.hpp"
#include "zavrek/bench/description.hpp"
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
  bool reversed = false;  ///< on while that is off
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

/// The messages of a stand-in: binary inputs of its relay from those of others, its outputs as its own.
class RelayMessages {
 public:
  RelayMessages(const StandInPorts& ports, const protection::Relay& relay);
  /// A frame that may be one of those it reads.
  void take(wire::Bytes frame, std::int64_t now_ns, protection::Relay& relay);
  /// Its outputs as they are, where they have changed or are due again; call at least each millisecond.
  void publish(wire::Now now, const protection::Relay& relay, wire::Link& link);
  /// Adds what was sent, and what was wrong with what came.
  void count(Account& account) const;

 private:
  struct Input {
    std::size_t place;  // of the relay's inputs
    std::size_t entry;
    bool reversed;
    wire::GooseSubscriber subscriber;
  };
  /// An entry of its message: an output, or what goes with one.
  struct Entry {
    enum class What : char { value, position, quality, time, structure } what = What::value;
    std::size_t output = 0;
    int members = 0;
    std::int64_t changed_ns = 0;  // UTC
  };
  [[nodiscard]] static std::vector<Entry> entries_of(const StandInPorts& ports,
                                                     const std::vector<std::string>& outputs);
  wire::GoosePublisher publisher_;
  std::vector<Input> inputs_;
  std::vector<Entry> entries_;
  std::vector<wire::Datum> published_;
  std::vector<bool> outputs_;
};

/// Low-pass filter of second order (Butterworth, by the bilinear transformation: A. V. Oppenheim, R. W.
/// Schafer, ch. 7), for what is sampled more slowly behind it.
class AntiAlias {
 public:
  AntiAlias() = default;  ///< lets all through
  AntiAlias(double corner_Hz, double rate_Hz);
  [[nodiscard]] double next(double x) noexcept {
    const double y = b0_ * x + b1_ * x1_ + b0_ * x2_ - a1_ * y1_ - a2_ * y2_;
    x2_ = std::exchange(x1_, x);
    y2_ = std::exchange(y1_, y);
    return y;
  }

 private:
  double b0_ = 1, b1_ = 0, a1_ = 0, a2_ = 0;
  double x1_ = 0, x2_ = 0, y1_ = 0, y2_ = 0;
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
  void bridge(int missing);
  void begin_again();
  [[nodiscard]] int most_missing() const noexcept;
  void push(wire::Now now, wire::Link& link);
  void feed();

  protection::Relay relay_;
  StandInPorts ports_;
  RelayMessages messages_;
  wire::SampledValues incoming_;
  std::vector<protection::Sample> last_, before_, between_, filtered_;  // per stream
  std::vector<std::array<AntiAlias, 8>> filters_;  // where the streams are faster than the relay
  std::vector<char> arrived_;                      // per stream: has the sample that is being gathered
  std::vector<int> missing_;                       // per stream: samples since its last good one
  std::vector<int> suspects_;                      // per stream: count of a sample that was far off, else -1
  bool blind_ = false;                             // one has had none for too long
  int gathering_ = -1;                             // count of that sample
  int stream_rate_;                                // samples a second
  long long fed_ = 0, relay_fed_ = 0;              // samples of the streams, and of the relay
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
  /// On a network besides: messages both ways (`streams` is not used), and, where they have an identifier,
  /// the samples of its first place. Such a one is a merging unit.
  std::optional<StandInPorts> frames;
  /// Terminal that brings IRIG-B, by which samples are numbered; the computer's clock when empty.
  std::optional<Contact> time_code;
  std::string samples_id;
  std::uint16_t samples_appid = 0x4000;
};

/// Numbers and sends the samples of a merging unit: smpCnt is 0 at the full second.
class SamplesOut {
 public:
  SamplesOut(const StandInTerminals& terminals, double rate_Hz);
  /// The next sample is that nearest to this instant of its clock.
  void begin(std::int64_t utc_ns) noexcept;
  /// By how much the instant of the next sample lies ahead of where its number says.
  [[nodiscard]] std::int64_t ahead_ns(std::int64_t utc_ns) const noexcept;
  void send(const protection::Sample& sample, int synchronised, wire::Link& link) noexcept;
  void count(Account& account) const noexcept;

 private:
  wire::SampledValues message_;
  double rate_Hz_;
  std::array<std::uint8_t, wire::longest_frame> frame_{};
  long long sent_ = 0, unsent_ = 0;
};

/// A relay with a converter of its own between the terminals of a board: secondary amperes and volts in,
/// through an anti-alias filter (second order, at 0.4 of the relay's samples), contacts in and out.
class RelayAtBoard {
 public:
  /// Throws Error when the board is not there, a name is unknown, or its settings lack a ratio that it needs.
  RelayAtBoard(const protection::RelaySettings& settings, const StandInTerminals& terminals);
  /// One conversion; whether a sample of the relay is whole with it.
  bool convert();
  [[nodiscard]] const protection::Sample& sample() const noexcept { return samples_.front(); }
  [[nodiscard]] double conversions_per_s() const noexcept { return rate_Hz_; }
  [[nodiscard]] bool served() const noexcept { return board_.served(); }
  [[nodiscard]] protection::Relay& relay() noexcept { return relay_; }
  [[nodiscard]] const card::Board& board() const noexcept { return board_; }

 private:
  void decide();
  void tell_measured();
  void tell(card::Board::Part part, std::size_t place, double value);
  struct Line {
    std::size_t place, quantity, terminal, tells;
    double to_primary, factor;
    AntiAlias filter;
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
  std::vector<Line> lines_;
  std::vector<Contact> reads_, gives_;
  std::vector<protection::Sample> samples_;
};

/// Waits for its board, and runs one until `stop` is set or the bench has gone; `interface` and `medium` are
/// those of its frames, if it has any.
Account run_stand_in(const protection::RelaySettings& settings, const StandInTerminals& terminals,
                     const std::string& interface, wire::Medium medium, const std::atomic<bool>& stop);

/// A load that hangs on an amplifier at a terminal board: resistance and inductance in series in each phase,
/// a capacitance across them.
struct LoadAtBoard {
  std::string board = "board";
  std::size_t first_voltage = 0, first_current = 0, phases = 3;
  double resistance_ohm = 10, inductance_H = 0, capacitance_F = 0;
  double rate_Hz = 20'000;  ///< of its steps
};
/// One phase of it, by the rule of the backward Euler method.
class LoadPhase {
 public:
  LoadPhase(const LoadAtBoard& load, double step_s);
  [[nodiscard]] double next(double volts) noexcept;

 private:
  double step_s_, resistance_ohm_, inductance_H_, capacitance_F_;
  double current_A_ = 0, volts_ = 0;
};
/// Waits for its board, and draws current until `stop` is set or the bench has gone.
Account run_load(const LoadAtBoard& load, const std::atomic<bool>& stop);

/// An operator's panel on the network: what its switches are goes out, what its lamps show comes in.
class PanelStandIn {
 public:
  /// Its switches stand as the bench has its contacts.
  PanelStandIn(const Panel& panel, const Bench& bench);
  /// "remote on", "remote off", "order press", "order press 500 ms"; why it is not understood, or nothing.
  [[nodiscard]] std::string order(const std::string& line, std::int64_t now_ns);
  void take(wire::Bytes frame, std::int64_t now_ns);
  /// Call at least each millisecond.
  void poll(wire::Now now, wire::Link& link);
  /// Lamps that changed since this was asked: "Q1 off".
  [[nodiscard]] std::vector<std::string> take_changed();
  /// Whether a switch is pressed and not released yet.
  [[nodiscard]] bool presses() const noexcept {
    return std::any_of(releases_ns_.begin(), releases_ns_.end(), [](std::int64_t ns) { return ns != 0; });
  }
  /// All that it has and shows, in a line.
  [[nodiscard]] std::string words() const;

 private:
  wire::GoosePublisher publisher_;
  wire::GooseSubscriber lamps_;
  std::vector<std::string> names_, lamp_names_;
  std::vector<bool> states_;
  std::vector<std::int64_t> releases_ns_;
  std::vector<std::optional<bool>> shown_;
  std::vector<std::string> changed_;
};

/// Serves a controller until it is told to end or `stop` is set; one that begins again at period 0 is made
/// anew. Returns what it counted; `received` are periods.
/// With a key only sessions under it are served.
Account serve_controller(const std::function<control::Controller()>& make, wire::ControlWay& way,
                         const std::atomic<bool>& stop, const std::optional<wire::ControlKey>& only = {});

}  // namespace zavrek::bench
