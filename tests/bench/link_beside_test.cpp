// Frames handed to a thread of their own: all of them, in order, and what the plant's thread is told.
#include "bench/link_beside.hpp"

#include <chrono>
#include <mutex>
#include <thread>

#include <gtest/gtest.h>

namespace zavrek::bench::internal {
namespace {

/// Keeps what it is given; may be slow, or take nothing.
class Pocket final : public wire::Link {
 public:
  bool send(wire::Bytes frame) noexcept override {
    if (slow) std::this_thread::sleep_for(std::chrono::milliseconds(1));
    if (full) return false;
    const std::scoped_lock lock(mutex);
    frames.emplace_back(frame.begin(), frame.end());
    by = std::this_thread::get_id();
    return true;
  }
  std::size_t receive(std::span<std::uint8_t> out) noexcept override {
    out[0] = 7;
    return 1;
  }
  bool wait(int /*timeout_ms*/) noexcept override { return true; }
  const std::string& description() const noexcept override { return description_; }

  std::atomic<bool> slow = false, full = false;
  std::mutex mutex;
  std::vector<std::vector<std::uint8_t>> frames;
  std::thread::id by;

 private:
  std::string description_ = "a pocket";
};

std::vector<std::uint8_t> frame(int number) {
  return {static_cast<std::uint8_t>(number), static_cast<std::uint8_t>(number >> 8),
          static_cast<std::uint8_t>(number >> 16)};
}

TEST(LinkBeside, SendsByItselfUntilItBegins) {
  auto pocket = std::make_unique<Pocket>();
  Pocket& kept = *pocket;
  LinkBeside link(std::move(pocket));
  EXPECT_TRUE(link.send(frame(1)));
  ASSERT_EQ(kept.frames.size(), 1U) << "at once";
  EXPECT_EQ(kept.by, std::this_thread::get_id());
  EXPECT_FALSE(link.was_beside());
  EXPECT_EQ(link.description(), "a pocket");
  wire::FrameBuffer out{};
  EXPECT_EQ(link.receive(out), 1U);
}

TEST(LinkBeside, SendsAllThatItWasGivenInOrder) {
  auto pocket = std::make_unique<Pocket>();
  Pocket& kept = *pocket;
  LinkBeside link(std::move(pocket));
  link.begin();
  constexpr int count = 20'000;
  for (int k = 0; k < count;) {
    if (link.send(frame(k)))
      ++k;
    else
      std::this_thread::yield();  // it is full
  }
  link.end();
  ASSERT_EQ(kept.frames.size(), static_cast<std::size_t>(count));
  for (int k = 0; k < count; ++k) ASSERT_EQ(kept.frames[static_cast<std::size_t>(k)], frame(k));
  EXPECT_NE(kept.by, std::this_thread::get_id());
  const Account account = link.account();
  EXPECT_EQ(account.sent, count);
  EXPECT_EQ(account.unsent, 0);
  EXPECT_EQ(account.delay.count(), count);
  EXPECT_GT(account.delay.max_ns(), 0);
  EXPECT_TRUE(link.was_beside());
  EXPECT_TRUE(link.send(frame(1))) << "by itself again";
  EXPECT_EQ(kept.by, std::this_thread::get_id());
}

TEST(LinkBeside, NeverMakesThePlantWait) {
  auto pocket = std::make_unique<Pocket>();
  Pocket& kept = *pocket;
  LinkBeside link(std::move(pocket));
  link.begin();
  kept.slow = true;
  int refused = 0;
  for (int k = 0; k < 3000; ++k) refused += link.send(frame(k)) ? 0 : 1;
  EXPECT_GT(refused, 1000) << "a full ring takes nothing, at once";
  kept.slow = false;
  kept.full = true;
  link.end();
  const Account account = link.account();
  EXPECT_EQ(account.sent + account.unsent, 3000 - refused);
  EXPECT_GT(account.unsent, 0) << "what the medium did not take is counted where it was noticed";
  EXPECT_FALSE(link.send(std::vector<std::uint8_t>(4000, 0)));
}

}  // namespace
}  // namespace zavrek::bench::internal
