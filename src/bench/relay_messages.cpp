#include <algorithm>

#include <fmt/format.h>

#include "bench/data_set.hpp"
#include "zavrek/bench/stand_ins.hpp"

namespace zavrek::bench {

using namespace wire;

Goose stand_in_message(const StandInPorts& ports) {
  Goose message;
  message.address = goose_address(ports.goose_appid);
  message.address.source = ports.source;
  message.control_block = ports.name + "LD0/LLN0$GO$outputs";
  message.data_set = ports.name + "LD0/LLN0$outputs";
  message.id = ports.name;
  message.revision = ports.revision;
  message.set({false, false});
  return message;
}

GooseSubscriber stand_in_subscriber(const StandInPorts& ports) {
  return GooseSubscriber(ports.goose_appid, ports.name);
}

RelayMessages::RelayMessages(const StandInPorts& ports, const protection::Relay& relay)
    : publisher_(stand_in_message(ports)),
      entries_(entries_of(ports, relay.outputs())),
      published_(entries_.size()),
      outputs_(relay.outputs().size(), false) {
  const auto& known = relay.inputs();
  for (const StandInInput& port : ports.inputs) {
    const auto at = std::find(known.begin(), known.end(), port.name);
    if (at == known.end()) continue;  // no condition uses it
    inputs_.push_back({static_cast<std::size_t>(at - known.begin()), port.entry, port.reversed,
                       GooseSubscriber(port.appid, port.publisher)});
  }
}

std::vector<RelayMessages::Entry> RelayMessages::entries_of(const StandInPorts& ports,
                                                            const std::vector<std::string>& outputs) {
  using internal::EntryText;
  std::vector<Entry> entries;
  for (const EntryText& text : internal::read_data_set(ports.entries.empty() ? outputs : ports.entries)) {
    Entry& entry = entries.emplace_back();
    entry.members = text.members;
    const auto at = std::find(outputs.begin(), outputs.end(), text.name);
    entry.output = static_cast<std::size_t>(at - outputs.begin());
    switch (text.what) {
      case EntryText::What::value:
        entry.what = text.position ? Entry::What::position : Entry::What::value;
        break;
      case EntryText::What::quality:
        entry.what = Entry::What::quality;
        break;
      case EntryText::What::time:
        entry.what = Entry::What::time;
        break;
      case EntryText::What::structure:
        entry.what = Entry::What::structure;
        continue;
      case EntryText::What::skipped:
      case EntryText::What::bits:
        break;
    }
    if (at == outputs.end() || text.is_number() || text.what == EntryText::What::skipped)
      throw Error(
          fmt::format("\"{}\" is no output of the relay{}", text.name, suggestion(text.name, outputs)));
  }
  return entries;
}

void RelayMessages::publish(Now now, const protection::Relay& relay, Link& link) {
  for (Entry& entry : entries_) {
    if (entry.what == Entry::What::time &&
        (entry.changed_ns == 0 || outputs_[entry.output] != relay.output(entry.output)))
      entry.changed_ns = now.utc_ns;
  }
  for (std::size_t k = 0; k < outputs_.size(); ++k) outputs_[k] = relay.output(k);
  for (std::size_t k = 0; k < entries_.size(); ++k) {
    const Entry& entry = entries_[k];
    switch (entry.what) {
      case Entry::What::value:
        published_[k] = Datum::boolean(outputs_[entry.output]);
        break;
      case Entry::What::position:
        published_[k] = Datum::position(outputs_[entry.output]);
        break;
      case Entry::What::quality:
        published_[k] = Datum::quality(0);
        break;
      case Entry::What::time:
        published_[k] =
            Datum::time({static_cast<std::uint64_t>(entry.changed_ns), Stamp::not_synchronised | 10});
        break;
      case Entry::What::structure:
        published_[k] = Datum::structure(entry.members);
        break;
    }
  }
  publisher_.poll(now, published_, link);
}

void RelayMessages::take(Bytes frame, std::int64_t now_ns, protection::Relay& relay) {
  for (Input& input : inputs_) {
    if (!input.subscriber.take(frame, now_ns)) continue;
    const Goose& message = input.subscriber.message();
    if (input.entry < message.entries.size())
      relay.set_input(input.place, message.on(input.entry) != input.reversed);
  }
}

void RelayMessages::count(Account& account) const {
  account.sent += publisher_.sent();
  account.unsent += publisher_.unsent();
  for (const Input& input : inputs_) {
    const GooseSubscriber::Counts& counts = input.subscriber.counts();
    account.malformed += counts.malformed;
    account.conflicting += counts.conflicting;
    account.regressed += counts.regressed;
    account.late += counts.late;
    account.unfit += counts.unfit;
  }
}

}  // namespace zavrek::bench
