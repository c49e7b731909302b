#include "zavrek/wire.hpp"
#include "wire/memory_link.hpp"

#include <gtest/gtest.h>

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
  m.time_ns = 1'790'000'000'500'000'000;
  m.state = 200;
  m.sequence = 70000;
  m.entries = {true, false};
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
  put_sample(sample, m);
  Frame frame = frame_of(m);
  for (const bool tagged : {true, false}) {
    if (!tagged) frame.erase(frame.begin() + 12, frame.begin() + 16);
    SampledValues read;
    ASSERT_TRUE(decode(frame, read));
    EXPECT_EQ(read.id, "S1");
    EXPECT_EQ(read.count, 5);
    EXPECT_TRUE(usable(read));
    for (std::size_t k = 0; k < 4; ++k) {
      EXPECT_NEAR(sample_of(read).current_A[k], sample.current_A[k], 0.5e-3);
      EXPECT_NEAR(sample_of(read).voltage_V[k], sample.voltage_V[k], 0.5e-2);
    }
  }
}

TEST(SampledValues, MarkWhatDoesNotFitAsInvalid) {
  SampledValues m = sample_message();
  protection::Sample sample;
  sample.current_A = {3e6, NAN, -3e6, 1};
  put_sample(sample, m);
  EXPECT_FALSE(usable(m));
  EXPECT_FALSE(m.values[0].usable() || m.values[1].usable() || m.values[2].usable());
  EXPECT_TRUE(m.values[3].usable());
  EXPECT_EQ(m.values[0].value, 2147483647);
}

TEST(Goose, ReadsBackWhatWasWritten) {
  Goose read;
  ASSERT_TRUE(decode(frame_of(goose_message()), read));
  EXPECT_EQ(read.control_block, "R1LD0/LLN0$GO$outputs");
  EXPECT_EQ(read.id, "R1");
  EXPECT_EQ(read.state, 200U);
  EXPECT_EQ(read.sequence, 70000U);
  EXPECT_NEAR(static_cast<double>(read.time_ns) - 1.7900000005e18, 0, 100);
  EXPECT_EQ(read.entries, (std::vector<bool>{true, false}));
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
  GoosePublisher publisher(goose_message(), 16);
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
  EXPECT_EQ(read.time_ns / 1000, 50'000U);
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
  forged.entries = {true, true};
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
    m.time_ns = time_s * 1'000'000'000;
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
  m.entries[0] = !m.entries[0];
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
  EXPECT_EQ(read.count, 5);
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
  const Identity stream{ethertype_sampled_values, values.address.appid, values.id};
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
