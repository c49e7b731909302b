#include "engine/ring.hpp"

#include <atomic>
#include <chrono>
#include <cmath>
#include <thread>

#include <gtest/gtest.h>

namespace zavrek::engine {
namespace {

using internal::RowRing;

TEST(RowRing, GivesWhatIsLeftOfWhatIsAskedFor) {
  RowRing ring(8, 2);
  std::vector<double> rows;
  EXPECT_EQ(ring.read(0, 100, {0, 1}, rows), 0);
  EXPECT_TRUE(rows.empty());
  for (int k = 0; k < 20; ++k) {
    ring.put(0, k);
    ring.put(1, -k);
    ring.commit();
  }
  EXPECT_EQ(ring.read(0, 100, {1}, rows), 13) << "one of eight may be written just now";
  EXPECT_EQ(rows, (std::vector<double>{-13, -14, -15, -16, -17, -18, -19}));
  EXPECT_EQ(ring.read(15, 17, {0, 1}, rows), 15);
  EXPECT_EQ(rows, (std::vector<double>{15, -15, 16, -16}));
}

/// A reader beside a writer that never waits sees whole rows in order, and knows from where on.
TEST(RowRing, NeverMixesRowsOfAWriterThatGoesOn) {
  RowRing ring(64, 3);
  std::atomic<bool> stop = false;
  std::thread writer([&] {
    for (double k = 0; !stop; ++k) {
      for (std::size_t c = 0; c < 3; ++c) ring.put(c, k);
      ring.commit();
    }
  });
  std::vector<double> rows;
  long long seen = 0;
  // A busy computer may keep the writer from its work for a while.
  const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(20);
  for (int look = 0; look < 20'000 || (seen <= 1000 && std::chrono::steady_clock::now() < until); ++look) {
    const std::int64_t first = ring.read(ring.written() - 40, ring.written(), {0, 1, 2}, rows);
    for (std::size_t k = 0; k + 2 < rows.size(); k += 3, ++seen) {
      const double wanted = static_cast<double>(first) + static_cast<double>(k / 3);
      if (rows[k] != wanted || rows[k + 1] != wanted || rows[k + 2] != wanted) {
        ADD_FAILURE() << rows[k] << " " << rows[k + 1] << " " << rows[k + 2] << " at " << wanted;
        seen = look = 1'000'000;
        break;
      }
    }
  }
  stop = true;
  writer.join();
  EXPECT_GT(seen, 1000);
}

TEST(Pixels, HoldLeastAndGreatest) {
  std::vector<double> rows;
  for (int k = 0; k < 1000; ++k) {
    rows.push_back(std::sin(0.5 * k));
    rows.push_back(k == 417 ? 9 : 0);
  }
  const internal::Pixels pixels = internal::pixels_of(rows, 2, 4000, 1000, 100);
  ASSERT_EQ(pixels.time_s.size(), 100U);
  EXPECT_NEAR(pixels.time_s[0], 4.0045, 1e-12);
  for (std::size_t k = 0; k < 100; ++k) {
    EXPECT_EQ(pixels.greatest[1][k], k == 41 ? 9 : 0);
    for (std::size_t row = 10 * k; row < 10 * k + 10; ++row) {
      EXPECT_LE(pixels.least[0][k], rows[2 * row]);
      EXPECT_GE(pixels.greatest[0][k], rows[2 * row]);
    }
  }
  EXPECT_EQ(internal::pixels_of(rows, 2, 0, 1000, 5000).time_s.size(), 1000U) << "never more than rows";
  EXPECT_TRUE(internal::pixels_of({}, 2, 0, 1000, 10).time_s.empty());
}

}  // namespace
}  // namespace zavrek::engine
