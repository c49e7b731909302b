#include "zavrek/wire.hpp"
#include "wire/memory_link.hpp"

#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <deque>
#include <numbers>
#include <random>
#include <thread>

#include <unistd.h>

namespace zavrek::wire {
namespace {

Goose goose_message() {
  Goose m;
  m.address = goose_address(0x0011);
  m.control_block = "R1LD0/LLN0$GO$outputs";
  m.data_set = "R1LD0/LLN0$outputs";
  m.id = "R1";
  m.changed.utc_ns = 1'790'000'000'500'000'000;
  m.state = 200;
  m.sequence = 70000;
  m.set({true, false});
  return m;
}

TEST(SampledValues, HaveTheBytesOfTheWorkedTable) {
  Frame expected{0x01, 0x0C, 0xCD, 0x04, 0x00, 0x01, 0x02, 0,    0,    0,    0, 0x01, 0x81, 0x00,
                 0x80, 0x00, 0x88, 0xBA, 0x40, 0x01, 0x00, 0x64, 0,    0,    0, 0,  // APPID, length, reserved
                 0x60, 0x5A, 0x80, 0x01, 0x01, 0xA2, 0x55, 0x30, 0x53,  // savPdu, noASDU, seqASDU, ASDU
                 0x80, 0x02, 'S',  '1',  0x82, 0x02, 0x00, 0x05, 0x83, 0x04, 0, 0,    0,    1,
                 0x85, 0x01, 0x02, 0x87, 0x40};
  for (int k = 0; k < 8; ++k) expected.insert(expected.end(), {0, 0, 0, 1, 0, 0, 0, 0});
  EXPECT_EQ(frame_of(sample_message()), expected);
}

TEST(SampledValues, ReadBackWithAndWithoutTheVlanTag) {
  SampledValues m = sample_message();
  protection::Sample sample;
  sample.current_A = {-7251.5, 12.345, 0.001, -3};
  sample.voltage_V = {8981, -0.01, 100, 0};
  put_sample(sample, m.first());
  Frame frame = frame_of(m);
  for (const bool tagged : {true, false}) {
    if (!tagged) frame.erase(frame.begin() + 12, frame.begin() + 16);
    SampledValues read;
    ASSERT_TRUE(decode(frame, read));
    EXPECT_EQ(read.first().id, "S1");
    EXPECT_EQ(read.first().count, 5);
    EXPECT_TRUE(read.first().usable());
    for (std::size_t k = 0; k < 4; ++k) {
      EXPECT_NEAR(sample_of(read.first()).current_A[k], sample.current_A[k], 0.5e-3);
      EXPECT_NEAR(sample_of(read.first()).voltage_V[k], sample.voltage_V[k], 0.5e-2);
    }
  }
}

TEST(SampledValues, MarkWhatDoesNotFitAsInvalid) {
  SampledValues m = sample_message();
  protection::Sample sample;
  sample.current_A = {3e6, NAN, -3e6, 1};
  put_sample(sample, m.first());
  EXPECT_FALSE(m.first().usable());
  EXPECT_FALSE(m.first().values[0].usable() || m.first().values[1].usable() || m.first().values[2].usable());
  EXPECT_TRUE(m.first().values[3].usable());
  EXPECT_EQ(m.first().values[0].value, 2147483647);
}

TEST(SampledValues, CarrySeveralSamplesWithAllThatNeedNotBeThere) {
  SampledValues m;
  m.address = sampled_values_address(0x4010);
  m.address.vlan = Vlan{6, 101};
  m.address.simulated = true;
  m.size = 6;
  for (std::size_t k = 0; k < m.size; ++k) {
    Asdu& asdu = m.asdus[k];
    asdu.id = "VeskarMU1";
    asdu.data_set = "VeskarMU1/LLN0$PhsMeas1";
    asdu.count = static_cast<std::uint16_t>(14394 + k);
    asdu.refresh = Stamp{1'790'000'000'250'000'000, Stamp::leap_seconds_known | 18};
    asdu.rate = 14400;
    asdu.mode = 1;
    asdu.values.assign(3, {static_cast<std::int32_t>(k) - 3, Quality::test | Quality::questionable});
  }
  const Frame frame = frame_of(m);
  // Tag of IEEE 802.1Q: 3 bits of priority, 12 of identifier.
  EXPECT_EQ(frame[14], 0xC0);
  EXPECT_EQ(frame[15], 101);
  EXPECT_EQ(frame[22], 0x80);  // bit S of the first reserved word
  SampledValues read;
  ASSERT_TRUE(decode(frame, read));
  ASSERT_EQ(read.size, 6U);
  EXPECT_TRUE(read.address.simulated);
  EXPECT_EQ(read.address.vlan, (Vlan{6, 101}));
  const Asdu& last = read.asdus[5];
  EXPECT_EQ(last.count, 14399);
  EXPECT_EQ(last.data_set, "VeskarMU1/LLN0$PhsMeas1");
  EXPECT_EQ(last.rate, 14400);
  EXPECT_EQ(last.mode, 1);
  EXPECT_EQ(last.refresh->quality, Stamp::leap_seconds_known | 18);
  EXPECT_NEAR(static_cast<double>(last.refresh->utc_ns) - 1.79000000025e18, 0, 100);
  ASSERT_EQ(last.values.size(), 3U);
  EXPECT_EQ(last.values[2].value, 2);
  EXPECT_FALSE(last.values[2].usable());
  EXPECT_EQ(frame_of(read), frame);

  // What is left out of the next frame is not kept from this one.
  ASSERT_TRUE(decode(frame_of(sample_message()), read));
  EXPECT_FALSE(read.first().refresh || read.first().rate || read.first().mode || read.address.simulated);
  EXPECT_EQ(read.first().data_set, "");
  EXPECT_EQ(read.first().values.size(), 8U);

  m.address.vlan.reset();
  EXPECT_EQ(frame_of(m).size(), frame.size() - 4);
}

/// Worked by hand from ISO/IEC 8825-1 and IEC 61850-8-1, annex A.
TEST(Goose, DataHaveTheBytesOfTheWorkedTable) {
  Goose m = goose_message();
  m.entries = {Datum::boolean(true),
               Datum::position(true),
               Datum::quality(0),
               Datum::quality(Quality::invalid | Quality::test),
               Datum::integer(-5),
               Datum::integer(-129),
               Datum::natural(200),
               Datum::real(12.5F),
               Datum::structure(2),
               Datum::boolean(true),
               Datum::time({1'790'000'000'500'000'000, 0x0A})};
  const Frame frame = frame_of(m);
  const Frame data{0x83, 1,  1,                             //
                   0x84, 2,  6,    0x80,                    //
                   0x84, 3,  3,    0x00, 0x00,              //
                   0x84, 3,  3,    0x40, 0x10,              // 01 of validity, bit 11
                   0x85, 1,  0xFB,                          //
                   0x85, 2,  0xFF, 0x7F,                    //
                   0x86, 2,  0x00, 0xC8,                    //
                   0x87, 5,  0x08, 0x41, 0x48, 0x00, 0x00,  //
                   0xA2, 13, 0x83, 1,    1,    0x91, 8,    0x6A, 0xB1, 0x3B, 0x80, 0x80, 0x00, 0x00, 0x0A};
  ASSERT_GT(frame.size(), data.size());
  EXPECT_EQ(Frame(frame.end() - static_cast<std::ptrdiff_t>(data.size()), frame.end()), data);
  Goose read;
  ASSERT_TRUE(decode(frame, read));
  EXPECT_EQ(read.entries, m.entries);
  EXPECT_TRUE(read.on(1));
  EXPECT_EQ(read.entries[3].as_quality(), Quality::invalid | Quality::test);
  EXPECT_EQ(read.entries[5].number(), -129);
  EXPECT_EQ(read.entries[7].number(), 12.5);
}

TEST(Goose, ATextAmongTheDataIsPassedOver) {
  Frame frame = frame_of(goose_message());
  frame.insert(frame.end(), {0x8A, 3, 'o', 'f', 'f'});
  // One entry more (8A 01 03), and five bytes more in every length around it.
  const Frame wanted{0x8A, 0x01, 0x02};
  const auto count = std::search(frame.begin(), frame.end(), wanted.begin(), wanted.end());
  ASSERT_NE(count, frame.end());
  count[2] = 3;
  count[4] = static_cast<std::uint8_t>(count[4] + 5);
  frame[21] = static_cast<std::uint8_t>(frame[21] + 5);
  frame[27] = static_cast<std::uint8_t>(frame[27] + 5);
  Goose read;
  ASSERT_TRUE(decode(frame, read));
  ASSERT_EQ(read.entries.size(), 3U);
  EXPECT_EQ(read.entries[2].kind, Datum::Kind::other);
  EXPECT_TRUE(read.on(0));
}

TEST(Goose, StructuresThatAreTooDeepOrTooManyAreRefused) {
  Goose m = goose_message();
  m.entries.clear();
  for (int k = 0; k < deepest_structure; ++k) m.entries.push_back(Datum::structure(1));
  m.entries.push_back(Datum::boolean(true));
  Goose read;
  EXPECT_TRUE(decode(frame_of(m), read));
  m.entries.insert(m.entries.begin(), Datum::structure(1));
  EXPECT_FALSE(decode(frame_of(m), read));
  m.entries.assign(most_goose_entries, Datum::boolean(true));
  EXPECT_TRUE(decode(frame_of(m), read));
  m.entries.push_back(Datum::boolean(true));
  EXPECT_EQ(frame_of(m).size(), 0U);
}

class Listening : public ::testing::Test {
 protected:
  static constexpr std::int64_t ms = 1'000'000;
  Goose message(std::uint32_t state, std::uint32_t sequence) {
    Goose m = goose_message();
    m.allowed_ms = 1000;
    m.state = state;
    m.sequence = sequence;
    m.address.source = {2, 0, 0, 0, 0, 7};
    return m;
  }
};

/// IEC 61850-7-1, 7.8.2; IEC 61850-8-1, 18.1.
TEST_F(Listening, ASimulatedMessageStandsInForTheOthersOnlyWhileItMay) {
  GooseSubscriber subscriber(0x0011, "R1");
  Goose simulated = message(900, 0);
  simulated.simulation = true;
  simulated.address.source = {2, 0, 0, 0, 0, 9};
  EXPECT_TRUE(subscriber.take(frame_of(message(5, 0)), 0));
  EXPECT_FALSE(subscriber.take(frame_of(simulated), 1 * ms));
  subscriber.accept_simulated(true);
  EXPECT_TRUE(subscriber.take(frame_of(message(5, 1)), 2 * ms)) << "until one is heard";
  EXPECT_TRUE(subscriber.take(frame_of(simulated), 3 * ms));
  EXPECT_FALSE(subscriber.take(frame_of(message(5, 2)), 4 * ms));
  simulated.sequence = 1;
  EXPECT_TRUE(subscriber.take(frame_of(simulated), 5 * ms));
  subscriber.accept_simulated(false);
  EXPECT_TRUE(subscriber.take(frame_of(message(5, 3)), 6 * ms)) << "whatever the numbers were meanwhile";
  simulated.sequence = 2;
  EXPECT_FALSE(subscriber.take(frame_of(simulated), 7 * ms));
  const auto& counts = subscriber.counts();
  EXPECT_EQ(counts.refused, 3);
  EXPECT_EQ(counts.restarts + counts.lost + counts.conflicting + counts.regressed, 0);
}

TEST_F(Listening, MessagesThatNeedCommissioningOrAreOfAnotherDataSetAreNotUsed) {
  GooseSubscriber subscriber(Followed{0x0011, "R1", {}, 3, 2});
  Goose m = message(1, 0);
  EXPECT_FALSE(subscriber.take(frame_of(m), 0)) << "confRev 1";
  m.revision = 3;
  m.needs_commissioning = true;
  EXPECT_FALSE(subscriber.take(frame_of(m), 0));
  m.needs_commissioning = false;
  m.set({true});
  EXPECT_FALSE(subscriber.take(frame_of(m), 0));
  EXPECT_FALSE(subscriber.heard());
  m.set({true, true});
  EXPECT_TRUE(subscriber.take(frame_of(m), 0));
  EXPECT_EQ(subscriber.counts().unfit, 3);
}

TEST(GoosePublisher, TimesAmongItsEntriesAreNoChange) {
  MemoryLink link;
  GoosePublisher publisher(goose_message(), {4, 8});
  std::vector<Datum> state{Datum::real(1), Datum::time({100, 0})};
  publisher.poll({0, 1'000}, state, link);
  state[1] = Datum::time({200, 0});
  publisher.poll({1'000'000, 2'000}, state, link);
  EXPECT_EQ(publisher.sent(), 1);
  state[0] = Datum::real(2);
  publisher.describe(Stamp::clock_failed, true, true);
  publisher.poll({2'000'000, 3'000}, state, link);
  ASSERT_EQ(publisher.sent(), 2);
  Goose read;
  ASSERT_TRUE(decode(link.frames.back(), read));
  EXPECT_EQ(read.state, 201U);
  EXPECT_EQ(read.changed.quality, Stamp::clock_failed);
  EXPECT_TRUE(read.simulation && read.needs_commissioning && read.address.simulated);
  publisher.restart();
  publisher.poll({3'000'000, 4'000}, state, link);
  ASSERT_TRUE(decode(link.frames.back(), read));
  EXPECT_EQ(read.state, 1U);
  EXPECT_EQ(read.sequence, 0U);
}

TEST(Goose, ReadsBackWhatWasWritten) {
  Goose read;
  ASSERT_TRUE(decode(frame_of(goose_message()), read));
  EXPECT_EQ(read.control_block, "R1LD0/LLN0$GO$outputs");
  EXPECT_EQ(read.id, "R1");
  EXPECT_EQ(read.state, 200U);
  EXPECT_EQ(read.sequence, 70000U);
  EXPECT_NEAR(static_cast<double>(read.changed.utc_ns) - 1.7900000005e18, 0, 100);
  EXPECT_EQ(read.entries, (std::vector{Datum::boolean(true), Datum::boolean(false)}));
}

/// Places of the tags and lengths of a frame (ISO/IEC 8825-1, 8.1.3), from `first` to `end`.
void find_structure(const Frame& frame, std::size_t first, std::size_t end,
                    std::vector<std::size_t>& places) {
  for (std::size_t at = first; at + 1 < end;) {
    places.insert(places.end(), {at, at + 1});
    const bool longer = frame[at + 1] == 0x81;  // the length stands in the byte behind it
    if (longer) places.push_back(at + 2);
    const std::size_t content = at + (longer ? 3 : 2), length = frame[content - 1];
    if ((frame[at] & 0x20) != 0) find_structure(frame, content, content + length, places);
    at = content + length;
  }
}

/// No tag and no length can be another; what is taken of a damaged frame is a message that reads back the
/// same.
template <class Message>
void damage(const Frame& good, unsigned seed) {
  Message into;
  for (std::size_t length = 0; length < good.size(); ++length)
    EXPECT_FALSE(decode(Bytes(good).first(length), into)) << length;
  std::vector<std::size_t> structure;
  find_structure(good, 26, good.size(), structure);
  EXPECT_GT(structure.size(), 16U);
  for (const std::size_t place : structure) {
    // What need not be there may be called something else: goID, simulation, ndsCom of GOOSE.
    if (std::is_same_v<Message, Goose> && (good[place] == 0x83 || good[place] == 0x87 || good[place] == 0x89))
      continue;
    int taken = 0;
    for (unsigned change = 1; change < 256; ++change) {
      Frame bad = good;
      bad[place] = static_cast<std::uint8_t>(bad[place] ^ change);
      taken += decode(bad, into) ? 1 : 0;
    }
    EXPECT_LE(taken, 3) << "byte " << place;  // a number that is taken for another one of its form
  }
  std::mt19937 random(seed);
  for (int round = 0; round < 100'000; ++round) {
    Frame bad = good;
    for (unsigned k = 0; k <= random() % 3; ++k)
      bad[random() % bad.size()] = static_cast<std::uint8_t>(random());
    if (random() % 3 == 0) bad.resize(random() % bad.size());
    if (!decode(bad, into)) continue;  // damage to addresses, texts and values stays legal
    const Frame taken = frame_of(into);
    Message again;
    ASSERT_TRUE(decode(taken, again));
    EXPECT_EQ(frame_of(again), taken);
  }
  for (int round = 0; round < 20'000; ++round) {
    Frame noise(random() % 200);
    for (auto& byte : noise) byte = static_cast<std::uint8_t>(random());
    EXPECT_FALSE(decode(noise, into));
  }
}
TEST(SampledValues, RefuseTruncatedAndSurviveDamagedFrames) {
  damage<SampledValues>(frame_of(sample_message()), 3);
}
TEST(Goose, RefusesTruncatedAndSurvivesDamagedFrames) { damage<Goose>(frame_of(goose_message()), 5); }

TEST(Encode, ReturnsZeroWhenItDoesNotFit) {
  Frame small(60);
  EXPECT_EQ(encode(sample_message(), small), 0U);
  Goose long_text = goose_message();
  long_text.id = std::string(130, 'x');
  Frame large(longest_frame);
  EXPECT_EQ(encode(long_text, large), 0U);
}

TEST(GoosePublisher, RepeatsAtDoublingIntervalsAndCountsStates) {
  MemoryLink link;
  GoosePublisher publisher(goose_message(), {2, 16});
  std::vector<double> sent_ms;
  std::vector<bool> state{false, false};
  for (int tenth_ms = 0; tenth_ms < 1000; ++tenth_ms) {
    if (tenth_ms == 500) state = {true, false};
    const std::size_t before = link.frames.size();
    publisher.poll({tenth_ms * 100'000LL, tenth_ms * 100'000LL}, state, link);
    if (link.frames.size() > before) sent_ms.push_back(tenth_ms / 10.0);
  }
  EXPECT_EQ(sent_ms, (std::vector<double>{0, 2, 6, 14, 30, 46, 50, 52, 56, 64, 80, 96}));
  Goose read;
  ASSERT_TRUE(decode(link.frames[6], read));
  EXPECT_EQ(read.state, 201U);
  EXPECT_EQ(read.sequence, 0U);
  EXPECT_EQ(read.changed.utc_ns / 1000, 50'000U);
  ASSERT_TRUE(decode(link.frames[7], read));
  EXPECT_EQ(read.state, 201U);
  EXPECT_EQ(read.sequence, 1U);
}

TEST(GooseSubscriber, FollowsItsPublisherAndNoticesSilence) {
  GooseSubscriber subscriber(0x0011, "R1");
  Goose m = goose_message();
  m.allowed_ms = 100;
  EXPECT_FALSE(subscriber.alive(0));
  EXPECT_TRUE(subscriber.take(frame_of(m), 1'000'000));
  EXPECT_FALSE(subscriber.take(frame_of(m), 2'000'000));  // the same message again
  EXPECT_TRUE(subscriber.alive(100'000'000));
  EXPECT_FALSE(subscriber.alive(101'000'001));
  m.id = "R2";
  EXPECT_FALSE(subscriber.take(frame_of(m), 3'000'000));
  m.id = "R1";
  m.simulation = true;
  EXPECT_FALSE(subscriber.take(frame_of(m), 3'000'000));
  EXPECT_EQ(subscriber.counts().foreign, 1);
  EXPECT_EQ(subscriber.counts().refused, 1);
  Frame broken = frame_of(m);
  broken[28] ^= 0xFF;
  EXPECT_FALSE(subscriber.take(broken, 4'000'000));
  EXPECT_EQ(subscriber.counts().malformed, 1);
}

constexpr std::int64_t ms = 1'000'000;

TEST(GooseSubscriber, BelievesOneSourceOnly) {
  Goose m = goose_message(), forged = m;
  m.allowed_ms = forged.allowed_ms = 100;
  forged.address.source = {0x02, 9, 9, 9, 9, 9};
  forged.state += 1;
  forged.set({true, true});
  GooseSubscriber any(0x0011, "R1"), said(0x0011, "R1", m.address.source);
  EXPECT_FALSE(said.take(frame_of(forged), 0)) << "though nothing else was heard";
  for (GooseSubscriber* subscriber : {&any, &said}) {
    EXPECT_TRUE(subscriber->take(frame_of(m), 1 * ms));
    EXPECT_FALSE(subscriber->take(frame_of(forged), 2 * ms));
    EXPECT_EQ(subscriber->message().state, m.state);
    EXPECT_EQ(subscriber->rival(), forged.address.source);
  }
  EXPECT_EQ(any.counts().conflicting, 1);
  EXPECT_TRUE(any.take(frame_of(forged), 102 * ms)) << "the first broke its promise: another takes its place";
  EXPECT_FALSE(said.take(frame_of(forged), 102 * ms));
  EXPECT_EQ(said.counts().conflicting, 3);
  EXPECT_FALSE(any.doubtful());
}

TEST(GooseSubscriber, RefusesReplaysTakesRestartsAndCountsWhatIsMissing) {
  GooseSubscriber subscriber(0x0011, "R1");
  Goose m = goose_message();
  const auto take = [&](std::uint32_t state, std::uint32_t sequence, std::int64_t at_ms,
                        std::uint64_t time_s) {
    m.allowed_ms = 100;
    m.state = state;
    m.sequence = sequence;
    m.changed.utc_ns = time_s * 1'000'000'000;
    return subscriber.take(frame_of(m), at_ms * ms);
  };
  EXPECT_TRUE(take(7, 3, 0, 50));
  EXPECT_TRUE(take(7, 6, 10, 50));
  EXPECT_EQ(subscriber.counts().lost, 2) << "sequences 4 and 5";
  EXPECT_FALSE(take(7, 4, 11, 50));
  EXPECT_TRUE(take(9, 1, 12, 51));
  EXPECT_EQ(subscriber.counts().lost, 4) << "state 8, and the first of state 9";
  EXPECT_FALSE(take(7, 7, 60, 50));
  EXPECT_FALSE(subscriber.doubtful()) << "a redundant network may bring the state before again";
  EXPECT_TRUE(take(9, 2, 111, 51));
  EXPECT_FALSE(take(7, 6, 115, 50));
  EXPECT_TRUE(subscriber.doubtful()) << "a replay";
  EXPECT_EQ(subscriber.counts().regressed, 3);
  EXPECT_FALSE(take(1, 0, 116, 49)) << "its first message of all, replayed";
  EXPECT_TRUE(take(1, 0, 117, 60)) << "it began anew";
  EXPECT_EQ(subscriber.counts().restarts, 1);
  EXPECT_TRUE(take(1, 1, 300, 60));
  EXPECT_EQ(subscriber.counts().late, 1);
}

TEST(GooseSubscriber, FollowsNumbersAcrossTheirEnd) {
  GooseSubscriber subscriber(0x0011, "R1");
  Goose m = goose_message();
  m.state = m.sequence = 0xFFFFFFFF;
  EXPECT_TRUE(subscriber.take(frame_of(m), 0));
  m.sequence = 1;
  EXPECT_TRUE(subscriber.take(frame_of(m), 1));
  EXPECT_EQ(subscriber.counts().lost, 0) << "0 is left out";
  m.state = 1;
  m.sequence = 0;
  EXPECT_TRUE(subscriber.take(frame_of(m), 2));
  EXPECT_EQ(subscriber.counts().regressed + subscriber.counts().restarts, 0);
}

TEST(GooseSubscriber, DoubtsAStateThatChangesWithoutANewNumber) {
  GooseSubscriber subscriber(0x0011, "R1");
  Goose m = goose_message();
  EXPECT_TRUE(subscriber.take(frame_of(m), 0));
  m.sequence += 1;
  m.entries[0] = Datum::boolean(!m.on(0));
  EXPECT_FALSE(subscriber.take(frame_of(m), 1));
  EXPECT_TRUE(subscriber.doubtful());
}

TEST(MacAddress, IsReadAsItIsWritten) {
  const MacAddress address{0x02, 0x5A, 0, 0, 0xFF, 1};
  EXPECT_EQ(wire::to_string(address), "02-5a-00-00-ff-01");
  EXPECT_EQ(parse_mac_address("02-5a-00-00-ff-01"), address);
  EXPECT_EQ(parse_mac_address("02:5A:00:00:FF:01"), address);
  for (const char* bad : {"", "02-5a-00-00-ff", "02-5a-00-00-ff-0", "02-5a-00-00-ff-01-", "02_5a_00_00_ff_01",
                          "0x-5a-00-00-ff-01", "02-5a-00-00-ff-1g"})
    EXPECT_THROW((void)parse_mac_address(bad), Error) << bad;
  EXPECT_EQ(random_source()[0] & 3, 2) << "of one station, locally administered";
  EXPECT_NE(random_source(), random_source());
  EXPECT_EQ(own_source(), own_source());
}

class Media : public testing::TestWithParam<Medium> {};

TEST_P(Media, CarryFramesBetweenTwoPartiesThroughTheFilter) {
  std::unique_ptr<Link> sender, reader;
  try {
    sender = open_link("lo", GetParam(), {ethertype_goose, {}});
    reader = open_link("lo", GetParam(), {ethertype_sampled_values, {0x4001}});
  } catch (const Error& error) {
    GTEST_SKIP() << error.what();
  }
  SampledValues other = sample_message();
  other.address.appid = 0x4777;
  ASSERT_TRUE(sender->send(frame_of(goose_message())));
  ASSERT_TRUE(sender->send(frame_of(other)));
  ASSERT_TRUE(sender->send(frame_of(sample_message())));
  Frame buffer(longest_frame);
  std::size_t length = 0;
  for (int tries = 0; tries < 100 && length == 0; ++tries) {
    (void)reader->wait(20);
    length = reader->receive(buffer);
  }
  SampledValues read;
  ASSERT_TRUE(decode(Bytes(buffer).first(length), read)) << reader->description();
  EXPECT_EQ(read.first().count, 5);
  EXPECT_EQ(reader->receive(buffer), 0U);
}
TEST_P(Media, KeepTheirOrderRoundAndRound) {
  // More than any ring of the kernel's holds, in bursts that it does.
  const auto appid = static_cast<std::uint16_t>(getpid() & 0x3FFF);
  std::unique_ptr<Link> sender, reader;
  try {
    sender = open_link("lo", GetParam(), {ethertype_goose, {0xFFFF}});
    reader = open_link("lo", GetParam(), {ethertype_goose, {appid}});
  } catch (const Error& error) {
    GTEST_SKIP() << error.what();
  }
  Goose m = goose_message();
  m.address.appid = appid;
  std::uint32_t told = 0, heard = 0;
  FrameBuffer buffer;
  for (int burst = 0; burst < 100; ++burst) {
    for (int k = 0; k < 50; ++k) {
      m.sequence = ++told;
      ASSERT_TRUE(sender->send(frame_of(m)));
    }
    for (int tries = 0; tries < 200 && heard < told; ++tries) {
      const std::size_t length = reader->receive(buffer);
      if (length == 0) {
        (void)reader->wait(5);
        continue;
      }
      Goose read;
      ASSERT_TRUE(decode(Bytes(buffer).first(length), read));
      ASSERT_EQ(read.sequence, ++heard);
    }
    ASSERT_EQ(heard, told) << "burst " << burst;
  }
  EXPECT_EQ(reader->receive(buffer), 0U);
}

TEST_P(Media, ShowAFrameLongerThanAnyAsOneThatCannotBeRead) {
  const auto appid = static_cast<std::uint16_t>(getpid() & 0x3FFF);
  std::unique_ptr<Link> sender, reader;
  try {
    sender = open_link("lo", GetParam(), {ethertype_goose, {0xFFFF}});
    reader = open_link("lo", GetParam(), {ethertype_goose, {0x3FFF}});
  } catch (const Error& error) {
    GTEST_SKIP() << error.what();
  }
  Goose m = goose_message();
  m.address.appid = appid;
  ASSERT_TRUE(sender->send(frame_of(m)));
  reader->want({ethertype_goose, {0x0001, appid}});
  Frame padded = frame_of(m);
  padded.resize(9000);
  ASSERT_TRUE(sender->send(padded));
  FrameBuffer buffer;
  std::size_t length = 0;
  for (int tries = 0; tries < 100 && length == 0; ++tries) {
    (void)reader->wait(20);
    length = reader->receive(buffer);
  }
  EXPECT_EQ(length, longest_frame + 1) << "and not the one that was sent before it was wanted";
  GooseSubscriber subscriber(appid, m.id);
  EXPECT_FALSE(subscriber.take(Bytes(buffer).first(length), 0));
  EXPECT_EQ(subscriber.counts().malformed, 1);
  padded.resize(longest_frame);
  EXPECT_TRUE(subscriber.take(padded, 0)) << "padding up to the end of a frame is none of it";
}

TEST_P(Media, TellWhetherSomebodyElseIsLive) {
  const auto appid = static_cast<std::uint16_t>(getpid() & 0x3FFF);
  std::unique_ptr<Link> sender;
  try {
    sender = open_link("lo", GetParam(), {ethertype_goose, {0xFFFF}});
  } catch (const Error& error) {
    GTEST_SKIP() << error.what();
  }
  Goose goose = goose_message();
  goose.address.appid = appid;
  SampledValues values = sample_message();
  values.address.appid = static_cast<std::uint16_t>(0x4000 | appid);
  const auto live_while = [&](const MacAddress& source, const Identity& wanted) {
    goose.address.source = values.address.source = source;
    std::jthread speaker([&](const std::stop_token& stop) {
      while (!stop.stop_requested()) {
        (void)sender->send(frame_of(goose));
        (void)sender->send(frame_of(values));
        std::this_thread::sleep_for(std::chrono::milliseconds(5));
      }
    });
    return find_live("lo", GetParam(), {{ethertype_goose, 0x2222, "R9"}, wanted}, 60);
  };
  const MacAddress other = random_source();
  const Identity message{ethertype_goose, appid, goose.id};
  const Identity stream{ethertype_sampled_values, values.address.appid, values.first().id};
  for (const Identity& wanted : {message, stream}) {
    const auto found = live_while(other, wanted);
    ASSERT_TRUE(found) << wanted.id;
    EXPECT_EQ(found->source, other);
    EXPECT_EQ(found->identity.appid, wanted.appid);
    EXPECT_FALSE(live_while(own_source(), wanted)) << "what this process says itself";
  }
  EXPECT_FALSE(live_while(other, {ethertype_goose, appid, "another"}));
}

std::string name_of(const testing::TestParamInfo<Medium>& info) {
  return info.param == Medium::raw ? "Raw" : "Datagram";
}
INSTANTIATE_TEST_SUITE_P(Link, Media, testing::Values(Medium::raw, Medium::datagram), name_of);

TEST(Link, NamesAnInterfaceThatIsNotThere) {
  try {
    (void)open_link("quay7", Medium::raw, {});
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(), "no network interface \"quay7\"; `ip link` lists those there are");
  }
}

}  // namespace
}  // namespace zavrek::wire
