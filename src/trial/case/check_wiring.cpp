#include "trial/case/check_wiring.hpp"

#include <cmath>
#include <set>

#include <fmt/format.h>

#include "bench/measured.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::trial::internal {
namespace {

constexpr double of_its_bus = 0.2;      // by which a rated voltage may differ from that of the bus
constexpr double of_its_ratio = 0.005;  // by which a ratio in settings may differ from the transformer's

class Wiring {
 public:
  explicit Wiring(const Case& all) : all_(all) {}

  std::vector<std::string> notes() {
    for (const network::Element& element : all_.network.elements) {
      if (const auto* t = std::get_if<network::Transformer>(&element)) look_at(*t);
      if (const auto* vt = std::get_if<network::VoltageTransformer>(&element))
        rated("vt." + vt->name, "between phases", vt->bus, vt->primary_V);
    }
    for (const Device& device : all_.bench.devices) look_at(device);
    for (const Trial& trial : all_.trials) {
      if (trial.fault) look_at(trial.fault->fault.on, trial.fault->fault.at);
    }
    for (const Sweep& sweep : all_.sweeps) look_at(sweep);
    return std::move(notes_);
  }

 private:
  void rated(const std::string& place, const char* what, const std::string& on, double voltage_V) {
    const network::Bus* bus = all_.network.find_bus(on);
    if (!bus || !network::is_set(voltage_V) || std::abs(voltage_V / bus->voltage_V - 1) <= of_its_bus) return;
    notes_.push_back(fmt::format("{}: rated {} {}, on bus {} of {}", place, print_rounded(voltage_V, "V"),
                                 what, on, print_rounded(bus->voltage_V, "V")));
  }
  void look_at(const Sweep& sweep) {
    std::string on = sweep.trial.fault ? sweep.trial.fault->fault.on : std::string();
    double at = sweep.trial.fault ? sweep.trial.fault->fault.at : network::unset;
    for (std::size_t k = 0; k < size_of(sweep); ++k) {
      for (const auto& [field, value] : fields_of(sweep, k)) {
        if (field == "fault.on") on = value;
        if (field == "fault.at") at = parse_quantity_as(value, "");
      }
      look_at(on, at);
    }
  }
  /// A fault at the very end of a line lies on the bus: a current transformer there sees it behind itself.
  void look_at(const std::string& on, double at) {
    if (!(at == 0 || at == 1) || !told_.insert(fmt::format("{} {}", on, at)).second) return;
    for (const network::Element& element : all_.network.elements) {
      const auto* ct = std::get_if<network::CurrentTransformer>(&element);
      if (!ct || ct->on != on || (ct->end == "near") != (at == 0)) continue;
      notes_.push_back(
          fmt::format("a fault at {0:g} % of {1} lies on the bus, behind {2}, whose relay sees none of "
                      "its current; at {3} % it lies in the line",
                      100 * at, on, ct->name, at == 0 ? "1" : "99"));
    }
  }
  void look_at(const network::Transformer& t) {
    const std::string place = "transformer." + t.name;
    rated(place, "on its high side", t.high, t.high_voltage_V);
    rated(place, "on its low side", t.low, t.low_voltage_V);
    rated(place, "on its tertiary", t.tertiary, t.tertiary_voltage_V);
  }
  void look_at(const Device& device) {
    const protection::RelaySettings& relay = device.approved_relay;
    for (const std::string& name : device.reads) {
      const Stream* stream = all_.bench.find_stream(name);
      if (!stream) continue;
      const auto compare =
          [&](const char* field, double primary, double secondary, const std::string& of,
              bench::internal::Ratio (*ratio_of)(const network::Network&, const std::string&)) {
            if (!network::is_set(primary) || !network::is_set(secondary) || of.empty()) return;
            const bench::internal::Ratio ratio = ratio_of(all_.network, of);
            if (std::abs(primary / secondary / (ratio.primary / ratio.secondary) - 1) <= of_its_ratio) return;
            notes_.push_back(
                fmt::format("device.{}: its settings reckon with {} = {:g} to {:g}, {} has {:g} to {:g}",
                            device.name, field, primary, secondary, of, ratio.primary, ratio.secondary));
          };
      compare("ct_primary", relay.ct_primary_A, relay.ct_secondary_A, stream->ct,
              bench::internal::current_ratio);
      compare("vt_primary", relay.vt_primary_V, relay.vt_secondary_V, stream->vt,
              bench::internal::voltage_ratio);
      break;  // further places of a relay may have transformers of their own
    }
  }

  const Case& all_;
  std::vector<std::string> notes_;
  std::set<std::string> told_;
};

}  // namespace

std::vector<std::string> wiring_notes(const Case& all) { return Wiring(all).notes(); }

}  // namespace zavrek::trial::internal
