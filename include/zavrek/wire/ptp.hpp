// Management messages of PTP (IEEE Std 1588-2008, clause 15), as far as they ask a clock how it stands. The
// daemon of a computer answers them on a local socket.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <span>

#include "zavrek/wire/ethernet.hpp"

namespace zavrek::wire {

enum class PtpData : std::uint16_t {
  current = 0x2001,
  parent = 0x2002,
  time_properties = 0x2003,
  port = 0x2004
};
/// States of a port (IEEE Std 1588-2008, table 8).
enum class PtpState : std::uint8_t { listening = 4, master = 6, passive = 7, uncalibrated = 8, slave = 9 };

/// What an answer says; what it is not about stays empty.
struct PtpAnswer {
  PtpData about = PtpData::current;
  std::uint16_t sequence = 0;
  std::optional<double> offset_ns;           ///< of this clock from its master
  std::optional<std::uint8_t> master_class;  ///< clockClass of the grandmaster (table 5)
  std::optional<std::uint8_t> state;         ///< see PtpState
  std::optional<int> utc_offset_s;           ///< of international atomic time from UTC, where it is valid
};

inline constexpr std::size_t ptp_question_bytes = 54, longest_ptp_answer = 256;
/// Asks every port of every clock of a domain that hears it, one boundary away at most.
[[nodiscard]] std::array<std::uint8_t, ptp_question_bytes> ptp_question(PtpData about, std::uint16_t sequence,
                                                                        std::uint8_t domain);
/// Nothing where it is no answer to such a question, of that domain.
[[nodiscard]] std::optional<PtpAnswer> ptp_answer(Bytes message, std::uint8_t domain);

}  // namespace zavrek::wire
