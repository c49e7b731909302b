// A device at a power amplifier. What its terminals drew up to the latest step is drawn from the model's bus
// in the next one.
#include "zavrek/bench/ports/power_cut.hpp"

#include <cmath>
#include <optional>

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "bench/channels.hpp"
#include "bench/make_port.hpp"
#include "pace/program.hpp"
#include "zavrek/bench/cards.hpp"
#include "zavrek/bench/cut.hpp"

namespace zavrek::bench::internal {
namespace {

template <class Kind>
const Kind* find_port(const Bench& bench, const std::string& name) {
  for (const Kind* one : bench.all<Kind>()) {
    if (one->name == name) return one;
  }
  return nullptr;
}

class PowerCutPort final : public Port {
 public:
  PowerCutPort(const PowerCut& settings, const Setup& setup, bool connected)
      : settings_(settings),
        setup_(setup),
        out_(*find_port<AnalogueOut>(setup.bench, settings.gives)),
        in_(*find_port<AnalogueIn>(setup.bench, settings.takes)),
        connected_(connected) {}

  void declare(Exchange& exchange) override {
    closed_ = exchange.add_output(settings_.name, "closed");
    opened_ = exchange.add_setting(settings_.name, {"open", "", 0, 1}, !connected_);
  }
  void wire(Exchange& exchange) override {
    for (std::size_t k = 0; k < in_.values.size(); ++k)
      lines_.push_back({exchange.value_of(in_.name + "." + in_.values[k]),
                        exchange.settable_of(fmt::format("{}.{}", settings_.draws, out_.signals[k].back())),
                        LowPass(settings_.filter_Hz, exchange.step_s())});
  }
  std::string open(const Opening& how) override {
    if (!connected_) return {};
    if (!settings_.even_unstable) {
      const CutJudgement judgement = judge_cut(setup_, settings_);
      if (!judgement.stable)
        return fmt::format("power_cut.{}: {} (or even_unstable = true)", settings_.name, judgement.words);
    }
    if (settings_.device != "stand-in") return {};
    if (!how.cards.join(out_.card).card->carries_terminals())
      return fmt::format("power_cut.{}: a stand-in hangs on a terminal board only", settings_.name);
    if (how.program.empty())
      return fmt::format("no program is known that could run the device of {}", settings_.name);
    process_.emplace(words(how), pace::internal::Program::Options{.heard = true, .errors_shown = true});
    return {};
  }
  bool each_step() const noexcept override { return connected_; }
  bool by_the_clock() const noexcept override { return connected_; }
  void take(Exchange& exchange) noexcept override {
    if (!connected_) return;
    const bool wanted = exchange.setting(opened_) < 0.5 && !tripped_;
    for (Line& line : lines_) {
      const double is = exchange.latest(line.current);
      if (network::is_set(settings_.most_A) && std::abs(is / in_.ratio) > settings_.most_A && wanted) {
        tripped_ = true;
        tripped_at_s_ = exchange.time_s();
      }
    }
    const bool closed = wanted && !tripped_;
    if (exchange.on(closed_) != closed) exchange.tell(closed_, closed);
    for (Line& line : lines_) {
      const double drawn = closed ? settings_.share * line.filter.next(exchange.latest(line.current)) : 0;
      exchange.ask(line.drawn, drawn);
    }
  }
  void end() override {
    if (process_) (void)process_->end();
  }
  std::string failure() override {
    if (!tripped_) return {};
    return fmt::format("power_cut.{} opened at {:.6g} s: its device drew more than {}", settings_.name,
                       tripped_at_s_, print_rounded(settings_.most_A, "A"));
  }
  std::vector<Account> accounts() const override {
    if (!connected_) return {};
    Account account;
    account.port = "power_cut." + settings_.name;
    account.carries = fmt::format("{} phases of {}", lines_.size(), settings_.draws);
    return {account};
  }
  std::vector<Path> paths() const override {
    if (!connected_) return {};
    return {
        {settings_.takes, "power_cut " + settings_.name, settings_.draws, 1,
         settings_.filter_Hz > 0 ? fmt::format("a filter at {:g} Hz", settings_.filter_Hz) : std::string()}};
  }

 private:
  [[nodiscard]] std::vector<std::string> words(const Opening& how) const {
    return {how.program.string(),
            "load",
            "--board",
            address_of(setup_.bench, out_.card),
            "--first-voltage",
            std::to_string(out_.first_channel),
            "--first-current",
            std::to_string(in_.first_channel),
            "--phases",
            std::to_string(in_.values.size()),
            "--resistance",
            print_quantity(settings_.resistance_ohm, "ohm"),
            "--inductance",
            print_quantity(settings_.inductance_H, "H"),
            "--capacitance",
            print_quantity(settings_.capacitance_F, "F")};
  }
  struct Line {
    ValueId current;
    AskId drawn;
    LowPass filter;
  };
  PowerCut settings_;
  const Setup& setup_;
  AnalogueOut out_;
  AnalogueIn in_;
  bool connected_;
  std::vector<Line> lines_;
  PointId closed_;
  SettingId opened_;
  bool tripped_ = false;
  double tripped_at_s_ = 0;
  std::optional<pace::internal::Program> process_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const PowerCut& settings, const RunPlan& plan) {
  return std::make_unique<PowerCutPort>(settings, plan.setup, plan.place.empty());
}

template <>
void check(const PowerCut& settings, Flaws& flaws) {
  const std::string place = "power_cut." + settings.name;
  const Bench& bench = flaws.setup.bench;
  std::vector<std::string> outs, ins;
  for (const AnalogueOut* one : bench.all<AnalogueOut>()) outs.push_back(one->name);
  for (const AnalogueIn* one : bench.all<AnalogueIn>()) ins.push_back(one->name);
  flaws.need_one_of(place, "gives", settings.gives, outs, "analogue_out");
  flaws.need_one_of(place, "takes", settings.takes, ins, "analogue_in");
  flaws.need_one_of(place, "draws", settings.draws, flaws.elements_of<network::ImposedCurrent>(),
                    "imposed_current");
  const network::Element* element = flaws.setup.network.find_element(settings.draws);
  const auto* imposed = element ? std::get_if<network::ImposedCurrent>(element) : nullptr;
  const AnalogueOut* out = find_port<AnalogueOut>(bench, settings.gives);
  const AnalogueIn* in = find_port<AnalogueIn>(bench, settings.takes);
  if (!imposed || !out || !in) return;
  for (const std::string& signal : out->signals) {
    if (!signal.starts_with(imposed->bus + ".v") || signal.size() != imposed->bus.size() + 3)
      flaws.report(place, "gives",
                   fmt::format("\"{}\" of it is no phase voltage of bus {}", signal, imposed->bus));
  }
  if (out->signals.size() != in->values.size())
    flaws.report(place, "takes",
                 fmt::format("{} currents for {} voltages", in->values.size(), out->signals.size()));
  if (in->unit != "A") flaws.report(place, "takes", "its unit is not A");
  if (settings.resistance_ohm == 0 && settings.inductance_H == 0)
    flaws.report(place, "resistance", "a device without resistance and inductance is a short circuit");
}

}  // namespace zavrek::bench::internal
