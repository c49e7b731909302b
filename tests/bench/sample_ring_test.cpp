#include <thread>

#include <gtest/gtest.h>

#include "bench/sample_ring.hpp"

namespace zavrek::bench::internal {
namespace {

TEST(SampleRing, KeepsRowsInOrderAndCountsThoseWithoutRoom) {
  SampleRing ring;
  ring.size(2, 4);
  const auto put = [&](int k) {
    double* row = ring.next();
    if (!row) return;
    row[0] = k;
    row[1] = 2 * k;
    ring.commit(k);
  };
  for (int k = 0; k < 6; ++k) put(k);
  EXPECT_EQ(ring.lost(), 2);
  std::int64_t next = 0;
  ring.drain([&](std::int64_t time, std::span<const double> row) {
    EXPECT_EQ(time, next++);
    EXPECT_EQ(row[1], 2.0 * static_cast<double>(time));
  });
  EXPECT_EQ(next, 4);
}

TEST(SampleRing, HandsEveryRowOverToAnotherThread) {
  SampleRing ring;
  ring.size(1, 64);
  constexpr int rows = 200'000;
  std::jthread writer([&] {
    for (int k = 0; k < rows;) {
      if (double* row = ring.next()) {
        *row = k;
        ring.commit(k++);
      }
    }
  });
  for (std::int64_t next = 0; next < rows;) {
    ring.drain([&](std::int64_t time, std::span<const double> row) {
      ASSERT_EQ(time, next);
      ASSERT_EQ(row[0], static_cast<double>(next));
      ++next;
    });
  }
}

}  // namespace
}  // namespace zavrek::bench::internal
