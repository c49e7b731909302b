// Sampled values and messages of every form, sent and read back by one bench, and what its settings spoil.
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <numbers>
#include <string>
#include <thread>

#include <unistd.h>

#include "bench/data_set.hpp"
#include "bench/probe.hpp"
#include "bench/quay.hpp"
#include "bench/way.hpp"
#include "wire/memory_link.hpp"
#include "zavrek/bench.hpp"

namespace zavrek::bench {
namespace {

std::string own_id(const char* stem) { return stem + std::to_string(getpid()); }

Stream stream_out() { return stream_of_quay(own_id("mu"), 0x5001); }

StreamIn stream_in(const Stream& of) {
  StreamIn in;
  in.name = "R1";
  in.id = of.id;
  in.appid = of.appid;
  in.rate_Hz = of.rate_Hz;
  in.delay_s = 4e-3;
  in.when_silent = "off";
  return in;
}

/// The greatest difference, over the greatest value, of a column from another one `delay_s` before.
double off(const record::Record& record, const std::string& late, const std::string& early, double delay_s,
           double from_s, double until_s) {
  const auto* a = record.find_analog(late);
  const auto* b = record.find_analog(early);
  if (!a || !b) return INFINITY;
  double most = 0, greatest = 0;
  for (std::size_t k = 0; k < record.time_s.size(); ++k) {
    const double t = record.time_s[k];
    if (t < from_s || t > until_s) continue;
    const double at = (t - delay_s) * record.rate_Hz;
    const auto row = static_cast<std::size_t>(at);
    const double share = at - static_cast<double>(row);
    const double was = b->samples[row] + share * (b->samples[row + 1] - b->samples[row]);
    most = std::max(most, std::abs(a->samples[k] - was));
    greatest = std::max(greatest, std::abs(was));
  }
  return most / greatest;
}

struct Form {
  double rate_Hz;
  int group;
  double frequency_Hz;
};
class Streams : public ::testing::TestWithParam<Form> {};

/// All that substations send (IEC 61869-9, table 902; 80 and 256 samples a cycle).
TEST_P(Streams, OfEveryRateComeBackAsTheyWere) {
  bench::Setup setup = quay();
  setup.network.frequency_Hz = GetParam().frequency_Hz;
  Stream stream = stream_out();
  stream.rate_Hz = GetParam().rate_Hz;
  stream.group = GetParam().group;
  stream.includes = {"refrTm", "smpRate", "smpMod"};
  stream.data_set = "M1LD0/LLN0$PhsMeas1";
  StreamIn in = stream_in(stream);
  setup.bench.ports = {stream, in};
  setup.bench.points_per_cycle = 400;
  ASSERT_TRUE(validate(setup).empty());
  bench::Run run(setup, setup.network, {.free = true});
  EXPECT_TRUE(run.paced());
  run.record(0.3, 0, {});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.3);
  ASSERT_EQ(run.failure(), "");
  const std::vector<Account> accounts = run.accounts();
  EXPECT_GE(accounts.at(0).sent, std::llround(0.29 * stream.rate_Hz / stream.group));
  EXPECT_GE(accounts.at(1).received, std::llround(0.29 * stream.rate_Hz));
  EXPECT_EQ(accounts.at(1).malformed + accounts.at(1).unfit + accounts.at(1).lost, 0);
  const record::Record record = run.take_record(0);
  // The instant of a sample is known from when its frame came: the last of a group is the youngest.
  EXPECT_LT(off(record, "R1.va", "VT1.va", in.delay_s, 0.1, 0.28), 0.06);
  const auto* own = record.find_analog("VT1.va");
  const auto* back = record.find_analog("R1.va");
  double most_own = 0, most_back = 0;
  for (std::size_t k = record.time_s.size() / 3; k < record.time_s.size(); ++k) {
    most_own = std::max(most_own, std::abs(own->samples[k]));
    most_back = std::max(most_back, std::abs(back->samples[k]));
  }
  EXPECT_NEAR(most_back / most_own, 1, 2e-3);
}

INSTANTIATE_TEST_SUITE_P(All, Streams,
                         ::testing::Values(Form{4000, 1, 50}, Form{4000, 2, 50}, Form{4800, 1, 60},
                                           Form{4800, 2, 50}, Form{14400, 6, 60}, Form{12800, 8, 50},
                                           Form{15360, 8, 60}));

TEST(StreamsOut, CarryWhatTheyAreToldInAnyOrder) {
  bench::Setup setup = quay();
  Stream stream = stream_out();
  stream.carries = {"VT1.vc", "CT1.ia", "VT1.vn", "ferry.ib"};
  StreamIn in = stream_in(stream);
  in.values = {"vc", "ia", "-", "ib"};
  setup.bench.ports = {stream, in};
  ASSERT_TRUE(validate(setup).empty());
  bench::Run run(setup, setup.network, {.free = true});
  run.record(0.2, 0, {"ferry.ib"});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.2);
  ASSERT_EQ(run.failure(), "");
  const record::Record record = run.take_record(0);
  EXPECT_LT(off(record, "R1.vc", "VT1.vc", in.delay_s, 0.1, 0.19), 0.06);
  EXPECT_LT(off(record, "R1.ia", "CT1.ia", in.delay_s, 0.1, 0.19), 0.06);
  EXPECT_LT(off(record, "R1.ib", "ferry.ib", in.delay_s, 0.1, 0.19), 0.06);
}

