// Voltages, currents and powers of the steady state. With peak phasors V, I of cos: rms V / sqrt 2, power
// into an end S = sum of V I* / 2 over its phases. Sequences: V1, V2 = (Va + a Vb + a^2 Vc) / 3 and with a,
// a^2 exchanged.
#include "zavrek/emt/flow.hpp"

#include <cmath>
#include <numbers>
#include <set>

namespace zavrek::emt {
namespace {

/// What signals of currents add to "ia" at the first, second and third bus of an element.
constexpr const char* suffixes[] = {"", "_far", "_tertiary"};

/// The buses that an element names, in the order of its fields.
std::vector<std::string> buses_of(const network::Element& element) {
  std::vector<std::string> names;
  for (const network::Field& field : network::table_of(element).fields) {
    if (!field.names_bus) continue;
    for (std::string& name : network::as_texts(field.read(network::fields_of(element))))
      names.push_back(std::move(name));
  }
  return names;
}

class Reader {
 public:
  Reader(const network::Network& network, const Plant& plant) : network_(network), plant_(plant) {
    for (std::string& name : plant.signal_names()) known_.insert(std::move(name));
  }

  void read_bus(const network::Bus& bus, Flow& flow) const {
    if (bus.phases.front() == 'p') return;
    BusFlow read{.bus = bus.name,
                 .phases = bus.phases,
                 .nominal_V = bus.voltage_V / (bus.phases.size() == 1 ? 1 : std::numbers::sqrt3),
                 .volts = {}};
    for (const char phase : bus.phases) read.volts.push_back(rms(bus.name + ".v" + phase));
    flow.buses.push_back(std::move(read));
  }

  void read_element(const network::Element& element, Flow& flow) const {
    const std::string name = name_of(element);
    const std::vector<std::string> buses = buses_of(element);
    const bool supplies = network::table_of(element).supplies;
    for (std::size_t k = 0; k < buses.size() && k < std::size(suffixes); ++k)
      read_end({name, buses[k], suffixes[k], supplies}, flow);
    for (const char* signal : {".tap", ".tap_a", ".tap_b", ".tap_c"}) {
      if (known_.contains(name + signal))
        flow.taps.emplace_back(name + signal, plant_.value(plant_.signal(name + signal)));
    }
  }

 private:
  struct Place {
    std::string element, bus, suffix;
    bool supplies;
  };
  void read_end(const Place& place, Flow& flow) const {
    const network::Bus* bus = network_.find_bus(place.bus);
    if (!bus) return;
    EndFlow end{.element = place.element, .bus = place.bus, .phases = {}, .amperes = {}, .volt_amperes = {}};
    end.supplies = place.supplies;
    for (const char phase : bus->phases) {
      const std::string signal = place.element + ".i" + phase + place.suffix;
      if (!known_.contains(signal)) continue;
      end.phases += phase;
      end.amperes.push_back((place.supplies ? -1.0 : 1.0) * rms(signal));
      end.volt_amperes += rms(place.bus + ".v" + phase) * std::conj(end.amperes.back());
    }
    if (!end.phases.empty()) flow.ends.push_back(std::move(end));
  }

  [[nodiscard]] std::complex<double> rms(const std::string& signal) const {
    return plant_.phasor(plant_.signal(signal)) / std::numbers::sqrt2;
  }

  const network::Network& network_;
  const Plant& plant_;
  std::set<std::string> known_;
};

}  // namespace

double BusFlow::unbalance() const {
  if (phases != "abc") return 0;
  const std::complex<double> a = std::polar(1.0, 2 * std::numbers::pi / 3);
  const std::complex<double> positive = volts[0] + a * volts[1] + a * a * volts[2];
  const std::complex<double> negative = volts[0] + a * a * volts[1] + a * volts[2];
  return std::abs(positive) > 0 ? std::abs(negative) / std::abs(positive) : 0;
}

std::vector<std::pair<std::string, std::complex<double>>> BusFlow::between_phases() const {
  std::vector<std::pair<std::string, std::complex<double>>> all;
  for (const char* pair : {"ab", "bc", "ca"}) {
    const std::size_t p = phases.find(pair[0]), q = phases.find(pair[1]);
    if (p != std::string::npos && q != std::string::npos) all.emplace_back(pair, volts[p] - volts[q]);
  }
  return all;
}

std::complex<double> Flow::taken_by(const std::string& element) const {
  std::complex<double> sum = 0;
  for (const EndFlow& end : ends) {
    if (end.element == element) sum += end.volt_amperes;
  }
  return sum;
}

Flow flow_of(const network::Network& network, const Plant& plant) {
  const Reader reader(network, plant);
  Flow flow;
  for (const network::Bus& bus : network.buses) reader.read_bus(bus, flow);
  for (const network::Element& element : network.elements) reader.read_element(element, flow);
  return flow;
}

}  // namespace zavrek::emt
