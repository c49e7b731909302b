// Sampled values out: a sample leaves at the end of the step in which its instant lies, at most one step
// late.
#include "zavrek/bench/ports/stream.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "bench/make_port.hpp"
#include "bench/measured.hpp"
#include "bench/names.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::bench::internal {
namespace {

/// There is no time source that streams could be synchronised to (IEC 61850-9-2, smpSynch).
constexpr std::uint8_t not_synchronised = 0;

class StreamPort final : public Port {
 public:
  explicit StreamPort(const Stream& stream) : stream_(stream) {
    message_.address = wire::sampled_values_address(static_cast<std::uint16_t>(stream.appid));
    message_.address.source = wire::own_source();
    message_.id = stream.name;
    message_.synchronised = not_synchronised;
    account_.port = "stream." + stream.name;
    account_.carries = fmt::format("sampled values {:#06x} out", stream.appid);
    account_.delay_of = "from the step of a sample to its frame";
  }

  void wire(Exchange& exchange) override {
    measured_.wire(exchange, stream_);
    rate_Hz_ = static_cast<long long>(samples_per_cycle * exchange.setup().network.frequency_Hz);
  }
  std::vector<wire::Identity> identities() const override {
    return {{wire::ethertype_sampled_values, message_.address.appid, message_.id}};
  }
  std::string open(const Opening& how) override {
    how.frames.join();
    frames_ = &how.frames;
    return {};
  }

  void sample(const Exchange& exchange) noexcept override {
    wire::put_sample(measured_.sample(exchange), message_);
    message_.count = static_cast<std::uint16_t>(exchange.sample() % rate_Hz_);
    const bool taken = frames_->link().send(wire::Bytes(frame_).first(wire::encode(message_, frame_)));
    ++(taken ? account_.sent : account_.unsent);
    if (exchange.zero_ns() == 0) return;
    const auto instant = exchange.zero_ns() + static_cast<std::int64_t>(1e9 * exchange.shown_s());
    account_.delay.add(std::max<std::int64_t>(0, exchange.now_ns() - instant));
  }

  std::string medium() const override { return frames_ ? frames_->description() : std::string(); }
  std::vector<Account> accounts() const override { return {account_}; }
  std::vector<Path> paths() const override {
    return {{stream_.ct + ", " + stream_.vt, fmt::format("stream {}", stream_.name), "who subscribes", 1,
             "the wire"}};
  }

 private:
  Stream stream_;
  MeasuredStream measured_;
  wire::SampledValues message_;
  Frames* frames_ = nullptr;
  std::array<std::uint8_t, wire::longest_frame> frame_{};
  long long rate_Hz_ = 1;
  Account account_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const Stream& stream, const RunPlan& plan) {
  const auto& devices = plan.setup.bench.devices;
  const bool sent = std::any_of(devices.begin(), devices.end(), [&](const Device& device) {
    return !is_here(device, plan.place) &&
           std::find(device.reads.begin(), device.reads.end(), stream.name) != device.reads.end();
  });
  return sent ? std::make_unique<StreamPort>(stream) : nullptr;
}

template <>
void check(const Stream& stream, Flaws& flaws) {
  const std::string place = "stream." + stream.name;
  flaws.need_one_of(place, "ct", stream.ct, flaws.elements_of<network::CurrentTransformer>(), "ct");
  flaws.need_one_of(place, "vt", stream.vt,
                    flaws.elements_of<network::VoltageTransformer, network::CapacitiveVoltageTransformer>(),
                    "vt");
  for (const Stream* other : flaws.setup.bench.all<Stream>()) {
    if (other == &stream) break;
    if (other->appid == stream.appid)
      flaws.report(place, "appid", "is taken by another stream; choose another");
  }
}

}  // namespace zavrek::bench::internal
