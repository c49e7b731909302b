// Memory that a run shares with its controller.
#include <array>
#include <numeric>
#include <thread>
#include <vector>

#include <gtest/gtest.h>

#include "zavrek/error.hpp"
#include "zavrek/wire/control_link.hpp"

namespace zavrek::wire {
namespace {

TEST(ControlMemory, CarriesMessagesOfAnySizeBothWaysInOrder) {
  ControlMemory plant = ControlMemory::make();
  ControlMemory controller = ControlMemory::open(plant.name());
  constexpr int count = 20'000;
  constexpr int patience_ms = 60'000;  // a computer that is held back for seconds loses no message
  int answered = 0, wrong = 0;
  std::thread answering([&] {
    std::vector<std::uint8_t> bytes(longest_control_message);
    for (; answered < count; ++answered) {
      const std::size_t size = controller.receive(bytes, patience_ms);
      for (std::size_t i = 0; i < size; ++i) bytes[i] = static_cast<std::uint8_t>(~bytes[i]);
      if (size == 0 || !controller.send({bytes.data(), size})) return;
    }
  });
  std::vector<std::uint8_t> sent(3000), got(longest_control_message);
  for (int k = 0; k < count && wrong == 0; ++k) {
    const std::size_t size = 1 + static_cast<std::size_t>(k) % 3000;
    std::iota(sent.begin(), sent.begin() + static_cast<std::ptrdiff_t>(size), static_cast<std::uint8_t>(k));
    wrong += !plant.send({sent.data(), size}) || plant.receive(got, patience_ms) != size;
    for (std::size_t i = 0; i < size; ++i) wrong += got[i] != static_cast<std::uint8_t>(~sent[i]);
  }
  answering.join();
  EXPECT_EQ(wrong, 0) << "after " << answered;
  EXPECT_EQ(answered, count);
}

TEST(ControlMemory, TakesNoMoreThanItHasRoomForAndIsFoundOnceOnly) {
  ControlMemory plant = ControlMemory::make();
  const std::string name = plant.name();
  ControlMemory controller = ControlMemory::open(name);
  EXPECT_THROW((void)ControlMemory::open(name), Error) << "nobody finds it a second time";
  EXPECT_THROW((void)ControlMemory::open("/zavrek-control-none"), Error);
  std::array<std::uint8_t, 4> word{1, 2, 3, 4};
  for (int k = 0; k < 8; ++k) EXPECT_TRUE(plant.send(word));
  EXPECT_FALSE(plant.send(word)) << "eight wait already";
  EXPECT_FALSE(controller.send(std::vector<std::uint8_t>(longest_control_message + 1)));
  std::array<std::uint8_t, 2> narrow{};
  EXPECT_EQ(controller.receive(narrow, 0), 0U) << "what does not fit is passed over";
  std::array<std::uint8_t, 16> wide{};
  for (int k = 1; k < 8; ++k) EXPECT_EQ(controller.receive(wide, 0), 4U);
  EXPECT_EQ(controller.receive(wide, 3), 0U);
  EXPECT_EQ(plant.receive(wide, 0), 0U);
}

/// A controller that is slow to begin finds the one question that was put, and answers it once: who asks
/// over memory has no need to ask again.
TEST(ControlMemory, KeepsAQuestionUntilSomebodyComesForIt) {
  ControlMemory plant = ControlMemory::make();
  EXPECT_TRUE(plant.keeps());
  EXPECT_FALSE(ControlPort(0).keeps()) << "a datagram that nobody listens to is gone";
  const std::array<std::uint8_t, 4> question{1, 2, 3, 4};
  ASSERT_TRUE(plant.send(question));
  std::array<std::uint8_t, 16> got{};
  EXPECT_EQ(plant.receive(got, 2), 0U) << "nobody is there";
  ControlMemory controller = ControlMemory::open(plant.name());
  EXPECT_EQ(controller.receive(got, 0), 4U);
  EXPECT_EQ(got[3], 4);
  EXPECT_EQ(controller.receive(got, 0), 0U) << "it comes once";
  ASSERT_TRUE(controller.send(question));
  EXPECT_EQ(plant.receive(got, 0), 4U);
}

}  // namespace
}  // namespace zavrek::wire
