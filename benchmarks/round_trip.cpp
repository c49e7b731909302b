// From a sample to the step that acts on what somebody answered to it: 10,000 times, over the interface `lo`.
// A thread reads sampled values, and publishes a GOOSE message with the number of each fourth sample at once;
// the bench reads it. Beside it, what idle threads of this computer see in the same time: two of them that
// hand a datagram to and fro a thousand times a second.
#include <atomic>
#include <cmath>
#include <cstdio>
#include <thread>

#include <arpa/inet.h>
#include <fmt/format.h>
#include <sys/socket.h>
#include <unistd.h>

#include "bench/quay.hpp"
#include "zavrek/bench.hpp"
#include "zavrek/pace.hpp"

namespace {

using namespace zavrek;

constexpr int every = 4;  // samples from one answer to the next
constexpr double samples_Hz = 4000;
constexpr std::uint16_t stream_appid = 0x5F01, message_appid = 0x3F01;

bench::Setup setup_of() {
  bench::Setup setup = bench::quay();
  setup.network.step_s = 50e-6;
  setup.bench.medium = "automatic";
  bench::Stream stream;
  stream.name = "S1";
  stream.ct = "CT1";
  stream.vt = "VT1";
  stream.appid = stream_appid;
  stream.published = "always";
  bench::Subscription answer;
  answer.name = "answer";
  answer.appid = message_appid;
  answer.entries = {"number as natural", "flip"};
  answer.when_silent = "keep";
  setup.bench.ports = {stream, answer};
  return setup;
}

/// Who answers: reads samples, publishes the number of every fourth at once.
void answer(const std::atomic<bool>& stop) {
  const auto link =
      wire::open_link("lo", wire::Medium::automatic, {wire::ethertype_sampled_values, {stream_appid}});
  wire::Goose message;
  message.address = wire::goose_address(message_appid);
  message.address.source = wire::random_source();
  message.id = "answer";
  message.entries = {wire::Datum::natural(0), wire::Datum::boolean(false)};
  wire::GoosePublisher publisher(message);
  std::vector<wire::Datum> entries = message.entries;
  wire::SampledValues samples;
  wire::FrameBuffer frame;
  const auto now = [] { return wire::Now{pace::system_clock().now_ns(), pace::utc_ns()}; };
  (void)pace::acquire_realtime_beside();
  long long number = -1;
  int last = -1;
  while (!stop) {
    publisher.poll(now(), entries, *link);
    if (!link->wait(1)) continue;
    while (const std::size_t length = link->receive(frame)) {
      if (!decode(wire::Bytes(frame).first(length), samples)) continue;
      const int count = samples.first().count;
      number += last < 0 ? 1 : (count - last + static_cast<int>(samples_Hz)) % static_cast<int>(samples_Hz);
      last = count;
      if (number % every != 0) continue;
      entries[0] = wire::Datum::natural(static_cast<std::uint64_t>(number));
      entries[1] = wire::Datum::boolean(number % (2 * every) == 0);
      publisher.poll(now(), entries, *link);
    }
  }
}

/// Takes the instant of each answer.
class Watch final : public bench::Port {
 public:
  pace::Histogram delay;
  void wire(bench::Exchange& exchange) override { number_ = exchange.value_of("answer.number"); }
  void take(bench::Exchange& exchange) noexcept override {
    const double number = exchange.latest(number_);
    if (number == seen_ || exchange.zero_ns() == 0) return;
    seen_ = number;
    const auto instant = exchange.zero_ns() + static_cast<std::int64_t>(1e9 * number / samples_Hz);
    if (number > 0) delay.add(std::max<std::int64_t>(0, exchange.now_ns() - instant));
  }

 private:
  bench::ValueId number_;
  double seen_ = 0;
};

int datagram_socket(sockaddr_in& at) {
  const int file = ::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
  at = {};
  at.sin_family = AF_INET;
  at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof at;
  (void)::bind(file, reinterpret_cast<const sockaddr*>(&at), size);
  (void)::getsockname(file, reinterpret_cast<sockaddr*>(&at), &size);
  return file;
}

/// A datagram there and back, between two threads that do nothing else.
pace::Histogram idle(int times) {
  sockaddr_in here{}, there{};
  const int one = datagram_socket(here), other = datagram_socket(there);
  std::jthread echo([&](const std::stop_token& stop) {
    (void)pace::acquire_realtime_beside();
    char byte = 0;
    while (::recv(other, &byte, 1, 0) == 1 && !stop.stop_requested())
      (void)::sendto(other, &byte, 1, 0, reinterpret_cast<const sockaddr*>(&here), sizeof here);
  });
  pace::Histogram there_and_back;
  char byte = 1;
  for (int k = 0; k < times; ++k) {
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
    const std::int64_t before = pace::system_clock().now_ns();
    (void)::sendto(one, &byte, 1, 0, reinterpret_cast<const sockaddr*>(&there), sizeof there);
    (void)::recv(one, &byte, 1, 0);
    there_and_back.add(pace::system_clock().now_ns() - before);
  }
  echo.request_stop();
  (void)::sendto(one, &byte, 1, 0, reinterpret_cast<const sockaddr*>(&there), sizeof there);
  echo.join();
  ::close(one);
  ::close(other);
  return there_and_back;
}

void print(const char* what, const pace::Histogram& of) {
  const auto us = [](std::int64_t ns) { return 1e-3 * static_cast<double>(ns); };
  fmt::print("  {:<46} {:>7} {:>8.1f} {:>8.1f} {:>8.1f} {:>8.1f}\n", what, of.count(),
             us(of.quantile_ns(0.5)), us(of.quantile_ns(0.99)), us(of.quantile_ns(0.999)), us(of.max_ns()));
}

}  // namespace

int main() {
  const bench::Setup setup = setup_of();
  std::atomic<bool> stop{false};
  std::thread answering([&] { answer(stop); });
  bench::Run run(setup, setup.network, {});
  auto port = std::make_unique<Watch>();
  Watch& watch = *port;
  run.add(std::move(port));
  std::string why = run.start();
  if (why.empty()) {
    (void)run.execute(10.1);
    why = run.failure();
  }
  stop = true;
  answering.join();
  if (!why.empty()) {
    fmt::print(stderr, "{}\n", why);
    return 1;
  }
  fmt::print("From a sample to the step that acts on the answer ({}; steps of 50 us), us\n", run.medium());
  fmt::print("  {:<46} {:>7} {:>8} {:>8} {:>8} {:>8}\n", "", "times", "median", "99 %", "99.9 %", "worst");
  print("sample, frame, answer, message, step", watch.delay);
  print("a datagram there and back, idle threads", idle(10'000));
  return 0;
}
