// The computer as the system describes it, from files of a made-up one, and what is advised for it.
#include "zavrek/pace/machine.hpp"

#include <filesystem>
#include <fstream>

#include <gtest/gtest.h>

#include "zavrek/pace.hpp"

namespace zavrek::pace {
namespace {

namespace fs = std::filesystem;

/// Four threads on two cores, the last isolated, in a folder of its own.
class MadeUpMachine : public testing::Test {
 protected:
  void SetUp() override {
    root_ = fs::temp_directory_path() / ("machine." + std::to_string(::getpid()));
    write("proc/version", "Linux version 6.1.0 (made up) #1 SMP PREEMPT_DYNAMIC");
    write("proc/cpuinfo", "processor\t: 0\nflags\t\t: fpu sse2 hypervisor avx2\n");
    write("proc/sys/kernel/sched_rt_runtime_us", "950000\n");
    write("proc/stat",
          "cpu  400 0 0 400 0 0 0 8 0 0\ncpu0 100 0 0 100 0 0 0 0 0 0\ncpu1 100 0 0 98 0 0 0 2 0 0\n"
          "cpu2 100 0 0 100 0 0 0 0 0 0\ncpu3 90 0 0 100 0 0 0 10 0 0\nintr 5\n");
    write("sys/devices/system/cpu/online", "0-3\n");
    write("sys/devices/system/cpu/isolated", "3\n");
    write("sys/devices/system/cpu/nohz_full", "2-3\n");
    for (int k = 0; k < 4; ++k) {
      const std::string folder = "sys/devices/system/cpu/cpu" + std::to_string(k);
      write(folder + "/topology/thread_siblings_list", k % 2 == 0 ? "0,2\n" : "1,3\n");
      write(folder + "/cpufreq/scaling_governor", k == 3 ? "performance\n" : "powersave\n");
      write(folder + "/thermal_throttle/core_throttle_count", k == 2 ? "7\n" : "0\n");
    }
  }
  void TearDown() override { fs::remove_all(root_); }
  void write(const std::string& file, const std::string& text) const {
    fs::create_directories((root_ / file).parent_path());
    std::ofstream(root_ / file) << text;
  }
  fs::path root_;
};

HeldUp held(int processor, std::vector<std::int64_t> ns) {
  HeldUp one;
  one.processor = processor;
  one.seconds = 1;
  one.ns = std::move(ns);
  return one;
}

TEST_F(MadeUpMachine, IsReadFromItsFiles) {
  const Machine machine = read_machine(root_);
  EXPECT_TRUE(machine.is_virtual);
  EXPECT_FALSE(machine.preempts_throughout);
  EXPECT_EQ(machine.realtime_runtime_us, 950000);
  ASSERT_EQ(machine.processors.size(), 4U);
  EXPECT_EQ(machine.processors[1].siblings, std::vector<int>{3});
  EXPECT_EQ(machine.processors[0].governor, "powersave");
  EXPECT_TRUE(machine.processors[3].isolated);
  EXPECT_FALSE(machine.processors[2].isolated);
  EXPECT_TRUE(machine.processors[2].tickless);
  EXPECT_EQ(machine.processors[2].throttled, 7);
  EXPECT_DOUBLE_EQ(machine.processors[3].stolen_share, 0.05);
  write("sys/kernel/realtime", "1\n");
  EXPECT_TRUE(read_machine(root_).preempts_throughout);
}

TEST_F(MadeUpMachine, IsAdvisedForTheProcessorThatIsHeldUpLeast) {
  const Machine machine = read_machine(root_);
  const std::vector<HeldUp> all{held(0, {}), held(1, {400'000}), held(2, {2'000}), held(3, {900'000})};
  EXPECT_EQ(quietest(all).processor, 2) << "the first one keeps the system's timers";
  const std::vector<Advice> advice = advise(machine, all);
  const std::string script = script_of(advice);
  for (const char* line : {"sysctl -w kernel.sched_rt_runtime_us=-1", "do echo 1,3 > $irq",
                           "isolcpus=managed_irq,domain,2", "echo 0 > /sys/devices/system/cpu/cpu0/online",
                           "echo performance > /sys/devices/system/cpu/cpu2/cpufreq/scaling_governor",
                           "for heat 7 times", "virtual machine", "PREEMPT_RT"})
    EXPECT_NE(script.find(line), std::string::npos) << line << "\n" << script;
  EXPECT_TRUE(script.starts_with("#!/bin/sh\n"));
  // All that is not a comment sets something.
  const std::vector<Advice> of_last = advise(machine, {held(3, {})});
  for (const Advice& one : of_last) EXPECT_EQ(one.command_line, "") << "it is isolated already";
  EXPECT_TRUE(advise(machine, {}).empty());
}

TEST(HeldUpProcessor, TellsTheStepsThatItWouldMiss) {
  // A hold-up of 30 us a thousand times a second: a step of 20 us finds itself 10 us late or less, for its
  // ticks in the first 10 us; with work of 10 us for those in the first 20.
  const HeldUp one = held(0, std::vector<std::int64_t>(1000, 30'000));
  EXPECT_DOUBLE_EQ(one.share(), 0.03);
  EXPECT_DOUBLE_EQ(one.late_share(20'000, 0), 0.01);
  EXPECT_DOUBLE_EQ(one.late_share(20'000, 10'000), 0.02);
  EXPECT_DOUBLE_EQ(one.late_share(40'000, 0), 0);
  EXPECT_EQ(one.longest_ns(), 30'000);
  EXPECT_EQ(least_step_held_ns(one), 100'000) << "50 us with 25 of work are late by 5 us: 0.5 %";
  EXPECT_EQ(least_step_held_ns(held(0, {})), 1000);
  EXPECT_EQ(least_step_held_ns(held(0, std::vector<std::int64_t>(50, 15'000'000))), 0) << "75 % of the time";
}

TEST(HeldUpProcessor, IsMeasured) {
  const std::vector<int> allowed = processors_allowed();
  ASSERT_FALSE(allowed.empty());
  const HeldUp one = measure_processor(allowed.back(), 0.05);
  EXPECT_GE(one.seconds, 0.05);
  EXPECT_LT(one.share(), 1.0);
  for (const std::int64_t ns : one.ns) EXPECT_GT(ns, HeldUp::least_ns);
  EXPECT_EQ(processors_allowed(), allowed) << "it goes back to where it may run";
}

}  // namespace
}  // namespace zavrek::pace
