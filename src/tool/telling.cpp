#include "tool/telling.hpp"

#include <cmath>

#include <unistd.h>

#include <fmt/format.h>

namespace zavrek::tool {

Telling::Telling(bool json) : live_(isatty(STDERR_FILENO) != 0), silent_(json && !live_) {}

void Telling::tell(const std::string& how_far) {
  const auto now = Clock::now();
  if (silent_ || now - last_ < (live_ ? std::chrono::milliseconds(300) : std::chrono::seconds(10))) return;
  last_ = now;
  told_ = true;
  fmt::print(stderr, "{}{}{}", live_ ? "\r\033[K" : "", how_far, live_ ? "" : "\n");
  std::fflush(stderr);
}

void Telling::say(const std::string& line) {
  clear();
  fmt::print(stderr, "{}\n", line);
}

void Telling::clear() {
  if (told_ && live_) fmt::print(stderr, "\r\033[K");
  told_ = false;
}

std::string duration(double seconds) {
  const long long whole = std::llround(seconds);
  return whole < 60     ? fmt::format("{} s", whole)
         : whole < 3600 ? fmt::format("{} min {:02} s", whole / 60, whole % 60)
                        : fmt::format("{} h {:02} min", whole / 3600, whole / 60 % 60);
}

}  // namespace zavrek::tool
