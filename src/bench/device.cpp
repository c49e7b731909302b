// A relay at its place. In the plant's process it takes samples at the end of the step in which their instant
// lies, and what it decides acts from then on. Elsewhere it lives on the wire: streams go out, and its
// outputs come in by the GOOSE message that it publishes.
#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "bench/at_terminals.hpp"
#include "bench/bench_message.hpp"
#include "bench/carried.hpp"
#include "bench/data_set.hpp"
#include "bench/device.hpp"
#include "bench/make_port.hpp"
#include "bench/measured.hpp"
#include "bench/names.hpp"
#include "bench/subscriber.hpp"
#include "bench/wiring_fault.hpp"
#include "pace/program.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr std::size_t trip_output = 1;

class RelayHere final : public Port {
 public:
  RelayHere(const Device& device, double frequency_Hz)
      : device_(device),
        relay_(device.relay, samples_per_cycle * frequency_Hz, frequency_Hz,
               static_cast<int>(device.reads.size())),
        streams_(device.reads.size()),
        samples_(device.reads.size()),
        miswired_(device.miswired()),
        wrong_place_(static_cast<std::size_t>(device.miswired_place - 1)) {}

  void declare(Exchange& exchange) override {
    points_.declare(exchange, device_.name, protection::outputs_of(device_.relay));
    Subscriber::declare_idle(exchange, device_.name);
  }
  void wire(Exchange& exchange) override {
    for (std::size_t k = 0; k < streams_.size(); ++k) {
      const std::string& read = device_.reads[k];
      if (const Stream* stream = exchange.setup().bench.find_stream(read))
        streams_[k].wire(exchange, *stream);
      else
        streams_[k].wire(exchange, read);
    }
    wire_outputs(device_, exchange, points_);
    operated_ = points_.operated(exchange);
    const auto& known = relay_.inputs();
    for (const std::string& text : device_.inputs) {
      const auto [name, source] = split_pair(text);
      const auto input = std::find(known.begin(), known.end(), name);
      if (input == known.end()) continue;  // no condition uses it
      const Signed from = signed_point(source);
      inputs_.push_back(
          {static_cast<std::size_t>(input - known.begin()), exchange.point_of(from.name), from.reversed});
    }
  }
  bool each_step() const noexcept override { return false; }

  void sample(const Exchange& exchange) noexcept override {
    for (const Input& input : inputs_)
      relay_.set_input(input.number, exchange.on(input.point) != input.reversed);
    for (std::size_t k = 0; k < streams_.size(); ++k) samples_[k] = streams_[k].sample(exchange);
    if (miswired_) samples_[wrong_place_] = as_wired(device_, samples_[wrong_place_]);
    decided_ = relay_.push(samples_) || decided_;
  }
  void give(Exchange& exchange) noexcept override {
    if (!std::exchange(decided_, false)) return;
    for (std::size_t k = 0; k < points_.size(); ++k) points_.tell(exchange, k, relay_.output(k));
  }
  std::vector<Path> paths() const override {
    return {
        {joined(device_.reads), fmt::format("device {}, in this process", device_.name), operated_, 1, ""}};
  }
  void visit_state(StateArchive& archive) override {
    relay_.visit_state(archive);
    archive(decided_);
  }
  bool forget(Exchange& exchange) override {
    relay_.reset();
    for (std::size_t k = 0; k < points_.size(); ++k) points_.tell(exchange, k, relay_.output(k));
    return true;
  }

 private:
  struct Input {
    std::size_t number;
    PointId point;
    bool reversed;
  };
  Device device_;
  protection::Relay relay_;
  std::vector<MeasuredStream> streams_;
  std::vector<protection::Sample> samples_;
  bool miswired_;
  std::size_t wrong_place_;
  std::vector<Input> inputs_;
  OutputPoints points_;
  bool decided_ = true;  // since the outputs were told
  std::string operated_;
};

