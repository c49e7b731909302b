// A link whose frames a thread of their own sends: sending on the loopback, or into a card's queue, is a call
// to the system of several microseconds, as long as some steps. The plant's thread puts a frame into a ring,
// with the time, and goes on; the thread looks into the ring every 10 us. What is received is read where it
// is asked for: of raw frames without a call to the system (wire/link.cpp).
#pragma once

#include <array>
#include <atomic>
#include <cstdint>
#include <memory>
#include <thread>
#include <vector>

#include "zavrek/bench/account.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::bench::internal {

class LinkBeside final : public wire::Link {
 public:
  /// Sends by itself until `begin`.
  explicit LinkBeside(std::unique_ptr<wire::Link> link) : link_(std::move(link)) {}
  LinkBeside(const LinkBeside&) = delete;
  LinkBeside& operator=(const LinkBeside&) = delete;
  ~LinkBeside() override { end(); }

  /// From now on the thread sends. Allocates.
  void begin();
  /// What waits is sent; from then on it sends by itself again.
  void end();
  [[nodiscard]] bool beside() const noexcept { return thread_.joinable(); }

  void want(const wire::FrameFilter& filter) override { link_->want(filter); }
  /// False when the ring is full, or the frame longer than any of Ethernet.
  [[nodiscard]] bool send(wire::Bytes frame) noexcept override;
  [[nodiscard]] std::size_t receive(std::span<std::uint8_t> out) noexcept override {
    return link_->receive(out);
  }
  [[nodiscard]] bool wait(int timeout_ms) noexcept override { return link_->wait(timeout_ms); }
  [[nodiscard]] const std::string& description() const noexcept override { return link_->description(); }
  /// How many it sent, and how long that took from when they were handed over; while it is at work, as far as
  /// that has come.
  [[nodiscard]] Account account() const;
  [[nodiscard]] bool was_beside() const noexcept { return was_beside_; }

 private:
  static constexpr std::size_t room = 1024;  // frames; a power of two
  struct Slot {
    std::int64_t handed_ns = 0;
    std::size_t length = 0;
    wire::FrameBuffer frame{};
  };
  void serve() noexcept;
  bool send_waiting() noexcept;

  std::unique_ptr<wire::Link> link_;
  std::vector<Slot> ring_;
  // Each written by one thread alone, on a line of memory of its own.
  alignas(64) std::atomic<std::uint64_t> handed_{0};
  alignas(64) std::atomic<std::uint64_t> sent_{0};
  std::atomic<bool> ends_{false}, ready_{false};
  Account account_;
  bool was_beside_ = false;
  std::thread thread_;
};

}  // namespace zavrek::bench::internal
