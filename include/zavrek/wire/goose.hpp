#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "zavrek/count.hpp"
#include "zavrek/wire/ethernet.hpp"
#include "zavrek/wire/link.hpp"

namespace zavrek::wire {

/// A value of a data set, in basic encoding rules as IEC 61850-8-1 (MMS Data) has them. A structure stands
/// ahead of its members.
struct Datum {
  enum class Kind : std::uint8_t {
    boolean,
    bits,       ///< bit string: double points, qualities
    integer,    ///< with a sign
    natural,    ///< without
    real,       ///< floating point of 32 bits
    time,       ///< UtcTime
    structure,  ///< of the `size` data behind it
    other       ///< anything else, whose content is not kept
  };
  Kind kind = Kind::boolean;
  std::uint8_t size = 0;  ///< bits of a bit string; members of a structure; the tag of anything else
  /// 0 or 1; the bits, the first one highest; two's complement; the number; that of a float; nothing.
  std::uint64_t value = 0;
  Stamp at{0, 0};  ///< of a time

  bool operator==(const Datum&) const = default;
  [[nodiscard]] static Datum boolean(bool on) { return {Kind::boolean, 0, on ? 1U : 0U}; }
  [[nodiscard]] static Datum bits(std::uint64_t value, int size) {
    return {Kind::bits, static_cast<std::uint8_t>(size), value};
  }
  [[nodiscard]] static Datum integer(std::int64_t value) {
    return {Kind::integer, 0, static_cast<std::uint64_t>(value)};
  }
  [[nodiscard]] static Datum natural(std::uint64_t value) { return {Kind::natural, 0, value}; }
  [[nodiscard]] static Datum real(float value);
  [[nodiscard]] static Datum time(Stamp at) { return {Kind::time, 0, 0, at}; }
  [[nodiscard]] static Datum structure(int members) {
    return {Kind::structure, static_cast<std::uint8_t>(members), 0};
  }
  /// A position (IEC 61850-7-3, Dbpos): 01 open, 10 closed; 00 between and 11 bad are not known here.
  [[nodiscard]] static Datum position(bool closed) { return bits(closed ? 2 : 1, 2); }
  /// Bit k of `quality`, as Quality has it, is the k-th of the bit string.
  [[nodiscard]] static Datum quality(std::uint32_t quality);

  /// Whether it stands for "on": true, a position that is closed, a number above one half.
  [[nodiscard]] bool on() const noexcept;
  /// As a number: NaN of what is none.
  [[nodiscard]] double number() const noexcept;
  /// Of a quality; that of a good value where it is none.
  [[nodiscard]] std::uint32_t as_quality() const noexcept;
};
/// Data sets of more values than this, structures and their members counted, are refused.
inline constexpr std::size_t most_goose_entries = 128;
inline constexpr int deepest_structure = 4;

/// A GOOSE message (IEC 61850-8-1).
struct Goose {
  Address address;
  std::string control_block;        ///< gocbRef
  std::string data_set;             ///< datSet
  std::string id;                   ///< goID
  std::uint32_t allowed_ms = 2000;  ///< timeAllowedtoLive
  Stamp changed;                    ///< t: of the last change of state
  std::uint32_t state = 1;          ///< stNum
  std::uint32_t sequence = 0;       ///< sqNum
  std::uint32_t revision = 1;       ///< confRev
  bool simulation = false;
  bool needs_commissioning = false;  ///< ndsCom
  std::vector<Datum> entries;        ///< structures ahead of their members

  /// All booleans: for those who publish or read nothing else.
  void set(const std::vector<bool>& booleans);
  [[nodiscard]] bool on(std::size_t entry) const noexcept {
    return entry < entries.size() && entries[entry].on();
  }
};

/// Writes the frame into `out`; returns its length, 0 when it does not fit.
[[nodiscard]] std::size_t encode(const Goose& message, std::span<std::uint8_t> out) noexcept;
/// Reads a frame; false when it is anything else, truncated or malformed. `into` then holds nothing of use.
/// `into` may be reused: no allocation once its texts and entries have their length.
[[nodiscard]] bool decode(Bytes frame, Goose& into);

/// When a state is sent again: at once on a change, then after `first_ms`, twice that, and so on up to
/// `slowest_ms` (IEC 61850-8-1, 18.1.2.5).
struct Repeats {
  int first_ms = 2;
  int slowest_ms = 500;
};

/// Sends a state by GOOSE. Time is the caller's.
class GoosePublisher {
 public:
  explicit GoosePublisher(Goose message, Repeats repeats = {});
  /// Call often; sends what is due. `entries` is the present state; times among them tell when the state
  /// last changed, and change nothing by themselves.
  void poll(Now now, std::span<const Datum> entries, Link& link);
  void poll(Now now, const std::vector<bool>& entries, Link& link);
  /// What travels with the state: the clock's quality in `t`, simulation, ndsCom. Sent with the next message.
  void describe(std::uint8_t clock_quality, bool simulation, bool needs_commissioning) noexcept;
  /// Begins anew, as a publisher that was switched off and on: state 1, sequence 0.
  void restart() noexcept;
  [[nodiscard]] const Goose& message() const { return message_; }
  [[nodiscard]] long long sent() const { return frames_sent_; }
  [[nodiscard]] long long unsent() const { return frames_unsent_; }  ///< that the medium did not take

