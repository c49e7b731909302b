// Messages one way between two processes, or threads: one writes, one takes, and neither makes a system call.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstdint>
#include <cstring>
#include <span>

#include "zavrek/wire/ethernet.hpp"

namespace zavrek::wire::internal {

/// Lies in memory as it stands; both counts only grow.
template <std::size_t longest, std::uint64_t slots>
class MessageRing {
 public:
  /// False where it is full, or the message too long.
  bool put(Bytes message) noexcept {
    const std::uint64_t at = written_.load(std::memory_order_relaxed);
    if (message.size() > longest || at - taken_.load(std::memory_order_acquire) >= slots) return false;
    Slot& to = slot_[at % slots];
    to.size = static_cast<std::uint32_t>(message.size());
    std::memcpy(to.bytes, message.data(), message.size());
    written_.store(at + 1, std::memory_order_release);
    return true;
  }
  [[nodiscard]] bool empty() const noexcept {
    return written_.load(std::memory_order_acquire) == taken_.load(std::memory_order_relaxed);
  }
  /// The next one, where it is not empty; 0 for what does not fit, or has a size that no writer of ours
  /// gives.
  std::size_t take(std::span<std::uint8_t> into) noexcept {
    const std::uint64_t at = taken_.load(std::memory_order_relaxed);
    const Slot& from = slot_[at % slots];
    const std::size_t size = from.size;
    const bool fits = size <= std::min(into.size(), longest);
    if (fits) std::memcpy(into.data(), from.bytes, size);
    taken_.store(at + 1, std::memory_order_release);
    return fits ? size : 0;
  }
  /// By who takes: whatever is there is passed over.
  void pass_over() noexcept {
    taken_.store(written_.load(std::memory_order_acquire), std::memory_order_release);
  }

 private:
  struct Slot {
    std::uint32_t size;
    std::uint8_t bytes[longest];
  };
  alignas(64) std::atomic<std::uint64_t> written_;
  alignas(64) std::atomic<std::uint64_t> taken_;
  alignas(64) Slot slot_[slots];
};

}  // namespace zavrek::wire::internal