/// What a trial may set, in order: each is undone before the next.
TEST(StreamsOut, AreSpoiledWhileARunGoesAndItIsCounted) {
  bench::Setup setup = quay();
  const Stream stream = stream_out();
  const StreamIn in = stream_in(stream);
  setup.bench.ports = {stream, in};
  bench::Run run(setup, setup.network, {.free = true});
  run.record(1.2, 0, {"R1.age"});
  const auto during = [&](double from_s, double until_s, const char* what, double value) {
    return std::vector<Deed>{{.at_s = from_s, .kind = Deed::Kind::set, .what = what, .value = value},
                             {.at_s = until_s, .kind = Deed::Kind::set, .what = what, .value = 0}};
  };
  std::vector<Deed> deeds;
  for (const auto& some : {during(0.1, 0.2, "M1.loss", 0.1), during(0.25, 0.3, "M1.invalid", 1),
                           during(0.35, 0.4, "M1.simulation", 1), during(0.45, 0.55, "M1.duplicates", 0.5),
                           during(0.6, 0.7, "M1.corruption", 0.5), during(0.75, 0.85, "M1.delay", 0.02),
                           during(0.9, 0.95, "M1.test", 1), during(1.0, 1.1, "M1.loss", 1)})
    deeds.insert(deeds.end(), some.begin(), some.end());
  run.schedule(deeds);
  ASSERT_EQ(run.start(), "");
  (void)run.execute(1.2);
  EXPECT_EQ(run.failure(), "");
  const std::vector<Account> accounts = run.accounts();
  // 400 frames at a tenth, 400 doubled by half, 400 half corrupt, 400 late, 400 lost.
  EXPECT_NEAR(static_cast<double>(accounts.at(0).spoiled), 40 + 200 + 200 + 400 + 400, 80);
  const Account& read = accounts.at(1);
  EXPECT_NEAR(static_cast<double>(read.unfit), 200 + 200, 30) << "invalid and under test";
  EXPECT_NEAR(static_cast<double>(read.refused), 200, 20);
  EXPECT_NEAR(static_cast<double>(read.late), 200, 60);
  EXPECT_GT(read.malformed, 20);
  const record::Record record = run.take_record(0);
  const auto good = [&](double at_s) {
    const auto* lane = record.find_binary("R1.good");
    return lane->samples[static_cast<std::size_t>(at_s * record.rate_Hz)] != 0;
  };
  EXPECT_TRUE(good(0.15)) << "single losses are bridged";
  EXPECT_FALSE(good(0.29));
  EXPECT_TRUE(good(0.33));
  EXPECT_FALSE(good(1.05));
  EXPECT_TRUE(good(1.15));
  const auto value = [&](const char* name, double at_s) {
    return record.find_analog(name)->samples[static_cast<std::size_t>(at_s * record.rate_Hz)];
  };
  EXPECT_EQ(value("R1.va", 0.295), 0);
  EXPECT_NEAR(value("R1.age", 0.15), in.delay_s, 1e-4);
}

