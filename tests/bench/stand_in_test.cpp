// Devices that ship with Zavrek, over a medium in memory.
#include <cmath>
#include <numbers>
#include <random>

#include <gtest/gtest.h>

#include "wire/memory_link.hpp"
#include "zavrek/bench/stand_ins.hpp"

namespace zavrek::bench {
namespace {

using namespace wire;

/// A stand-in with one definite stage, and the frames of a current that exceeds it.
struct StandInTest : testing::Test {
  StandInTest() {
    settings.name = "R1";
    protection::Stage stage;
    stage.name = "s";
    stage.pickup_A = 100;
    stage.delay_s = 0.1;
    settings.functions = {stage};
  }
  Frame sample(int k, double rms) {
    SampledValues m = sample_message();
    m.address = sampled_values_address(0x4000);
    m.first().count = static_cast<std::uint16_t>(k % 4000);
    protection::Sample values;
    for (std::size_t p = 0; p < 3; ++p) {
      values.current_A[p] = std::numbers::sqrt2 * rms *
                            std::cos(2 * std::numbers::pi * (k / 80.0 - static_cast<double>(p) / 3));
    }
    put_sample(values, m.first());
    return frame_of(m);
  }
  protection::RelaySettings settings;
  MemoryLink link;
};

TEST_F(StandInTest, TripsByGooseAfterItsDelay) {
  RelayStandIn relay(settings, {});
  GooseSubscriber subscriber = stand_in_subscriber({});
  int tripped_at = 0;
  for (int k = 0; k < 4000 && tripped_at == 0; ++k) {
    relay.take(sample(k, k < 400 ? 50 : 400), {k * 250'000LL, k * 250'000LL}, link);
    for (; !link.frames.empty(); link.frames.pop_front()) {
      if (subscriber.take(link.frames.front(), k * 250'000LL) && subscriber.message().on(1)) tripped_at = k;
    }
  }
  EXPECT_NEAR((tripped_at - 400) / 4000.0, 0.11, 0.01);
  EXPECT_EQ(relay.account().lost, 0);
}

TEST_F(StandInTest, BridgesAFewLostSamplesAndStartsAfreshAfterMany) {
  RelayStandIn relay(settings, {});
  for (int k = 0; k < 200; ++k) relay.take(sample(k, 400), {}, link);
  for (int k = 203; k < 300; ++k) relay.take(sample(k, 400), {}, link);
  EXPECT_EQ(relay.account().lost, 3);
  EXPECT_TRUE(relay.relay().start());
  relay.take(sample(340, 400), {}, link);
  EXPECT_EQ(relay.account().lost, 43);
  EXPECT_FALSE(relay.relay().start());
}

TEST_F(StandInTest, DoesNotFollowASingleNumberThatIsFarOff) {
  RelayStandIn relay(settings, {});
  for (int k = 0; k < 200; ++k) relay.take(sample(k, 400), {}, link);
  EXPECT_TRUE(relay.relay().start());
  relay.take(sample(1700, 400), {}, link);
  relay.take(sample(3100, 400), {}, link);
  for (int k = 200; k < 210; ++k) relay.take(sample(k, 400), {}, link);
  EXPECT_TRUE(relay.relay().start());
  EXPECT_EQ(relay.account().lost, 0);
  EXPECT_EQ(relay.account().unfit, 2);
  for (int k = 1000; k < 1010; ++k) relay.take(sample(k, 400), {}, link);
  EXPECT_EQ(relay.account().restarts, 1) << "two in a row are believed";
}

TEST_F(StandInTest, IgnoresStrangersAndGarbageAndTripsOnNeither) {
  RelayStandIn relay(settings, {});
  std::mt19937 random(13);
  for (int k = 0; k < 20'000; ++k) {
    Frame noise = sample(k, 4000);
    switch (k % 3) {
      case 0:
        noise[18] ^= 0x01;
        break;  // another stream
      case 1:
        noise.resize(random() % noise.size());
        break;  // truncated
      default:
        for (auto& byte : noise) byte = static_cast<std::uint8_t>(random());
    }
    relay.take(noise, {k * 1000LL, 0}, link);
  }
  EXPECT_EQ(relay.account().received, 0);
  EXPECT_GT(relay.account().malformed, 10'000);
  EXPECT_FALSE(relay.relay().start());
}

TEST_F(StandInTest, TreatsSamplesOfBadQualityAsLost) {
  RelayStandIn relay(settings, {});
  SampledValues m;
  for (int k = 0; k < 400; ++k) {
    ASSERT_TRUE(decode(sample(k, 400), m));
    m.first().values[0].quality = 1;
    relay.take(frame_of(m), {}, link);
  }
  EXPECT_EQ(relay.account().unfit, 400);
  EXPECT_EQ(relay.account().lost, 0);
  EXPECT_FALSE(relay.relay().start());
}

TEST_F(StandInTest, WaitsForAllItsStreamsAndBridgesTheOneThatIsMissing) {
  StandInPorts ports;
  ports.streams = {{"S1", 0x4000}, {"S2", 0x4002}};
  RelayStandIn relay(settings, ports);
  const auto second = [&](int k) {
    SampledValues m = sample_message();
    m.address = sampled_values_address(0x4002);
    m.first().id = "S2";
    m.first().count = static_cast<std::uint16_t>(k % 4000);
    return frame_of(m);
  };
  for (int k = 0; k < 100; ++k) {
    relay.take(sample(k, 400), {}, link);
    if (k % 10 != 5) relay.take(second(k), {}, link);
    if (k == 50) relay.take(second(45), {}, link);  // late: given up
  }
  EXPECT_EQ(relay.account().received, 190);
  EXPECT_EQ(relay.account().lost, 10);
  EXPECT_EQ(relay.account().late, 1);
  EXPECT_TRUE(relay.relay().start());
}

TEST_F(StandInTest, ReadsABinaryInputFromTheEntryOfAGooseMessage) {
  std::get<protection::Stage>(settings.functions[0]).blocked_by = "input.block";
  StandInPorts ports;
  ports.inputs = {{"block", "R7", 0x0007, 1}};
  RelayStandIn relay(settings, ports);
  GoosePublisher other(stand_in_message({.name = "R7", .goose_appid = 7}));
  MemoryLink wire;
  other.poll({}, {false, true}, wire);
  relay.take(wire.frames.front(), {}, link);
  for (int k = 0; k < 100; ++k) relay.take(sample(k, 400), {}, link);
  EXPECT_FALSE(relay.relay().start());
  wire.frames.clear();
  other.poll({1'000'000, 1'000'000}, {true, false}, wire);
  relay.take(wire.frames.front(), {1'000'000, 1'000'000}, link);
  for (int k = 100; k < 200; ++k) relay.take(sample(k, 400), {}, link);
  EXPECT_TRUE(relay.relay().start());
  // The same of an input that is on while the entry is off.
  ports.inputs = {{"block", "R7", 0x0007, 1, true}};
  RelayStandIn reversed(settings, ports);
  reversed.take(wire.frames.front(), {1'000'000, 1'000'000}, link);
  for (int k = 0; k < 100; ++k) reversed.take(sample(k, 400), {}, link);
  EXPECT_FALSE(reversed.relay().start());
}

/// At 14,400 samples a second, of which the relay takes 4,000: 4,050 Hz would come back as 50.
TEST_F(StandInTest, SeesNothingOfWhatLiesBeyondHalfItsRate) {
  StandInPorts ports;
  ports.streams[0].rate_Hz = 14'400;
  const auto fast = [&](int k, double rms, double frequency_Hz) {
    SampledValues m = sample_message();
    m.address = sampled_values_address(0x4000);
    m.first().count = static_cast<std::uint16_t>(k % 14'400);
    protection::Sample values;
    for (std::size_t p = 0; p < 3; ++p)
      values.current_A[p] =
          std::numbers::sqrt2 * rms *
          std::cos(2 * std::numbers::pi * (frequency_Hz * k / 14'400 - static_cast<double>(p) / 3));
    put_sample(values, m.first());
    return frame_of(m);
  };
  for (const auto& [rms, frequency_Hz, starts] :
       {std::tuple{400.0, 50.0, true}, std::tuple{400.0, 4050.0, false}, std::tuple{400.0, 3950.0, false}}) {
    RelayStandIn relay(settings, ports);
    for (int k = 0; k < 3000; ++k) relay.take(fast(k, rms, frequency_Hz), {}, link);
    EXPECT_EQ(relay.relay().start(), starts) << frequency_Hz;
  }
}

}  // namespace
}  // namespace zavrek::bench
