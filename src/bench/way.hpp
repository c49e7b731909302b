// The way of frames between a port and the wire, spoiled as the settings of the port ask: lost, late, twice,
// out of order, with bytes that are not what they were. Drawn at random with a fixed seed.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "bench/random.hpp"
#include "zavrek/bench/exchange.hpp"
#include "zavrek/count.hpp"
#include "zavrek/wire/ethernet.hpp"

namespace zavrek::bench::internal {

class Way {
 public:
  enum What : std::uint8_t { loss, delay, jitter, duplicates, disorder, corruption, all };
  using Settings = std::array<SettingId, all>;
  static Settings declare_settings(Exchange& exchange, const std::string& owner, bool idle);
  Way();
  /// Settings OWNER.loss, delay, jitter, duplicates, disorder, corruption.
  void declare(Exchange& exchange, const std::string& owner, bool idle = false) {
    settings_ = declare_settings(exchange, owner, idle);
  }
  /// Ahead of frames: what the settings ask now. Whether anything is, or is still under way.
  bool look(const Exchange& exchange) noexcept;
  /// Hands `frame` to `give(Bytes)`: at once, later (by `release`), twice, or never.
  template <class Give>
  void pass(wire::Bytes frame, std::int64_t now_ns, Give&& give) noexcept {
    if (!at_work_) return give(frame);
    if (draws(loss)) return;
    if (draws(corruption)) frame = spoil(frame);
    if (held_size_ == 0 && draws(disorder)) return hold(frame);
    const int times = draws(duplicates) ? 2 : 1;
    for (int k = 0; k < times; ++k) {
      if (share_[delay] == 0 && share_[jitter] == 0 && waiting_ == 0)
        give(frame);
      else
        keep(frame, now_ns);
    }
    if (held_size_ > 0) give(wire::Bytes(held_).first(std::exchange(held_size_, 0)));
  }
  /// What is due by now.
  template <class Give>
  void release(std::int64_t now_ns, Give&& give) noexcept {
    while (waiting_ > 0 && slots_[first_].due_ns <= now_ns) {
      give(wire::Bytes(bytes_of(first_), slots_[first_].size));
      first_ = (first_ + 1) % slots_.size();
      --waiting_;
    }
  }
  /// Frames that it spoiled.
  [[nodiscard]] long long spoiled() const noexcept { return spoiled_; }
  /// Whether anything was ever asked.
  [[nodiscard]] bool was_at_work() const noexcept { return was_at_work_; }

 private:
  /// Frames under way; what finds no room is lost.
  static constexpr std::size_t most_waiting = 256;
  struct Slot {
    std::int64_t due_ns = 0;
    std::size_t size = 0;
  };
  [[nodiscard]] std::uint8_t* bytes_of(std::size_t slot) noexcept {
    return bytes_.get() + slot * wire::longest_frame;
  }
  [[nodiscard]] bool draws(What what) noexcept;
  [[nodiscard]] wire::Bytes spoil(wire::Bytes frame) noexcept;
  void hold(wire::Bytes frame) noexcept;
  void keep(wire::Bytes frame, std::int64_t now_ns) noexcept;

  Settings settings_{};
  std::array<double, all> share_{};
  bool at_work_ = false, was_at_work_ = false;
  std::vector<Slot> slots_;  // a ring, in the order of their time
  std::size_t first_ = 0, waiting_ = 0;
  std::unique_ptr<std::uint8_t[]> bytes_;  // of all slots
  wire::FrameBuffer spoiled_frame_{}, held_{};
  std::size_t held_size_ = 0;
  Random random_;
  Count spoiled_;
};

}  // namespace zavrek::bench::internal
