#include "zavrek/bench/ports/can_bus.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "bench/field_bus.hpp"
#include "bench/names.hpp"
#include "zavrek/wire/field/can.hpp"

namespace zavrek::bench::internal {
namespace {

using RowsOf = BusRows::What;

enum CanRows : std::size_t { of_sends, of_sends_states, of_reads, of_reads_states };

wire::CanDatabase database_of(const CanBus& settings) {
  return wire::parse_can_database(settings.database_text, settings.database);
}

/// "Drive.speed" among the messages of a database. Throws Error.
std::pair<std::size_t, std::size_t> find_signal(const wire::CanDatabase& database, const std::string& name) {
  const std::size_t dot = name.find('.');
  std::vector<std::string> messages, signals;
  for (const wire::CanMessage& message : database.messages) messages.push_back(message.name);
  const wire::CanMessage* message = database.find(name.substr(0, dot));
  if (!message)
    throw Error(
        fmt::format("no message \"{}\"{}", name.substr(0, dot), suggestion(name.substr(0, dot), messages)));
  const std::string wanted = dot == std::string::npos ? "" : name.substr(dot + 1);
  for (const wire::CanSignal& one : message->signals) signals.push_back(one.name);
  const wire::CanSignal* signal = message->find(wanted);
  if (!signal)
    throw Error(
        fmt::format("message {} has no signal \"{}\"{}", message->name, wanted, suggestion(wanted, signals)));
  return {static_cast<std::size_t>(message - database.messages.data()),
          static_cast<std::size_t>(signal - message->signals.data())};
}

wire::CanChecksum checksum_of(const std::string& word) {
  static const std::vector<std::string> words{"exclusive_or", "sum", "crc8"};
  const auto at = std::find(words.begin(), words.end(), word);
  if (at == words.end()) throw Error(fmt::format("no checksum \"{}\"{}", word, suggestion(word, words)));
  return static_cast<wire::CanChecksum>(at - words.begin());
}

/// Counters and sums. Throws Error.
std::vector<wire::CanNodeSettings::Check> checks_of(const CanBus& settings,
                                                    const wire::CanDatabase& database) {
  std::vector<wire::CanNodeSettings::Check> checks;
  for (const std::string& text : settings.counters) {
    const auto [message, signal] = find_signal(database, text);
    checks.push_back({message, signal, std::nullopt});
  }
  for (const std::string& text : settings.checksums) {
    const auto [name, kind] = split_pair(text);
    const auto [message, signal] = find_signal(database, name);
    const wire::CanSignal& is = database.messages[message].signals[signal];
    if (is.length != 8 || (is.start % 8 != 0 && is.low_first) || (is.start % 8 != 7 && !is.low_first))
      throw Error(fmt::format("\"{}\" is not one whole octet", name));
    checks.push_back({message, signal, checksum_of(kind)});
  }
  return checks;
}

class CanPort final : public FieldBus {
 public:
  CanPort(const CanBus& settings, const RunPlan& plan)
      : FieldBus({"can_bus", settings.name, is_connected(plan)}, plan.setup,
                 {{RowsOf::numbers, read_bus_rows(settings.sends, BusAt::name)},
                  {RowsOf::points, read_bus_rows(settings.sends_states, BusAt::name)},
                  {RowsOf::asked, read_bus_rows(settings.reads, BusAt::name)},
                  {RowsOf::asked, read_bus_rows(settings.reads_states, BusAt::name)}}),
        settings_(settings) {}
  ~CanPort() override { end(); }

  void declare(Exchange& exchange) override {
    FieldBus::declare(exchange);
    alive_ = exchange.add_output(settings_.name, "alive");
  }
  void take(Exchange& exchange) noexcept override {
    FieldBus::take(exchange);
    if (const bool alive = alive_now_.load(std::memory_order_relaxed); alive != exchange.on(alive_))
      exchange.tell(alive_, alive);
  }

