// Sampled values out: a sample leaves at the end of the step in which its instant lies, at most one step
// late; of those that share a frame, all leave with the last.
#include "zavrek/bench/ports/stream.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "bench/carried.hpp"
#include "bench/make_port.hpp"
#include "bench/names.hpp"
#include "bench/way.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::bench::internal {
namespace {

using wire::Quality;

constexpr double as_the_clock = -1;              // a smpSynch that tells the truth
constexpr std::uint16_t samples_per_second = 1;  // what smpRate counts, by smpMod

bool includes(const Stream& stream, std::string_view field) {
  return std::find(stream.includes.begin(), stream.includes.end(), field) != stream.includes.end();
}

/// An empty frame of the stream as its description has it.
wire::SampledValues first(const Stream& stream, double frequency_Hz, std::size_t values) {
  wire::SampledValues message;
  message.address = stream.address(wire::sampled_values_address(static_cast<std::uint16_t>(stream.appid)));
  message.size = static_cast<std::size_t>(stream.group);
  const double rate_Hz = stream.samples_per_s(frequency_Hz);
  for (wire::Asdu& asdu : message.all()) {
    asdu.id = stream.identifier();
    asdu.data_set = stream.data_set;
    asdu.revision = static_cast<std::uint32_t>(stream.revision);
    if (includes(stream, "refrTm")) asdu.refresh = wire::Stamp{};
    const bool by_second = includes(stream, "smpMod");
    if (includes(stream, "smpRate"))
      asdu.rate = static_cast<std::uint16_t>(std::lround(by_second ? rate_Hz : rate_Hz / frequency_Hz));
    if (by_second) asdu.mode = samples_per_second;
    asdu.values.resize(values);
  }
  return message;
}

class StreamPort final : public Port {
 public:
  StreamPort(const Stream& stream, double frequency_Hz, bool sent)
      : stream_(stream), sent_(sent), rate_Hz_(stream.samples_per_s(frequency_Hz)) {
    account_.port = "stream." + stream.name;
    account_.carries = fmt::format("sampled values {:#06x} out", stream.appid);
    account_.delay_of = "from the step of a sample to its frame";
  }

  void declare(Exchange& exchange) override {
    const auto one = [&](const char* name, double greatest) {
      return exchange.add_setting(stream_.name, {name, "", 0, greatest}, !sent_);
    };
    invalid_ = one("invalid", 1);
    questionable_ = one("questionable", 1);
    test_ = one("test", 1);
    operator_blocked_ = one("operator_blocked", 1);
    derived_ = one("derived", 1);
    simulation_ = one("simulation", 1);
    frozen_ = one("frozen", 1);
    synchronised_ =
        exchange.add_setting(stream_.name, {"synchronised", "", as_the_clock, 2, as_the_clock}, !sent_);
    count_ahead_ = one("count_ahead", most_samples_per_s);
    way_.declare(exchange, stream_.name, !sent_);
  }
  void wire(Exchange& exchange) override {
    if (!sent_) return;
    carried_ = carried_by(stream_, exchange);
    message_ = first(stream_, exchange.setup().network.frequency_Hz, carried_.size());
    if (encode(message_, frame_) == 0)
      throw Error(Flaw{.file = {},
                       .place = {},
                       .field = "group",
                       .text = fmt::format("{} samples of {} values do not fit into a frame of {} bytes",
                                           stream_.group, carried_.size(), wire::longest_frame)});
  }
  std::vector<wire::Identity> identities() const override {
    if (!sent_) return {};
    return {{wire::ethertype_sampled_values, message_.address.appid, stream_.identifier()}};
  }
  std::string open(const Opening& how) override {
    if (!sent_) return {};
    how.frames.join();
    frames_ = &how.frames;
    return {};
  }

  double rate_Hz() const noexcept override { return sent_ ? rate_Hz_ : 0; }
  bool each_step() const noexcept override { return sent_; }
  bool by_the_clock() const noexcept override { return sent_ && stream_.published == "always"; }
  void sample(const Exchange& exchange) noexcept override {
    if (!sent_) return;
    const auto is = [&](SettingId id) { return exchange.setting(id) > 0.5; };
    fill(message_.asdus[gathered_], exchange, is(frozen_), quality(is));
    if (++gathered_ < message_.size) return;
    gathered_ = 0;
    message_.address.simulated = is(simulation_);
    way_.look(exchange);
    const std::int64_t now = exchange.now_ns();
    way_.pass(wire::Bytes(frame_).first(encode(message_, frame_)), now,
              [&](wire::Bytes frame) { send(frame); });
    if (exchange.zero_ns() == 0) return;
    const auto instant = exchange.zero_ns() + static_cast<std::int64_t>(1e9 * exchange.shown_s());
    account_.delay.add(std::max<std::int64_t>(0, now - instant));
  }
  void give(Exchange& exchange) noexcept override {
    if (way_.was_at_work()) way_.release(exchange.now_ns(), [&](wire::Bytes frame) { send(frame); });
  }

