#include <algorithm>
#include <charconv>
#include <ctime>

#include <fmt/format.h>

#include "bench/names.hpp"
#include "zavrek/bench/stand_ins.hpp"

namespace zavrek::bench {
namespace {

constexpr double press_s = 0.2;  // unless said otherwise

wire::Goose message_of(const Panel& panel) {
  StandInPorts ports;
  ports.name = panel.name;
  ports.goose_appid = static_cast<std::uint16_t>(panel.appid);
  ports.source = wire::random_source();
  wire::Goose message = stand_in_message(ports);
  message.set(std::vector<bool>(panel.switches.size()));
  return message;
}

}  // namespace

PanelStandIn::PanelStandIn(const Panel& panel, const Bench& bench)
    : publisher_(message_of(panel)),
      lamps_(static_cast<std::uint16_t>(panel.lamps_appid), panel.name + "/lamps"),
      lamp_names_(panel.lamps),
      shown_(panel.lamps.size()) {
  for (const std::string& name : panel.switches) {
    names_.push_back(name);
    states_.push_back(false);
    for (const std::string& text : bench.contacts) {
      const internal::Contact contact = internal::contact_of(text);
      if (contact.name == name) states_.back() = contact.closed();
    }
  }
  releases_ns_.assign(names_.size(), 0);
}

std::string PanelStandIn::order(const std::string& line, std::int64_t now_ns) {
  const std::size_t blank = line.find(' ');
  const std::string name = line.substr(0, blank);
  const std::string what = blank == std::string::npos ? "" : line.substr(blank + 1);
  const auto at = std::find(names_.begin(), names_.end(), name);
  if (at == names_.end()) return fmt::format("no switch \"{}\"{}", name, suggestion(name, names_));
  const auto k = static_cast<std::size_t>(at - names_.begin());
  releases_ns_[k] = 0;
  if (what == "on" || what == "off") {
    states_[k] = what == "on";
    return {};
  }
  if (!what.empty() && !what.starts_with("press"))
    return fmt::format("\"{}\" is not understood; write \"{} on\", \"off\", \"press\" or \"press 500 ms\"",
                       line, name);
  double lasts_s = press_s;
  if (what.size() > 6) {
    try {
      lasts_s = parse_quantity_as(what.substr(6), "s");
    } catch (const Error& error) {
      return error.what();
    }
  }
  states_[k] = true;
  releases_ns_[k] = now_ns + static_cast<std::int64_t>(1e9 * std::clamp(lasts_s, 0.0, 3600.0));
  return {};
}

void PanelStandIn::take(wire::Bytes frame, std::int64_t now_ns) {
  if (!lamps_.take(frame, now_ns)) return;
  const wire::Goose& message = lamps_.message();
  for (std::size_t k = 0; k < shown_.size() && k < message.entries.size(); ++k) {
    if (shown_[k] == message.on(k)) continue;
    shown_[k] = message.on(k);
    changed_.push_back(fmt::format("{} {}", lamp_names_[k], message.on(k) ? "on" : "off"));
  }
}

void PanelStandIn::poll(wire::Now now, wire::Link& link) {
  for (std::size_t k = 0; k < names_.size(); ++k) {
    if (releases_ns_[k] == 0 || now.steady_ns < releases_ns_[k]) continue;
    releases_ns_[k] = 0;
    states_[k] = false;
  }
  publisher_.poll(now, states_, link);
}

std::vector<std::string> PanelStandIn::take_changed() { return std::exchange(changed_, {}); }

std::string PanelStandIn::words() const {
  std::string text;
  for (std::size_t k = 0; k < names_.size(); ++k)
    text += fmt::format("{}switch {} {}", text.empty() ? "" : ", ", names_[k], states_[k] ? "on" : "off");
  for (std::size_t k = 0; k < lamp_names_.size(); ++k)
    text += fmt::format("{}lamp {} {}", text.empty() ? "" : ", ", lamp_names_[k],
                        !shown_[k].has_value() ? "not heard"
                        : *shown_[k]           ? "on"
                                               : "off");
  return text;
}

}  // namespace zavrek::bench
