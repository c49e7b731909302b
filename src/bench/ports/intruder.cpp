#include "zavrek/bench/ports/intruder.hpp"

#include <algorithm>
#include <cmath>
#include <optional>

#include <fmt/format.h>

#include "bench/carried.hpp"
#include "bench/data_set.hpp"
#include "bench/make_port.hpp"
#include "bench/random.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr double most_frames_per_s = 200'000;
constexpr int most_per_step = 64;
constexpr double most_ahead = 1'000'000;

/// What is forged: a message or a sample of somebody.
struct Forged {
  std::optional<wire::Goose> message;
  std::optional<wire::SampledValues> samples;
  double samples_per_s = 4000;
};

/// All entries on, with good qualities.
void turn_on(const std::vector<std::string>& texts, wire::Goose& message) {
  using What = EntryText::What;
  for (const EntryText& text : read_data_set(texts)) {
    switch (text.what) {
      case What::value:
        message.entries.push_back(text.position                             ? wire::Datum::position(true)
                                  : text.kind == wire::Datum::Kind::real    ? wire::Datum::real(1)
                                  : text.kind == wire::Datum::Kind::integer ? wire::Datum::integer(1)
                                  : text.kind == wire::Datum::Kind::natural ? wire::Datum::natural(1)
                                                                            : wire::Datum::boolean(true));
        break;
      case What::quality:
        message.entries.push_back(wire::Datum::quality(0));
        break;
      case What::time:
        message.entries.push_back(wire::Datum::time({}));
        break;
      case What::structure:
        message.entries.push_back(wire::Datum::structure(text.members));
        break;
      case What::bits:
        message.entries.push_back(
            wire::Datum::bits(~0ULL >> (64 - text.bits.size()), static_cast<int>(text.bits.size())));
        break;
      case What::skipped:
        message.entries.push_back(wire::Datum::boolean(true));
        break;
    }
  }
}

Forged forged_as(const std::string& name, const Setup& setup) {
  Forged forged;
  const auto message = [&](int appid, const std::string& id, int revision,
                           const std::vector<std::string>& entries) {
    wire::Goose& goose = forged.message.emplace();
    goose.address = wire::goose_address(static_cast<std::uint16_t>(appid));
    goose.address.source = wire::random_source();
    goose.control_block = id + "LD0/LLN0$GO$outputs";
    goose.data_set = id + "LD0/LLN0$outputs";
    goose.id = id;
    goose.revision = static_cast<std::uint32_t>(std::max(1, revision));
    turn_on(entries, goose);
  };
  if (const Device* device = setup.bench.find_device(name))
    message(device->appid, device->identifier(), device->revision, device->data_set());
  for (const Message* one : setup.bench.all<Message>()) {
    if (one->name == name) message(one->appid, one->identifier(), one->revision, one->entries);
  }
  for (const Subscription* one : setup.bench.all<Subscription>()) {
    if (one->name == name) message(one->appid, one->identifier(), one->revision, one->entries);
  }
  if (const Stream* stream = setup.bench.find_stream(name)) {
    wire::SampledValues& samples = forged.samples.emplace();
    samples.address = wire::sampled_values_address(static_cast<std::uint16_t>(stream->appid));
    samples.address.source = wire::random_source();
    samples.first().id = stream->identifier();
    samples.first().values.resize(names_carried(*stream).size());
    forged.samples_per_s = stream->samples_per_s(setup.network.frequency_Hz);
  }
  return forged;
}

class IntruderPort final : public Port {
 public:
  IntruderPort(const Intruder& settings, Forged forged) : settings_(settings), forged_(std::move(forged)) {
    account_.port = "intruder." + settings.name;
    account_.carries = "frames as " + settings.as;
  }
  void declare(Exchange& exchange) override {
    rate_ = exchange.add_setting(settings_.name, {"forged", "", 0, most_frames_per_s});
    ahead_ = exchange.add_setting(settings_.name, {"ahead", "", 0, most_ahead, 1});
    rubbish_ = exchange.add_setting(settings_.name, {"rubbish", "", 0, most_frames_per_s});
  }
  void wire(Exchange&) override {}
  std::string open(const Opening& how) override {
    how.frames.join();
    frames_ = &how.frames;
    return {};
  }
  void give(Exchange& exchange) noexcept override {
    owed_forged_ += exchange.setting(rate_) * exchange.step_s();
    owed_rubbish_ += exchange.setting(rubbish_) * exchange.step_s();
    for (int k = 0; k < most_per_step && owed_forged_ >= 1; ++k, --owed_forged_)
      send(forge(exchange, exchange.setting(ahead_)));
    for (int k = 0; k < most_per_step && owed_rubbish_ >= 1; ++k, --owed_rubbish_) send(rubbish());
  }
  std::string medium() const override { return frames_ ? frames_->description() : std::string(); }
  void visit_state(StateArchive&) override {}
  std::vector<Account> accounts() const override { return {account_}; }

 private:
  std::size_t forge(const Exchange& exchange, double ahead) noexcept {
    if (forged_.samples) {
      const auto rate = static_cast<long long>(forged_.samples_per_s);
      const auto number = static_cast<long long>(exchange.time_s() * forged_.samples_per_s + ahead);
      forged_.samples->first().count =
          static_cast<std::uint16_t>((number + exchange.count_at_zero(forged_.samples_per_s)) % rate);
      return encode(*forged_.samples, frame_);
    }
    forged_.message->state = 1000 + static_cast<std::uint32_t>(ahead) + sequence_ / 4;
    forged_.message->sequence = sequence_++ % 4;
    forged_.message->changed.utc_ns = static_cast<std::uint64_t>(exchange.now().utc_ns);
    return encode(*forged_.message, frame_);
  }
  /// A header that the kernel lets through, and behind it what nobody can read.
  std::size_t rubbish() noexcept {
    const std::size_t size =
        forged_.samples ? encode(*forged_.samples, frame_) : encode(*forged_.message, frame_);
    constexpr std::size_t header_bytes = 26;
    for (std::size_t k = header_bytes; k < size; ++k)
      frame_[k] = static_cast<std::uint8_t>(random_.bits() >> 56U);
    return size;
  }
  void send(std::size_t size) noexcept {
    ++(frames_->link().send(wire::Bytes(frame_).first(size)) ? account_.sent : account_.unsent);
  }

  Intruder settings_;
  Forged forged_;
  SettingId rate_, ahead_, rubbish_;
  double owed_forged_ = 0, owed_rubbish_ = 0;
  std::uint32_t sequence_ = 0;
  Random random_;
  Frames* frames_ = nullptr;
  std::array<std::uint8_t, wire::longest_frame> frame_{};
  Account account_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const Intruder& settings, const RunPlan& plan) {
  Forged forged = forged_as(settings.as, plan.setup);
  if (!forged.message && !forged.samples) return nullptr;  // told where it is checked
  return std::make_unique<IntruderPort>(settings, std::move(forged));
}

template <>
void check(const Intruder& settings, Flaws& flaws) {
  std::vector<std::string> known;
  for (const Device& device : flaws.setup.bench.devices) known.push_back(device.name);
  for (const Message* one : flaws.setup.bench.all<Message>()) known.push_back(one->name);
  for (const Subscription* one : flaws.setup.bench.all<Subscription>()) known.push_back(one->name);
  for (const Stream* one : flaws.setup.bench.all<Stream>()) known.push_back(one->name);
  flaws.need_one_of("intruder." + settings.name, "as", settings.as, known,
                    "device, message, subscription or stream");
}

}  // namespace zavrek::bench::internal