/// Who publishes samples beside the bench, and holds its breath when told.
class Beside {
 public:
  Beside(std::string id, int appid) : id_(std::move(id)), appid_(appid) {}
  ~Beside() {
    going_ = false;
    thread_.join();
  }
  std::atomic<bool> quiet = false;

 private:
  void work() {
    const auto link = wire::open_link("lo", wire::Medium::datagram, {});
    wire::SampledValues message = wire::sample_message();
    message.address = wire::sampled_values_address(static_cast<std::uint16_t>(appid_));
    message.first().id = id_;
    wire::put_sample({}, message.first());
    const auto began = std::chrono::steady_clock::now();
    for (long long count = 0; going_; ++count) {
      std::this_thread::sleep_until(began + count * std::chrono::microseconds(250));
      message.first().count = static_cast<std::uint16_t>(count % 4000);
      if (!quiet) (void)link->send(wire::frame_of(message));
    }
  }
  std::string id_;
  int appid_;
  std::atomic<bool> going_ = true;
  std::thread thread_{[this] { work(); }};
};

TEST(Streams, AreSentByAThreadOfTheirOwnWhereTheBenchSaysSo) {
  for (const char* by : {"thread", "plant", "automatic"}) {  // automatic: a step of 50 us leaves the time
    bench::Setup setup = quay();
    setup.bench.frames_by = by;
    setup.bench.ports = {stream_out()};
    bench::Run run(setup, setup.network, {});
    run.record(0.1, 0, {});
    ASSERT_EQ(run.start(), "");
    (void)run.execute(0.1);
    EXPECT_EQ(run.failure(), "");
    run.end();
    const std::vector<Account> accounts = run.accounts();
    const auto of = [&](const char* port) {
      return std::find_if(accounts.begin(), accounts.end(),
                          [&](const Account& one) { return one.port == port; });
    };
    ASSERT_NE(of("stream.M1"), accounts.end());
    EXPECT_EQ(of("stream.M1")->sent, 401);
    if (std::string(by) != "thread") {
      EXPECT_EQ(of("frames"), accounts.end()) << by;
      continue;
    }
    ASSERT_NE(of("frames"), accounts.end());
    EXPECT_EQ(of("frames")->sent, 401);
    EXPECT_EQ(of("frames")->delay.count(), 401);
  }
}

/// A hole in samples is told; a longer one than the field allows ends the run, where they must come.
TEST(StreamsIn, EndTheRunWhereTheyStayAway) {
  bench::Setup setup = quay();
  StreamIn in = stream_in(stream_out());
  in.when_silent = "end";
  in.ends_after_s = 0.3;
  setup.bench.ports = {in};
  Beside publisher(in.id, in.appid);
  for (const double hole_s : {0.1, 0.5}) {
    publisher.quiet = false;
    bench::Run run(setup, setup.network, {.free = true});
    run.record(0.9, 0, {});
    ASSERT_EQ(run.start(), "");
    (void)run.execute(0.9, [&] {
      const double now_s = run.exchange().time_s();
      publisher.quiet = now_s > 0.2 && now_s < 0.2 + hole_s;
      return false;
    });
    const std::string why = run.failure();
    EXPECT_EQ(why.empty(), hole_s < 0.3) << why;
    EXPECT_TRUE(why.empty() || why.find("to be used since 0.") != std::string::npos) << why;
    const record::Record record = run.take_record(0);
    EXPECT_EQ(record.find_binary("R1.good")->samples[static_cast<std::size_t>(0.27 * record.rate_Hz)], 0);
  }
}

