// Controller area network (ISO 11898-1, classical frames and those with more data): frames, databases of
// messages and signals in their common text form, a node that sends and reads by such a database, and what
// carries its frames: SocketCAN where the kernel has it, or datagrams to a multicast group on this computer,
// as python3-can has them.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "zavrek/wire/conversation.hpp"

namespace zavrek::wire {

struct CanFrame {
  std::uint32_t id = 0;
  bool extended = false;  ///< 29 bits of identifier
  bool more = false;      ///< up to 64 octets of data (FD)
  std::size_t size = 0;
  std::array<std::uint8_t, 64> data{};
  [[nodiscard]] Bytes bytes() const { return Bytes(data).first(size); }
};

/// A number within a message.
struct CanSignal {
  std::string name, unit;
  int start = 0;  ///< bit, as the database writes it: of the lowest bit (Intel), of the highest (Motorola)
  int length = 1;
  bool low_first = true;  ///< order of its octets: Intel
  bool is_signed = false;
  enum class Form : std::uint8_t { whole, float32, float64 } form = Form::whole;
  double factor = 1, offset = 0;
  double least = 0, greatest = 0;  ///< both 0: no bounds
  bool selects = false;            ///< says which of the others are there
  std::optional<unsigned> when;    ///< there while the selecting one is this
};
struct CanMessage {
  std::uint32_t id = 0;
  bool extended = false;
  std::string name;
  std::size_t size = 8;
  double cycle_s = 0;  ///< 0: none
  std::vector<CanSignal> signals;
  [[nodiscard]] const CanSignal* find(std::string_view signal) const;
  [[nodiscard]] const CanSignal* selector() const;
};
struct CanDatabase {
  std::vector<CanMessage> messages;
  [[nodiscard]] const CanMessage* find(std::string_view name) const;
};
/// Reads a database: BO_, SG_ with what selects (M, m0), SIG_VALTYPE_, and the cycles of BA_
/// "GenMsgCycleTime". All else is passed over. Throws Error (with a line) for a message or a signal that
/// cannot be.
[[nodiscard]] CanDatabase parse_can_database(std::string_view text, const std::string& file);

/// The bits of a signal; of one that reaches beyond the data, 0 and nothing.
[[nodiscard]] std::uint64_t take_bits(Bytes data, const CanSignal& signal) noexcept;
void put_bits(std::span<std::uint8_t> data, const CanSignal& signal, std::uint64_t bits) noexcept;
/// In the unit of the database; one beyond what its bits, or its bounds, allow is cut off and counted.
[[nodiscard]] double take_signal(Bytes data, const CanSignal& signal) noexcept;
void put_signal(std::span<std::uint8_t> data, const CanSignal& signal, double value,
                Count& saturated) noexcept;

/// Over all octets of a message but the signal's own, which is one octet.
enum class CanChecksum : std::uint8_t { exclusive_or, sum, crc8 };
[[nodiscard]] std::uint8_t can_checksum(CanChecksum kind, Bytes data, std::size_t own_octet) noexcept;

/// What a node sends and reads.
struct CanNodeSettings {
  CanDatabase database;
  struct Signal {
    std::size_t message = 0, signal = 0;  ///< in the database
    std::size_t place = 0;                ///< of what is shown, or asked
    double within = 0;                    ///< by which one that is sent may move unsaid
  };
  std::vector<Signal> sends, reads;
  std::vector<std::size_t> at_change;  ///< messages that go at once when a signal moved
  struct Check {
    std::size_t message = 0, signal = 0;
    std::optional<CanChecksum> sum;  ///< none: it counts
  };
  std::vector<Check> checks;
  double least_gap_s = 0.001;  ///< between two of the same that go because something moved
  double timeout_s = 0;        ///< without which what is read counts as gone; 0: three of its cycles
};

/// The node as a state machine.
class CanNode {
 public:
  CanNode(CanNodeSettings settings, ProcessImage& image);
  ~CanNode();
  CanNode(const CanNode&) = delete;
  CanNode& operator=(const CanNode&) = delete;
  void receive(const CanFrame& frame, Now now);
  void poll(Now now);
  /// What is to be sent; taken away by whoever does.
  [[nodiscard]] std::vector<CanFrame>& out() noexcept;
  /// Whether all that it reads has come lately.
  [[nodiscard]] bool alive() const noexcept;
  [[nodiscard]] const Traffic& traffic() const noexcept;

 private:
  class Body;
  std::unique_ptr<Body> body_;
};

/// A medium for frames.
class CanLink {
 public:
  CanLink() = default;
  CanLink(const CanLink&) = delete;
  CanLink& operator=(const CanLink&) = delete;
  virtual ~CanLink() = default;
  [[nodiscard]] virtual bool send(const CanFrame& frame) = 0;
  /// False where none waits. `malformed` is counted up for what is no frame.
  [[nodiscard]] virtual bool receive(CanFrame& frame, Count& malformed) = 0;
  virtual void wait(int most_ms) = 0;
};
/// "can0", or a group and a port of datagrams: "239.74.163.2:43113". Throws Error.
[[nodiscard]] std::unique_ptr<CanLink> open_can(const std::string& medium);
/// A datagram as python3-can packs it (MessagePack), and back; false for one that is no frame.
[[nodiscard]] std::vector<std::uint8_t> pack_can(const CanFrame& frame, double utc_s);
[[nodiscard]] bool unpack_can(Bytes datagram, CanFrame& frame);

}  // namespace zavrek::wire
