#include <gtest/gtest.h>

#include <map>

#include <fmt/format.h>
#include <unistd.h>

#include "bench/probe.hpp"
#include "bench/quay.hpp"
#include "wire/memory_link.hpp"
#include "zavrek/bench.hpp"
#include "zavrek/bench/stand_ins.hpp"

namespace zavrek::bench {
namespace {

/// A breaker with its drive, whose coils hang on contacts.
struct Drive : testing::Test {
  bench::Setup setup = quay();
  std::map<std::string, std::vector<double>> rose, fell;
  std::vector<Account> accounts;

  Drive() {
    setup.bench.contacts = {"trip", "close", "locked"};
    BreakerDrive drive;
    drive.name = "D1";
    drive.breaker = "Q1";
    drive.opens = {"bench.trip"};
    drive.closes = {"bench.close"};
    drive.interlocks = {"not bench.locked"};
    drive.opening_time_s = 30e-3;
    drive.closing_time_s = 50e-3;
    drive.coil_time_s = 5e-3;
    drive.a_lag_s = 2e-3;
    drive.b_lag_s = 4e-3;
    drive.charging_time_s = 0.3;
    setup.bench.ports.emplace_back(drive);
  }
  void play(double duration_s, std::vector<Deed> deeds) {
    ASSERT_TRUE(validate(setup).empty());
    bench::Run run(setup, setup.network, {.free = true});
    run.schedule(std::move(deeds));
    ASSERT_EQ(run.start(), "");
    run.execute(duration_s);
    run.end();
    for (const Change& change : run.exchange().changes())
      (change.on ? rose : fell)[run.exchange().name_of(change.point)].push_back(change.time_s);
    accounts = run.accounts();
  }
  static Deed set(double at_s, const std::string& what, double value) {
    return {.at_s = at_s, .kind = Deed::Kind::set, .what = what, .value = value};
  }
  static std::vector<Deed> pulse(const std::string& contact, double from_s, double until_s) {
    return {{.at_s = from_s, .kind = Deed::Kind::close, .what = "bench." + contact},
            {.at_s = until_s, .kind = Deed::Kind::open, .what = "bench." + contact}};
  }
  static std::vector<Deed> all(std::initializer_list<std::vector<Deed>> lists) {
    std::vector<Deed> deeds;
    for (const auto& list : lists) deeds.insert(deeds.end(), list.begin(), list.end());
    return deeds;
  }
};

TEST_F(Drive, TakesItsTimesAndItsAuxiliaryContactsFollow) {
  play(0.5, all({pulse("trip", 0.1, 0.15), pulse("close", 0.3, 0.36)}));
  ASSERT_EQ(fell["D1.a"].size(), 1U);
  EXPECT_NEAR(fell["D1.a"][0], 0.132, 0.2e-3);
  EXPECT_NEAR(rose["D1.b"][0], 0.134, 0.2e-3);
  ASSERT_EQ(fell["Q1"].size(), 1U);
  EXPECT_GT(fell["Q1"][0], 0.13) << "the poles wait for zeros of their currents";
  EXPECT_LT(fell["Q1"][0], 0.1405);
  ASSERT_EQ(rose["Q1"].size(), 1U);
  EXPECT_NEAR(rose["Q1"][0], 0.35, 0.2e-3);
  EXPECT_NEAR(rose["D1.a"][0], 0.352, 0.2e-3);
  EXPECT_NEAR(fell["D1.b"][0], 0.354, 0.2e-3);
}

TEST_F(Drive, IsNotMovedByAPulseThatIsTooShort) {
  play(0.3, pulse("trip", 0.1, 0.104));
  EXPECT_TRUE(fell["Q1"].empty());
}

TEST_F(Drive, OpensThoughItsOrderIsOverByThen) {
  play(0.3, pulse("trip", 0.1, 0.112));
  ASSERT_EQ(fell["D1.a"].size(), 1U) << "the coil was energised for longer than it needs";
  EXPECT_NEAR(fell["D1.a"][0], 0.132, 0.2e-3);
}

TEST_F(Drive, OpensBehindAClosingAndDoesNotPump) {
  // Closed onto a trip that stays, with an order that stays too.
  play(0.9, all({pulse("trip", 0.1, 0.15), pulse("close", 0.3, 0.85), pulse("trip", 0.32, 0.5)}));
  ASSERT_EQ(rose["Q1"].size(), 1U) << "one closing, though the order stays and the spring is charged again";
  EXPECT_NEAR(rose["Q1"][0], 0.35, 0.2e-3);
  ASSERT_EQ(fell["Q1"].size(), 2U);
  EXPECT_GT(fell["Q1"][1], 0.374);
  EXPECT_LT(fell["Q1"][1], 0.39) << "from the closing, not from the trip";
}

TEST_F(Drive, ClosesNeitherLockedNorWithoutItsSpring) {
  play(1.2, all({pulse("trip", 0.1, 0.15), pulse("locked", 0.2, 0.35), pulse("close", 0.25, 0.3),
                 pulse("close", 0.4, 0.45), pulse("trip", 0.5, 0.55), pulse("close", 0.6, 0.65),
                 pulse("close", 0.8, 0.85)}));
  ASSERT_EQ(rose["Q1"].size(), 2U);
  EXPECT_NEAR(rose["Q1"][0], 0.45, 0.2e-3) << "not while locked";
  EXPECT_NEAR(rose["Q1"][1], 0.85, 0.2e-3) << "the spring is charged 0.3 s behind the closing at 0.45";
  ASSERT_EQ(rose["D1.charged"].size(), 2U);
  EXPECT_NEAR(rose["D1.charged"][0], 0.75, 1e-3);
  EXPECT_NEAR(rose["D1.charged"][1], 1.15, 1e-3);
  const auto drive = std::find_if(accounts.begin(), accounts.end(),
                                  [](const Account& one) { return one.port == "breaker_drive.D1"; });
  ASSERT_NE(drive, accounts.end());
  EXPECT_EQ(drive->refused, 2);
  EXPECT_EQ(drive->carries, "Q1: opened 2, closed 2 times");
}

TEST_F(Drive, IsBrokenOnPurpose) {
  play(0.4, all({{set(0.05, "D1.stuck", 1)}, pulse("trip", 0.1, 0.2)}));
  EXPECT_TRUE(fell["Q1"].empty());
  EXPECT_TRUE(fell["D1.a"].empty());
  rose.clear(), fell.clear();
  play(0.4, all({{set(0.05, "D1.late", 0.04)}, pulse("trip", 0.1, 0.25)}));
  ASSERT_EQ(fell["D1.a"].size(), 1U);
  EXPECT_NEAR(fell["D1.a"][0], 0.172, 0.2e-3);
  rose.clear(), fell.clear();
  play(1.5, all({{set(0.05, "D1.empty", 1)},
                 pulse("trip", 0.1, 0.15),
                 pulse("close", 0.3, 0.4),
                 {set(1.0, "D1.empty", 0)}}));
  ASSERT_EQ(rose["D1.charged"].size(), 1U);
  EXPECT_NEAR(rose["D1.charged"][0], 1.3, 2e-3);
}

TEST_F(Drive, FollowsABreakerThatSomebodyElseMoves) {
  play(0.3, {{.at_s = 0.1, .kind = Deed::Kind::open, .what = "Q1"}});
  ASSERT_EQ(fell["D1.a"].size(), 1U);
  EXPECT_GT(fell["D1.a"][0], 0.1);
  EXPECT_LT(fell["D1.a"][0], 0.115);
}

// --- inputs that are on while something is off ----------------------------------------------------

TEST(Inputs, MayBeOnWhileAPointIsOff) {
  bench::Setup setup = quay();
  Stream stream = stream_of_quay("inputs", 0x5031);
  stream.published = "when read";
  Device relay;
  relay.name = "R1";
  relay.place = "plant";
  relay.settings = "R1.toml";
  relay.reads = {"M1"};
  relay.inputs = {"open: not Q1", "closed: Q1"};
  protection::Output output;
  output.name = "is_open";
  output.when = "input.open and not input.closed";
  relay.relay.functions = {output};
  relay.approved_relay = relay.relay;
  setup.bench.ports = {stream};
  setup.bench.devices = {relay};
  for (const Flaw& flaw : validate(setup))
    ADD_FAILURE() << flaw.place << " " << flaw.field << " " << flaw.text;
  bench::Run run(setup, setup.network, {.free = true});
  run.schedule({{.at_s = 0.1, .kind = Deed::Kind::open, .what = "Q1"},
                {.at_s = 0.3, .kind = Deed::Kind::close, .what = "Q1"}});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.5);
  std::vector<std::pair<double, bool>> seen;
  for (const Change& change : run.exchange().changes()) {
    if (run.exchange().name_of(change.point) == "R1.is_open") seen.emplace_back(change.time_s, change.on);
  }
  ASSERT_EQ(seen.size(), 2U);
  EXPECT_TRUE(seen[0].second);
  EXPECT_NEAR(seen[0].first, 0.105, 0.01);
  EXPECT_FALSE(seen[1].second);
  EXPECT_NEAR(seen[1].first, 0.3, 0.005);
}

/// The bench has contacts and, to devices elsewhere, a message with settings: both are called "bench.NAME".
TEST(Inputs, OfContactsHideSettingsOfTheBenchsMessage) {
  bench::Setup setup = quay();
  setup.bench.contacts = {"test"};
  Device relay;
  relay.name = "R1";
  relay.settings = "R1.toml";
  relay.reads = {"M1"};
  relay.inputs = {"blocked: bench.test"};
  protection::Output output;
  output.name = "seen";
  output.when = "input.blocked";
  relay.relay.functions = {output};
  setup.bench.ports = {stream_of_quay("hide", 0x5032)};
  for (const char* place : {"process", "plant"}) {
    relay.place = place;
    setup.bench.devices = {relay};
    bench::Run run(setup, setup.network, {.free = true});
    Exchange& exchange = run.exchange();
    EXPECT_TRUE(exchange.is_contact(exchange.ask_of("bench.test")));
    EXPECT_TRUE(exchange.is_of_port(exchange.ask_of("bench.restart")));
    EXPECT_EQ(exchange.is_idle(exchange.ask_of("bench.restart")), relay.place == "plant");
    EXPECT_THROW((void)exchange.ask_of("bench.rest"), Error);
  }
}

// --- merging unit and panel -----------------------------------------------------------------------

TEST(MergingUnit, NumbersItsSamplesFromTheFullSecond) {
  StandInTerminals terminals;
  terminals.samples_id = "MU1";
  terminals.samples_appid = 0x4123;
  SamplesOut out(terminals, 4000);
  const std::int64_t second = 1'790'000'000'000'000'000;
  out.begin(second + 999'600'000);  // sample 3998.4
  wire::MemoryLink link;
  protection::Sample sample;
  sample.current_A = {1, -2, 3, 2};
  sample.voltage_V = {100, 200, -300, 0};
  std::vector<int> counts;
  for (int k = 0; k < 4; ++k) {
    out.send(sample, 1, link);
    wire::SampledValues read;
    ASSERT_TRUE(wire::decode(link.frames.back(), read));
    counts.push_back(read.first().count);
    EXPECT_EQ(read.first().id, "MU1");
    EXPECT_EQ(read.address.appid, 0x4123);
    EXPECT_EQ(read.first().synchronised, 1);
    EXPECT_EQ(read.first().values[1].value, -2000);
    EXPECT_EQ(read.first().values[6].value, -30'000);
  }
  EXPECT_EQ(counts, (std::vector{3998, 3999, 0, 1}));
  // The next is number 2, 500 us behind the second.
  EXPECT_EQ(out.ahead_ns(second + 400'000), 100'000);
  EXPECT_EQ(out.ahead_ns(second + 600'000), -100'000);
  EXPECT_EQ(out.ahead_ns(second + 999'900'000), 600'000);
}

TEST(PanelStandIn, PressesReleasesAndShows) {
  Panel panel;
  panel.name = "desk";
  panel.switches = {"remote", "order"};
  panel.lamps = {"Q1", "R1.trip"};
  Bench bench;
  bench.contacts = {"remote: closed", "order"};
  PanelStandIn desk(panel, bench);
  EXPECT_EQ(desk.words(), "switch remote on, switch order off, lamp Q1 not heard, lamp R1.trip not heard");
  EXPECT_EQ(desk.order("remote off", 0), "");
  EXPECT_EQ(desk.order("order press 300 ms", 1'000'000'000), "");
  EXPECT_TRUE(desk.presses());
  wire::MemoryLink link;
  desk.poll({1'200'000'000, 0}, link);
  wire::GooseSubscriber reader(0x3000, "desk");
  ASSERT_TRUE(reader.take(link.frames.back(), 0));
  EXPECT_FALSE(reader.message().on(0));
  EXPECT_TRUE(reader.message().on(1));
  desk.poll({1'301'000'000, 0}, link);
  ASSERT_TRUE(reader.take(link.frames.back(), 0));
  EXPECT_FALSE(reader.message().on(1));
  EXPECT_FALSE(desk.presses());
  EXPECT_NE(desk.order("light on", 0).find("no switch \"light\""), std::string::npos);
  EXPECT_NE(desk.order("order twice", 0).find("is not understood"), std::string::npos);
  EXPECT_NE(desk.order("order press 3 A", 0).find("3 A"), std::string::npos);

  wire::Goose lamps;
  lamps.address = wire::goose_address(0x3001);
  lamps.id = "desk/lamps";
  lamps.control_block = "x";
  lamps.data_set = "x";
  wire::GoosePublisher publisher(lamps);
  publisher.poll({0, 0}, std::vector<bool>{true, false}, link);
  desk.take(link.frames.back(), 0);
  EXPECT_EQ(desk.take_changed(), (std::vector<std::string>{"Q1 on", "R1.trip off"}));
  publisher.poll({1'000'000'000, 0}, std::vector<bool>{true, true}, link);
  desk.take(link.frames.back(), 1'000'000'000);
  EXPECT_EQ(desk.take_changed(), (std::vector<std::string>{"R1.trip on"}));
  EXPECT_TRUE(desk.take_changed().empty());
}

}  // namespace
}  // namespace zavrek::bench
