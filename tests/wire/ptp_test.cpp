#include "zavrek/wire/ptp.hpp"

#include <gtest/gtest.h>

#include <string>
#include <vector>

namespace zavrek::wire {
namespace {

/// An answer of domain 0: management, RESPONSE, one TLV.
std::vector<std::uint8_t> ptp_message(std::uint16_t about, const std::vector<std::uint8_t>& data) {
  std::vector<std::uint8_t> bytes(54);
  bytes[0] = 0x0D;
  bytes[1] = 2;
  bytes[3] = static_cast<std::uint8_t>(54 + data.size());
  bytes[31] = 7;
  bytes[46] = 2;
  bytes[49] = 1;
  bytes[51] = static_cast<std::uint8_t>(2 + data.size());
  bytes[52] = static_cast<std::uint8_t>(about >> 8U);
  bytes[53] = static_cast<std::uint8_t>(about);
  bytes.insert(bytes.end(), data.begin(), data.end());
  return bytes;
}

TEST(Ptp, AsksAsTheStandardHasIt) {
  const auto question = ptp_question(PtpData::parent, 0x1234, 24);
  EXPECT_EQ(question.size(), 54U);
  EXPECT_EQ(question[0], 0x0D) << "management";
  EXPECT_EQ(question[1], 2);
  EXPECT_EQ(question[3], 54);
  EXPECT_EQ(question[4], 24) << "domain";
  EXPECT_EQ(question[30], 0x12);
  EXPECT_EQ(question[31], 0x34);
  for (std::size_t k = 34; k < 44; ++k) EXPECT_EQ(question[k], 0xFF) << "every port";
  EXPECT_EQ(question[46], 0) << "GET";
  EXPECT_EQ(question[49], 1);
  EXPECT_EQ(question[51], 2) << "no data";
  EXPECT_EQ(question[52], 0x20);
  EXPECT_EQ(question[53], 0x02);
}

TEST(Ptp, ReadsWhatAClockAnswers) {
  std::vector<std::uint8_t> port(26);
  port[10] = 9;
  const auto state = ptp_answer(ptp_message(0x2004, port), 0);
  ASSERT_TRUE(state);
  EXPECT_EQ(state->sequence, 7);
  EXPECT_EQ(state->state, static_cast<std::uint8_t>(PtpState::slave));
  std::vector<std::uint8_t> parent(32);
  parent[19] = 6;
  EXPECT_EQ(ptp_answer(ptp_message(0x2002, parent), 0)->master_class, 6);
  // -285 ns in units of 2^-16 ns: -18,677,760.
  const std::vector<std::uint8_t> current{0, 1, 0xFF, 0xFF, 0xFF, 0xFF, 0xFE, 0xE3, 0,
                                          0, 0, 0,    0,    0,    0,    0,    0,    0};
  EXPECT_EQ(ptp_answer(ptp_message(0x2001, current), 0)->offset_ns, -285);
  EXPECT_EQ(ptp_answer(ptp_message(0x2003, {0, 37, 0x04, 0x20}), 0)->utc_offset_s, 37);
  EXPECT_FALSE(ptp_answer(ptp_message(0x2003, {0, 37, 0x00, 0x20}), 0)->utc_offset_s) << "not valid";
}

TEST(Ptp, PassesOverWhatIsNone) {
  std::vector<std::uint8_t> parent(32);
  const auto message = ptp_message(0x2002, parent);
  EXPECT_TRUE(ptp_answer(message, 0));
  EXPECT_FALSE(ptp_answer(message, 1)) << "another domain";
  for (std::size_t length = 0; length < message.size(); ++length)
    EXPECT_FALSE(ptp_answer(Bytes(message).first(length), 0)) << length;
  for (const std::size_t k : {0U, 1U, 46U, 49U, 51U}) {
    auto other = message;
    other[k] ^= 0x03U;
    EXPECT_FALSE(ptp_answer(other, 0)) << k;
  }
  EXPECT_FALSE(ptp_answer(ptp_message(0x2002, std::vector<std::uint8_t>(31)), 0));
  EXPECT_FALSE(ptp_answer(ptp_message(0x2005, parent), 0)) << "not asked for";
}

}  // namespace
}  // namespace zavrek::wire
