// A controller in a process of its own: each period the plant sends what the control reads, the controller
// answers with what it wants. Our own datagrams over UDP on this computer; all numbers big-endian, reals as
// IEEE 754 binary64.
//
//   offset  bytes   of a message to the controller       of its answer
//   0       4       "ZVCM"                               "ZVCA"
//   4       1       version, 1                           version, 1
//   5       1       1 measure, 2 end                     0 well, 1 failed
//   6       4       number of the period                 number of the period answered
//   10      8       time, s                              -
//   then    2 + 8n  signals                              knobs, outputs: each a count and reals
//           2 + 10n knobs of the control turned:         breakers: a count and bytes 0 or 1
//                   number and value                     edges: a count; gate (2), on (1), instant (8) each
//                                                        why it failed: a count and characters
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "zavrek/control.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::wire {

struct ControlMeasure {
  bool ends = false;
  std::uint32_t tick = 0;
  double time_s = 0;
  std::vector<double> signals;
  std::vector<std::pair<std::uint16_t, double>> turned;
};
struct ControlAnswer {
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

/// A UDP socket of this computer.
class ControlPort {
 public:
  /// Bound to `port` of the loopback address; 0 takes any. Throws Error when it is taken.
  explicit ControlPort(int port);
  ControlPort(ControlPort&& other) noexcept;
  ControlPort& operator=(ControlPort&&) = delete;
  ~ControlPort();
  [[nodiscard]] int port() const { return port_; }
  void aim(int port) { peer_ = port; }
  /// False when the system did not take it.
  [[nodiscard]] bool send(Bytes message) noexcept;
  /// Bytes received, 0 when nothing came within `wait_ms`; answers go to who sent last when `replies`.
  [[nodiscard]] std::size_t receive(std::span<std::uint8_t> into, int wait_ms, bool replies) noexcept;

 private:
  int socket_ = -1;
  int port_ = 0, peer_ = 0;
};

}  // namespace zavrek::wire
