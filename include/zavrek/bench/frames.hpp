#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "zavrek/wire.hpp"

namespace zavrek::bench {
namespace internal {
class LinkBeside;
}
struct Account;

/// Who reads frames from the interface of a bench.
class FrameListener {
 public:
  virtual ~FrameListener() = default;
  virtual void take_frame(wire::Bytes frame, std::int64_t now_ns) noexcept = 0;
};

/// The interface of a bench, one link for all ports that send or read frames on it; opened when the first of
/// them asks.
class Frames {
 public:
  Frames(std::string interface, wire::Medium medium);
  ~Frames();
  Frames(const Frames&) = delete;
  Frames& operator=(const Frames&) = delete;
  /// Opens the interface for one that sends. Throws Error when it cannot be opened.
  void join();
  /// For one that listens, to frames of an ethertype under this application identifier.
  void join(FrameListener& listener, std::uint16_t ethertype, std::uint16_t appid);
  [[nodiscard]] bool open() const noexcept { return link_ != nullptr; }
  [[nodiscard]] const std::string& interface() const noexcept { return interface_; }
  [[nodiscard]] wire::Medium medium() const noexcept { return medium_; }
  /// "raw frames on lo"; empty while nobody joined.
  [[nodiscard]] std::string description() const;
  [[nodiscard]] wire::Link& link() noexcept;
  /// From now on a thread of their own sends what is given to the link; until `end`.
  void send_beside();
  void end() noexcept;
  /// Of that thread; none where there was none.
  [[nodiscard]] std::vector<Account> accounts() const;
  /// Hands what has come to all listeners, a bounded number of frames; whether it stopped at that bound.
  bool take(std::int64_t now_ns) noexcept;
  /// Until something came, at most so long.
  void wait(int timeout_ms) noexcept;
  static constexpr int most_at_once = 16;

 private:
  std::string interface_;
  wire::Medium medium_;
  std::unique_ptr<internal::LinkBeside> link_;
  std::vector<FrameListener*> listeners_;
  wire::FrameFilter wanted_{wire::ethertype_goose, {}};
  wire::FrameBuffer frame_{};
};

}  // namespace zavrek::bench
