// A relay at the terminals of a card: its currents and voltages go out by the bench's analogue outputs, its
// inputs by contacts, and its outputs come in by contacts. The stand-in is started at the other side of a
// terminal board, with a converter of its own.
#include <algorithm>
#include <cmath>
#include <optional>

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "bench/device.hpp"
#include "bench/names.hpp"
#include "bench/subscriber.hpp"
#include "pace/program.hpp"
#include "zavrek/bench/cards.hpp"

namespace zavrek::bench::internal {
namespace {

/// Without a write for so long a device at a terminal board counts as gone.
constexpr double silent_s = 0.2;

class RelayAtTerminals final : public Port {
 public:
  RelayAtTerminals(const Device& device, const RunPlan& plan)
      : device_(device), setup_(plan.setup), started_(device.place == "process") {
    counted_.port = "device." + device.name;
    counted_.carries = as_it_counts;
  }

  void declare(Exchange& exchange) override {
    points_.declare(exchange, device_.name, protection::outputs_of(device_.relay));
    Subscriber::declare_idle(exchange, device_.name);
  }
  void wire(Exchange& exchange) override {
    wire_outputs(device_, exchange, points_);
    operated_ = points_.operated(exchange);
    const std::vector<std::string> outputs = protection::outputs_of(device_.relay);
    for (const ContactIn* in : setup_.bench.all<ContactIn>()) {
      if (in->device != device_.name) continue;
      card_name_ = in->card;
      for (const std::string& point : in->points) {
        const auto at = std::find(outputs.begin(), outputs.end(), point);
        if (at != outputs.end())
          contacts_.push_back(
              {exchange.point_of(in->name + "." + point), static_cast<std::size_t>(at - outputs.begin())});
      }
    }
  }
  std::string open(const Opening& how) override {
    opened_ = &how.cards.join(card_name_);
    const bool board = opened_->card->carries_terminals();
    if (!started_) return {};
    if (!board)
      return fmt::format("{} is started by the run, which reaches it by a terminal board only", device_.name);
    if (how.program.empty()) return fmt::format("no program is known that could run {}", device_.name);
    process_.emplace(words(how), pace::internal::Program::Options{.heard = true, .errors_shown = true});
    return {};
  }
  bool by_the_clock() const noexcept override { return true; }
  bool ready() override { return opened_->card->device_writes() > 0 || !started_; }
  void take(Exchange& exchange) noexcept override {
    for (const Contact& contact : contacts_)
      points_.tell(exchange, contact.output, exchange.on(contact.point));
    if (!started_) return;
    const std::uint64_t writes = opened_->card->device_writes();
    if (writes != writes_) {
      writes_ = writes;
      heard_s_ = exchange.time_s();
    }
    silent_ = exchange.time_s() - heard_s_ > silent_s;
  }
  bool well() const noexcept override { return !silent_ || device_.when_silent != "end"; }
  std::string failure() override {
    if (process_ && !process_->running() && !over_)
      return fmt::format("{}: {}", device_.name, process_->ended());
    if (started_ && opened_ && opened_->card->device_writes() == 0)
      return fmt::format("no sign of {} on the terminal board at the start", device_.name);
    if (!well())
      return fmt::format("no sign of {} on the terminal board since {:.3f} s", device_.name, heard_s_);
    return {};
  }
  bool forget(Exchange&) override { return false; }
  bool ended() override { return process_ && !process_->running(); }
  void end() override {
    if (!process_ || std::exchange(over_, true)) return;
    take_lines(process_->end(), counted_);
  }
  std::vector<Account> accounts() const override {
    return over_ ? std::vector<Account>{counted_} : std::vector<Account>{};
  }
  std::vector<Path> paths() const override {
    return {{"terminals",
             fmt::format("device {}, {}", device_.name, started_ ? "in its own process" : "outside"),
             operated_, 1, "its own converter and contacts"}};
  }

 private:
  struct Contact {
    PointId point;
    std::size_t output;
  };
  [[nodiscard]] std::string address_of(const std::string& card) const {
    for (const Card* one : setup_.bench.all<Card>()) {
      if (one->name == card) return one->address.empty() ? one->name : one->address;
    }
    return card;
  }
  /// The stand-in, told where its terminals are on the board.
  [[nodiscard]] std::vector<std::string> words(const Opening& how) const {
    std::vector<std::string> words{how.program.string(),
                                   "relay",
                                   (setup_.folder / device_.settings).string(),
                                   "--name",
                                   device_.name,
                                   "--frequency",
                                   print_quantity(setup_.network.frequency_Hz, "Hz"),
                                   "--board",
                                   address_of(card_name_),
                                   "--tells-from",
                                   std::to_string(tells_from(setup_.bench, device_.name, card_name_)),
                                   "--counts"};
    for (const AnalogueOut* out : setup_.bench.all<AnalogueOut>()) {
      if (out->device != device_.name) continue;
      for (std::size_t k = 0; k < out->inputs.size(); ++k)
        words.insert(words.end(),
                     {"--measures", fmt::format("{}={}", out->inputs[k],
                                                static_cast<std::size_t>(out->first_channel) + k)});
    }
    const auto add = [&](const char* option, const std::vector<std::string>& names, const Terminals& at,
                         double wetting_V) {
      for (std::size_t k = 0; k < names.size(); ++k)
        words.insert(words.end(),
                     {option, fmt::format("{}={}@{:g}", names[k],
                                          static_cast<std::size_t>(at.first_channel) + k, wetting_V)});
    };
    for (const ContactOut* out : setup_.bench.all<ContactOut>()) {
      if (out->device == device_.name) add("--reads", out->inputs, *out, out->wetting_V);
    }
    for (const ContactIn* in : setup_.bench.all<ContactIn>()) {
      if (in->device == device_.name) add("--gives", in->points, *in, in->wetting_V);
    }
    return words;
  }

  Device device_;
  const Setup& setup_;
  bool started_;       // by this run
  bool over_ = false;  // and ended by it
  Account counted_;    // by the process itself
  OutputPoints points_;
  std::vector<Contact> contacts_;
  std::string card_name_, operated_;
  Cards::Opened* opened_ = nullptr;
  std::optional<pace::internal::Program> process_;
  std::uint64_t writes_ = 0;
  double heard_s_ = 0;
  bool silent_ = false;
};

}  // namespace

std::unique_ptr<Port> make_relay_at_terminals(const Device& device, const RunPlan& plan) {
  return std::make_unique<RelayAtTerminals>(device, plan);
}

}  // namespace zavrek::bench::internal
