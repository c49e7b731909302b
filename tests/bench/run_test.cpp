// One run: what ports see and ask, what is done when, what is kept.
#include "zavrek/bench.hpp"

#include <gtest/gtest.h>

#include <chrono>
#include <cmath>
#include <filesystem>
#include <memory>
#include <thread>

#include <fmt/format.h>
#include <unistd.h>

#include "bench/probe.hpp"
#include "bench/quay.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::test {
extern long long allocations;  // counting_allocator.cpp
}

namespace zavrek::bench {
namespace {

/// A source, a breaker, a contactor, a load.
bench::Setup berth() {
  bench::Setup setup;
  setup.network.buses = {{"quay", 11e3}, {"feed", 11e3}, {"berth", 11e3}};
  setup.network.elements = {
      network::Source{.name = "grid", .bus = "quay", .short_circuit_VA = 140e6},
      network::Breaker{.name = "Q1", .between = {"quay", "feed"}},
      network::Contactor{.name = "K1", .between = {"feed", "berth"}, .closed = true, .opening_time_s = 5e-3},
      network::Load{.name = "ferry", .bus = "berth", .active_W = 3e6, .reactive_var = 1e6}};
  setup.bench.contacts = {"remote"};
  return setup;
}

TEST(Run, HandsEachSampleOnceToEveryPort) {
  const bench::Setup setup = berth();
  for (const bool every_step : {false, true}) {  // in strides, or step by step
    bench::Run run(setup, setup.network, {.free = true});
    auto probe = std::make_unique<Probe>();
    probe->every_step = every_step;
    std::vector<double> times, values;
    ValueId voltage;
    probe->wired = [&](Exchange& exchange) { voltage = exchange.value_of("quay.va", 2); };
    probe->sampled = [&](const Exchange& exchange) {
      EXPECT_EQ(exchange.sample(), static_cast<long long>(times.size()));
      times.push_back(exchange.shown_s());
      values.push_back(exchange.value(voltage));
    };
    run.add(std::move(probe));
    run.record(0.1, 0, {"quay.va"});
    ASSERT_EQ(run.start(), "");
    (void)run.execute(0.1);
    const record::Record record = run.take_record(0);
    ASSERT_EQ(times.size(), 401U);
    for (std::size_t k = 0; k < times.size(); ++k) {
      EXPECT_DOUBLE_EQ(times[k], static_cast<double>(k) / 4000);
      EXPECT_DOUBLE_EQ(values[k], 2 * record.find_analog("quay.va")->samples[k]);
    }
  }
}

TEST(Run, KeepsOnDiskWhatItWouldKeepInMemory) {
  const bench::Setup setup = berth();
  const auto folder = std::filesystem::temp_directory_path() / fmt::format("zavrek_on_disk_{}", getpid());
  std::vector<record::Record> records;
  std::shared_ptr<record::RowFile> rows;
  for (const bool on_disk : {false, true}) {
    bench::RunOptions how{.free = true};
    if (on_disk) how.rows_in = folder;
    bench::Run run(setup, setup.network, how);
    run.record(20, 0, {"quay.va", "ferry.ia"}, {"K1"});  // more than may wait in memory
    run.schedule({{.at_s = 15.0001, .kind = Deed::Kind::open, .what = "K1"}});
    ASSERT_EQ(run.start(), "");
    (void)run.execute(20);
    ASSERT_EQ(run.failure(), "");
    records.push_back(run.take_record(0));
    rows = run.rows();
  }
  const record::Record& held = records[0];
  ASSERT_TRUE(rows);
  EXPECT_TRUE(records[1].time_s.empty());
  EXPECT_EQ(records[1].events.size(), held.events.size());
  ASSERT_GE(rows->rows(), held.time_s.size());
  std::vector<double> row(rows->width());
  for (std::size_t k = 0; k < held.time_s.size(); k += 7) {
    ASSERT_EQ(rows->read(k, row), 1U);
    for (std::size_t c = 0; c < held.analogs.size(); ++c) ASSERT_EQ(row[c], held.analogs[c].samples[k]) << k;
    for (std::size_t c = 0; c < held.binaries.size(); ++c)
      ASSERT_EQ(row[held.analogs.size() + c], held.binaries[c].samples[k]) << k;
  }
  std::filesystem::remove_all(folder);
}

TEST(Run, LetsPortsOperateContactorsAndReadWhereTheyStand) {
  const bench::Setup setup = berth();
  bench::Run run(setup, setup.network, {.free = true});
  auto probe = std::make_unique<Probe>();
  AskId contactor, remote;
  PointId position, contact;
  probe->wired = [&](Exchange& exchange) {
    contactor = exchange.ask_of("K1");
    remote = exchange.ask_of("bench.remote");
    position = exchange.point_of("K1");
    contact = exchange.point_of("bench.remote");
  };
  double opened = 0;
  bool asked = false;
  probe->taken = [&](Exchange& exchange) {
    if (exchange.on(contact) && !std::exchange(asked, true)) (void)exchange.ask(contactor, 0);
    if (!exchange.on(position) && opened == 0) opened = exchange.time_s();
  };
  run.add(std::move(probe));
  run.record(0.1, 0, {});
  run.schedule({{.at_s = 0.05, .kind = Deed::Kind::set, .what = "bench.remote", .value = 1}});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.1);
  EXPECT_NEAR(opened, 0.055, 3 * run.exchange().step_s());
  const record::Record record = run.take_record(0);
  ASSERT_EQ(record.events.size(), 2U);
  EXPECT_EQ(record.events[0].text, "bench.remote closed");
  EXPECT_DOUBLE_EQ(record.events[0].time_s, 0.05);
  EXPECT_EQ(record.events[1].text, "K1 open");
  EXPECT_EQ(record.events[1].of, "K1.closed");
  EXPECT_EQ(record.find_binary("bench.remote")->samples.front(), 0);
  EXPECT_EQ(record.find_binary("bench.remote")->samples.back(), 1);
}

TEST(Run, KeepsTheLatestOfAnOpenEndedOne) {
  const bench::Setup setup = berth();
  bench::Run run(setup, setup.network, {.free = true});
  run.record(0, 0.1, {"quay.va"});
  run.schedule({{.at_s = 0.2, .kind = Deed::Kind::open, .what = "Q1"},
                {.at_s = 0.96, .kind = Deed::Kind::close, .what = "Q1"}});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0, [&] { return run.exchange().time_s() > 1 - 1e-9; });
  const record::Record record = run.take_record(0);
  ASSERT_EQ(record.time_s.size(), 402U);
  EXPECT_NEAR(record.time_s.back(), 1, 1e-9);
  EXPECT_NEAR(record.time_s.front(), 1 - 401 / 4000.0, 1e-9);
  const record::Analog& voltage = *record.find_analog("quay.va");
  for (std::size_t k = 1; k < record.time_s.size(); ++k) {
    EXPECT_NEAR(record.time_s[k] - record.time_s[k - 1], 1 / 4000.0, 1e-12);
    EXPECT_LT(std::abs(voltage.samples[k] - voltage.samples[k - 1]), 1200) << "no seam";
  }
  const record::Binary& closed = *record.find_binary("Q1.closed");
  EXPECT_EQ(closed.samples.front(), 0);
  EXPECT_EQ(closed.samples.back(), 1);
}