TEST(Messages, CarryDataOfEveryKindThereAndBack) {
  bench::Setup setup = quay();
  Message message;
  message.name = "M1";
  message.id = own_id("yard");
  message.appid = 0x311;
  message.revision = 4;
  message.entries = {"Q1 as position",
                     "quality of Q1",
                     "time of Q1",
                     "CT1.ia as float within 10 A",
                     "{ bench.remote, quality of bench.remote, VT1.va as integer within 5 V }",
                     "[ bench.remote - Q1 ]"};
  Subscription reading;
  reading.name = "S1";
  reading.id = message.id;
  reading.appid = message.appid;
  reading.revision = 4;
  reading.entries = {
      "q1 as position",    "quality of q1", "-", "ia as float", "{ go, quality of go, va as integer }",
      "[ bit1 bit2 bit3 ]"};
  reading.opens = {"Q1: go"};
  reading.sets = {"grid.voltage: ia"};
  setup.bench.ports = {message, reading};
  for (const Flaw& flaw : validate(setup))
    ADD_FAILURE() << flaw.place << " " << flaw.field << " " << flaw.text;
  setup.bench.ports = {message, [&] {
                         auto r = reading;
                         r.sets = {};
                         return r;
                       }()};
  bench::Run run(setup, setup.network, {.free = true});
  run.record(0.6, 0, {"S1.ia", "S1.va", "CT1.ia", "VT1.va"});
  run.schedule({{.at_s = 0.2, .kind = Deed::Kind::set, .what = "M1.invalid", .value = 1},
                {.at_s = 0.25, .kind = Deed::Kind::close, .what = "bench.remote"},
                {.at_s = 0.4, .kind = Deed::Kind::set, .what = "M1.invalid", .value = 0}});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.6);
  ASSERT_EQ(run.failure(), "");
  const record::Record record = run.take_record(0);
  double opened_s = 0;
  for (const record::Event& event : record.events) {
    if (event.text == "S1 go") opened_s = event.time_s;
  }
  EXPECT_NEAR(opened_s, 0.4, 0.03) << "what is not good is not taken";
  // A bit string has no quality of its own here: its first bit rises with the contact, its last is Q1.
  const auto when = [&](const std::string& text) {
    for (const record::Event& event : record.events) {
      if (event.text == text) return event.time_s;
    }
    return -1.0;
  };
  EXPECT_NEAR(when("S1 bit1"), 0.25, 0.03);
  EXPECT_EQ(when("S1 bit2"), -1);
  EXPECT_NEAR(when("S1 bit3 off"), opened_s, 0.03) << "as Q1 opens";
  const auto* sent = record.find_analog("CT1.ia");
  const auto* read = record.find_analog("S1.ia");
  ASSERT_TRUE(sent && read);
  double most = 0;
  for (std::size_t k = 0; k < record.time_s.size(); ++k) {
    if (record.time_s[k] > 0.1 && record.time_s[k] < 0.19)
      most = std::max(most, std::abs(read->samples[k] - sent->samples[k]));
  }
  EXPECT_LT(most, 60) << "of 200 A: within its dead band, and what it moves in a message's way";
  EXPECT_GT(run.accounts().at(1).unfit, 10);
}

TEST(Messages, OfAnotherRevisionStartNothing) {
  bench::Setup setup = quay();
  Message message;
  message.name = "M1";
  message.id = own_id("rev");
  message.appid = 0x312;
  message.entries = {"Q1"};
  Subscription reading;
  reading.name = "S1";
  reading.id = message.id;
  reading.appid = message.appid;
  reading.revision = 2;
  reading.entries = {"q1"};
  setup.bench.ports = {message, reading};
  bench::Run run(setup, setup.network, {.free = true});
  EXPECT_NE(run.start().find("of another revision or data set"), std::string::npos);
}

