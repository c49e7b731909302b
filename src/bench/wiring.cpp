#include "zavrek/bench/wiring.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <numbers>
#include <set>

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "bench/channels.hpp"
#include "bench/measured.hpp"
#include "bench/names.hpp"
#include "record/csv_field.hpp"

namespace zavrek::bench {
namespace {

using internal::signed_signal;

/// A quotient this much off is another ratio.
constexpr double of_its_ratio = 1e-3;

/// What an instrument transformer is, in front of a signal such as "CT1.ia"; `primary` 0 where there is none.
struct InFront {
  double primary = 0, secondary = 0;
  bool current = true;
};
InFront in_front_of(const network::Network& network, const std::string& signal) {
  const std::string owner = signal.substr(0, signal.rfind('.'));
  const network::Element* element = network.find_element(owner);
  if (!element) return {};
  if (const auto* ct = std::get_if<network::CurrentTransformer>(element))
    return {ct->primary_A, ct->secondary_A, true};
  if (const auto* vt = std::get_if<network::VoltageTransformer>(element))
    return {vt->primary_V, vt->secondary_V, false};
  if (const auto* vt = std::get_if<network::CapacitiveVoltageTransformer>(element))
    return {vt->primary_V, vt->secondary_V, false};
  return {};
}

std::string label(const Terminals& at, std::size_t k) {
  return k < at.terminals.size() ? at.terminals[k] : std::string();
}
std::string element_of(const std::vector<std::string>& list, std::size_t k) {
  return k < list.size() ? list[k] : std::string();
}

class Listing {
 public:
  explicit Listing(const Setup& setup) : setup_(setup) {}
  std::vector<Wire> all;

  void add(const AnalogueOut& out) {
    for (std::size_t k = 0; k < out.signals.size(); ++k) {
      Wire& wire = begin(out, "analogue_out." + out.name, k);
      wire.signal = out.signals[k];
      wire.input = element_of(out.inputs, k);
      const InFront before = in_front_of(setup_.network, signed_signal(out.signals[k]).name);
      const char* unit = before.current ? "A" : "V";
      if (before.primary > 0) {
        wire.ratio = print_rounded(before.primary, unit, 5) + " : " +
                     print_quantity(before.secondary * std::abs(out.ratio), unit);
        const double of_phase = before.current ? 1 : 1 / std::numbers::sqrt3;
        wire.rated = print_rounded(before.secondary * std::abs(out.ratio) * of_phase, unit, 3);
      } else if (out.ratio != 1) {
        wire.ratio = fmt::format("times {:g}", out.ratio);
      }
      wire.full_scale = out.full_scale.empty() ? print_quantity(out.range_V, unit) : out.full_scale;
    }
  }
  void add(const AnalogueIn& in) {
    for (std::size_t k = 0; k < in.values.size(); ++k) {
      Wire& wire = begin(in, "analogue_in." + in.name, k);
      wire.signal = in.name + "." + in.values[k];
      if (in.ratio != 1) wire.ratio = fmt::format("times {:g}", in.ratio);
      wire.full_scale = in.full_scale.empty() ? print_quantity(in.range_V, in.unit) : in.full_scale;
    }
  }
  void add(const ContactOut& out) {
    for (std::size_t k = 0; k < out.points.size(); ++k) {
      Wire& wire = begin(out, "contact_out." + out.name, k);
      wire.signal = out.points[k];
      wire.input = element_of(out.inputs, k);
      wire.rated = wetted(out.wetting_V);
    }
  }
  void add(const ContactIn& in) {
    for (std::size_t k = 0; k < in.points.size(); ++k) {
      Wire& wire = begin(in, "contact_in." + in.name, k);
      wire.signal = in.name + "." + in.points[k];
      if (!in.device.empty()) wire.input = in.points[k];
      wire.rated = wetted(in.wetting_V);
    }
  }
  template <class Other>
  void add(const Other&) {}

