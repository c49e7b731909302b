#include "bench/link_beside.hpp"

#include <algorithm>
#include <cstring>
#include <ctime>

#include "zavrek/pace.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr long between_looks_ns = 10'000;

std::int64_t now_ns() noexcept { return pace::system_clock().now_ns(); }

}  // namespace

void LinkBeside::begin() {
  if (thread_.joinable()) return;
  ring_.resize(room);
  ends_ = false;
  was_beside_ = true;
  ready_ = false;
  thread_ = std::thread([this] { serve(); });
  ready_.wait(false);  // locking memory takes it milliseconds
}

void LinkBeside::end() {
  if (!thread_.joinable()) return;
  ends_.store(true, std::memory_order_release);
  thread_.join();
}

bool LinkBeside::send(wire::Bytes frame) noexcept {
  if (!thread_.joinable()) return link_->send(frame);
  const std::uint64_t next = handed_.load(std::memory_order_relaxed);
  if (next - sent_.load(std::memory_order_acquire) == room) return false;
  Slot& slot = ring_[next % room];
  if (frame.size() > slot.frame.size()) return false;
  std::memcpy(slot.frame.data(), frame.data(), frame.size());
  slot.length = frame.size();
  slot.handed_ns = now_ns();
  handed_.store(next + 1, std::memory_order_release);
  return true;
}

bool LinkBeside::send_waiting() noexcept {
  const std::uint64_t handed = handed_.load(std::memory_order_acquire);
  std::uint64_t next = sent_.load(std::memory_order_relaxed);
  const bool any = next != handed;
  for (; next != handed; ++next) {
    const Slot& slot = ring_[next % room];
    const bool taken = link_->send(wire::Bytes(slot.frame).first(slot.length));
    ++(taken ? account_.sent : account_.unsent);
    account_.delay.add(now_ns() - slot.handed_ns);
    sent_.store(next + 1, std::memory_order_release);
  }
  return any;
}

void LinkBeside::serve() noexcept {
  (void)pace::acquire_realtime_beside(true);
  ready_ = true;
  ready_.notify_one();
  while (!ends_.load(std::memory_order_acquire)) {
    if (send_waiting()) continue;
    const timespec rest{0, between_looks_ns};
    ::clock_nanosleep(CLOCK_MONOTONIC, 0, &rest, nullptr);
  }
  (void)send_waiting();
  pace::leave_realtime();
}

Account LinkBeside::account() const {
  Account account = account_;
  account.port = "frames";
  account.carries = "sent by a thread of their own";
  account.delay_of = "the plant's thread to the medium";
  return account;
}

}  // namespace zavrek::bench::internal
