#include "tool/stop.hpp"

#include <csignal>

namespace zavrek::tool {
namespace {

std::atomic<bool> stop_requested{false};
static_assert(std::atomic<bool>::is_always_lock_free);

}  // namespace

const std::atomic<bool>& stop_on_signal() {
  for (const int signal : {SIGTERM, SIGINT}) {
    std::signal(signal, [](int number) {
      if (stop_requested.exchange(true)) {  // asked twice: at once
        std::signal(number, SIG_DFL);
        std::raise(number);
      }
    });
  }
  return stop_requested;
}

}  // namespace zavrek::tool
