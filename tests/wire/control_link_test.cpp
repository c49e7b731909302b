#include "zavrek/wire/control_link.hpp"
#include "zavrek/bench/stand_ins.hpp"

#include <array>
#include <cmath>
#include <limits>
#include <optional>
#include <thread>

#include <gtest/gtest.h>

namespace zavrek::wire {
namespace {

TEST(ControlLink, LaysAMeasureOutAsItsTableSays) {
  const ControlMeasure message{
      .key = {0xAB, 0xCD}, .tick = 7, .time_s = 0.5, .signals = {1.0}, .turned = {{2, -2.0}}};
  std::array<std::uint8_t, 96> bytes{};
  const std::size_t size = encode(message, bytes);
  const std::vector<std::uint8_t> wanted{
      'Z',  'V',  'C',  'M',  2,    1,                                // magic, version, measure
      0xAB, 0xCD, 0,    0,    0,    0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,  // key
      0,    0,    0,    7,                                            // period
      0x3F, 0xE0, 0,    0,    0,    0, 0, 0,                          // 0.5 s
      0,    1,    0x3F, 0xF0, 0,    0, 0, 0, 0, 0,                    // one signal, 1.0
      0,    1,    0,    2,    0xC0, 0, 0, 0, 0, 0, 0, 0};             // one knob, number 2, -2.0
  EXPECT_EQ(std::vector<std::uint8_t>(bytes.begin(), bytes.begin() + static_cast<long>(size)), wanted);
  ControlMeasure read;
  ASSERT_TRUE(decode({bytes.data(), size}, read));
  EXPECT_EQ(read.tick, 7U);
  EXPECT_EQ(read.signals, message.signals);
  EXPECT_EQ(read.turned, message.turned);
}

ControlAnswer sample_answer() {
  ControlAnswer answer;
  answer.tick = 9;
  answer.knobs = {1, 2};
  answer.outputs = {3, 4, 5};
  answer.closes = {1, 0};
  answer.edges = {{3, true, 0.25}, {4, false, 0.5}};
  answer.failure = "no";
  return answer;
}

TEST(ControlLink, CarriesAnAnswerAndRefusesEveryTruncationAndAddition) {
  std::array<std::uint8_t, 256> bytes{};
  const std::size_t size = encode(sample_answer(), bytes);
  ControlAnswer read;
  ASSERT_TRUE(decode({bytes.data(), size}, read));
  EXPECT_EQ(read.outputs, sample_answer().outputs);
  EXPECT_EQ(read.edges[1].gate, 4);
  EXPECT_EQ(read.edges[1].at_s, 0.5);
  EXPECT_EQ(read.failure, "no");
  for (std::size_t shorter = 0; shorter < size; ++shorter)
    EXPECT_FALSE(decode({bytes.data(), shorter}, read));
  EXPECT_FALSE(decode({bytes.data(), size + 1}, read));
  EXPECT_EQ(encode(sample_answer(), std::span(bytes).first(size - 1)), 0U) << "what does not fit is not sent";
}

TEST(ControlLink, RefusesNumbersThatAreNotFinite) {
  ControlMeasure message{.tick = 1, .signals = {std::numeric_limits<double>::infinity()}};
  std::array<std::uint8_t, 96> bytes{};
  const std::size_t size = encode(message, bytes);
  EXPECT_FALSE(decode({bytes.data(), size}, message));
}

TEST(ControlLink, SurvivesGarbage) {
  std::array<std::uint8_t, 256> bytes{};
  const std::size_t size = encode(sample_answer(), bytes);
  unsigned state = 1;
  ControlAnswer answer;
  ControlMeasure measure;
  for (int k = 0; k < 20000; ++k) {
    auto damaged = bytes;
    for (int n = 0; n < 3; ++n) {
      state = state * 1664525U + 1013904223U;
      damaged[(state >> 8) % size] = static_cast<std::uint8_t>(state >> 24);
    }
    (void)decode({damaged.data(), size}, answer);
    damaged[3] = 'M';
    (void)decode({damaged.data(), size}, measure);
  }
}

/// Counts its periods: a block that adds its own output to its input.
control::Controller counting() {
  control::Description description;
  description.period_s = 1e-3;
  auto& delay = description.blocks.emplace_back().emplace<control::Delay>();
  delay.name = "was";
  delay.input = "sum";
  auto& sum = description.blocks.emplace_back().emplace<control::Sum>();
  sum.name = "sum";
  sum.inputs = {"was", "x"};
  return {description, {"x"}};
}

/// A run that asks a controller, as it should or as somebody who should not.
struct Asker {
  ControlPort port{0};
  ControlKey key = random_key();
  std::vector<std::uint8_t> bytes = std::vector<std::uint8_t>(longest_control_message);