/// Of one without end the latest changes are kept; of one that is kept whole, each must find room.
TEST(Run, KeepsTheLatestChangesOfAnOpenEndedOne) {
  for (const bool whole : {false, true}) {
    const bench::Setup setup = berth();
    bench::Run run(setup, setup.network, {.free = true});
    auto probe = std::make_unique<Probe>();
    std::optional<PointId> remote;
    probe->wired = [&](Exchange& exchange) { remote = exchange.point_of("bench.remote"); };
    probe->taken = [&](Exchange& exchange) { exchange.tell(*remote, !exchange.on(*remote)); };
    run.add(std::move(probe));
    const double all_s = 70'000 * run.exchange().step_s();
    run.record(whole ? all_s : 0, 0.1, {});
    ASSERT_EQ(run.start(), "");
    (void)run.execute(all_s);
    const Exchange& exchange = run.exchange();
    if (whole) {
      EXPECT_NE(run.failure().find("were not kept; something chatters"), std::string::npos) << run.failure();
      continue;
    }
    EXPECT_EQ(run.failure(), "");
    EXPECT_GE(exchange.change_count(), 70'000);
    const std::vector<Change> kept = exchange.changes();
    ASSERT_EQ(kept.size(), Exchange::most_changes);
    EXPECT_NEAR(kept.back().time_s, all_s, 2 * exchange.step_s());
    EXPECT_NEAR(kept.back().time_s - kept.front().time_s, (Exchange::most_changes - 1.0) * exchange.step_s(),
                1e-6);
  }
}

TEST(Run, EndsWhenItIsToldTo) {
  const bench::Setup setup = berth();
  std::atomic<bool> stop = true;
  bench::Run run(setup, setup.network, {.free = true, .stop = &stop});
  ASSERT_EQ(run.start(), "");
  EXPECT_LE(run.execute(0).steps, 1);
}

TEST(Run, EndsWhenItsBenchWantsItAndAStepIsTooLate) {
  bench::Setup setup = berth();
  setup.bench.ends_when_late_s = 1e-3;
  bench::Run run(setup, setup.network, {});
  auto probe = std::make_unique<Probe>();
  probe->every_step = true;
  probe->sampled = [&](const Exchange& exchange) {
    if (exchange.sample() == 40) std::this_thread::sleep_for(std::chrono::milliseconds(20));
  };
  run.add(std::move(probe));
  run.record(1, 0, {"quay.va"});
  ASSERT_EQ(run.start(), "");
  const pace::Timing timing = run.execute(1);
  EXPECT_GE(timing.gave_up_late_ns, 1'000'000);
  EXPECT_LT(run.exchange().time_s(), 0.9);
  const std::string why = run.failure();
  EXPECT_NE(why.find("late, and the bench ends it beyond 1 ms (ends_when_late)"), std::string::npos) << why;
}

TEST(Run, NamesThePortWhoseNamesAreUnknown) {
  bench::Setup setup = berth();
  setup.bench.ports.emplace_back(Message{.name = "M1", .entries = {"Q9"}});
  try {
    bench::Run run(setup, setup.network, {.free = true});
    FAIL() << "made";
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(),
                 "message.M1: no switch, output, contact or signal \"Q9\", did you mean \"Q1\"?");
  }
  EXPECT_EQ(validate(setup).size(), 1U);
}