  std::string medium() const override { return frames_ ? frames_->description() : std::string(); }
  std::vector<Account> accounts() const override {
    if (!sent_) return {};
    Account account = account_;
    account.spoiled = way_.spoiled();
    return {account};
  }
  std::vector<Path> paths() const override {
    if (!sent_) return {};
    std::string what = stream_.ct + ", " + stream_.vt;
    if (!stream_.carries.empty()) {
      what.clear();
      for (const std::string& one : stream_.carries) what += (what.empty() ? "" : ", ") + one;
    }
    return {{what, fmt::format("stream {}", stream_.name), "who subscribes", 1,
             stream_.group > 1 ? fmt::format("{:.3g} us until its frame is full, and the wire",
                                             1e6 * (stream_.group - 1) / rate_Hz_)
                               : std::string("the wire")}};
  }

 private:
  template <class Is>
  [[nodiscard]] std::uint32_t quality(Is&& is) const noexcept {
    std::uint32_t word = is(invalid_) ? Quality::invalid : is(questionable_) ? Quality::questionable : 0;
    if (is(test_)) word |= Quality::test;
    if (is(operator_blocked_)) word |= Quality::operator_blocked;
    if (is(derived_)) word |= Quality::derived;
    return word;
  }
  void fill(wire::Asdu& asdu, const Exchange& exchange, bool frozen, std::uint32_t quality) noexcept {
    const auto rate = static_cast<long long>(rate_Hz_);
    const auto ahead = static_cast<long long>(exchange.setting(count_ahead_));
    asdu.count =
        static_cast<std::uint16_t>((exchange.sample() + exchange.count_at_zero(rate_Hz_) + ahead) % rate);
    const double said = exchange.setting(synchronised_);
    asdu.synchronised = static_cast<std::uint8_t>(said < 0 ? exchange.synchronised() : said);
    if (asdu.refresh) {
      const wire::Now now = exchange.now();
      const auto instant = exchange.zero_ns() + static_cast<std::int64_t>(1e9 * exchange.shown_s());
      const std::int64_t age = exchange.zero_ns() == 0 ? 0 : now.steady_ns - instant;
      *asdu.refresh = {static_cast<std::uint64_t>(now.utc_ns - age), exchange.clock_quality()};
    }
    for (std::size_t k = 0; k < carried_.size(); ++k) {
      wire::MeasuredValue& value = asdu.values[k];
      // A merging unit that hangs sends its last values again.
      const wire::MeasuredValue last =
          message_.asdus[gathered_ == 0 ? message_.size - 1 : gathered_ - 1].values[k];
      value = frozen ? last : carried_[k].value(exchange, quality);
    }
  }
  void send(wire::Bytes frame) noexcept { ++(frames_->link().send(frame) ? account_.sent : account_.unsent); }

  Stream stream_;
  bool sent_;
  double rate_Hz_;
  std::vector<Carried> carried_;
  wire::SampledValues message_;
  std::size_t gathered_ = 0;  // of the samples of a frame
  SettingId invalid_, questionable_, test_, operator_blocked_, derived_, simulation_, frozen_, synchronised_,
      count_ahead_;
  Way way_;
  Frames* frames_ = nullptr;
  std::array<std::uint8_t, wire::longest_frame> frame_{};
  Account account_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const Stream& stream, const RunPlan& plan) {
  const auto& devices = plan.setup.bench.devices;
  const bool read = std::any_of(devices.begin(), devices.end(), [&](const Device& device) {
    return !is_here(device, plan.place) && !device.at_terminals() &&
           std::find(device.reads.begin(), device.reads.end(), stream.name) != device.reads.end();
  });
  const bool always = stream.published == "always" && plan.place.empty();
  return std::make_unique<StreamPort>(stream, plan.setup.network.frequency_Hz, read || always);
}

template <>
void check(const Stream& stream, Flaws& flaws) {
  const std::string place = "stream." + stream.name;
  const bool both = stream.carries.empty();
  if (both || !stream.ct.empty())
    flaws.need_one_of(place, "ct", stream.ct, flaws.elements_of<network::CurrentTransformer>(), "ct");
  if (both || !stream.vt.empty())
    flaws.need_one_of(place, "vt", stream.vt,
                      flaws.elements_of<network::VoltageTransformer, network::CapacitiveVoltageTransformer>(),
                      "vt");
  if (stream.carries.size() > wire::most_sampled)
    flaws.report(place, "carries", fmt::format("at most {} values are carried", wire::most_sampled));
  for (const std::string& field : stream.includes)
    flaws.need_one_of(place, "includes", field, {"refrTm", "smpRate", "smpMod"}, "field");
  flaws.need_address(place, "destination", stream.destination);
  const double rate_Hz = stream.samples_per_s(flaws.setup.network.frequency_Hz);
  if (rate_Hz != std::round(rate_Hz) || rate_Hz > most_samples_per_s)
    flaws.report(
        place, "rate",
        fmt::format("{} samples a second are no whole number up to 65536", print_quantity(rate_Hz, "")));
  for (const Stream* other : flaws.setup.bench.all<Stream>()) {
    if (other == &stream) break;
    if (other->appid == stream.appid)
      flaws.report(place, "appid", "is taken by another stream; choose another");
  }
}

}  // namespace zavrek::bench::internal
