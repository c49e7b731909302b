// What the second is: streams that count from it, its state in frames, time codes, and intruders.
#include <gtest/gtest.h>

#include <thread>

#include <unistd.h>

#include "bench/irig.hpp"
#include "bench/probe.hpp"
#include "bench/quay.hpp"
#include "zavrek/bench.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::bench {
namespace {

using internal::IrigFrame;
using internal::Symbol;

unsigned digits_of(const IrigFrame& frame, std::size_t at, int count) {
  unsigned value = 0;
  for (int k = 0; k < count; ++k)
    value |= (frame[at + static_cast<std::size_t>(k)] == Symbol::one ? 1U : 0U) << static_cast<unsigned>(k);
  return value;
}

/// 30 November 2026, 23:31:32 UTC: day 334, second 84,692 of the day (IRIG standard 200, table 6-6).
TEST(Irig, SaysTheTimeInTheDigitsOfTheStandard) {
  const IrigFrame frame = internal::irig_frame(1'796'081'492, 0, 4);
  EXPECT_EQ(digits_of(frame, 1, 4), 2U);
  EXPECT_EQ(digits_of(frame, 6, 3), 3U);
  EXPECT_EQ(digits_of(frame, 10, 4), 1U);
  EXPECT_EQ(digits_of(frame, 15, 3), 3U);
  EXPECT_EQ(digits_of(frame, 20, 4), 3U);
  EXPECT_EQ(digits_of(frame, 25, 2), 2U);
  EXPECT_EQ(digits_of(frame, 30, 4) + 10 * digits_of(frame, 35, 4) + 100 * digits_of(frame, 40, 2), 334U);
  EXPECT_EQ(digits_of(frame, 50, 4) + 10 * digits_of(frame, 55, 4), 26U);
  EXPECT_EQ(digits_of(frame, 71, 4), 4U);
  EXPECT_EQ(digits_of(frame, 80, 9) + (digits_of(frame, 90, 8) << 9U), 84'692U);
  unsigned ones = 0;
  for (std::size_t k = 1; k <= 75; ++k) ones += frame[k] == Symbol::one ? 1 : 0;
  EXPECT_EQ(ones % 2, 1U) << "odd parity";
  for (const std::size_t k : {0U, 9U, 19U, 49U, 99U}) EXPECT_EQ(frame[k], Symbol::position) << k;
  const IrigFrame ahead = internal::irig_frame(1'796'081'492, 330, 0);
  EXPECT_EQ(digits_of(ahead, 20, 4) + 10 * digits_of(ahead, 25, 2), 5U) << "5:01 of the next day";
  EXPECT_EQ(digits_of(ahead, 30, 4), 5U);
  EXPECT_EQ(digits_of(ahead, 65, 4), 5U);
  EXPECT_EQ(digits_of(ahead, 70, 1), 1U);
  EXPECT_TRUE(internal::irig_level(frame, 0.0079));
  EXPECT_FALSE(internal::irig_level(frame, 0.0081));
  EXPECT_FALSE(internal::irig_level(frame, 0.9981)) << "the last is a position, of 8 ms";
}

/// Read symbol by symbol from its level, with a jitter of two steps of 50 us.
TEST(Irig, IsReadBackFromItsLevel) {
  internal::IrigReader reader;
  const std::int64_t begins_s = 1'796'081'490;
  int seconds = 0;
  for (int minutes : {0, -210}) {
    for (std::int64_t ns = 370'000'000; ns < 4'100'000'000; ns += 100'000) {
      const std::int64_t second = begins_s + ns / 1'000'000'000;
      const IrigFrame frame = internal::irig_frame(second, minutes, 4);
      if (!reader.see(internal::irig_level(frame, 1e-9 * static_cast<double>(ns % 1'000'000'000)), ns))
        continue;
      ++seconds;
      EXPECT_EQ(reader.time().utc_s, second) << "told with its last symbol";
      EXPECT_EQ(reader.time().quality, 4U);
      EXPECT_EQ(reader.began_ns(), (second - begins_s) * 1'000'000'000);
    }
  }
  EXPECT_EQ(seconds, 2 * 3);
  IrigFrame damaged = internal::irig_frame(begins_s, 0, 0);
  EXPECT_TRUE(internal::irig_time(damaged));
  damaged[3] = damaged[3] == Symbol::one ? Symbol::zero : Symbol::one;
  EXPECT_FALSE(internal::irig_time(damaged)) << "its parity is wrong";
  damaged[19] = Symbol::zero;
  EXPECT_FALSE(internal::irig_time(damaged));
}

TEST(Irig, ModulatesACarrier) {
  const IrigFrame frame = internal::irig_frame(1'796'081'492, 0, 0);
  EXPECT_NEAR(internal::irig_carrier(frame, 0.00025), 1, 1e-9) << "high";
  EXPECT_NEAR(internal::irig_carrier(frame, 0.00825), 1.0 / 3, 1e-9) << "low";
  EXPECT_NEAR(internal::irig_carrier(frame, 0.00975), -1.0 / 3, 1e-9);
  for (const double at_s : {0.0, 0.01, 0.5, 0.99}) EXPECT_NEAR(internal::irig_carrier(frame, at_s), 0, 1e-9);
}

bench::Setup timed_quay(const std::string& id) {
  bench::Setup setup = quay();
  Stream stream = stream_of_quay(id, 0x5011);
  stream.includes = {"refrTm"};
  setup.bench.ports = {stream};
  return setup;
}

/// Of all samples: their number is that of their instant within the second, and says so of the clock.
TEST(Clock, StreamsCountFromTheFullSecond) {
  const std::string id = "clock" + std::to_string(getpid());
  bench::Setup setup = timed_quay(id);
  bench::Run run(setup, setup.network, {.free = true});
  const auto link = wire::open_link("lo", wire::Medium::datagram, {wire::ethertype_sampled_values, {0x5011}});
  run.record(0.3, 0, {});
  run.schedule({{.at_s = 0.15, .kind = Deed::Kind::set, .what = "M1.synchronised", .value = 2},
                {.at_s = 0.25, .kind = Deed::Kind::set, .what = "clock.lost", .value = 1}});
  ASSERT_EQ(run.start(), "");
  const std::int64_t before_ns = pace::utc_ns() - pace::system_clock().now_ns();
  (void)run.execute(0.3);
  wire::FrameBuffer buffer;
  wire::SampledValues read;
  int samples = 0, said = 0;
  // Somebody may turn the computer's clock while this runs.
  const double turned_s =
      1e-9 * std::abs(static_cast<double>(pace::utc_ns() - pace::system_clock().now_ns() - before_ns));
  while (const std::size_t length = link->receive(buffer)) {
    ASSERT_TRUE(decode(wire::Bytes(buffer).first(length), read));
    if (read.first().id != id) continue;
    ++samples;
    const double of_second_s = 1e-9 * static_cast<double>(read.first().refresh->utc_ns % 1'000'000'000);
    // refrTm is taken when the frame is made, by a clock that is read: a sample's time off at most.
    const double off = std::remainder(read.first().count / 4000.0 - of_second_s, 1.0);
    EXPECT_LT(std::abs(off), 1.5 / 4000 + turned_s) << read.first().count;
    said += read.first().synchronised == 2 ? 1 : 0;
  }
  EXPECT_GT(samples, 1100);
  EXPECT_NEAR(said, 600, 20);
  const std::vector<Account> accounts = run.accounts();
  EXPECT_EQ(accounts.back().port, "clock");
  EXPECT_NE(accounts.back().carries.find("the computer's clock"), std::string::npos);
  setup.bench.clock = "ptp";
  setup.bench.clock_device = "/dev/null";
  EXPECT_THROW(bench::Run(setup, setup.network, {.free = true}), Error);
}

TEST(Clock, ARunMayBeginOnTheSecond) {
  bench::Setup setup = timed_quay("second" + std::to_string(getpid()));
  setup.bench.begins = "on the second";
  bench::Run run(setup, setup.network, {.free = true});
  std::int64_t first_ns = 0;
  auto probe = std::make_unique<Probe>();
  probe->sampled = [&](const Exchange& exchange) {
    if (first_ns == 0) first_ns = exchange.plant_utc_ns();
  };
  run.add(std::move(probe));
  run.record(0.01, 0, {});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.01);
  const auto of_second_ns = first_ns % 1'000'000'000;
  EXPECT_LT(std::min(of_second_ns, 1'000'000'000 - of_second_ns), 300'000);
}

/// A receiver of time at a terminal board: a contact that closes at each second of a clock which is not the
/// computer's.
TEST(Clock, FollowsPulsesAtATerminal) {
  const std::string name = "pulses" + std::to_string(getpid());
  bench::Setup setup = timed_quay(name);
  Card board;
  board.name = "board";
  board.address = name;
  ContactIn in;
  in.name = "gps";
  in.card = "board";
  in.points = {"second"};
  setup.bench.ports.emplace_back(board);
  setup.bench.ports.emplace_back(in);
  setup.bench.clock = "pulse";
  ASSERT_FALSE(validate(setup).empty()) << "without the point that pulses";
  setup.bench.clock_pulse = "gps.second";
  ASSERT_TRUE(validate(setup).empty());
  constexpr std::int64_t second_ns = 1'000'000'000, behind_ns = 300'000'000;
  std::jthread receiver([&](const std::stop_token& stop) {
    while (!stop.stop_requested()) {
      while (!stop.stop_requested() && !card::Board::there(name)) usleep(1000);
      if (stop.stop_requested()) return;
      card::Board at = card::Board::find(name);
      while (!stop.stop_requested() && at.served()) {
        const std::int64_t of_second_ns = (pace::system_clock().now_ns() - behind_ns) % second_ns;
        at.put(card::Board::Part::contacts_in, 0, of_second_ns < 100'000'000 ? 1 : 0);
        usleep(50);
      }
    }
  });
  double worst_s = 0;
  int samples = 0;
  std::unique_ptr<bench::Run> begun;
  std::string why;
  // A busy computer may see a pulse a millisecond late: then it is none, and the run does not begin.
  for (int attempt = 0; attempt < 5 && (attempt == 0 || !why.empty()); ++attempt) {
    begun.reset();
    begun = std::make_unique<bench::Run>(setup, setup.network, bench::RunOptions{.free = true});
    auto probe = std::make_unique<Probe>();
    probe->sampled = [&](const Exchange& exchange) {
      if (samples++ % 400 != 0) return;
      const std::int64_t its_ns = pace::system_clock().now_ns() - behind_ns;
      const double off_s =
          1e-9 * static_cast<double>(its_ns % second_ns - exchange.plant_utc_ns() % second_ns);
      worst_s = std::max(worst_s, std::abs(std::remainder(off_s, 1.0)));
    };
    begun->add(std::move(probe));
    begun->record(0.5, 0, {});
    why = begun->start();
  }
  ASSERT_EQ(why, "");
  bench::Run& run = *begun;
  (void)run.execute(0.5);
  EXPECT_EQ(run.failure(), "");
  EXPECT_GT(samples, 1900);
  EXPECT_LT(worst_s, 5e-3) << "of a busy computer";
  EXPECT_NE(run.accounts().back().carries.find("the pulses of gps.second, synchronised to a global clock"),
            std::string::npos)
      << run.accounts().back().carries;
}

TEST(Clock, DoesNotBeginWithoutItsPulses) {
  const std::string name = "dumb" + std::to_string(getpid());
  bench::Setup setup = timed_quay(name);
  setup.bench.clock = "pulse";
  setup.bench.clock_pulse = "bench.remote";
  bench::Run run(setup, setup.network, {.free = true});
  EXPECT_NE(run.start().find("no second comes from the pulses of bench.remote"), std::string::npos);
}

TEST(Intruder, IsCountedAndNotBelieved) {
  const std::string id = "yard" + std::to_string(getpid());
  bench::Setup setup = timed_quay("unused");
  Message message;
  message.name = "M2";
  message.id = id;
  message.appid = 0x321;
  message.entries = {"{ Q1 as position, quality of Q1 }", "bench.remote"};
  Subscription reading;
  reading.name = "S2";
  reading.id = id;
  reading.appid = 0x321;
  reading.entries = {"{ q1 as position, quality of q1 }", "go"};
  reading.opens = {"Q1: go"};
  Intruder intruder;
  intruder.name = "mole";
  intruder.as = "S2";
  setup.bench.ports = {message, reading, intruder};
  ASSERT_TRUE(validate(setup).empty());
  bench::Run run(setup, setup.network, {.free = true});
  run.record(0.4, 0, {});
  run.schedule({{.at_s = 0.1, .kind = Deed::Kind::set, .what = "mole.forged", .value = 1000},
                {.at_s = 0.2, .kind = Deed::Kind::set, .what = "mole.forged", .value = 0},
                {.at_s = 0.2, .kind = Deed::Kind::set, .what = "mole.rubbish", .value = 20'000},
                {.at_s = 0.3, .kind = Deed::Kind::set, .what = "mole.rubbish", .value = 0}});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.4);
  EXPECT_EQ(run.failure(), "");
  for (const record::Event& event : run.take_record(0).events) EXPECT_NE(event.text, "S2 go");
  const std::vector<Account> accounts = run.accounts();
  EXPECT_NEAR(static_cast<double>(accounts.at(1).conflicting), 100, 3);
  EXPECT_GT(accounts.at(1).malformed, 1000);
  EXPECT_NEAR(static_cast<double>(accounts.at(2).sent), 2100, 10);
  setup.bench.ports.back() = Intruder{.name = "mole", .as = "S9"};
  EXPECT_EQ(validate(setup).size(), 1U);
}

}  // namespace
}  // namespace zavrek::bench
