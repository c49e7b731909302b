#include "zavrek/bench/ports/analogue_in.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "bench/channels.hpp"
#include "bench/names.hpp"
#include "zavrek/bench/cards.hpp"

namespace zavrek::bench::internal {
namespace {

struct Line {
  ValueId value;
  LowPass filter;
  DelayLine delay;
  Converter converter;
};

class AnalogueInPort final : public Port {
 public:
  AnalogueInPort(const AnalogueIn& settings, bool connected) : settings_(settings), connected_(connected) {}

  void declare(Exchange& exchange) override {
    for (const std::string& name : settings_.values)
      lines_.push_back({exchange.add_value(settings_.name, name, settings_.unit), {}, {}, {}});
    dead_ = exchange.add_setting(settings_.name, {"dead", "", 0, 1}, !connected_);
    gain_ = exchange.add_setting(settings_.name, {"gain", "", 0, 10, 1}, !connected_);
  }
  void wire(Exchange& exchange) override {
    offset_ = settings_.offset.empty() ? 0 : parse_quantity_as(settings_.offset, settings_.unit);
    for (Line& line : lines_) {
      line.filter = LowPass(settings_.filter_Hz, exchange.step_s());
      line.delay = DelayLine(settings_.delay_s, exchange.step_s());
      line.converter = Converter(settings_, full_scale_of(settings_, settings_.unit));
    }
    for (const std::string& text : settings_.sets) {
      const auto [what, value] = split_pair(text);
      const auto at = std::find(settings_.values.begin(), settings_.values.end(), value);
      sets_.push_back({static_cast<std::size_t>(at - settings_.values.begin()), exchange.settable_of(what)});
    }
  }
  std::string open(const Opening& how) override {
    if (!connected_) return {};
    card_ = &how.cards.join(settings_.card);
    return no_such_channel(settings_, "analogue inputs", lines_.size(), card_->analogue_in.size());
  }
  bool each_step() const noexcept override { return connected_; }
  bool by_the_clock() const noexcept override { return connected_; }
  void take(Exchange& exchange) noexcept override {
    if (!connected_) return;
    const double gain = exchange.setting(dead_) > 0.5 ? 0 : exchange.setting(gain_);
    const bool terminals = card_->card->carries_terminals();
    for (std::size_t k = 0; k < lines_.size(); ++k) {
      Line& line = lines_[k];
      const double there = card_->analogue_in[static_cast<std::size_t>(settings_.first_channel) + k];
      const double terminal = terminals ? there : line.converter.terminal(there);
      const double volts = line.converter.volts(line.delay.next(line.filter.next(gain * terminal)));
      const double value = settings_.ratio * line.converter.terminal(volts) + offset_;
      exchange.tell(line.value, value);
      for (const Set& set : sets_) {
        if (set.line == k) exchange.ask(set.what, value);
      }
    }
  }
  std::vector<Account> accounts() const override {
    if (!connected_) return {};
    Account account;
    account.port = "analogue_in." + settings_.name;
    account.carries = fmt::format("{} channels of {}", lines_.size(), settings_.card);
    for (const Line& line : lines_) account.saturated += line.converter.cut_off();
    return {account};
  }
  std::vector<Path> paths() const override {
    if (!connected_) return {};
    return {{settings_.device.empty() ? joined(settings_.terminals) : settings_.device,
             fmt::format("analogue_in {}", settings_.name), settings_.name + ".*", 1,
             further_delay(settings_)}};
  }

 private:
  struct Set {
    std::size_t line;
    AskId what;
  };
  AnalogueIn settings_;
  bool connected_;
  double offset_ = 0;
  std::vector<Line> lines_;
  std::vector<Set> sets_;
  SettingId dead_, gain_;
  Cards::Opened* card_ = nullptr;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const AnalogueIn& settings, const RunPlan& plan) {
  return std::make_unique<AnalogueInPort>(settings, plan.place.empty());
}

template <>
void check(const AnalogueIn& settings, Flaws& flaws) {
  const std::string place = "analogue_in." + settings.name;
  check_terminals(settings, place, settings.values.size(), flaws);
  check_conversion(settings, place, flaws);
  if (settings.unit != "V" && settings.unit != "A")
    flaws.report(place, "unit", fmt::format("\"{}\" is neither \"V\" nor \"A\"", settings.unit));
  for (const std::string& text : settings.sets)
    flaws.need_one_of(place, "sets", split_pair(text).second, settings.values, "value");
}

}  // namespace zavrek::bench::internal
