// GOOSE out: what changed is published behind the step in which it did, and again and again while nothing
// changes (IEC 61850-8-1, 18.1.2.5).
#include "zavrek/bench/ports/message.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <optional>

#include <fmt/format.h>

#include "bench/bench_message.hpp"
#include "bench/data_set.hpp"
#include "bench/make_port.hpp"
#include "bench/way.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::bench::internal {
namespace {

using wire::Datum;

/// What an entry of the data set shows, and what of it was last said.
struct Shown {
  EntryText text;
  PointId point;      // of what is on or off
  ValueId value;      // of a number
  double within = 0;  // it may move so far unsaid
  double said = 0;    // last
  std::int64_t changed_utc_ns = 0;
  std::size_t of = 0;  // of a quality or a time: the entry that has it
  std::vector<std::optional<PointId>> bits;
};

constexpr std::array message_settings{"test",   "invalid", "simulation", "needs_commissioning",
                                      "silent", "restart"};

/// One that nobody reads in this run: its settings are there, and change nothing.
class IdleMessage final : public Port {
 public:
  explicit IdleMessage(std::string name) : name_(std::move(name)) {}
  void declare(Exchange& exchange) override {
    for (const char* setting : message_settings) (void)exchange.add_setting(name_, {setting, "", 0, 1}, true);
    (void)Way::declare_settings(exchange, name_, true);
  }
  void wire(Exchange&) override {}
  bool each_step() const noexcept override { return false; }

 private:
  std::string name_;
};

class MessagePort final : public Port {
 public:
  explicit MessagePort(const Message& message)
      : settings_(message),
        publisher_(first(message), {static_cast<int>(std::lround(1e3 * message.first_repeat_s)),
                                    static_cast<int>(std::lround(1e3 * message.slowest_repeat_s))}) {}

  void declare(Exchange& exchange) override {
    const auto one = [&](const char* name) { return exchange.add_setting(settings_.name, {name, "", 0, 1}); };
    std::size_t k = 0;
    for (SettingId* id : {&test_, &invalid_, &simulation_, &needs_commissioning_, &silent_, &restart_})
      *id = one(message_settings[k++]);
    way_.declare(exchange, settings_.name);
  }
  void wire(Exchange& exchange) override {
    for (const EntryText& text : read_data_set(settings_.entries)) {
      Shown& shown = shown_.emplace_back();
      shown.text = text;
      if (text.what == EntryText::What::value && text.is_number()) {
        shown.value = exchange.value_of(text.name);
        if (!text.within.empty())
          shown.within = parse_quantity_as(text.within, exchange.unit_of(shown.value));
      } else if (text.what == EntryText::What::value) {
        shown.point = exchange.point_of(text.name);
      }
      for (const std::string& bit : text.bits)
        shown.bits.push_back(bit == "-" ? std::nullopt : std::optional(exchange.point_of(bit)));
    }
    for (Shown& shown : shown_) {
      const auto at = std::find_if(shown_.begin(), shown_.end(), [&](const Shown& other) {
        return other.text.what == EntryText::What::value && other.text.name == shown.text.name;
      });
      shown.of = at == shown_.end() ? 0 : static_cast<std::size_t>(at - shown_.begin());
    }
    present_.resize(shown_.size());
  }
  std::vector<wire::Identity> identities() const override {
    return {{wire::ethertype_goose, static_cast<std::uint16_t>(settings_.appid), settings_.identifier()}};
  }
  std::string open(const Opening& how) override {
    how.frames.join();
    link_.to = &how.frames.link();
    frames_ = &how.frames;
    return {};
  }
  void give(Exchange& exchange) noexcept override {
    const wire::Now now = exchange.now();
    const auto is = [&](SettingId id) { return exchange.setting(id) > 0.5; };
    link_.now_ns = now.steady_ns;
    if (way_.look(exchange))
      way_.release(now.steady_ns, [&](wire::Bytes frame) { (void)link_.to->send(frame); });
    const bool restart = is(restart_);
    if (restart && !restarted_) publisher_.restart();
    restarted_ = restart;
    if (is(silent_)) return;
    fill(exchange, now.utc_ns,
         (is(invalid_) ? wire::Quality::invalid : 0) | (is(test_) ? wire::Quality::test : 0));
    publisher_.describe(exchange.clock_quality(), is(simulation_), is(needs_commissioning_));
    publisher_.poll(now, present_, link_);
  }
  std::string medium() const override { return frames_ ? frames_->description() : std::string(); }
  /// What was sent is sent: it goes on from what it shows.
  void visit_state(StateArchive&) override {}
  std::vector<Account> accounts() const override {
    Account account;
    account.port = "message." + settings_.name;
    account.carries = fmt::format("GOOSE {:#06x} out", settings_.appid);
    account.sent = publisher_.sent();
    account.unsent = publisher_.unsent();
    account.spoiled = way_.spoiled();
    return {account};
  }
  std::vector<Path> paths() const override {
    std::string entries;
    for (const std::string& entry : settings_.entries) entries += (entries.empty() ? "" : ", ") + entry;
    return {{entries, fmt::format("message {}", settings_.name), "who subscribes", 1, "the wire"}};
  }

