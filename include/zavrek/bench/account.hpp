#pragma once

#include <span>
#include <string>
#include <vector>

#include "zavrek/count.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::bench {

/// What an account carries that a process keeps of itself.
inline constexpr const char* as_it_counts = "as it counts itself";

/// What a port did, at any time and at the end of a run.
struct Account {
  std::string port;     ///< "stream.S1", "device.R1"
  std::string carries;  ///< "sampled values 0x4001 out"
  Count sent = 0;
  Count unsent = 0;  ///< that the medium did not take
  Count received = 0;
  Count lost = 0;          ///< missing in what was received, or nowhere to be kept
  Count late = 0;          ///< came when its time was over
  Count refused = 0;       ///< asked for, but not allowed
  Count unfit = 0;         ///< not to be used as they stand: ndsCom, another revision or data set
  Count spoiled = 0;       ///< by the bench itself, because it was asked to
  Count saturated = 0;     ///< values beyond the range of a converter or an amplifier
  Count malformed = 0;     ///< addressed to it, but not to be read
  Count foreign = 0;       ///< of another identity at the same place
  Count conflicting = 0;   ///< of another source under the same identity
  Count regressed = 0;     ///< older than what had come before
  Count restarts = 0;      ///< of the other side
  Count connections = 0;   ///< that stood, of a stream
  Count turned_away = 0;   ///< that found no room
  Count held_back_us = 0;  ///< most that the computer kept a process from its work, as it measured itself
  std::string delay_of;    ///< what `delay` is from and to; empty when nothing was measured
  pace::Histogram delay;   ///< ns
};

/// One of its counts, as every account of them writes it.
struct CountOf {
  const char* key;  ///< in results, and in what a stand-in tells
  Count Account::*count;
  const char* word;    ///< beside the number, in a terminal
  const char* remark;  ///< behind the number, beside a verdict; null where it is no loss
};
[[nodiscard]] std::span<const CountOf> counts_of_accounts();

/// One line for a terminal, with the name of its port in a column of `width`; what is zero is left out.
[[nodiscard]] std::string to_string(const Account& account, double step_s, std::size_t width = 18);
/// Several lines: the accounts of ports beneath a timing table.
[[nodiscard]] std::string to_string(const std::vector<Account>& accounts, double step_s);

/// "sent 12\nlost 1\n", for another process to read; what is zero is left out.
[[nodiscard]] std::string to_lines(const Account& account);
/// Takes those counts; what is no such line is passed over.
void take_lines(std::string_view lines, Account& account);

}  // namespace zavrek::bench
