// Volts and amperes out: converted behind each step, for the device to see until the next.
#include "zavrek/bench/ports/analogue_out.hpp"

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "bench/channels.hpp"
#include "bench/make_port.hpp"
#include "zavrek/bench/cards.hpp"

namespace zavrek::bench::internal {
namespace {

struct Channel {
  ValueId value;
  double ratio = 1, offset = 0, before = 0;
  LowPass filter;
  DelayLine delay;
  Converter converter;
  Amplifier amplifier;
};

class AnalogueOutPort final : public Port {
 public:
  AnalogueOutPort(const AnalogueOut& settings, bool connected) : settings_(settings), connected_(connected) {
    account_.port = "analogue_out." + settings.name;
    account_.carries = fmt::format("{} channels of {}", settings.signals.size(), settings.card);
  }

  void declare(Exchange& exchange) override {
    dead_ = exchange.add_setting(settings_.name, {"dead", "", 0, 1}, !connected_);
    gain_ = exchange.add_setting(settings_.name, {"gain", "", 0, 10, 1}, !connected_);
  }
  void wire(Exchange& exchange) override {
    const double step_s = exchange.step_s();
    for (std::size_t k = 0; k < settings_.signals.size(); ++k) {
      const Signed signal = signed_signal(settings_.signals[k]);
      Channel& channel = channels_.emplace_back();
      channel.value = exchange.value_of(signal.name);
      const std::string unit = exchange.unit_of(channel.value);
      channel.ratio = signal.reversed ? -settings_.ratio : settings_.ratio;
      channel.offset = settings_.offset.empty() ? 0 : parse_quantity_as(settings_.offset, unit);
      channel.filter = LowPass(settings_.filter_Hz, step_s);
      channel.delay = DelayLine(settings_.delay_s, step_s);
      const double full_scale = full_scale_of(settings_, unit);
      channel.converter = Converter(settings_, full_scale);
      channel.amplifier = Amplifier(settings_, full_scale, unit, step_s, k);
    }
  }
  std::string open(const Opening& how) override {
    if (!connected_) return {};
    card_ = &how.cards.join(settings_.card);
    return no_such_channel(settings_, "analogue outputs", settings_.signals.size(),
                           card_->analogue_out.size());
  }
  bool each_step() const noexcept override { return connected_; }
  bool by_the_clock() const noexcept override { return connected_; }
  void give(Exchange& exchange) noexcept override {
    if (!connected_) return;
    const double gain = exchange.setting(dead_) > 0.5 ? 0 : exchange.setting(gain_);
    const bool terminals = card_->card->carries_terminals();
    for (std::size_t k = 0; k < channels_.size(); ++k) {
      Channel& c = channels_[k];
      const double is = exchange.latest(c.value), before = std::exchange(c.before, is);
      const double shown = settings_.mean ? (is + before) / 2 : is;
      const double wanted = gain * (c.ratio * shown + c.offset);
      const double volts = c.converter.volts(c.delay.next(c.filter.next(wanted)));
      card_->analogue_out[static_cast<std::size_t>(settings_.first_channel) + k] =
          terminals ? c.amplifier.next(c.converter.terminal(volts)) : volts;
    }
    noted_cut_off(exchange);
  }
  std::vector<Account> accounts() const override {
    if (!connected_) return {};
    Account account = account_;
    account.saturated = cut_off();
    if (first_cut_off_s_ >= 0)
      account.carries += fmt::format(", first cut off at {}", print_rounded(first_cut_off_s_, "s"));
    return {account};
  }
  std::vector<Path> paths() const override {
    if (!connected_) return {};
    std::string further = further_delay(settings_);
    if (settings_.bandwidth_Hz > 0)
      further += fmt::format("{}the amplifier's {:.3g} us", further.empty() ? "" : ", ",
                             1e6 / (2 * std::numbers::pi * settings_.bandwidth_Hz));
    return {{joined(settings_.signals), fmt::format("analogue_out {}", settings_.name),
             settings_.device.empty() ? joined(settings_.terminals) : settings_.device, 1, further}};
  }

 private:
  [[nodiscard]] long long cut_off() const noexcept {
    long long sum = 0;
    for (const Channel& c : channels_) sum += c.converter.cut_off() + c.amplifier.cut_off();
    return sum;
  }
  void noted_cut_off(const Exchange& exchange) noexcept {
    if (first_cut_off_s_ < 0 && cut_off() > 0) first_cut_off_s_ = exchange.time_s();
  }

  AnalogueOut settings_;
  bool connected_;
  std::vector<Channel> channels_;
  SettingId dead_, gain_;
  Cards::Opened* card_ = nullptr;
  double first_cut_off_s_ = -1;
  Account account_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const AnalogueOut& settings, const RunPlan& plan) {
  return std::make_unique<AnalogueOutPort>(settings, plan.place.empty());
}

template <>
void check(const AnalogueOut& settings, Flaws& flaws) {
  const std::string place = "analogue_out." + settings.name;
  check_terminals(settings, place, settings.signals.size(), flaws);
  check_conversion(settings, place, flaws);
  for (const std::string& signal : settings.signals) {
    if (signed_signal(signal).name.empty()) flaws.report(place, "signals", "an empty name");
  }
  check_inputs_of(settings.device, settings.inputs, settings.signals.size(), place, flaws);
}

}  // namespace zavrek::bench::internal
