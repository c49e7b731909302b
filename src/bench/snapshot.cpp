#include "zavrek/bench/snapshot.hpp"

namespace zavrek::bench {

Snapshot::Snapshot(std::size_t size) : size_(size) {
  for (Copy& copy : copies_) copy.values = std::vector<std::atomic<double>>(size);
}

void Snapshot::publish(const double* values) noexcept {
  const std::uint64_t number = latest_.load(std::memory_order_relaxed) + 1;
  Copy& copy = copies_[number % copies];
  copy.version.store(2 * number - 1, std::memory_order_relaxed);
  for (std::size_t k = 0; k < size_; ++k) copy.values[k].store(values[k], std::memory_order_release);
  copy.version.store(2 * number, std::memory_order_release);
  latest_.store(number, std::memory_order_release);
}

bool Snapshot::read(double* into) const noexcept {
  for (int attempt = 0; attempt < attempts; ++attempt) {
    const std::uint64_t number = latest_.load(std::memory_order_acquire);
    if (number == 0) return false;
    const Copy& copy = copies_[number % copies];
    if (copy.version.load(std::memory_order_acquire) != 2 * number) continue;
    for (std::size_t k = 0; k < size_; ++k) into[k] = copy.values[k].load(std::memory_order_acquire);
    if (copy.version.load(std::memory_order_relaxed) == 2 * number) return true;
  }
  return false;
}

AskQueue::AskQueue() noexcept {
  for (std::size_t k = 0; k < room; ++k) slots_[k].turn.store(k, std::memory_order_relaxed);
}

std::uint64_t AskQueue::post(const Asked& asked) noexcept {
  std::uint64_t number = posted_.load(std::memory_order_relaxed);
  for (;;) {
    Slot& slot = slots_[number % room];
    const std::uint64_t turn = slot.turn.load(std::memory_order_acquire);
    if (turn < number) {  // it still holds what was posted a round ago
      lost_.fetch_add(1, std::memory_order_relaxed);
      return 0;
    }
    if (turn > number) {
      number = posted_.load(std::memory_order_relaxed);
    } else if (posted_.compare_exchange_weak(number, number + 1, std::memory_order_relaxed)) {
      slot.asked = asked;
      slot.outcome.store((number + 1) << outcome_bits | static_cast<std::uint64_t>(Outcome::waiting),
                         std::memory_order_relaxed);
      slot.turn.store(number + 1, std::memory_order_release);
      return number + 1;
    }
  }
}

AskQueue::Outcome AskQueue::outcome(std::uint64_t ticket) const noexcept {
  if (ticket == 0) return Outcome::refused;
  const std::uint64_t found = slots_[(ticket - 1) % room].outcome.load(std::memory_order_acquire);
  if (found >> outcome_bits != ticket) return Outcome::unknown;
  return static_cast<Outcome>(found & 0xFFU);
}

}  // namespace zavrek::bench
