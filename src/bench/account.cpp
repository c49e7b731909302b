#include "zavrek/bench/account.hpp"

#include <array>
#include <charconv>

#include <fmt/format.h>

namespace zavrek::bench {

std::span<const CountOf> counts_of_accounts() {
  static constexpr std::array counts{
      CountOf{"sent", &Account::sent, "sent", nullptr},
      CountOf{"unsent", &Account::unsent, "NOT SENT", "frames were not taken by the medium"},
      CountOf{"received", &Account::received, "received", nullptr},
      CountOf{"lost", &Account::lost, "LOST", "were lost"},
      CountOf{"late", &Account::late, "LATE", "came too late"},
      CountOf{"refused", &Account::refused, "REFUSED", nullptr},
      CountOf{
          "unfit", &Account::unfit, "UNFIT",
          "were not to be used: of bad quality, under test, in need of commissioning, of another revision or "
          "data set"},
      CountOf{"spoiled", &Account::spoiled, "spoiled on purpose", nullptr},
      CountOf{"saturated", &Account::saturated, "CUT OFF", "values were cut off at the end of a range"},
      CountOf{"malformed", &Account::malformed, "MALFORMED", "frames addressed to it could not be read"},
      CountOf{"foreign", &Account::foreign, "FOREIGN", "frames of another identity came to its address"},
      CountOf{"conflicting", &Account::conflicting, "CONFLICTING",
              "frames came from another source under its identity; they were not believed"},
      CountOf{"regressed", &Account::regressed, "REGRESSED",
              "messages were older than what had come before; they were not believed"},
      CountOf{"restarts", &Account::restarts, "RESTARTS", "times it began anew"},
      CountOf{"connections", &Account::connections, "connections", nullptr},
      CountOf{"turned_away", &Account::turned_away, "TURNED AWAY", "connections found no room"},
      CountOf{"held_back_us", &Account::held_back_us, "us held back at most", nullptr},
  };
  return counts;
}

std::string to_string(const Account& account, double step_s, std::size_t width) {
  std::string text = fmt::format("{:<{}} {:<34}", account.port, width, account.carries);
  for (const CountOf& one : counts_of_accounts()) {
    if (account.*one.count != 0) text += fmt::format(" {} {}", account.*one.count, one.word);
  }
  if (account.delay.count() > 0) {
    const auto us = [&](std::int64_t ns) { return static_cast<double>(ns) * 1e-3; };
    const double median = us(account.delay.quantile_ns(0.5));
    text += fmt::format("\n{:<{}} {}: median {:.0f} us ({:.1f} steps), 99.9 % {:.0f}, worst {:.0f}", "",
                        width + 2, account.delay_of, median, median * 1e-6 / step_s,
                        us(account.delay.quantile_ns(0.999)), us(account.delay.max_ns()));
  }
  return text;
}

std::string to_string(const std::vector<Account>& accounts, double step_s) {
  std::string text;
  std::size_t width = 18;
  for (const Account& account : accounts) width = std::max(width, account.port.size());
  for (const Account& account : accounts) text += fmt::format("  {}\n", to_string(account, step_s, width));
  if (!text.empty()) text.pop_back();
  return text;
}

std::string to_lines(const Account& account) {
  std::string lines;
  for (const CountOf& one : counts_of_accounts()) {
    if (account.*one.count != 0) lines += fmt::format("{} {}\n", one.key, account.*one.count);
  }
  return lines;
}

void take_lines(std::string_view lines, Account& account) {
  while (!lines.empty()) {
    const std::string_view line = lines.substr(0, lines.find('\n'));
    lines.remove_prefix(std::min(lines.size(), line.size() + 1));
    const std::size_t blank = line.find(' ');
    if (blank == std::string_view::npos) continue;
    long long count = 0;
    const auto [end, error] = std::from_chars(line.data() + blank + 1, line.data() + line.size(), count);
    if (error != std::errc{} || end != line.data() + line.size()) continue;
    for (const CountOf& one : counts_of_accounts()) {
      if (line.substr(0, blank) == one.key) account.*one.count = count;
    }
  }
}

}  // namespace zavrek::bench
