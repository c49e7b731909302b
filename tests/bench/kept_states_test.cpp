// What is kept of a long run: the first, the latest, and ever sparser before it.
#include <gtest/gtest.h>

#include "zavrek/bench/kept_states.hpp"

namespace zavrek::bench {
namespace {

RunState state_at(double time_s) {
  RunState state;
  state.time_s = time_s;
  state.rest.resize(1000);
  return state;
}

/// One a second up to `until_s`, as a run keeps them.
void keep(KeptStates& kept, double from_s, double until_s) {
  kept.begin(state_at(from_s));
  for (double now_s = kept.next_s(); now_s <= until_s; now_s = kept.next_s()) {
    RunState& into = kept.room_for_next();
    into.time_s = now_s;
    kept.commit();
  }
}

TEST(KeptStates, AreDenseNearThePresentAndSparseBefore) {
  KeptStates kept(60'000, 1);  // room for 47
  keep(kept, 0, 5000);
  const std::vector<double> at = kept.instants_s();
  ASSERT_GT(at.size(), 40U);
  ASSERT_LE(at.size(), 48U);
  EXPECT_EQ(at.front(), 0);
  EXPECT_EQ(at.back(), 5000);
  EXPECT_EQ(at[at.size() - 2], 4999);
  EXPECT_EQ(at[at.size() - 3], 4998);
  for (std::size_t k = 1; k + 1 < at.size(); ++k) {
    ASSERT_GT(at[k + 1], at[k]);
    // No gap is longer than about a third of how long ago it is.
    EXPECT_LE(at[k + 1] - at[k], std::max(1.0, 0.45 * (5000 - at[k]))) << at[k];
  }
}

TEST(KeptStates, AreAllThereWhereTheyFindRoom) {
  KeptStates kept(1'000'000, 0.5);
  keep(kept, 0, 20);
  const std::vector<double> at = kept.instants_s();
  ASSERT_EQ(at.size(), 41U);
  for (std::size_t k = 0; k < at.size(); ++k) EXPECT_DOUBLE_EQ(at[k], 0.5 * static_cast<double>(k));
}

TEST(KeptStates, GoBackAndOnAnotherWay) {
  KeptStates kept(1'000'000, 1);
  EXPECT_EQ(kept.latest_at(3), nullptr);
  EXPECT_TRUE(kept.instants_s().empty());
  keep(kept, 0, 9);
  ASSERT_NE(kept.latest_at(4.7), nullptr);
  EXPECT_EQ(kept.latest_at(4.7)->time_s, 4);
  EXPECT_EQ(kept.latest_at(4)->time_s, 4) << "its own instant counts";
  EXPECT_EQ(kept.latest_at(100)->time_s, 9);
  kept.forget_behind(4);
  EXPECT_EQ(kept.instants_s().back(), 4);
  kept.go_on_from(4);
  EXPECT_EQ(kept.next_s(), 5);
  RunState& into = kept.room_for_next();
  into.time_s = 5;
  kept.commit();
  EXPECT_EQ(kept.instants_s(), (std::vector<double>{0, 1, 2, 3, 4, 5}));
}

}  // namespace
}  // namespace zavrek::bench
