// Where a condensed part falls into areas.
#include <gtest/gtest.h>

#include "emt/condensed/divided.hpp"

namespace zavrek::emt::internal {
namespace {

using Switches = std::vector<std::array<int, 2>>;

std::vector<std::set<int>> graph(int groups, const std::vector<std::pair<int, int>>& edges) {
  std::vector<std::set<int>> all(static_cast<std::size_t>(groups));
  for (const auto& [a, b] : edges) {
    all[static_cast<std::size_t>(a)].insert(b);
    all[static_cast<std::size_t>(b)].insert(a);
  }
  return all;
}

TEST(Divided, FallsApartAtTheLinkOfTwoBridges) {
  // 0 grid, 1 filter, 2 bridge's own, 3 link, 4 bridge's own, 5 filter, 6 load
  const auto chain = graph(7, {{0, 1}, {1, 2}, {2, 3}, {3, 4}, {4, 5}, {5, 6}});
  EXPECT_EQ(group_between(chain, {{2, 3}, {2, 3}, {2, 1}, {4, 3}, {4, 3}, {4, 5}}), 3);
  // All switches at one side: nothing is won.
  EXPECT_EQ(group_between(chain, {{4, 5}, {4, 5}, {4, 5}, {4, 5}, {5, 6}}), -1);
  EXPECT_EQ(group_between(chain, {}), -1);
}

TEST(Divided, StaysWholeWhereItsBridgesMeetTwice) {
  const auto ring = graph(6, {{0, 1}, {1, 2}, {2, 3}, {3, 4}, {4, 5}, {5, 0}});
  EXPECT_EQ(group_between(ring, {{0, 1}, {1, 2}, {3, 4}, {4, 5}}), -1);
}

TEST(Divided, TakesTheBusThatLeavesTheSmallestLargestArea) {
  // Three bridges at one link: each an area of its own.
  const auto star = graph(7, {{0, 1}, {1, 2}, {0, 3}, {3, 4}, {0, 5}, {5, 6}});
  EXPECT_EQ(group_between(star, {{1, 0}, {1, 0}, {3, 0}, {3, 0}, {5, 0}, {5, 0}}), 0);
  // A switch to what is known (-1) counts where its other end stands.
  EXPECT_EQ(group_between(star, {{1, -1}, {3, -1}, {5, -1}}), 0);
}

}  // namespace
}  // namespace zavrek::emt::internal