/// "R1@17:0", an output that another device publishes itself.
std::string entry_elsewhere(const Bench& bench, const std::string& source) {
  const auto [owner, output] = owner_of(bench, source);
  return fmt::format("{}@{}:{}", owner->identifier(), owner->appid,
                     place_in(read_data_set(owner->data_set()), output));
}

class RelayElsewhere final : public Port {
 public:
  RelayElsewhere(const Device& device, const RunPlan& plan)
      : device_(device),
        setup_(plan.setup),
        place_(plan.place),
        started_((plan.place.empty() ? device.place : plan.place) == "process"),
        source_(started_ ? wire::to_string(wire::random_source()) : device.source),
        reader_(device.data_set()),
        subscriber_("device." + device.name, device.name, followed_as(device, source_, reader_.entries())) {
    counted_.port = subscriber_.account().port;
    counted_.carries = as_it_counts;
    const std::vector<std::string> outputs = protection::outputs_of(device.relay);
    for (const std::string& name : reader_.points())
      outputs_.push_back(
          static_cast<std::size_t>(std::find(outputs.begin(), outputs.end(), name) - outputs.begin()));
  }

  void declare(Exchange& exchange) override {
    points_.declare(exchange, device_.name, protection::outputs_of(device_.relay));
    subscriber_.declare(exchange);
  }
  void wire(Exchange& exchange) override {
    wire_outputs(device_, exchange, points_);
    operated_ = points_.operated(exchange);
  }
  bool by_the_clock() const noexcept override { return true; }
  std::vector<wire::Identity> identities() const override {
    return {
        {wire::ethertype_goose, static_cast<std::uint16_t>(device_.appid), device_.identifier(), !started_}};
  }
  std::string open(const Opening& how) override {
    subscriber_.open(how.frames);
    medium_ = how.frames.description();
    if (!started_) return {};
    if (how.program.empty()) return fmt::format("no program is known that could run {}", device_.name);
    process_.emplace(words(how), pace::internal::Program::Options{.heard = true, .errors_shown = true});
    return {};
  }
  bool ready() override { return subscriber_.ready(); }
  void take(Exchange& exchange) noexcept override {
    const auto point = [&](std::size_t place, bool on) { points_.tell(exchange, outputs_[place], on); };
    if (subscriber_.take(exchange))
      subscriber_.count_unfit(reader_.read(subscriber_.message(), false, point, [](std::size_t, double) {}));
    if (!subscriber_.silent() || device_.when_silent != "off") return;
    for (std::size_t k = 0; k < points_.size(); ++k) points_.tell(exchange, k, false);
  }
  bool well() const noexcept override { return subscriber_.well() || device_.when_silent != "end"; }
  std::string failure() override {
    if (std::string why = subscriber_.failure(device_.name, "answer", device_.when_silent == "end");
        !why.empty())
      return why;
    return process_ && !process_->running() && !over_ ? fmt::format("{}: {}", device_.name, process_->ended())
                                                      : std::string();
  }
  bool forget(Exchange&) override { return false; }
  bool ended() override { return subscriber_.contested() || (process_ && !process_->running()); }
  void end() override {
    if (!process_ || std::exchange(over_, true)) return;
    take_lines(process_->end(), counted_);
  }
  std::string medium() const override { return medium_; }
  std::vector<Account> accounts() const override {
    std::vector<Account> all{subscriber_.account()};
    if (over_) all.push_back(counted_);
    return all;
  }
  std::vector<Path> paths() const override {
    return {{joined(device_.reads),
             fmt::format("device {}, {}", device_.name, started_ ? "in its own process" : "outside"),
             operated_, 2, "the wire, twice"}};
  }