 private:
  Wire& begin(const Terminals& at, std::string port, std::size_t k) {
    Wire& wire = all.emplace_back();
    wire.device = at.device;
    wire.port = std::move(port);
    wire.card = at.card;
    wire.channel = at.first_channel + static_cast<int>(k);
    wire.terminal = label(at, k);
    return wire;
  }
  static std::string wetted(double wetting_V) {
    return wetting_V > 0 ? print_quantity(wetting_V, "V") + " wet" : std::string("dry");
  }
  const Setup& setup_;
};

/// "analogue_out" of "analogue_out.R1i".
std::string kind_of(const Wire& wire) { return wire.port.substr(0, wire.port.find('.')); }

void note_twice(const std::vector<Wire>& wires, std::vector<std::string>& flaws) {
  std::map<std::string, const Wire*> labels, channels;
  for (const Wire& wire : wires) {
    const std::string here = fmt::format("{}, channel {}", wire.port, wire.channel);
    const auto first = [](const Wire& other) {
      return fmt::format("{}, channel {}", other.port, other.channel);
    };
    const auto [channel, new_channel] =
        channels.try_emplace(fmt::format("{} {} {}", kind_of(wire), wire.card, wire.channel), &wire);
    if (!new_channel)
      flaws.push_back(fmt::format("channel {} of {} is used twice: by {} and by {}", wire.channel, wire.card,
                                  channel->second->port, wire.port));
    if (wire.terminal.empty()) {
      flaws.push_back(fmt::format("{}: no terminal says where it ends", here));
      continue;
    }
    // A loop, by which a channel is proven, has the same label at an output and at an input.
    const auto [terminal, new_label] =
        labels.try_emplace((kind_of(wire).ends_with("_out") ? "out " : "in ") + wire.terminal, &wire);
    if (!new_label)
      flaws.push_back(fmt::format("terminal {} is used twice: by {} and by {}", wire.terminal,
                                  first(*terminal->second), here));
  }
}

bool is_fed(const std::vector<Wire>& wires, const Device& device, std::size_t place, std::size_t quantity) {
  return std::any_of(wires.begin(), wires.end(), [&](const Wire& wire) {
    if (wire.device != device.name || kind_of(wire) != "analogue_out") return false;
    const internal::RelayInput input = internal::relay_input(wire.input);
    return input.place == place && input.quantity == quantity;
  });
}

void note_open(const std::vector<Wire>& wires, const Device& device, std::vector<std::string>& flaws) {
  static constexpr std::array<const char*, 6> names{"ia", "ib", "ic", "va", "vb", "vc"};
  for (std::size_t place = 0; place < std::max<std::size_t>(1, device.reads.size()); ++place) {
    const auto fed = [&](std::size_t quantity) { return is_fed(wires, device, place, quantity); };
    const bool voltages = fed(3) || fed(4) || fed(5) || network::is_set(device.approved_relay.vt_primary_V);
    for (std::size_t k = 0; k < (voltages ? 6U : 3U); ++k) {
      if (!fed(k))
        flaws.push_back(fmt::format("{}: its {}{} is left open: it measures nothing there", device.name,
                                    place == 0 ? "" : fmt::format("{}.", place + 1), names[k]));
    }
  }
  std::set<std::string> wanted;
  if (!device.trips.empty()) wanted.insert("trip");
  for (const auto* list : {&device.opens, &device.closes}) {
    for (const std::string& text : *list) wanted.insert(internal::split_pair(text).second);
  }
  for (const std::string& output : wanted) {
    const bool comes = std::any_of(wires.begin(), wires.end(), [&](const Wire& wire) {
      return wire.device == device.name && kind_of(wire) == "contact_in" && wire.input == output;
    });
    if (!comes)
      flaws.push_back(fmt::format("{}: its {} is left open: no contact_in brings it", device.name, output));
  }
}

void note_ratios(const Setup& setup, const Device& device, std::vector<std::string>& flaws) {
  const protection::RelaySettings& relay = device.approved_relay;
  for (const AnalogueOut* out : setup.bench.all<AnalogueOut>()) {
    if (out->device != device.name) continue;
    for (std::size_t k = 0; k < out->signals.size(); ++k) {
      const InFront before = in_front_of(setup.network, signed_signal(out->signals[k]).name);
      const double wanted = before.current ? relay.ct_primary_A / relay.ct_secondary_A
                                           : relay.vt_primary_V / relay.vt_secondary_V;
      if (before.primary == 0 || !network::is_set(wanted)) continue;
      const double has = before.primary / (before.secondary * std::abs(out->ratio));
      if (std::abs(has / wanted - 1) > of_its_ratio)
        flaws.push_back(fmt::format("{}: its settings reckon with {:g} for {}, and {} gives {:g}",
                                    device.name, wanted, element_of(out->inputs, k), out->signals[k], has));
    }
  }
}

const std::array<std::pair<const char*, std::string Wire::*>, 9>& columns() {
  static const std::array<std::pair<const char*, std::string Wire::*>, 9> all{
      {{"device", &Wire::device},
       {"port", &Wire::port},
       {"card", &Wire::card},
       {"signal", &Wire::signal},
       {"input", &Wire::input},
       {"terminal", &Wire::terminal},
       {"ratio", &Wire::ratio},
       {"rated", &Wire::rated},
       {"full_scale", &Wire::full_scale}}};
  return all;
}

}  // namespace

std::vector<Wire> wires_of(const Setup& setup) {
  Listing listing(setup);
  for (const PortSettings& port : setup.bench.ports)
    std::visit([&](const auto& settings) { listing.add(settings); }, port);
  return std::move(listing.all);
}

std::vector<std::string> wiring_flaws(const Setup& setup) {
  const std::vector<Wire> wires = wires_of(setup);
  std::vector<std::string> flaws;
  note_twice(wires, flaws);
  for (const Device& device : setup.bench.devices) {
    if (!device.at_terminals()) continue;
    note_open(wires, device, flaws);
    note_ratios(setup, device, flaws);
  }
  return flaws;
}

std::string to_string(const std::vector<Wire>& wires) {
  std::string text =
      fmt::format("{:<8} {:<20} {:<16} {:>7}  {:<12} {:<8} {:<16} {:<14} {}\n", "device", "terminal",
                  "signal", "channel", "card", "input", "ratio", "at rated value", "full scale");
  for (const Wire& wire : wires)
    text += fmt::format("{:<8} {:<20} {:<16} {:>7}  {:<12} {:<8} {:<16} {:<14} {}\n", wire.device,
                        wire.terminal.empty() ? "(open)" : wire.terminal, wire.signal, wire.channel,
                        wire.card, wire.input, wire.ratio, wire.rated, wire.full_scale);
  return text;
}

std::string to_csv(const std::vector<Wire>& wires) {
  std::string text = "channel";
  for (const auto& column : columns()) text += fmt::format(",{}", column.first);
  text += '\n';
  for (const Wire& wire : wires) {
    text += std::to_string(wire.channel);
    for (const auto& column : columns()) text += "," + record::internal::csv_field(wire.*column.second);
    text += '\n';
  }
  return text;
}

std::vector<std::string> differences(const std::vector<Wire>& wires, std::string_view csv,
                                     const std::string& file) {
  const auto rows = record::internal::csv_rows(csv);
  const auto refuse = [&](std::size_t line, const std::string& text) {
    throw Error(Flaw{.file = file, .line = static_cast<int>(line), .place = {}, .field = {}, .text = text});
  };
  if (rows.empty()) refuse(1, "is empty; `zavrek wiring CASE --csv` writes such a list");
  std::map<std::string, std::size_t> place;
  for (std::size_t k = 0; k < rows[0].size(); ++k) place[rows[0][k]] = k;
  for (const char* needed : {"port", "channel"}) {
    if (!place.contains(needed)) refuse(1, fmt::format("has no column \"{}\"", needed));
  }
  std::vector<std::string> found;
  std::set<const Wire*> listed;
  for (std::size_t row = 1; row < rows.size(); ++row) {
    const auto& fields = rows[row];
    if (fields.size() == 1 && fields[0].empty()) continue;
    if (fields.size() != rows[0].size())
      refuse(row + 1, fmt::format("has {} fields, and {} columns are named", fields.size(), rows[0].size()));
    const std::string &port = fields[place["port"]], &channel = fields[place["channel"]];
    const auto same = std::find_if(wires.begin(), wires.end(), [&](const Wire& wire) {
      return wire.port == port && std::to_string(wire.channel) == channel;
    });
    const std::string where = fmt::format("{}, channel {}", port, channel);
    if (same == wires.end()) {
      found.push_back(where + ": is not on the bench");
      continue;
    }
    listed.insert(&*same);
    for (const auto& [name, member] : columns()) {
      if (!place.contains(name) || fields[place[name]] == (*same).*member) continue;
      found.push_back(fmt::format("{}: {} \"{}\", and \"{}\" on the bench", where, name, fields[place[name]],
                                  (*same).*member));
    }
  }
  for (const Wire& wire : wires) {
    if (!listed.contains(&wire))
      found.push_back(fmt::format("{}, channel {}: is not in the list", wire.port, wire.channel));
  }
  return found;
}

}  // namespace zavrek::bench