 private:
  /// A link whose frames go the way that may be spoiled.
  class SpoiledLink final : public wire::Link {
   public:
    explicit SpoiledLink(Way& way) : way_(way) {}
    wire::Link* to = nullptr;
    std::int64_t now_ns = 0;
    bool send(wire::Bytes frame) noexcept override {
      bool taken = true;
      way_.pass(frame, now_ns, [&](wire::Bytes sent) { taken = to->send(sent) && taken; });
      return taken;
    }
    std::size_t receive(std::span<std::uint8_t>) noexcept override { return 0; }
    bool wait(int) noexcept override { return false; }
    const std::string& description() const noexcept override { return to->description(); }

   private:
    Way& way_;
  };

  static wire::Goose first(const Message& message) {
    const std::string& id = message.identifier();
    const auto named = [&](const std::string& said, const char* usual) {
      return said.empty() ? id + usual : said;
    };
    wire::Goose goose;
    goose.address = message.address(wire::goose_address(static_cast<std::uint16_t>(message.appid)));
    goose.control_block = named(message.control_block, "LD0/LLN0$GO$outputs");
    goose.data_set = named(message.data_set, "LD0/LLN0$outputs");
    goose.id = id;
    goose.revision = static_cast<std::uint32_t>(message.revision);
    return goose;
  }

  void fill(const Exchange& exchange, std::int64_t utc_ns, std::uint32_t quality) noexcept {
    for (std::size_t k = 0; k < shown_.size(); ++k) {
      Shown& shown = shown_[k];
      switch (shown.text.what) {
        case EntryText::What::value:
          present_[k] = datum(exchange, shown, utc_ns);
          break;
        case EntryText::What::quality:
          present_[k] = Datum::quality(quality);
          break;
        case EntryText::What::time:
          break;  // behind all values, whose changes it tells
        case EntryText::What::structure:
          present_[k] = Datum::structure(shown.text.members);
          break;
        case EntryText::What::skipped:
          present_[k] = Datum::boolean(false);
          break;
        case EntryText::What::bits: {
          std::uint64_t word = 0;
          for (const auto& bit : shown.bits) word = word << 1U | (bit && exchange.on(*bit) ? 1U : 0U);
          present_[k] = Datum::bits(word, static_cast<int>(shown.bits.size()));
          break;
        }
      }
    }
    for (std::size_t k = 0; k < shown_.size(); ++k) {
      if (shown_[k].text.what == EntryText::What::time)
        present_[k] = Datum::time(
            {static_cast<std::uint64_t>(shown_[shown_[k].of].changed_utc_ns), exchange.clock_quality()});
    }
  }
  [[nodiscard]] static Datum datum(const Exchange& exchange, Shown& shown, std::int64_t utc_ns) noexcept {
    const bool number = shown.text.is_number();
    const double is = number ? exchange.value(shown.value) : exchange.on(shown.point) ? 1 : 0;
    if (std::abs(is - shown.said) > shown.within || shown.changed_utc_ns == 0) {
      shown.said = is;
      shown.changed_utc_ns = utc_ns;
    }
    switch (shown.text.kind) {
      case Datum::Kind::real:
        return Datum::real(static_cast<float>(shown.said));
      case Datum::Kind::integer:
        return Datum::integer(std::llround(shown.said));
      case Datum::Kind::natural:
        return Datum::natural(static_cast<std::uint64_t>(std::llround(std::max(0.0, shown.said))));
      case Datum::Kind::bits:
        return Datum::position(shown.said > 0.5);
      default:
        return Datum::boolean(shown.said > 0.5);
    }
  }

  Message settings_;
  wire::GoosePublisher publisher_;
  std::vector<Shown> shown_;
  std::vector<Datum> present_;
  Way way_;
  SpoiledLink link_{way_};
  SettingId test_, invalid_, simulation_, needs_commissioning_, silent_, restart_;
  bool restarted_ = false;
  Frames* frames_ = nullptr;
};

}  // namespace

std::unique_ptr<Port> make_idle_message(const std::string& name) {
  return std::make_unique<IdleMessage>(name);
}

template <>
std::unique_ptr<Port> make_port(const Message& message, const RunPlan&) {
  return std::make_unique<MessagePort>(message);
}

template <>
void check(const Message& message, Flaws& flaws) {
  const std::string place = "message." + message.name;
  flaws.need_address(place, "destination", message.destination);
  try {
    const auto entries = read_data_set(message.entries);
    for (const std::string& name : names_in(entries, false)) flaws.need_point(place, "entries", name);
    for (const EntryText& entry : entries) {
      if (entry.what == EntryText::What::skipped)
        flaws.report(place, "entries", "\"-\" passes nothing over in what is sent");
      if (entry.what != EntryText::What::quality && entry.what != EntryText::What::time) continue;
      std::vector<std::string> known = names_in(entries, false);
      for (const std::string& number : names_in(entries, true)) known.push_back(number);
      flaws.need_one_of(place, "entries", entry.name, known, "entry");
    }
  } catch (const Error& error) {
    flaws.report(place, "entries", error.what());
  }
}

}  // namespace zavrek::bench::internal
