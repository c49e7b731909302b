#include "zavrek/pace/crew.hpp"

#include <gtest/gtest.h>

#include <array>
#include <chrono>

namespace zavrek::pace {
namespace {

TEST(Crew, DoesEachShareOnceInEveryRun) {
  Crew crew(3);
  EXPECT_EQ(crew.cores(), 3);
  std::array<int, 7> counts{};
  const auto count = [](const void* what, int k) noexcept {
    ++(*static_cast<std::array<int, 7>* const*>(what))[0][static_cast<std::size_t>(k)];
  };
  std::array<int, 7>* at = &counts;
  for (int round = 0; round < 2000; ++round) crew.run(7, count, &at);
  for (const int n : counts) EXPECT_EQ(n, 2000);
}

TEST(Crew, WakesAfterALongPause) {
  Crew crew(2);
  int done = 0;
  int* at = &done;
  const auto second = [](const void* what, int k) noexcept {
    if (k == 1) ++**static_cast<int* const*>(what);
  };
  crew.run(2, second, &at);
  std::this_thread::sleep_for(std::chrono::milliseconds(100));
  crew.run(2, second, &at);
  EXPECT_EQ(done, 2);
}

}  // namespace
}  // namespace zavrek::pace
