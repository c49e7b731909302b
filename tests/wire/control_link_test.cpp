#include "zavrek/wire/control_link.hpp"
#include "zavrek/bench/stand_ins.hpp"

#include <array>
#include <cmath>
#include <limits>
#include <thread>

#include <gtest/gtest.h>

namespace zavrek::wire {
namespace {

TEST(ControlLink, LaysAMeasureOutAsItsTableSays) {
  const ControlMeasure message{false, 7, 0.5, {1.0}, {{2, -2.0}}};
  std::array<std::uint8_t, 64> bytes{};
  const std::size_t size = encode(message, bytes);
  const std::vector<std::uint8_t> wanted{
      'Z',  'V',  'C',  'M',  1,    1, 0, 0, 0, 7,         // magic, version, measure, period
      0x3F, 0xE0, 0,    0,    0,    0, 0, 0,               // 0.5 s
      0,    1,    0x3F, 0xF0, 0,    0, 0, 0, 0, 0,         // one signal, 1.0
      0,    1,    0,    2,    0xC0, 0, 0, 0, 0, 0, 0, 0};  // one knob, number 2, -2.0
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
  ControlMeasure message{false, 1, 0, {std::numeric_limits<double>::infinity()}, {}};
  std::array<std::uint8_t, 64> bytes{};
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

TEST(ControlPort, ServesAControllerThatRunsOncePerPeriodAndAfreshFromPeriodZero) {
  ControlPort served(0), asking(0);
  asking.aim(served.port());
  std::atomic<bool> stop{false};
  bench::ControlCounts counts;
  std::thread server([&] { counts = bench::serve_controller(counting, served, stop); });
  std::vector<std::uint8_t> bytes(longest_control_message);
  const auto ask = [&](std::uint32_t tick) {
    const ControlMeasure message{false, tick, tick * 1e-3, {2}, {}};
    EXPECT_TRUE(asking.send({bytes.data(), encode(message, bytes)}));
    ControlAnswer answer;
    const std::size_t size = asking.receive(bytes, 2000, false);
    EXPECT_TRUE(decode({bytes.data(), size}, answer));
    EXPECT_EQ(answer.tick, tick);
    double sum = 0;  // outputs stand in the order of the description: was, sum
    if (answer.outputs.size() == 2) sum = answer.outputs[1];
    return sum;
  };
  EXPECT_EQ(ask(0), 2);
  EXPECT_EQ(ask(1), 4);
  EXPECT_EQ(ask(1), 4) << "asked again it answers again";
  EXPECT_EQ(ask(2), 6);
  EXPECT_EQ(ask(0), 2) << "a new run starts afresh";
  const std::array<std::uint8_t, 3> garbage{1, 2, 3};
  EXPECT_TRUE(asking.send(garbage));
  const ControlMeasure end{true, 0, 0, {}, {}};
  EXPECT_TRUE(asking.send({bytes.data(), encode(end, bytes)}));
  server.join();
  EXPECT_EQ(counts.malformed, 1);
  EXPECT_EQ(counts.periods, 4);
}

}  // namespace
}  // namespace zavrek::wire
