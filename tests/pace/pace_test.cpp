#include "zavrek/pace.hpp"

#include <pthread.h>
#include <sched.h>

#include <array>

#include <gtest/gtest.h>

namespace zavrek::pace {
namespace {

/// A clock that moves only when asked to: `tick_ns` at every look, and to where it is told to sleep.
class ToldClock final : public Clock {
 public:
  std::int64_t now = 1'000'000;
  std::int64_t tick_ns = 10;
  std::int64_t oversleep_ns = 0;
  std::int64_t interrupted = 0;  // this many sleeps return at once
  std::int64_t sleeps = 0;
  ThreadUse use;

  std::int64_t now_ns() noexcept override { return now += tick_ns; }
  void sleep_until_ns(std::int64_t until_ns) noexcept override {
    ++sleeps;
    if (interrupted > 0) {
      --interrupted;
      return;
    }
    now = std::max(now, until_ns + oversleep_ns);
  }
  ThreadUse thread_use() noexcept override { return use; }
};

TEST(Causes, OfStepsThatEndLateAreTold) {
  ToldClock clock;
  const Timing timing = Executive(clock).run(Pace::wall, 50'000, 1000, [&](std::int64_t step) {
    clock.now += 10'000;
    if (step == 100) clock.now += 100'000, ++clock.use.switched_out;  // late by 60 us: one step catches up
    if (step == 200) clock.now += 41'000, clock.use.faults += 3;
    if (step == 300) clock.now += 300'000;  // by 260 us: more than twenty times the others take
    if (step == 500) clock.now += 45'000;
    return true;
  });
  const auto of = [&](Cause cause) { return timing.causes[static_cast<std::size_t>(cause)]; };
  EXPECT_EQ(of(Cause::another_thread), 1);
  EXPECT_EQ(of(Cause::memory), 1);
  EXPECT_EQ(of(Cause::machine), 1);
  EXPECT_EQ(of(Cause::own_work), 1);
  EXPECT_EQ(of(Cause::catching_up), timing.overruns - 4);
  EXPECT_GE(of(Cause::catching_up), 7);
  const std::string text = to_string(timing);
  EXPECT_NE(
      text.find("1 another thread ran, 1 memory was fetched, 1 the machine was away, 1 the step's own work"),
      std::string::npos)
      << text;
}

TEST(LateSteps, AreCaughtUpAtARate) {
  // 1 ms is lost in step 100; at 1.25 times real time it is made up in 5 ms: 100 steps of 50 us, 125 steps.
  for (const double rate : {0.0, 1.25}) {
    ToldClock clock;
    Executive executive(clock, Waiting::spins);
    executive.treat_late_steps({rate, 0});
    std::vector<std::int64_t> begun;
    const Timing timing = executive.run(Pace::wall, 50'000, 1000, [&](std::int64_t step) {
      begun.push_back(clock.now);
      if (step == 100) clock.now += 1'000'000;
      return true;
    });
    ASSERT_EQ(timing.steps, 1000);
    if (rate == 0) {
      EXPECT_LT(begun[120] - begun[101], 1'000) << "as fast as it goes";
    } else {
      EXPECT_NEAR(static_cast<double>(begun[150] - begun[110]), 40 * 40'000, 1'000);
      EXPECT_NEAR(static_cast<double>(timing.overruns), 94, 4);
    }
    EXPECT_NEAR(static_cast<double>(begun[999] - begun[0]), 999 * 50'000, 1'000)
        << "it kept to its ticks again";
  }
}

TEST(LateSteps, EndARunThatIsTooLate) {
  ToldClock clock;
  Executive executive(clock, Waiting::spins);
  executive.treat_late_steps({0, 400'000});
  const Timing timing = executive.run(Pace::wall, 50'000, 1000, [&](std::int64_t step) {
    if (step == 100) clock.now += 300'000;
    if (step == 200) clock.now += 600'000;
    return true;
  });
  EXPECT_EQ(timing.steps, 201);
  EXPECT_EQ(timing.gave_up_step, 201);
  EXPECT_NEAR(static_cast<double>(timing.gave_up_late_ns), 550'000, 1'000);
}

TEST(Causes, TheLongestByItsOwnWorkIsNamedWithWhatWasDoneInIt) {
  ToldClock clock;
  Timing timing = Executive(clock).run(Pace::wall, 50'000, 1000, [&](std::int64_t step) {
    clock.now += 10'000;
    if (step == 300) clock.now += 45'000;
    if (step == 500) clock.now += 47'000;
    return true;
  });
  EXPECT_EQ(timing.longest_own.step, 500);
  EXPECT_NEAR(static_cast<double>(timing.longest_own.took_ns), 57'000, 100);
  timing.longest_own.discontinuities = 3;
  timing.longest_own.controlled = true;
  timing.stolen_ns = 20'000'000;
  const std::string text = to_string(timing);
  EXPECT_NE(text.find("step 500, 57 us, with 3 discontinuities and the control's turn"), std::string::npos)
      << text;
  EXPECT_NE(text.find("took 20 ms of the processor"), std::string::npos) << text;
}

TEST(Pace, IsTurnedByPartsOfANanosecond) {
  ToldClock clock;
  Executive executive(clock);
  std::int64_t last = 0, first = 0;
  (void)executive.run(Pace::wall, 50'000, 10'001, [&](std::int64_t step) {
    if (step == 0) {
      first = clock.now;
      executive.turn(-500);
    }
    last = clock.now;
    return true;
  });
  EXPECT_NEAR(static_cast<double>(last - first), 50'000.0 * 10'000 - 5'000, 20);
  EXPECT_EQ(executive.shift_ns(), -5'000);
}

TEST(Punctuality, TellsHowManyStepsWereLateAndForHowLong) {
  ToldClock clock;
  // Steps of 1 ms: 10 to 12 take 1.5 ms each, so that 10 to 16 end late; 40 takes 3 ms.
  const Timing timing = Executive(clock).run(Pace::wall, 1'000'000, 100, [&](std::int64_t step) {
    clock.now += step >= 10 && step <= 12 ? 1'500'000 : step == 40 ? 3'000'000 : 690'000;
    return true;
  });
  const Punctuality kept = punctuality(timing);
  EXPECT_TRUE(kept.paced);
  EXPECT_EQ(kept.steps, 100);
  // Behind by 0.5, 1, 1.5 ms, then less by 0.31 ms a step; behind by 2 ms, and less again.
  EXPECT_EQ(kept.late_steps, 7 + 7);
  EXPECT_EQ(kept.longest_late_steps, 7);
  EXPECT_NEAR(kept.longest_late_s, 7e-3, 1e-12);
  EXPECT_NEAR(kept.worst_late_s, 2e-3, 1e-6);
  EXPECT_NEAR(kept.worst_at_s, 40e-3, 1e-9);
  EXPECT_NEAR(kept.late_share(), 0.14, 1e-9);
  EXPECT_EQ(to_string(kept), "14 of 100 steps ended late (14 %), 7 in a row, the worst by 2 ms at 40 ms");
  Punctuality both = kept;
  both.add(kept);
  EXPECT_EQ(both.late_steps, 28);
  EXPECT_EQ(both.longest_late_steps, 7);
  EXPECT_FALSE(
      punctuality(Executive(clock).run(Pace::free, 1'000'000, 3, [](std::int64_t) { return true; })).paced);
}

TEST(Executive, StartsEachStepOnItsTick) {
  ToldClock clock;
  std::vector<std::int64_t> begun;
  const Timing timing = Executive(clock).run(Pace::wall, 50'000, 100, [&](std::int64_t) {
    begun.push_back(clock.now);
    return true;
  });
  EXPECT_EQ(timing.steps, 100);
  EXPECT_EQ(timing.overruns, 0);
  for (std::size_t k = 1; k < begun.size(); ++k)
    EXPECT_NEAR(static_cast<double>(begun[k] - begun[0]), 50'000.0 * static_cast<double>(k), 20);
  EXPECT_LE(timing.lateness.max_ns(), 10);
}

TEST(Executive, CatchesUpAfterAnOverrunAndNamesTheWorst) {
  ToldClock clock;
  std::int64_t last = 0;
  const Timing timing = Executive(clock).run(Pace::wall, 50'000, 100, [&](std::int64_t step) {
    if (step == 40) clock.now += 175'000;  // three and a half steps
    last = clock.now;
    return true;
  });
  EXPECT_EQ(timing.overruns, 3);
  EXPECT_EQ(timing.worst_overrun_step, 40);
  EXPECT_NEAR(static_cast<double>(timing.worst_overrun_ns), 125'000, 100);
  EXPECT_NEAR(static_cast<double>(last), 1'000'000 + 50'000 * 100, 200);  // no drift at the end
}

TEST(Executive, BearsInterruptedAndLateSleeps) {
  ToldClock clock;
  clock.interrupted = 25;
  clock.oversleep_ns = 30'000;
  const Timing timing = Executive(clock).run(Pace::wall, 50'000, 50, [](std::int64_t) { return true; });
  EXPECT_EQ(timing.steps, 50);
  EXPECT_NEAR(static_cast<double>(timing.lateness.max_ns()), 5'000,
              100);  // woken 25 us early plus 30 us late
}

TEST(Executive, NeverSleepsWhenItMaySpin) {
  ToldClock clock;
  clock.tick_ns = 100;
  const Timing timing =
      Executive(clock, Waiting::spins).run(Pace::wall, 50'000, 20, [](std::int64_t) { return true; });
  EXPECT_EQ(clock.sleeps, 0);
  EXPECT_LE(timing.lateness.max_ns(), 100);
  EXPECT_EQ(timing.overruns, 0);
}

TEST(Executive, RestsWhereTheKernelWouldStopItAndMakesUpForIt) {
  for (const std::int64_t step_ns : {5'000, 20'000, 100'000}) {
    ToldClock clock;
    clock.tick_ns = 100;
    std::int64_t last = 0;
    const std::int64_t steps = 100'000'000 / step_ns;
    const Timing timing = Executive(clock, Waiting::rests).run(Pace::wall, step_ns, steps, [&](std::int64_t) {
      last = clock.now;
      clock.now += step_ns / 10;
      return true;
    });
    SCOPED_TRACE(step_ns);
    const std::int64_t rested = timing.causes[static_cast<std::size_t>(Cause::resting)];
    if (step_ns < 50'000) {
      EXPECT_NEAR(static_cast<double>(clock.sleeps), 100, 7) << "60 us in each millisecond";
      EXPECT_LT(timing.lateness.max_ns(), 70'000);
      EXPECT_NEAR(static_cast<double>(rested), static_cast<double>(clock.sleeps), 1);
    } else {
      EXPECT_EQ(timing.overruns, 0) << "it sleeps in each step anyhow";
    }
    EXPECT_LT(last, 1'000'000 + 100'000'000 + step_ns);
  }
}

TEST(Executive, StopsWhenTheWorkSaysSo) {
  ToldClock clock;
  const Timing timing =
      Executive(clock).run(Pace::free, 50'000, 100, [](std::int64_t step) { return step < 9; });
  EXPECT_EQ(timing.steps, 10);
  EXPECT_EQ(clock.sleeps, 0);
}

TEST(Histogram, GivesQuantilesWithinOneAndAHalfPercent) {
  Histogram h;
  for (std::int64_t k = 1; k <= 100'000; ++k) h.add(k);
  EXPECT_NEAR(static_cast<double>(h.quantile_ns(0.5)), 50'000, 800);
  EXPECT_NEAR(static_cast<double>(h.quantile_ns(0.999)), 99'900, 1'600);
  EXPECT_EQ(h.quantile_ns(1), 100'000);
  EXPECT_EQ(h.max_ns(), 100'000);
  EXPECT_EQ(Histogram().quantile_ns(0.5), 0);
}

TEST(Histogram, TakesAnyDuration) {
  Histogram h;
  for (const std::int64_t ns : {-5L, 0L, 63L, 64L, 1L << 40, 1L << 62}) h.add(ns);
  EXPECT_EQ(h.count(), 6);
  EXPECT_EQ(h.max_ns(), 1L << 62);
}

/// Of this thread: policy and priority, and on how many processors it may run.
std::array<int, 3> scheduling() {
  int policy = 0;
  sched_param parameter{};
  pthread_getschedparam(pthread_self(), &policy, &parameter);
  cpu_set_t processors;
  CPU_ZERO(&processors);
  pthread_getaffinity_np(pthread_self(), sizeof processors, &processors);
  return {policy, parameter.sched_priority, CPU_COUNT(&processors)};
}

TEST(RealtimeGrants, SaysInWordsWhatItDidNotGetAndGoesBack) {
  const std::array<int, 3> before = scheduling();
  const RealtimeGrants grants = acquire_realtime();
  const int missing = !grants.pinned + !grants.realtime_priority + !grants.memory_locked +
                      (grants.realtime_priority && !grants.may_spin);
  EXPECT_EQ(static_cast<int>(grants.shortcomings.size()), missing);
  const std::array<int, 3> within = scheduling();
  EXPECT_EQ(within[0] == SCHED_FIFO && within[1] > 0, grants.realtime_priority);
  if (grants.pinned) {
    EXPECT_EQ(within[2], 1);
  }
  leave_realtime();
  EXPECT_EQ(scheduling(), before);
}

TEST(RealtimeGrants, LeaveTheRunItsProcessorAndAnswerAtOnceBesideIt) {
  const auto may_use = [] {
    cpu_set_t processors;
    CPU_ZERO(&processors);
    pthread_getaffinity_np(pthread_self(), sizeof processors, &processors);
    return processors;
  };
  const std::array<int, 3> before = scheduling();
  const RealtimeGrants run = acquire_realtime();
  const std::array<int, 3> of_run = scheduling();
  const cpu_set_t runs_on = may_use();
  leave_realtime();
  const RealtimeGrants beside = acquire_realtime_beside();
  if (beside.realtime_priority) {
    EXPECT_GT(scheduling()[1], of_run[1]);
  }
  if (run.pinned && before[2] > 1) {
    const cpu_set_t is_on = may_use();
    cpu_set_t both;
    CPU_AND(&both, &runs_on, &is_on);
    EXPECT_EQ(CPU_COUNT(&both), 0);
  }
  leave_realtime();
  EXPECT_EQ(scheduling(), before);
}

}  // namespace
}  // namespace zavrek::pace
