#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "zavrek/protection.hpp"

namespace zavrek::wire {

using Bytes = std::span<const std::uint8_t>;
using MacAddress = std::array<std::uint8_t, 6>;

inline constexpr std::uint16_t ethertype_goose = 0x88B8;
inline constexpr std::uint16_t ethertype_sampled_values = 0x88BA;
/// Longest frame that this room makes or reads (without the frame check sequence). A buffer to receive into
/// is a byte longer, so that a longer frame shows, and is malformed.
inline constexpr std::size_t longest_frame = 1518;
using FrameBuffer = std::array<std::uint8_t, longest_frame + 1>;
/// GOOSE data sets of more entries than this are refused.
inline constexpr std::size_t most_goose_entries = 32;

/// Ethernet addressing of IEC 61850-8-1 annex C: VLAN priority 4, identifier 0.
struct Address {
  MacAddress destination{};
  MacAddress source{0x02, 0x00, 0x00, 0x00, 0x00, 0x01};
  std::uint16_t appid = 0;
};
/// 01-0C-CD-04-xx-xx and 01-0C-CD-01-xx-xx, the last two bytes from the application identifier.
[[nodiscard]] Address sampled_values_address(std::uint16_t appid);
[[nodiscard]] Address goose_address(std::uint16_t appid);
/// The source address of all that this process sends: locally administered (IEEE 802, 8.2), drawn at random
/// when it is first asked for, so that its frames can be told from those of any other.
[[nodiscard]] MacAddress own_source();
[[nodiscard]] MacAddress random_source();
/// "02-5a-00-00-00-01", as IEEE 802 writes it.
[[nodiscard]] std::string to_string(const MacAddress& address);
/// Throws Error when `text` is none.
[[nodiscard]] MacAddress parse_mac_address(const std::string& text);

/// One instantaneous value of a sampled-value stream with its quality word (IEC 61850-7-3).
struct MeasuredValue {
  std::int32_t value = 0;     ///< currents in mA, voltages in 10 mV (IEC 61869-9)
  std::uint32_t quality = 0;  ///< 0: good; bits 0-1 validity (01 invalid, 11 questionable)
  [[nodiscard]] bool usable() const { return (quality & 3U) == 0; }
};

/// One ASDU of IEC 61850-9-2 with the data set ia ib ic in va vb vc vn.
struct SampledValues {
  Address address;
  std::string id;                 ///< svID
  std::uint16_t count = 0;        ///< smpCnt: 0 at the start of each second
  std::uint32_t revision = 1;     ///< confRev
  std::uint8_t synchronised = 2;  ///< smpSynch
  std::array<MeasuredValue, 8> values{};
};
inline constexpr double current_lsb_A = 1e-3;
inline constexpr double voltage_lsb_V = 1e-2;
/// Saturates at the range of the 32-bit value and marks it invalid there.
void put_sample(const protection::Sample& sample, SampledValues& into) noexcept;
[[nodiscard]] protection::Sample sample_of(const SampledValues& values) noexcept;
[[nodiscard]] bool usable(const SampledValues& values) noexcept;

/// A GOOSE message (IEC 61850-8-1) whose data set holds booleans.
struct Goose {
  Address address;
  std::string control_block;        ///< gocbRef
  std::string data_set;             ///< datSet
  std::string id;                   ///< goID
  std::uint32_t allowed_ms = 2000;  ///< timeAllowedtoLive
  std::uint64_t time_ns = 0;        ///< since 1970, of the last change of state
  std::uint32_t state = 1;          ///< stNum
  std::uint32_t sequence = 0;       ///< sqNum
  std::uint32_t revision = 1;       ///< confRev
  bool simulation = false;
  bool needs_commissioning = false;
  std::vector<bool> entries;
};

/// Write the frame into `out`; return its length, 0 when it does not fit.
[[nodiscard]] std::size_t encode(const SampledValues& message, std::span<std::uint8_t> out) noexcept;
[[nodiscard]] std::size_t encode(const Goose& message, std::span<std::uint8_t> out) noexcept;

/// Read a frame; false when it is anything else, truncated or malformed. `into` then holds nothing of use.
/// `into` may be reused: no allocation once its texts have their length.
[[nodiscard]] bool decode(Bytes frame, SampledValues& into);
[[nodiscard]] bool decode(Bytes frame, Goose& into);

/// Ethertype behind an optional VLAN tag, and application identifier; empty when the frame is too short.
struct FrameKind {
  std::uint16_t ethertype;
  std::uint16_t appid;
};
[[nodiscard]] std::optional<FrameKind> kind_of(Bytes frame) noexcept;

/// What a party wants to read: frames of one ethertype, and of these application identifiers, or of any when
/// there are none.
struct FrameFilter {
  std::uint16_t ethertype = ethertype_sampled_values;
  std::vector<std::uint16_t> appids;
};

/// A shared medium that carries Ethernet frames.
class Link {
 public:
  virtual ~Link() = default;
  /// What it reads from now on; all else is left out before it could fill a buffer.
  virtual void want(const FrameFilter& /*filter*/) {}
  /// False when the medium did not take the frame.
  [[nodiscard]] virtual bool send(Bytes frame) noexcept = 0;
  /// Length of the frame read into `out`, 0 when none is waiting. A longer one is cut to `out`. Does not
  /// block.
  [[nodiscard]] virtual std::size_t receive(std::span<std::uint8_t> out) noexcept = 0;
  /// Blocks until a frame waits or `timeout_ms` has passed.
  [[nodiscard]] virtual bool wait(int timeout_ms) noexcept = 0;
  /// "raw frames on lo", or what else it is and why.
  [[nodiscard]] virtual const std::string& description() const noexcept = 0;
};

enum class Medium { automatic, raw, datagram };
/// Frames as they are over a raw packet socket on `interface`; where the system does not allow that, the
/// same frames inside datagrams on the loopback's multicast group 239.61.85.1. Throws Error when neither
/// opens.
[[nodiscard]] std::unique_ptr<Link> open_link(const std::string& interface, Medium medium,
                                              const FrameFilter& filter);

/// The present by two clocks, ns: one that never jumps, for all that is timed, and UTC since 1970, for what
/// is told to others.
struct Now {
  std::int64_t steady_ns = 0;
  std::int64_t utc_ns = 0;
};

/// Sends a state by GOOSE: at once on a change, then after 2, 4, 8 ... ms up to `slowest_ms`, as
/// IEC 61850-8-1 clause 18.1.2.5 describes. Time is the caller's.
class GoosePublisher {
 public:
  GoosePublisher(Goose message, int slowest_ms = 500);
  /// Call often; sends what is due. `entries` is the present state.
  void poll(Now now, const std::vector<bool>& entries, Link& link);
  [[nodiscard]] const Goose& message() const { return message_; }
  [[nodiscard]] long long sent() const { return frames_sent_; }
  [[nodiscard]] long long unsent() const { return frames_unsent_; }  ///< that the medium did not take