TEST(Messages, ThatFallSilentEndTheRunOrNot) {
  for (const char* what : {"end", "keep", "off"}) {
    bench::Setup setup = quay();
    Message message;
    message.name = "M1";
    message.id = own_id("mute");
    message.appid = 0x313;
    message.entries = {"Q1"};
    Subscription reading;
    reading.name = "S1";
    reading.id = message.id;
    reading.appid = message.appid;
    reading.entries = {"q1"};
    reading.when_silent = what;
    setup.bench.ports = {message, reading};
    bench::Run run(setup, setup.network, {.free = true});
    run.record(1.6, 0, {});
    run.schedule({{.at_s = 0.1, .kind = Deed::Kind::set, .what = "M1.silent", .value = 1}});
    ASSERT_EQ(run.start(), "");
    (void)run.execute(1.6);
    const std::string why = run.failure();
    EXPECT_EQ(why.empty(), std::string(what) != "end") << what << ": " << why;
    const record::Record record = run.take_record(0);
    EXPECT_EQ(record.find_binary("S1.q1")->samples.back() != 0, std::string(what) != "off") << what;
  }
}

TEST(DataSets, AreReadAsTheyAreWritten) {
  using internal::EntryText;
  const auto entries =
      internal::read_data_set({"{Q1 as position ,quality of Q1}", " T1.p as float within 10 kW "});
  ASSERT_EQ(entries.size(), 4U);
  EXPECT_EQ(entries[0].what, EntryText::What::structure);
  EXPECT_EQ(entries[0].members, 2);
  EXPECT_TRUE(entries[1].position);
  EXPECT_EQ(entries[2].what, EntryText::What::quality);
  EXPECT_EQ(entries[3].name, "T1.p");
  EXPECT_EQ(entries[3].within, "10 kW");
  for (const char* bad : {"", "{Q1", "{}", "{Q1,}", "Q1 as double", "Q1 within 3",
                          "Q1 as position within 3 V", "a b", "{ {Q1} }"})
    EXPECT_THROW((void)internal::read_data_set({bad}), Error) << bad;
  EXPECT_THROW((void)internal::read_data_set({}), Error);
}

/// Shares of 10,000 frames, and the order of what is late.
TEST(Way, SpoilsTheShareThatIsAsked) {
  bench::Setup setup = quay();
  struct Counted {
    long long there = 0, twice = 0, changed = 0, disordered = 0;
  };
  const auto spoiled = [&](const char* what, double value) {
    Counted counted;
    bench::Run run(setup, setup.network, {.free = true});
    internal::Way way;
    auto probe = std::make_unique<Probe>();
    probe->wired = [&](Exchange& exchange) { way.declare(exchange, "W"); };
    run.add(std::move(probe));
    (void)run.exchange().ask(run.exchange().settable_of(std::string("W.") + what), value);
    std::uint32_t last = 0;
    for (std::uint32_t k = 1; k <= 10'000; ++k) {
      std::array<std::uint8_t, 60> frame{};
      for (std::size_t b = 0; b < 4; ++b) frame[b] = static_cast<std::uint8_t>(k >> (8 * b));
      const auto take = [&](wire::Bytes got) {
        const std::uint32_t number = got[0] | got[1] << 8U | got[2] << 16U;
        ++counted.there;
        counted.twice += number == last ? 1 : 0;
        counted.disordered += number < last ? 1 : 0;
        counted.changed +=
            std::any_of(got.begin() + 4, got.end(), [](auto byte) { return byte != 0; }) ? 1 : 0;
        last = number;
      };
      (void)way.look(run.exchange());
      way.release(k * 1'000'000LL, take);
      way.pass(frame, k * 1'000'000LL, take);
    }
    return counted;
  };
  EXPECT_EQ(spoiled("loss", 0).there, 10'000);
  EXPECT_NEAR(static_cast<double>(spoiled("loss", 0.2).there), 8000, 200);
  EXPECT_NEAR(static_cast<double>(spoiled("duplicates", 0.3).twice), 3000, 200);
  EXPECT_NEAR(static_cast<double>(spoiled("corruption", 0.1).changed), 1000, 150);
  const Counted mixed = spoiled("disorder", 0.1);
  EXPECT_NEAR(static_cast<double>(mixed.disordered), 900, 150);
  EXPECT_GE(mixed.there, 9'999);
  const Counted late = spoiled("jitter", 0.05);
  EXPECT_EQ(late.disordered, 0);
  EXPECT_NEAR(static_cast<double>(late.there), 10'000 - 25, 30) << "50 ms at most are still under way";
}

}  // namespace
}  // namespace zavrek::bench