 private:
  std::string open_other() override {
    try {
      node_ = std::make_unique<wire::CanNode>(node_settings(), *this);
      link_ = wire::open_can(settings_.medium);
    } catch (const Error& error) {
      return error.what();
    }
    return {};
  }
  wire::CanNodeSettings node_settings() const {
    wire::CanNodeSettings made;
    made.database = database_of(settings_);
    made.least_gap_s = settings_.least_gap_s;
    made.timeout_s = settings_.timeout_s;
    made.checks = checks_of(settings_, made.database);
    for (std::size_t kind = of_sends; kind <= of_reads_states; ++kind) {
      for (std::size_t k = 0; k < rows(kind).size(); ++k) {
        const auto [message, signal] = find_signal(made.database, rows(kind)[k].at);
        const bool sent = kind <= of_sends_states;
        const BusPlace& at = place(kind, k);
        (sent ? made.sends : made.reads).push_back({message, signal, sent ? at.shown : at.asked, at.within});
      }
    }
    for (const std::string& name : settings_.at_change) {
      for (std::size_t m = 0; m < made.database.messages.size(); ++m) {
        if (made.database.messages[m].name == name) made.at_change.push_back(m);
      }
    }
    return made;
  }
  std::string other_medium() const override { return "CAN " + settings_.medium; }
  std::string carries() const override { return "CAN, by " + settings_.database; }
  const wire::Traffic* traffic() const override { return node_ ? &node_->traffic() : nullptr; }

  void turn(bool cut, bool silent) override {
    link_->wait(1);
    const wire::Now now{pace::system_clock().now_ns(), 0};
    const bool deaf = cut || silent;
    for (int k = 0; k < most_at_once && link_->receive(frame_, malformed_); ++k) {
      if (!deaf) node_->receive(frame_, now);
    }
    node_->poll(now);
    for (const wire::CanFrame& frame : node_->out()) {
      if (!deaf && !link_->send(frame)) ++unsent_;
    }
    node_->out().clear();
    alive_now_.store(node_->alive(), std::memory_order_relaxed);
  }
  std::vector<Account> accounts() const override {
    std::vector<Account> all = FieldBus::accounts();
    for (Account& one : all) {
      one.malformed += malformed_;
      one.unsent += unsent_;
    }
    return all;
  }

  static constexpr int most_at_once = 256;
  CanBus settings_;
  PointId alive_;
  std::atomic<bool> alive_now_{false};
  std::unique_ptr<wire::CanNode> node_;
  std::unique_ptr<wire::CanLink> link_;
  wire::CanFrame frame_;
  Count malformed_, unsent_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const CanBus& settings, const RunPlan& plan) {
  return std::make_unique<CanPort>(settings, plan);
}

template <>
void check(const CanBus& settings, Flaws& flaws) {
  const std::string place = "can_bus." + settings.name;
  wire::CanDatabase database;
  try {
    database = database_of(settings);
  } catch (const Error& error) {
    return flaws.report(place, "database", error.what());
  }
  const auto tell = [&](const char* field, auto&& body) {
    try {
      body();
    } catch (const Error& error) {
      flaws.report(place, field, error.what());
    }
  };
  const auto look = [&](const char* field, const std::vector<std::string>& texts, RowsOf what) {
    for (const BusRow& row : check_rows(flaws, place, field, texts, what, BusAt::name))
      tell(field, [&] { (void)find_signal(database, row.at); });
  };
  look("sends", settings.sends, RowsOf::numbers);
  look("sends_states", settings.sends_states, RowsOf::points);
  look("reads", settings.reads, RowsOf::asked);
  look("reads_states", settings.reads_states, RowsOf::asked);
  std::vector<std::string> messages;
  for (const wire::CanMessage& message : database.messages) messages.push_back(message.name);
  for (const std::string& name : settings.at_change)
    flaws.need_one_of(place, "at_change", name, messages, "message");
  tell(settings.counters.empty() ? "checksums" : "counters", [&] { (void)checks_of(settings, database); });
  for (const std::string& text : settings.sends) {
    const std::string name = text.substr(0, text.find('.'));
    const wire::CanMessage* message = database.find(name);
    const bool at_change =
        std::find(settings.at_change.begin(), settings.at_change.end(), name) != settings.at_change.end();
    if (message && message->cycle_s == 0 && !at_change)
      flaws.report(place, "sends",
                   fmt::format("{} has no cycle in the database; name it in at_change", name));
  }
}

}  // namespace zavrek::bench::internal