 private:
  Goose message_;
  int slowest_ms_;
  int interval_ms_ = 2;
  std::int64_t due_ns_ = 0;
  bool sent_ = false;
  long long frames_sent_ = 0, frames_unsent_ = 0;
};

/// Follows one GOOSE publisher: present state, and whether it is alive.
///
/// Its source address is the one it is said to have, else that of the first message heard. What another
/// source says under the same identity counts for nothing, unless the followed one is silent beyond its
/// promise and no address was said. A state or sequence number that goes back is refused too, except by a
/// restart: state 1 with a newer time, or any after such a silence.
class GooseSubscriber {
 public:
  explicit GooseSubscriber(std::uint16_t appid, std::string id, std::optional<MacAddress> source = {});
  /// True when `frame` was a message of the publisher that is newer than the last.
  bool take(Bytes frame, std::int64_t now_ns);
  [[nodiscard]] bool heard() const { return heard_; }
  [[nodiscard]] bool alive(std::int64_t now_ns) const { return heard_ && now_ns <= good_until_ns_; }
  [[nodiscard]] std::int64_t last_heard_ns() const { return last_ns_; }
  [[nodiscard]] const Goose& message() const { return message_; }

  struct Counts {
    long long malformed = 0;    ///< under its application identifier
    long long foreign = 0;      ///< of another identity under it
    long long refused = 0;      ///< simulated (IEC 61850-7-1, 7.8.2)
    long long conflicting = 0;  ///< under its identity from another source
    long long regressed = 0;    ///< older than what was heard
    long long lost = 0;         ///< missing between two that were taken, by their numbers
    long long late = 0;         ///< taken behind the end of the promise of the one before
    long long restarts = 0;     ///< of the publisher
  };
  [[nodiscard]] const Counts& counts() const { return counts_; }
  /// The source of the latest of those that conflict.
  [[nodiscard]] const MacAddress& rival() const { return rival_; }
  /// Two seem to speak under its address: states went back without a restart (what a redundant network
  /// delivers again within 100 ms of a change aside), or changed without a new state number.
  [[nodiscard]] bool doubtful() const { return doubtful_; }

 private:
  enum class Order { newer, repeated, older, restarted };
  [[nodiscard]] Order order_of_incoming(std::int64_t now_ns) const;
  void count_missing();

  std::uint16_t appid_;
  std::string id_;
  std::optional<MacAddress> said_source_;
  Goose message_;
  Goose incoming_;
  bool heard_ = false;
  bool doubtful_ = false;
  std::int64_t last_ns_ = 0;
  std::int64_t changed_ns_ = 0;
  std::int64_t good_until_ns_ = 0;
  Counts counts_;
  MacAddress rival_{};
};

/// An identity under which somebody publishes.
struct Identity {
  std::uint16_t ethertype = ethertype_goose;
  std::uint16_t appid = 0;
  std::string id;        ///< goID or svID
  bool awaited = false;  ///< somebody else's: one source is as it should be, a second is not
};
struct LiveIdentity {
  Identity identity;
  MacAddress source;
};
/// One of `identities` that somebody speaks under who should not, heard within `for_ms`: anybody but this
/// process, or, of those awaited, a second source. Throws Error when the interface cannot be opened.
[[nodiscard]] std::optional<LiveIdentity> find_live(const std::string& interface, Medium medium,
                                                    const std::vector<Identity>& identities, int for_ms);

}  // namespace zavrek::wire
