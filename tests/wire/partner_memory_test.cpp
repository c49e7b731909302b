// Memory that two partners share: what one thread says another hears, in its order and whole.
#include <gtest/gtest.h>

#include <cstring>
#include <random>
#include <thread>

#include "zavrek/error.hpp"
#include "zavrek/wire/partner.hpp"

namespace zavrek::wire {
namespace {

std::string some_name() { return "test-" + std::to_string(std::random_device()()); }

TEST(PartnerMemory, CarriesWholeMessagesInTheirOrder) {
  const std::string name = some_name();
  const auto leads = make_partner_memory(name, true), follows = make_partner_memory(name, false);
  constexpr std::uint32_t messages = 20'000;
  const auto speak = [](PartnerWay& way) {
    std::vector<std::uint8_t> message(longest_partner_message);
    for (std::uint32_t k = 0; k < messages;) {
      message.resize(4 + k % 1000);
      std::fill(message.begin(), message.end(), static_cast<std::uint8_t>(k));
      std::memcpy(message.data(), &k, 4);
      if (way.send(message)) ++k;
    }
  };
  const auto listen = [](PartnerWay& way) {
    std::vector<std::uint8_t> message(longest_partner_message);
    for (std::uint32_t k = 0; k < messages;) {
      const std::size_t size = way.receive(message);
      if (size == 0) continue;
      std::uint32_t number = 0;
      std::memcpy(&number, message.data(), 4);
      if (number != k || size != 4 + k % 1000 ||
          (size > 4 && message[size - 1] != static_cast<std::uint8_t>(k)))
        return k;
      ++k;
    }
    return messages;
  };
  std::uint32_t heard_there = 0, heard_here = 0;
  std::thread one([&] { speak(*leads); }), two([&] { heard_there = listen(*follows); }),
      three([&] { speak(*follows); });
  heard_here = listen(*leads);
  one.join();
  two.join();
  three.join();
  EXPECT_EQ(heard_there, messages);
  EXPECT_EQ(heard_here, messages);
}

TEST(PartnerMemory, HasEachSideOnceAndNothingOfAnEarlierRun) {
  const std::string name = some_name();
  {
    const auto leads = make_partner_memory(name, true), follows = make_partner_memory(name, false);
    EXPECT_THROW((void)make_partner_memory(name, true), Error);
    const std::vector<std::uint8_t> one(longest_partner_message, 7);
    int room = 0;
    while (leads->send(one)) ++room;
    EXPECT_EQ(room, 64) << "a full ring takes no more";
  }
  const auto again = make_partner_memory(name, false);
  std::vector<std::uint8_t> heard(longest_partner_message);
  EXPECT_EQ(again->receive(heard), 0U);
}

}  // namespace
}  // namespace zavrek::wire