 private:
  /// The stand-in, told what it reads and under which names.
  [[nodiscard]] std::vector<std::string> words(const Opening& how) const {
    std::vector<std::string> words{
        how.program.string(), "relay",       (setup_.folder / device_.settings).string(),       "--name",
        device_.identifier(), "--frequency", print_quantity(setup_.network.frequency_Hz, "Hz"), "--counts"};
    for (std::string& word : message_words(setup_, device_, place_, source_, how))
      words.push_back(std::move(word));
    for (const std::string& name : device_.reads) words.insert(words.end(), {"--stream", stream_words(name)});
    return words;
  }
  /// "S1@16385@4000@0,1,2,3,4,5,6,7": identity, samples a second, places of ia ib ic in va vb vc vn.
  [[nodiscard]] std::string stream_words(const std::string& name) const {
    const Bench& bench = setup_.bench;
    const double frequency_Hz = setup_.network.frequency_Hz;
    if (const Stream* stream = bench.find_stream(name))
      return fmt::format("{}@{}@{}@{}", stream->identifier(), stream->appid,
                         stream->samples_per_s(frequency_Hz), fmt::join(standard_places(*stream), ","));
    for (const StreamIn* stream : bench.all<StreamIn>()) {
      if (stream->name == name)
        return fmt::format(
            "{}@{}@{}@{}", stream->identifier(), stream->appid,
            network::is_set(stream->rate_Hz) ? stream->rate_Hz : samples_per_cycle * frequency_Hz,
            fmt::join(standard_places(*stream), ","));
    }
    return name;
  }

  Device device_;
  const Setup& setup_;
  std::string place_;
  bool started_;        // by this run
  bool over_ = false;   // and ended by it
  std::string source_;  // of its messages
  Account counted_;     // by the process itself
  DataSetReader reader_;
  Subscriber subscriber_;
  std::vector<std::size_t> outputs_;  // of the points that it reads
  OutputPoints points_;
  std::optional<pace::internal::Program> process_;
  std::string medium_, operated_;
};

}  // namespace

wire::Followed followed_as(const Device& device, const std::string& source, std::size_t entries) {
  wire::Followed followed;
  followed.appid = static_cast<std::uint16_t>(device.appid);
  followed.id = device.identifier();
  if (device.revision != 0) followed.revision = static_cast<std::uint32_t>(device.revision);
  followed.least_entries = entries;
  if (!source.empty()) followed.source = wire::parse_mac_address(source);
  return followed;
}

std::vector<std::string> message_words(const Setup& setup, const Device& device, const std::string& place,
                                       const std::string& source, const Opening& how) {
  const Bench& bench = setup.bench;
  std::vector<std::string> words{"--interface",   how.frames.interface(),       "--medium", bench.medium,
                                 "--goose-appid", std::to_string(device.appid), "--source", source};
  for (const std::string& entry : device.entries) words.insert(words.end(), {"--entry", entry});
  if (device.revision != 0) words.insert(words.end(), {"--revision", std::to_string(device.revision)});
  const std::vector<std::string> published = bench_published(bench, place);
  for (const std::string& text : device.inputs) {
    const auto [name, from] = split_pair(text);
    if (device.at_terminals() && comes_by_contact(bench, device, name)) continue;
    const Signed source_of = signed_point(from);
    const auto known = std::find(published.begin(), published.end(), source_of.name);
    const std::string entry =
        known != published.end()
            ? fmt::format("{}@{}:{}", bench_goose_id, bench_goose_appid, known - published.begin())
            : entry_elsewhere(bench, source_of.name);
    words.insert(words.end(),
                 {"--input", fmt::format("{}={}{}", name, source_of.reversed ? "!" : "", entry)});
  }
  return words;
}

void wire_outputs(const Device& device, Exchange& exchange, OutputPoints& points) {
  for (const std::string& what : device.trips) points.open_by(exchange, what, trip_output);
  points.wire(exchange, protection::outputs_of(device.relay), device.opens, device.closes);
}

template <>
std::unique_ptr<Port> make_port(const Device& device, const RunPlan& plan) {
  if (is_here(device, plan.place))
    return std::make_unique<RelayHere>(device, plan.setup.network.frequency_Hz);
  if (device.at_terminals()) return make_relay_at_terminals(device, plan);
  return std::make_unique<RelayElsewhere>(device, plan);
}

}  // namespace zavrek::bench::internal
