// A controller in a process of its own: each period the plant sends what the control reads, the controller
// answers with what it wants. Our own messages, in memory that both share where the run started the process,
// else in datagrams over UDP on this computer; all numbers big-endian, reals as IEEE 754 binary64.
//
//   offset  bytes   of a message to the controller       of its answer
//   0       4       "ZVCM"                               "ZVCA"
//   4       1       version, 2                           version, 2
//   5       1       1 measure, 2 end, 3 leave            0 well, 1 failed
//   6       16      key of the session                   the same
//   22      4       number of the period                 number of the period answered
//   26      8       time, s                              -
//   then    2 + 8n  signals                              knobs, outputs: each a count and reals
//           2 + 10n knobs of the control turned:         breakers: a count and bytes 0 or 1
//                   number and value                     edges: a count; gate (2), on (1), instant (8) each
//                                                        why it failed: a count and characters
//
// A key is drawn at random for each run; the controller follows the session that it was given the key of,
// else the first that asks, until that leaves or is silent for two seconds. What has another key is not
// believed: no other process of this computer can end it, speak for it, or speak to it, which does not know
// the key.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "zavrek/control.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::wire {

using ControlKey = std::array<std::uint8_t, 16>;
[[nodiscard]] ControlKey random_key();
/// 32 hexadecimal digits, and back; blanks around them are passed over. Throws Error for anything else.
[[nodiscard]] std::string to_string(const ControlKey& key);
[[nodiscard]] ControlKey parse_key(std::string_view text);

/// measure: the values of a period; end: the controller ends; leave: this session does.
enum class ControlAsk : std::uint8_t { measure = 1, end = 2, leave = 3 };
struct ControlMeasure {
  ControlAsk kind = ControlAsk::measure;
  ControlKey key{};
  std::uint32_t tick = 0;
  double time_s = 0;
  std::vector<double> signals;
  std::vector<std::pair<std::uint16_t, double>> turned;
};
struct ControlAnswer {
  ControlKey key{};
  std::uint32_t tick = 0;
  std::vector<double> knobs, outputs;
  std::vector<std::uint8_t> closes;
  std::vector<control::Edge> edges;
  std::string failure;
};

inline constexpr std::size_t longest_control_message = 60000;

/// Bytes written; 0 when it does not fit.
[[nodiscard]] std::size_t encode(const ControlMeasure& message, std::span<std::uint8_t> out);
[[nodiscard]] std::size_t encode(const ControlAnswer& answer, std::span<std::uint8_t> out);
/// False, and nothing promised about the result, for what is no such message. Reals that are not finite make
/// a message bad.
[[nodiscard]] bool decode(Bytes in, ControlMeasure& message);
[[nodiscard]] bool decode(Bytes in, ControlAnswer& answer);

/// What carries the messages of a link.
class ControlWay {
 public:
  virtual ~ControlWay() = default;
  /// To whom it aims at, or who sent what was received last. False when it was not taken.
  [[nodiscard]] virtual bool send(Bytes message, int to_port) noexcept = 0;
  /// Bytes received, 0 when nothing came within `wait_ms`; `from_port` tells whose they are.
  [[nodiscard]] virtual std::size_t receive(std::span<std::uint8_t> into, int wait_ms,
                                            int* from_port = nullptr) noexcept = 0;
  /// Whether a message stays until it is taken: one that is repeated comes twice then.
  [[nodiscard]] virtual bool keeps() const noexcept { return false; }
};

/// Memory shared by two processes: messages go either way through a ring of eight, and nobody makes a system
/// call for one that is there. Who waits looks again and again for a millisecond, then every 100 us.
class ControlMemory final : public ControlWay {
 public:
  /// Made for the plant, under a name that nobody guesses. Throws Error.
  [[nodiscard]] static ControlMemory make();
  /// Opened by the controller, under the name that it was told; from then on nobody else finds it.
  [[nodiscard]] static ControlMemory open(const std::string& name);
  ControlMemory(ControlMemory&& other) noexcept;
  ControlMemory& operator=(ControlMemory&&) = delete;
  ~ControlMemory() override;
  [[nodiscard]] const std::string& name() const { return name_; }
  /// Questions come so long after each other: it sleeps for most of that behind an answer. 0: it never does
  /// while they come.
  void rest_between(std::int64_t period_ns) noexcept { period_ns_ = period_ns; }
  [[nodiscard]] bool send(Bytes message, int to_port = 0) noexcept override;
  [[nodiscard]] std::size_t receive(std::span<std::uint8_t> into, int wait_ms,
                                    int* from_port = nullptr) noexcept override;
  [[nodiscard]] bool keeps() const noexcept override { return true; }

 private:
  struct Shared;
  ControlMemory(std::string name, Shared* shared, bool plant)
      : name_(std::move(name)), shared_(shared), plant_(plant) {}
  std::string name_;
  Shared* shared_;
  bool plant_;
  std::int64_t period_ns_ = 0, came_ns_ = 0;
};

/// A UDP socket of this computer.
class ControlPort final : public ControlWay {
 public:
  /// Bound to `port` of the loopback address; 0 takes any. Throws Error when it is taken.
  explicit ControlPort(int port);
  ControlPort(ControlPort&& other) noexcept;
  ControlPort& operator=(ControlPort&&) = delete;
  ~ControlPort() override;
  [[nodiscard]] int port() const { return port_; }
  /// Speaks to this port alone, and hears no other.
  void aim(int port) noexcept;
  /// To the port it aims at. False when the system did not take it.
  [[nodiscard]] bool send(Bytes message) noexcept { return send(message, peer_); }
  [[nodiscard]] bool send(Bytes message, int to_port) noexcept override;
  [[nodiscard]] std::size_t receive(std::span<std::uint8_t> into, int wait_ms,
                                    int* from_port = nullptr) noexcept override;

 private:
  int socket_ = -1;
  int port_ = 0, peer_ = 0;
};

}  // namespace zavrek::wire
