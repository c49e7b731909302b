#pragma once

#include <array>
#include <atomic>
#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "zavrek/bench/port.hpp"

namespace zavrek::bench {

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
  };
  enum class Outcome : std::uint8_t { unknown, waiting, done, refused };

  /// By any thread: a ticket, 0 when there was no room (counted).
  [[nodiscard]] std::uint64_t post(AskId what, double value) noexcept;
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

/// A port for whoever talks beside the thread of the plant: sees chosen values and points as they were
/// lately, asks for chosen things, and never makes a step wait.
class Beside : public Port {
 public:
  Beside(std::string name, std::vector<std::string> values, std::vector<std::string> points,
         std::vector<std::string> asks);

  // --- by any thread, once the run has started ------------------------------------------------------
  /// What was shown at an instant of the plant, and how long ago that was.
  struct View {
    double time_s = 0;
    double age_s = 0;
    std::vector<double> values;  ///< in the order of their names, then points as 0 or 1
  };
  /// False when nothing is there yet.
  [[nodiscard]] bool read(View& view) const noexcept;
  /// `ask`: place among the names; a ticket, 0 when there was no room.
  [[nodiscard]] std::uint64_t post(std::size_t ask, double value) noexcept;
  [[nodiscard]] AskQueue::Outcome outcome(std::uint64_t ticket) const noexcept {
    return queue_.outcome(ticket);
  }

  // --- by the run -------------------------------------------------------------------------------
  void wire(Exchange& exchange) override;
  void take(Exchange& exchange) noexcept override;
  void give(Exchange& exchange) noexcept override;
  [[nodiscard]] std::optional<Account> account() const override;
  static constexpr int most_asks_per_step = 16;

 private:
  std::string name_;
  std::vector<std::string> value_names_, point_names_, ask_names_;
  std::vector<ValueId> values_;
  std::vector<PointId> points_;
  std::vector<AskId> asks_;
  std::vector<double> present_;  // time, wall clock in s, values, points
  Snapshot snapshot_;
  AskQueue queue_;
  std::atomic<long long> served_{0}, refused_{0};
};

}  // namespace zavrek::bench
