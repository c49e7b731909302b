#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "zavrek/wire/ethernet.hpp"

namespace zavrek::wire {

/// What a party wants to read: frames of one ethertype, or of either where it is 0 (their application
/// identifiers differ), and of these application identifiers, or of any when there are none.
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
/// By its word; automatic for any other.
[[nodiscard]] Medium medium_of(const std::string& word);
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