  explicit Asker(int to) { port.aim(to); }
  void send(ControlMeasure message) {
    message.key = key;
    EXPECT_TRUE(port.send({bytes.data(), encode(message, bytes)}));
  }
  /// The counter's sum; nothing without an answer.
  std::optional<double> ask(std::uint32_t tick, int wait_ms = 2000) {
    send({.tick = tick, .time_s = tick * 1e-3, .signals = {2}});
    ControlAnswer answer;
    const std::size_t size = port.receive(bytes, wait_ms);
    if (size == 0) return std::nullopt;
    EXPECT_TRUE(decode({bytes.data(), size}, answer));
    EXPECT_EQ(answer.tick, tick);
    EXPECT_EQ(answer.key, key);
    return answer.outputs.size() == 2 ? std::optional(answer.outputs[1]) : std::nullopt;  // was, sum
  }
};

/// A controller that counts, served beside the test.
struct Served {
  ControlPort port{0};
  std::atomic<bool> stop{false};
  bench::Account account;
  std::thread server;

  explicit Served(const std::optional<ControlKey>& only = {})
      : server([this, only] { account = bench::serve_controller(counting, port, stop, only); }) {}
  ~Served() {
    stop = true;
    if (server.joinable()) server.join();
  }
};

TEST(ControlPort, ServesAControllerThatRunsOncePerPeriodAndAfreshFromPeriodZero) {
  Served served;
  Asker run(served.port.port());
  EXPECT_EQ(run.ask(0), 2);
  EXPECT_EQ(run.ask(1), 4);
  EXPECT_EQ(run.ask(1), 4) << "asked again it answers again";
  EXPECT_EQ(run.ask(2), 6);
  EXPECT_EQ(run.ask(0), 2) << "a new run starts afresh";
  const std::array<std::uint8_t, 3> garbage{1, 2, 3};
  EXPECT_TRUE(run.port.send(garbage));
  run.send({.kind = ControlAsk::end});
  served.server.join();
  EXPECT_EQ(served.account.malformed, 1);
  EXPECT_EQ(served.account.received, 4);
  EXPECT_EQ(served.account.sent, 5);
}

TEST(ControlPort, IsNeitherEndedNorStalledNorSteeredByAStranger) {
  Served served;
  Asker run(served.port.port()), stranger(served.port.port());
  stranger.send({.kind = ControlAsk::end});
  EXPECT_EQ(run.ask(0), 2) << "an idle one is not ended by who has no session";
  stranger.send({.kind = ControlAsk::end});
  stranger.key = run.key;  // the right key from another port
  stranger.send({.kind = ControlAsk::end});
  EXPECT_EQ(stranger.ask(1, 100), std::nullopt);
  EXPECT_EQ(run.ask(1), 4) << "the stranger's question did not run the control";
  run.send({.kind = ControlAsk::leave});
  Asker next(served.port.port());
  EXPECT_EQ(next.ask(0), 2) << "the next run need not wait";
  next.send({.kind = ControlAsk::end});
  served.server.join();
  EXPECT_EQ(served.account.conflicting, 4);
}

TEST(ControlPort, ServesOnlyUnderTheKeyThatItWasGiven) {
  const ControlKey key = parse_key("  00112233445566778899aabbccddeeff\n");
  EXPECT_EQ(to_string(key), "00112233445566778899aabbccddeeff");
  Served served(key);
  Asker stranger(served.port.port()), run(served.port.port());
  EXPECT_EQ(stranger.ask(0, 100), std::nullopt);
  run.key = key;
  EXPECT_EQ(run.ask(0), 2);
  EXPECT_THROW((void)parse_key("0011"), Error);
  EXPECT_THROW((void)parse_key("0011223344556677 8899aabbccddeef"), Error);
}

TEST(ControlPort, HearsNobodyButThePortThatItAimsAt) {
  ControlPort run(0), controller(0), stranger(0);
  run.aim(controller.port());
  const std::array<std::uint8_t, 3> word{1, 2, 3};
  std::array<std::uint8_t, 16> into{};
  EXPECT_TRUE(stranger.send(word, run.port()));
  EXPECT_EQ(run.receive(into, 50), 0U);
  EXPECT_TRUE(controller.send(word, run.port()));
  int from = 0;
  EXPECT_EQ(run.receive(into, 2000, &from), 3U);
  EXPECT_EQ(from, controller.port());
}

}  // namespace
}  // namespace zavrek::wire