TEST(Beside, SeesTheRunAndIsHeardByIt) {
  const bench::Setup setup = berth();
  bench::Run run(setup, setup.network, {.free = true});
  auto made = std::make_unique<Beside>("page", std::vector<std::string>{"quay.va"},
                                       std::vector<std::string>{"Q1"}, std::vector<std::string>{"Q1"});
  Beside& beside = *made;
  run.add(std::move(made));
  ASSERT_EQ(run.start(), "");
  Beside::View view;
  (void)run.execute(0.02);
  ASSERT_TRUE(beside.read(view));
  EXPECT_EQ(view.values.size(), 2U);
  EXPECT_EQ(view.values[1], 1);
  EXPECT_NEAR(view.time_s, 0.02, 1e-9);
  EXPECT_GE(view.age_s, 0);
  const std::uint64_t ticket = beside.post({0, 0});
  EXPECT_EQ(beside.outcome(ticket), AskQueue::Outcome::waiting);
  (void)run.execute(0.08);
  EXPECT_EQ(beside.outcome(ticket), AskQueue::Outcome::done);
  ASSERT_TRUE(beside.read(view));
  EXPECT_EQ(view.values[1], 0) << "Q1 is open";
  EXPECT_EQ(run.accounts().at(0).received, 1);
}

/// What is asked for an instant to come is done then; what goes little by little passes through all between,
/// and who asks anew turns it.
TEST(Beside, KeepsInstantsAndWays) {
  bench::Setup setup = berth();
  setup.bench.contacts = {"remote"};
  setup.bench.ports.emplace_back(stream_of_quay("beside" + std::to_string(getpid()), 0x5009));
  bench::Run run(setup, setup.network, {.place = "plant", .free = true});
  const std::vector<std::string> asks{"Q1", "bench.remote", "M1.delay"};
  auto made = std::make_unique<Beside>("page", std::vector<std::string>{"quay.va"},
                                       std::vector<std::string>{"Q1", "bench.remote"}, asks);
  Beside& beside = *made;
  run.add(std::move(made));
  auto probe = std::make_unique<Probe>();
  double remote_at = -1;
  probe->given = [&](Exchange& exchange) {
    if (remote_at < 0 && exchange.on(exchange.point_of("bench.remote"))) remote_at = exchange.time_s();
  };
  run.add(std::move(probe));
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.01);
  const std::uint64_t ticket = beside.post({.ask = 1, .value = 1, .at_s = 0.0423});
  (void)run.execute(0.02);
  EXPECT_EQ(beside.outcome(ticket), AskQueue::Outcome::done) << "it is noted";
  EXPECT_LT(remote_at, 0) << "and not done yet";
  (void)run.execute(0.03);
  EXPECT_NEAR(remote_at, 0.0423, 2 * run.exchange().step_s());
  // More than wait at a time are refused.
  std::uint64_t last = 0;
  for (std::size_t k = 0; k <= Beside::most_waiting; ++k) {
    last = beside.post({.ask = 1, .value = 0, .at_s = 100});
    if (k % 16 == 15) (void)run.execute(0.001);
  }
  (void)run.execute(0.001);
  EXPECT_EQ(beside.outcome(last), AskQueue::Outcome::refused);
}

/// Nothing is allocated in the whole loop of a run, whatever belongs to it.
class LoopOf : public testing::TestWithParam<const char*> {};

TEST_P(LoopOf, AllocatesNothing) {
  const trial::Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/" + GetParam());
  network::Network network = all.network;
  bench::Run run(all, network, {.place = "plant", .free = true});
  constexpr double from_s = 0.05, until_s = 0.15;
  auto probe = std::make_unique<Probe>();
  long long before = 0, after = -1;
  probe->given = [&](Exchange& exchange) {
    if (exchange.time_s() < from_s) before = zavrek::test::allocations;
    if (exchange.time_s() < until_s) after = zavrek::test::allocations;
  };
  probe->every_step = false;
  run.add(std::move(probe));
  run.record(until_s + 0.01, 0, {});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(until_s + 0.01);
  EXPECT_EQ(run.failure(), "");
  EXPECT_EQ(after - before, 0) << "allocations";
}

INSTANTIATE_TEST_SUITE_P(Demo, LoopOf,
                         testing::Values("veskar",       // relays, in strides
                                         "transformer",  // differential, saturating
                                         "crane",        // valves, a machine, control
                                         "island",       // averaged legs, control
                                         "link",         // thyristors, submodules
                                         "harbour"),     // machines, lines over frequency
                         [](const auto& demo) { return std::string(demo.param); });

}  // namespace
}  // namespace zavrek::bench
