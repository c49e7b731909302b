#pragma once

#include <array>
#include <atomic>
#include <cstddef>
#include <cstdint>
#include <vector>

namespace zavrek::bench {

/// Something that can be asked for: a breaker, switch or contactor to operate, a fault to strike, a gate to
/// block, a contact to turn, a knob of the plant or of its control to set.
struct AskId {
  std::size_t index = 0;
};

/// Numbers that one thread publishes and any number of others read. The writer never waits, whatever readers
/// do; a reader that is overtaken while it copies looks again. (Four copies go round: a reader has the time
/// of three publications.)
class Snapshot {
 public:
  explicit Snapshot(std::size_t size);
  [[nodiscard]] std::size_t size() const noexcept { return size_; }
  /// By the writer alone: `size` numbers.
  void publish(const double* values) noexcept;
  /// The latest, by any thread; false when nothing was published yet, or the writer overtook every attempt.
  [[nodiscard]] bool read(double* into) const noexcept;

 private:
  static constexpr std::size_t copies = 4;
  static constexpr int attempts = 16;
  struct Copy {
    std::atomic<std::uint64_t> version{0};  // odd while it is written
    std::vector<std::atomic<double>> values;
  };
  std::size_t size_;
  std::array<Copy, copies> copies_;
  std::atomic<std::uint64_t> latest_{0};  // publications so far
};

/// What others ask of the plant, handed over without ever making it wait: a full queue refuses.
class AskQueue {
 public:
  static constexpr std::size_t room = 256;
  struct Asked {
    AskId what;
    double value = 0;
    double at_s = 0;    ///< of the plant; at once when that is over
    double from = 0;    ///< where `over_s` is not 0: value at the beginning of the straight way to `value`
    double over_s = 0;  ///< how long that takes
  };
  enum class Outcome : std::uint8_t { unknown, waiting, done, refused };

  /// By any thread: a ticket, 0 when there was no room (counted).
  [[nodiscard]] std::uint64_t post(const Asked& asked) noexcept;
  /// What became of a ticket; unknown behind the next `room` tickets.
  [[nodiscard]] Outcome outcome(std::uint64_t ticket) const noexcept;
  /// By the reader alone: `act(asked)` tells whether it was done. At most `most` of them.
  template <class Act>
  void serve(int most, Act&& act) noexcept {
    for (; most > 0; --most) {
      Slot& slot = slots_[next_ % room];
      if (slot.turn.load(std::memory_order_acquire) != next_ + 1) return;
      const bool done = act(slot.asked);
      slot.outcome.store(
          (next_ + 1) << outcome_bits | static_cast<std::uint64_t>(done ? Outcome::done : Outcome::refused),
          std::memory_order_release);
      slot.turn.store(next_ + room, std::memory_order_release);
      ++next_;
    }
  }
  [[nodiscard]] long long lost() const noexcept { return lost_.load(std::memory_order_relaxed); }

 private:
  static constexpr int outcome_bits = 8;
  /// Free for post number `turn`, or holding post number `turn - 1`. (After D. Vyukov, bounded queue.)
  struct Slot {
    std::atomic<std::uint64_t> turn{0};
    std::atomic<std::uint64_t> outcome{0};  // ticket and what became of it
    Asked asked;
  };
  std::array<Slot, room> slots_;
  std::atomic<std::uint64_t> posted_{0};
  std::uint64_t next_ = 0;  // to be served
  std::atomic<long long> lost_{0};

 public:
  AskQueue() noexcept;
};

}  // namespace zavrek::bench
