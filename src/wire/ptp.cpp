#include "zavrek/wire/ptp.hpp"

#include <algorithm>

namespace zavrek::wire {
namespace {

// Places in a message, bytes (IEEE Std 1588-2008, tables 18, 37 and 39).
constexpr std::size_t at_type = 0, at_version = 1, at_length = 2, at_domain = 4, at_sequence = 30,
                      at_control = 32, at_interval = 33, at_target = 34, at_hops = 44, at_action = 46,
                      at_tlv = 48;
constexpr std::size_t tlv_head = 6;
constexpr std::uint8_t management = 0x0D, ptp_version = 2, get = 0, response = 2;
constexpr std::uint16_t management_tlv = 1;

std::uint64_t number(Bytes bytes, std::size_t at, std::size_t count) {
  std::uint64_t value = 0;
  for (std::size_t k = 0; k < count; ++k) value = value << 8U | bytes[at + k];
  return value;
}

}  // namespace

std::array<std::uint8_t, ptp_question_bytes> ptp_question(PtpData about, std::uint16_t sequence,
                                                          std::uint8_t domain) {
  std::array<std::uint8_t, ptp_question_bytes> out{};
  const auto put = [&](std::size_t at, std::uint16_t value) {
    out[at] = static_cast<std::uint8_t>(value >> 8U);
    out[at + 1] = static_cast<std::uint8_t>(value);
  };
  out[at_type] = management;
  out[at_version] = ptp_version;
  put(at_length, ptp_question_bytes);
  out[at_domain] = domain;
  put(at_sequence, sequence);
  out[at_control] = 4;
  out[at_interval] = 0x7F;
  std::fill_n(out.begin() + at_target, 10, std::uint8_t{0xFF});
  out[at_hops] = out[at_hops + 1] = 0;
  out[at_action] = get;
  put(at_tlv, management_tlv);
  put(at_tlv + 2, 2);
  put(at_tlv + 4, static_cast<std::uint16_t>(about));
  return out;
}

std::optional<PtpAnswer> ptp_answer(Bytes message, std::uint8_t domain) {
  if (message.size() < at_tlv + tlv_head) return std::nullopt;
  const std::size_t length = number(message, at_length, 2);
  const bool ours = (message[at_type] & 0x0FU) == management &&
                    (message[at_version] & 0x0FU) == ptp_version && message[at_domain] == domain &&
                    (message[at_action] & 0x0FU) == response;
  if (!ours || length > message.size() || length < at_tlv + tlv_head) return std::nullopt;
  const std::size_t content = number(message, at_tlv + 2, 2);
  if (number(message, at_tlv, 2) != management_tlv || content < 2 || at_tlv + 4 + content > length)
    return std::nullopt;
  const Bytes data = message.subspan(at_tlv + tlv_head, content - 2);
  PtpAnswer answer{static_cast<PtpData>(number(message, at_tlv + 4, 2)),
                   static_cast<std::uint16_t>(number(message, at_sequence, 2)),
                   {},
                   {},
                   {},
                   {}};
  switch (answer.about) {
    case PtpData::current:  // stepsRemoved, offsetFromMaster, meanPathDelay
      if (data.size() < 18) return std::nullopt;
      answer.offset_ns = static_cast<double>(static_cast<std::int64_t>(number(data, 2, 8))) / 65536;
      return answer;
    case PtpData::parent:  // ..., grandmasterPriority1 at 18, then its clockQuality
      if (data.size() < 32) return std::nullopt;
      answer.master_class = data[19];
      return answer;
    case PtpData::time_properties: {  // currentUtcOffset, flags, timeSource
      if (data.size() < 4) return std::nullopt;
      constexpr std::uint8_t valid = 0x04;
      if ((data[2] & valid) != 0) answer.utc_offset_s = static_cast<std::int16_t>(number(data, 0, 2));
      return answer;
    }
    case PtpData::port:  // portIdentity, portState
      if (data.size() < 26) return std::nullopt;
      answer.state = data[10];
      return answer;
  }
  return std::nullopt;
}

}  // namespace zavrek::wire
