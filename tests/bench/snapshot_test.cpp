// What others see and ask beside the thread of the plant: run under the thread sanitizer too.
#include "zavrek/bench/snapshot.hpp"

#include <gtest/gtest.h>

#include <chrono>
#include <thread>

namespace zavrek::bench {
namespace {

constexpr std::size_t size = 200;

/// All numbers of one publication are alike.
bool whole(const std::vector<double>& seen) {
  for (const double number : seen) {
    if (number != seen.front()) return false;
  }
  return true;
}

TEST(Snapshot, HasNothingBeforeThereIsAnything) {
  Snapshot snapshot(3);
  std::vector<double> seen(3);
  EXPECT_FALSE(snapshot.read(seen.data()));
  const std::vector<double> first{1, 2, 3};
  snapshot.publish(first.data());
  ASSERT_TRUE(snapshot.read(seen.data()));
  EXPECT_EQ(seen, first);
}

TEST(Snapshot, IsWholeAndNeverOlderThanTheOneBefore) {
  Snapshot snapshot(size);
  std::atomic<bool> over = false;
  std::atomic<long long> reads = 0, torn = 0, back = 0;
  const auto reader = [&] {
    std::vector<double> seen(size);
    double last = 0;
    while (!over) {
      if (!snapshot.read(seen.data())) continue;
      ++reads;
      if (!whole(seen)) ++torn;
      if (seen[0] < last) ++back;
      last = seen[0];
    }
  };
  std::thread first(reader), second(reader);
  std::vector<double> values(size);
  for (int k = 1; k <= 20'000 || reads < 100; ++k) {
    values.assign(size, k);
    snapshot.publish(values.data());
  }
  over = true;
  first.join();
  second.join();
  EXPECT_EQ(torn, 0);
  EXPECT_EQ(back, 0);
}

/// A reader that falls asleep in the middle of everything costs the writer nothing: it publishes on and on.
TEST(Snapshot, DoesNotWaitForAReaderThatSleeps) {
  Snapshot snapshot(size);
  std::vector<double> values(size, 1.0);
  snapshot.publish(values.data());
  std::atomic<bool> asleep = false, over = false;
  std::thread sleeper([&] {
    std::vector<double> seen(size);
    (void)snapshot.read(seen.data());
    asleep = true;
    while (!over) std::this_thread::sleep_for(std::chrono::milliseconds(1));
    EXPECT_TRUE(snapshot.read(seen.data()));
    EXPECT_TRUE(whole(seen));
    EXPECT_EQ(seen[0], 10'000);
  });
  while (!asleep) std::this_thread::yield();
  for (int k = 2; k <= 10'000; ++k) {
    values.assign(size, k);
    snapshot.publish(values.data());
  }
  over = true;
  sleeper.join();
}

TEST(AskQueue, HandsOverInOrderAndTellsWhatBecameOfEach) {
  AskQueue queue;
  const std::uint64_t first = queue.post({{1}, 10}), second = queue.post({{2}, 20});
  EXPECT_EQ(queue.outcome(first), AskQueue::Outcome::waiting);
  std::vector<double> seen;
  queue.serve(10, [&](const AskQueue::Asked& asked) {
    seen.push_back(asked.value);
    return asked.what.index == 1;
  });
  EXPECT_EQ(seen, (std::vector<double>{10, 20}));
  EXPECT_EQ(queue.outcome(first), AskQueue::Outcome::done);
  EXPECT_EQ(queue.outcome(second), AskQueue::Outcome::refused);
  EXPECT_EQ(queue.outcome(0), AskQueue::Outcome::refused);
  EXPECT_EQ(queue.outcome(77), AskQueue::Outcome::unknown);
}

TEST(AskQueue, RefusesWhatItHasNoRoomFor) {
  AskQueue queue;
  for (std::size_t k = 0; k < AskQueue::room; ++k) EXPECT_NE(queue.post({{k}, 0}), 0U);
  EXPECT_EQ(queue.post({{0}, 0}), 0U);
  EXPECT_EQ(queue.lost(), 1);
  int served = 0;
  queue.serve(1, [&](const AskQueue::Asked&) { return ++served > 0; });
  EXPECT_NE(queue.post({{0}, 0}), 0U) << "there is room again";
}

TEST(AskQueue, LosesNothingBetweenThreads) {
  AskQueue queue;
  constexpr int each = 5'000;
  std::atomic<int> writing = 3;
  const auto writer = [&](std::size_t who) {
    for (int k = 0; k < each;) {
      if (queue.post({{who}, static_cast<double>(k)}) != 0)
        ++k;
      else
        std::this_thread::yield();
    }
    --writing;
  };
  std::thread first(writer, 0), second(writer, 1), third(writer, 2);
  std::array<int, 3> next{};
  long long disorder = 0, total = 0;
  while (writing > 0 || total < 3 * each) {
    queue.serve(16, [&](const AskQueue::Asked& asked) {
      if (asked.value != next[asked.what.index]++) ++disorder;
      ++total;
      return true;
    });
  }
  first.join();
  second.join();
  third.join();
  EXPECT_EQ(disorder, 0) << "each writer's in its order";
  EXPECT_EQ(total, 3 * each);
}

}  // namespace
}  // namespace zavrek::bench
