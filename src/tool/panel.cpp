#include <cstdio>
#include <string>

#include <fmt/format.h>
#include <poll.h>
#include <unistd.h>

#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::tool {
namespace {

constexpr int wait_ms = 1;

const bench::Panel& panel_of(const bench::Bench& bench, const std::string& name) {
  std::vector<std::string> names;
  for (const bench::Panel* one : bench.all<bench::Panel>()) {
    if (one->name == name || name.empty()) return *one;
    names.push_back(one->name);
  }
  if (names.empty()) throw Error("the bench of the case has no panel; write [panel.desk] in bench.toml");
  throw Error(fmt::format("no panel \"{}\"{}", name, suggestion(name, names)));
}

/// Whole lines of standard input, without waiting for them.
class Lines {
 public:
  /// False once there is nothing more to come.
  [[nodiscard]] bool read() {
    pollfd input{STDIN_FILENO, POLLIN, 0};
    if (::poll(&input, 1, 0) <= 0) return true;
    std::array<char, 512> piece{};
    const ssize_t count = ::read(STDIN_FILENO, piece.data(), piece.size());
    if (count > 0) waiting_.append(piece.data(), static_cast<std::size_t>(count));
    return count > 0;
  }
  [[nodiscard]] bool next(std::string& line) {
    const std::size_t end = waiting_.find('\n');
    if (end == std::string::npos) return false;
    line = waiting_.substr(0, end);
    waiting_.erase(0, end + 1);
    return true;
  }
  [[nodiscard]] bool empty() const { return waiting_.find('\n') == std::string::npos; }

 private:
  std::string waiting_;
};

}  // namespace

int panel(const PanelOptions& options) {
  const trial::Case all = casefile::read_case(options.folder);
  const bench::Panel& settings = panel_of(all.bench, options.name);
  bench::PanelStandIn panel(settings, all.bench);
  const auto link = wire::open_link(
      options.interface.empty() ? all.bench.interface : options.interface, wire::medium_of(all.bench.medium),
      {wire::ethertype_goose, {static_cast<std::uint16_t>(settings.lamps_appid)}});
  fmt::print("panel {} on {}: {}\n", settings.name, link->description(), panel.words());
  fmt::print(
      "write \"SWITCH on\", \"off\", \"press\" or \"press 500 ms\"; \"wait 1 s\", \"show\", \"end\"\n");
  std::fflush(stdout);
  const std::int64_t begun_ns = pace::system_clock().now_ns();
  std::int64_t waits_until_ns = 0;
  bool more = true;
  Lines lines;
  wire::FrameBuffer frame;
  const std::atomic<bool>& stop = stop_on_signal();
  while (!stop) {
    const wire::Now now{pace::system_clock().now_ns(), pace::utc_ns()};
    if (more) more = lines.read();
    std::string line;
    while (now.steady_ns >= waits_until_ns && lines.next(line)) {
      if (line.empty()) continue;
      if (line == "end") return done;
      if (line == "show") {
        fmt::print("{}\n", panel.words());
      } else if (line.starts_with("wait ")) {
        try {
          waits_until_ns =
              now.steady_ns + static_cast<std::int64_t>(1e9 * positive_time("wait", line.substr(5)));
        } catch (const Error& error) {
          fmt::print("{}\n", error.what());
        }
        break;
      } else if (const std::string why = panel.order(line, now.steady_ns); !why.empty()) {
        fmt::print("{}\n", why);
      }
    }
    if (!more && lines.empty() && now.steady_ns >= waits_until_ns && !panel.presses()) return done;
    panel.poll(now, *link);
    if (link->wait(wait_ms)) {
      for (int taken = 0; taken < 64; ++taken) {
        const std::size_t length = link->receive(frame);
        if (length == 0) break;
        panel.take(wire::Bytes(frame).first(length), now.steady_ns);
      }
    }
    for (const std::string& change : panel.take_changed())
      fmt::print("{:9.3f} s  {}\n", 1e-9 * static_cast<double>(pace::system_clock().now_ns() - begun_ns),
                 change);
    std::fflush(stdout);
  }
  return done;
}

}  // namespace zavrek::tool