 private:
  [[nodiscard]] bool changes(std::span<const Datum> entries) const noexcept;
  void take(Now now, std::span<const Datum> entries);
  Goose message_;
  Repeats repeats_;
  std::vector<Datum> booleans_;
  int interval_ms_ = 2;
  std::int64_t due_ns_ = 0;
  bool sent_ = false;
  Count frames_sent_, frames_unsent_;
};

/// Whom a subscriber follows, and what it must hold to.
struct Followed {
  std::uint16_t appid = 0;
  std::string id;                         ///< goID
  std::optional<MacAddress> source;       ///< that of the first message heard when empty
  std::optional<std::uint32_t> revision;  ///< confRev that its data set was read for; any when empty
  std::size_t least_entries = 0;          ///< that its data set must have
};

/// Follows one GOOSE publisher: present state, and whether it is alive.
///
/// Its source address is the one it is said to have, else that of the first message heard. What another
/// source says under the same identity counts for nothing, unless the followed one is silent beyond its
/// promise and no address was said. A state or sequence number that goes back is refused too, except by a
/// restart: state 1 with a newer time, or any after such a silence.
class GooseSubscriber {
 public:
  explicit GooseSubscriber(Followed followed);
  GooseSubscriber(std::uint16_t appid, std::string id, std::optional<MacAddress> source = {});
  /// True when `frame` was a message of the publisher that is newer than the last.
  bool take(Bytes frame, std::int64_t now_ns);
  [[nodiscard]] bool heard() const { return heard_; }
  [[nodiscard]] bool alive(std::int64_t now_ns) const { return heard_ && now_ns <= good_until_ns_; }
  [[nodiscard]] std::int64_t last_heard_ns() const { return last_ns_; }
  [[nodiscard]] const Goose& message() const { return message_; }
  /// While it does, the first simulated message takes the place of the publisher's own until it no longer
  /// does (IEC 61850-7-1, 7.8.2); else simulated ones are refused. It does not at first.
  void accept_simulated(bool yes) noexcept;

  struct Counts {
    Count malformed = 0;    ///< under its application identifier
    Count foreign = 0;      ///< of another identity under it
    Count refused = 0;      ///< simulated, or not while a simulated one stands in its place
    Count unfit = 0;        ///< in need of commissioning, or of another revision or data set
    Count conflicting = 0;  ///< under its identity from another source
    Count regressed = 0;    ///< older than what was heard
    Count lost = 0;         ///< missing between two that were taken, by their numbers
    Count late = 0;         ///< taken behind the end of the promise of the one before
    Count restarts = 0;     ///< of the publisher
  };
  [[nodiscard]] const Counts& counts() const { return counts_; }
  /// The source of the latest of those that conflict.
  [[nodiscard]] const MacAddress& rival() const { return rival_; }
  /// Two seem to speak under its address: states went back without a restart (what a redundant network
  /// delivers again within 100 ms of a change aside), or changed without a new state number.
  [[nodiscard]] bool doubtful() const { return doubtful_; }

 private:
  enum class Order { newer, repeated, older, restarted };
  [[nodiscard]] bool follows(std::int64_t now_ns);
  [[nodiscard]] Order order_of_incoming(std::int64_t now_ns) const;
  void count_missing();

  Followed followed_;
  Goose message_;
  Goose incoming_;
  bool heard_ = false;
  bool doubtful_ = false;
  bool accepts_simulated_ = false;
  bool simulated_ = false;  // it is a simulated publisher that is followed
  bool another_ = false;    // whose numbers have nothing to do with those heard last
  std::int64_t last_ns_ = 0;
  std::int64_t changed_ns_ = 0;
  std::int64_t good_until_ns_ = 0;
  Counts counts_;
  MacAddress rival_{};
};

}  // namespace zavrek::wire
