// A relay at the terminals of a card: its currents and voltages go out by the bench's analogue outputs, its
// inputs by contacts, and its outputs come in by contacts. The stand-in is started at the other side of a
// terminal board, with a converter of its own.
#include <algorithm>
#include <cmath>
#include <optional>

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "bench/data_set.hpp"
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
      : device_(device),
        setup_(plan.setup),
        place_(plan.place),
        started_(device.place == "process"),
        source_(started_ ? wire::to_string(wire::random_source()) : device.source) {
    counted_.port = "device." + device.name;
    counted_.carries = as_it_counts;
    if (device.by_frames()) messages_.emplace(device, source_);
  }

  void declare(Exchange& exchange) override {
    points_.declare(exchange, device_.name, protection::outputs_of(device_.relay));
    if (messages_)
      messages_->subscriber.declare(exchange);
    else
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
    if (messages_) messages_->wire(outputs, contacts_);
  }
  std::vector<wire::Identity> identities() const override {
    if (!messages_) return {};
    std::vector<wire::Identity> all{
        {wire::ethertype_goose, static_cast<std::uint16_t>(device_.appid), device_.identifier(), !started_}};
    if (!device_.publishes.empty())
      all.push_back({wire::ethertype_sampled_values, static_cast<std::uint16_t>(device_.publishes_appid),
                     device_.publishes, !started_});
    return all;
  }
  std::string open(const Opening& how) override {
    opened_ = &how.cards.join(card_name_);
    if (messages_) messages_->subscriber.open(how.frames);
    const bool board = opened_->card->carries_terminals();
    if (!started_) return {};
    if (!board)
      return fmt::format("{} is started by the run, which reaches it by a terminal board only", device_.name);
    if (how.program.empty()) return fmt::format("no program is known that could run {}", device_.name);
    process_.emplace(words(how), pace::internal::Program::Options{.heard = true, .errors_shown = true});
    return {};
  }
  bool by_the_clock() const noexcept override { return true; }
  bool ready() override {
    return (opened_->card->device_writes() > 0 || !started_) && (!messages_ || messages_->subscriber.ready());
  }
  void take(Exchange& exchange) noexcept override {
    for (const Contact& contact : contacts_)
      points_.tell(exchange, contact.output, exchange.on(contact.point));
    if (messages_) messages_->take(exchange, points_, device_.when_silent == "off");
    if (!started_) return;
    const std::uint64_t writes = opened_->card->device_writes();
    if (writes != writes_) {
      writes_ = writes;
      heard_s_ = exchange.time_s();
    }
    silent_ = exchange.time_s() - heard_s_ > silent_s;
  }
  bool well() const noexcept override {
    return device_.when_silent != "end" || (!silent_ && (!messages_ || messages_->subscriber.well()));
  }
  std::string failure() override {
    if (messages_) {
      const bool must = device_.when_silent == "end";
      if (std::string why = messages_->subscriber.failure(device_.name, "answer", must); !why.empty())
        return why;
    }
    if (process_ && !process_->running() && !over_)
      return fmt::format("{}: {}", device_.name, process_->ended());
    if (started_ && opened_ && opened_->card->device_writes() == 0)
      return fmt::format("no sign of {} on the terminal board at the start", device_.name);
    if (!well())
      return fmt::format("no sign of {} on the terminal board since {:.3f} s", device_.name, heard_s_);
    return {};
  }
  bool forget(Exchange&) override { return false; }
  bool ended() override {
    return (messages_ && messages_->subscriber.contested()) || (process_ && !process_->running());
  }
  void end() override {
    if (!process_ || std::exchange(over_, true)) return;
    take_lines(process_->end(), counted_);
  }
  std::vector<Account> accounts() const override {
    std::vector<Account> all;
    if (messages_) all.push_back(messages_->subscriber.account());
    if (over_) all.push_back(counted_);
    return all;
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
  /// Outputs that no contact brings come by its messages.
  struct Messages {
    Messages(const Device& device, const std::string& source)
        : reader(device.data_set()),
          subscriber("device." + device.name, device.name, followed_as(device, source, reader.entries())) {}
    void wire(const std::vector<std::string>& outputs, const std::vector<Contact>& contacts) {
      for (const std::string& name : reader.points()) {
        const auto at =
            static_cast<std::size_t>(std::find(outputs.begin(), outputs.end(), name) - outputs.begin());
        const bool by_contact = std::any_of(contacts.begin(), contacts.end(),
                                            [&](const Contact& one) { return one.output == at; });
        places.push_back(by_contact ? none : at);
      }
    }
    void take(Exchange& exchange, const OutputPoints& points, bool off_when_silent) noexcept {
      if (subscriber.take(exchange)) {
        const auto point = [&](std::size_t place, bool on) {
          if (places[place] != none) points.tell(exchange, places[place], on);
        };
        subscriber.count_unfit(reader.read(subscriber.message(), false, point, [](std::size_t, double) {}));
      }
      if (!subscriber.silent() || !off_when_silent) return;
      for (const std::size_t place : places) {
        if (place != none) points.tell(exchange, place, false);
      }
    }
    static constexpr std::size_t none = static_cast<std::size_t>(-1);
    DataSetReader reader;
    Subscriber subscriber;
    std::vector<std::size_t> places;  // outputs of the points that it reads
  };
  /// The stand-in, told where its terminals are on the board.
  [[nodiscard]] std::vector<std::string> words(const Opening& how) const {
    std::vector<std::string> words{how.program.string(),
                                   "relay",
                                   (setup_.folder / device_.settings).string(),
                                   "--name",
                                   device_.identifier(),
                                   "--frequency",
                                   print_quantity(setup_.network.frequency_Hz, "Hz"),
                                   "--board",
                                   address_of(setup_.bench, card_name_),
                                   "--tells-from",
                                   std::to_string(tells_from(setup_.bench, device_.name, card_name_)),
                                   "--counts"};
    if (messages_) {
      words.emplace_back("--messages");
      for (std::string& word : message_words(setup_, device_, place_, source_, how))
        words.push_back(std::move(word));
    }
    if (!device_.publishes.empty())
      words.insert(words.end(),
                   {"--publishes", fmt::format("{}@{}", device_.publishes, device_.publishes_appid)});
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
      if (out->device != device_.name) continue;
      add("--reads", out->inputs, *out, out->wetting_V);
      const auto code = std::find(out->inputs.begin(), out->inputs.end(), device_.clocked_by);
      if (code == out->inputs.end()) continue;
      const auto at =
          static_cast<std::size_t>(out->first_channel) + static_cast<std::size_t>(code - out->inputs.begin());
      words.insert(words.end(),
                   {"--time-code", fmt::format("{}={}@{:g}", device_.clocked_by, at, out->wetting_V)});
    }
    for (const ContactIn* in : setup_.bench.all<ContactIn>()) {
      if (in->device == device_.name) add("--gives", in->points, *in, in->wetting_V);
    }
    return words;
  }

  Device device_;
  const Setup& setup_;
  std::string place_;
  bool started_;        // by this run
  bool over_ = false;   // and ended by it
  std::string source_;  // of its messages
  std::optional<Messages> messages_;
  Account counted_;  // by the process itself
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
