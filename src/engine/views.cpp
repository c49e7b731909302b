#include "engine/views.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <map>
#include <numbers>

#include <fmt/format.h>

#include "report/json.hpp"

namespace zavrek::engine::internal {
namespace {

using nlohmann::json;
using report::number_or_null;
using Phasor = std::complex<double>;

constexpr double full_turn = 2 * std::numbers::pi;
constexpr int most_harmonic = 25;
constexpr double least_loop_A = 0.5;  // below it has no impedance

/// The latest rows of some signals.
struct Latest {
  std::vector<double> rows;
  std::size_t width = 0, count = 0, cycle = 0;
  std::int64_t first = 0;
  double rate_Hz = 1;

  Latest(const Traces& traces, const std::vector<std::string>& signals, double seconds, double frequency_Hz)
      : width(signals.size()),
        cycle(static_cast<std::size_t>(std::lround(traces.rate_Hz / frequency_Hz))),
        rate_Hz(traces.rate_Hz) {
    std::vector<std::size_t> columns;
    for (const std::string& name : signals) {
      const auto at = std::find(traces.signals.begin(), traces.signals.end(), name);
      if (at == traces.signals.end())
        throw Error(fmt::format("no signal \"{}\"{}", name.substr(0, 100), suggestion(name, traces.signals)));
      columns.push_back(static_cast<std::size_t>(at - traces.signals.begin()));
    }
    const std::int64_t until = traces.rows.written();
    const auto wanted =
        static_cast<std::int64_t>(std::ceil(seconds * traces.rate_Hz)) + static_cast<std::int64_t>(cycle);
    first = traces.rows.read(std::max<std::int64_t>(0, until - wanted), until, columns, rows);
    count = width == 0 ? 0 : rows.size() / width;
  }
  [[nodiscard]] double at(std::size_t row, std::size_t column) const { return rows[row * width + column]; }
  [[nodiscard]] double time_s(std::size_t row) const {
    return static_cast<double>(first + static_cast<std::int64_t>(row)) / rate_Hz;
  }
  /// Rms phasor of a harmonic over the cycle that ends at `row`.
  [[nodiscard]] Phasor phasor(std::size_t row, std::size_t column, double harmonic = 1) const {
    Phasor sum = 0;
    for (std::size_t k = 0; k < cycle; ++k)
      sum += at(row - k, column) *
             std::polar(1.0, harmonic * full_turn * static_cast<double>(k) / static_cast<double>(cycle));
    return std::numbers::sqrt2 / static_cast<double>(cycle) * sum;
  }
};

json polar(const Phasor& phasor, const Phasor& against) {
  const double angle = std::abs(against) > 0 ? std::arg(phasor * std::conj(against)) : std::arg(phasor);
  return {{"rms", std::abs(phasor)}, {"angle_deg", angle * 360 / full_turn}};
}

std::vector<std::string> three(const std::string& stem) { return {stem + "a", stem + "b", stem + "c"}; }

/// Bus names that a field of an element holds, in their order.
std::vector<std::string> names_in(const network::Field& field, const void* object) {
  const network::Value value = field.read(object);
  if (const auto* text = std::get_if<std::string>(&value)) return {*text};
  if (const auto* texts = std::get_if<std::vector<std::string>>(&value)) return *texts;
  return {};
}

json corners(const std::vector<Phasor>& outline, double primary) {
  json points = json::array();
  for (const Phasor& point : outline) points.push_back({point.real() * primary, point.imag() * primary});
  return points;
}

/// Signals in front of a device at one of its places.
bench::Bench::Stems stems_at(const trial::Case& all, const bench::Device& device, std::size_t place) {
  return all.bench.stems_of(device.reads.at(place));
}

json zones_of(const protection::RelaySettings& relay) {
  json zones = json::array();
  const double primary = relay.current_scale() / relay.voltage_scale();
  for (const protection::Zone* zone : relay.all<protection::Zone>()) {
    json one{{"name", zone->name}, {"delay_s", zone->delay_s}};
    if (zone->loops != "earth") one["phase"] = corners(protection::outline(*zone, false), primary);
    if (zone->loops != "phase") one["earth"] = corners(protection::outline(*zone, true), primary);
    zones.push_back(std::move(one));
  }
  return zones;
}

json threshold_of(const protection::Differential& settings) {
  json points = json::array();
  for (int k = 0; k <= 100; ++k) {
    const double restraint = (2.5 * settings.knee + 1) * k / 100;
    points.push_back({restraint, settings.threshold(restraint)});
  }
  return {{"name", settings.name},
          {"threshold", points},
          {"unrestrained", number_or_null(settings.unrestrained)}};
}

}  // namespace

json diagram_of(const trial::Case& all, const Session::Known& known) {
  json buses = json::array(), elements = json::array();
  const auto shown = [&](const std::string& name) {
    return std::find(known.signals.begin(), known.signals.end(), name) != known.signals.end();
  };
  std::vector<std::string> names;
  for (const network::Bus& bus : all.network.buses) {
    names.push_back(bus.name);
    buses.push_back({{"name", bus.name},
                     {"nominal_V", bus.voltage_V},
                     {"phases", bus.phases},
                     {"shows", shown(bus.name + ".va") ? json(bus.name + ".v") : json()}});
  }
  for (const network::Element& element : all.network.elements) {
    const network::Table& table = network::table_of(element);
    json ends = json::array(), on = json::array();
    for (const network::Field& field : table.fields) {
      for (const std::string& name :
           field.names_bus || field.names_element || field.shape == network::Shape::texts
               ? names_in(field, network::fields_of(element))
               : std::vector<std::string>{}) {
        const std::string bus = name.substr(0, name.find('.'));  // a terminal is "bus.p"
        if (std::find(names.begin(), names.end(), bus) != names.end() &&
            std::find(ends.begin(), ends.end(), bus) == ends.end())
          ends.push_back(bus);
        else if (field.names_element && !name.empty())
          on.push_back(name);
      }
    }
    const std::string& name = network::name_of(element);
    const auto operated = std::find_if(known.askables.begin(), known.askables.end(),
                                       [&](const Askable& one) { return one.name == name && one.operated; });
    json one{{"name", name},
             {"kind", table.kind},
             {"ends", ends},
             {"on", on},
             {"operated", operated != known.askables.end()},
             {"shows", shown(name + ".ia") ? json(name + ".i") : json()},
             {"along", table.find("length") != nullptr}};
    elements.push_back(std::move(one));
  }
  json places = json::array();
  for (const network::FaultPlace& place : known.places)
    places.push_back({{"name", place.name}, {"on", place.on}, {"at", number_or_null(place.at)}});
  return {{"buses", buses}, {"elements", elements}, {"places", places}};
}

json present_values(const Session& session, const Traces& traces) {
  const auto known = session.known();
  const Latest latest(traces, traces.signals, 0, session.loaded().network.frequency_Hz);
  json signals = json::object(), on = json::object();
  for (std::size_t k = 0; k < latest.width && latest.count > 0; ++k) {
    double sum = 0, squares = 0;
    const std::size_t count = std::min(latest.count, latest.cycle);
    for (std::size_t row = latest.count - count; row < latest.count; ++row) {
      sum += latest.at(row, k);
      squares += latest.at(row, k) * latest.at(row, k);
    }
    const auto n = static_cast<double>(count);
    signals[traces.signals[k]] = {number_or_null(sum / n), number_or_null(std::sqrt(squares / n))};
  }
  if (const auto view = session.values()) {
    for (std::size_t k = 0; k < known->points.size(); ++k)
      on[known->points[k]] = view->values[known->signals.size() + k] != 0;
  }
  return {{"signals", signals}, {"on", on}};
}

json planes_of(const trial::Case& all) {
  json devices = json::array();
  for (const bench::Device& device : all.bench.devices) {
    json one{{"name", device.name}, {"zones", zones_of(device.relay)}, {"differentials", json::array()}};
    for (const auto* differential : device.relay.all<protection::Differential>())
      one["differentials"].push_back(threshold_of(*differential));
    one["signals"] = json::array();
    for (std::size_t place = 0; place < device.reads.size(); ++place) {
      const auto stems = stems_at(all, device, place);
      one["signals"].push_back({{"current", stems.current}, {"voltage", stems.voltage}});
    }
    if (!one["zones"].empty() || !one["differentials"].empty()) devices.push_back(std::move(one));
  }
  return devices;
}

json phasors_of(const Traces& traces, const std::vector<std::string>& signals, double frequency_Hz) {
  const Latest latest(traces, signals, 0, frequency_Hz);
  if (latest.count < latest.cycle) throw Error("less than a cycle has run yet");
  json out = json::array(), sequences = json::array();
  std::map<std::string, Phasor> found;
  const Phasor against = signals.empty() ? Phasor() : latest.phasor(latest.count - 1, 0);
  for (std::size_t k = 0; k < signals.size(); ++k) {
    const Phasor phasor = latest.phasor(latest.count - 1, k);
    found[signals[k]] = phasor;
    json one = polar(phasor, against);
    one["name"] = signals[k];
    const auto at = std::find(traces.signals.begin(), traces.signals.end(), signals[k]);
    one["unit"] = traces.units[static_cast<std::size_t>(at - traces.signals.begin())];
    out.push_back(std::move(one));
  }
  const Phasor a = std::polar(1.0, full_turn / 3);
  for (const std::string& name : signals) {
    if (name.back() != 'a') continue;
    const std::string stem = name.substr(0, name.size() - 1);
    if (!found.contains(stem + "b") || !found.contains(stem + "c")) continue;
    const Phasor va = found[stem + "a"], vb = found[stem + "b"], vc = found[stem + "c"];
    sequences.push_back({{"stem", stem},
                         {"zero", polar((va + vb + vc) / 3.0, against)},
                         {"positive", polar((va + a * vb + a * a * vc) / 3.0, against)},
                         {"negative", polar((va + a * a * vb + a * vc) / 3.0, against)}});
  }
  return {{"time_s", latest.time_s(latest.count - 1)}, {"phasors", out}, {"sequences", sequences}};
}

json spectrum_of(const Traces& traces, const std::string& signal, double frequency_Hz, int cycles) {
  const Latest latest(traces, {signal}, (cycles - 1) / frequency_Hz, frequency_Hz);
  const std::size_t span = latest.cycle * static_cast<std::size_t>(cycles);
  if (latest.count < span) throw Error("not so many cycles have run yet");
  json harmonics = json::array();
  double fundamental = 0, others = 0;
  for (int h = 0; h <= most_harmonic; ++h) {
    Phasor sum = 0;
    for (std::size_t k = 0; k < span; ++k)
      sum += latest.at(latest.count - 1 - k, 0) *
             std::polar(1.0, h * full_turn * static_cast<double>(k) / static_cast<double>(latest.cycle));
    const double rms = std::abs(sum) * (h == 0 ? 1.0 : std::numbers::sqrt2) / static_cast<double>(span);
    harmonics.push_back(rms);
    if (h == 1) fundamental = rms;
    if (h > 1) others += rms * rms;
  }
  return {{"signal", signal},
          {"rms", harmonics},
          {"distortion", fundamental > 0 ? number_or_null(std::sqrt(others) / fundamental) : json()}};
}

json trajectory_of(const Traces& traces, const trial::Case& all, const std::string& name, double seconds) {
  const bench::Device* device = all.bench.find_device(name);
  if (!device) throw Error(fmt::format("no device \"{}\"", name.substr(0, 100)));
  const protection::RelaySettings& relay = device->relay;
  const double frequency_Hz = all.network.frequency_Hz;
  const auto zones = relay.all<protection::Zone>();
  const auto differentials = relay.all<protection::Differential>();
  json time = json::array();
  std::map<std::string, json> ways;
  if (!zones.empty()) {
    const auto stems = stems_at(all, *device, 0);
    std::vector<std::string> signals = three(stems.voltage);
    for (const std::string& one : three(stems.current)) signals.push_back(one);
    const Latest latest(traces, signals, seconds, frequency_Hz);
    const auto [factor, angle] = protection::compensation_of(relay, *zones.front());
    const Phasor k0 = std::polar(factor, angle);
    for (std::size_t row = latest.cycle; row < latest.count; row += latest.cycle / 4) {
      std::array<Phasor, 3> v, i;
      for (std::size_t k = 0; k < 3; ++k) {
        v[k] = latest.phasor(row, k);
        i[k] = latest.phasor(row, 3 + k);
      }
      time.push_back(latest.time_s(row));
      const Phasor residual = i[0] + i[1] + i[2];
      const auto add = [&](const char* loop, const Phasor& voltage, const Phasor& current) {
        const bool there = std::abs(current) > least_loop_A;
        const Phasor z = there ? voltage / current : Phasor();
        ways[loop].push_back(there ? json{z.real(), z.imag()} : json());
      };
      add("AG", v[0], i[0] + k0 * residual);
      add("BG", v[1], i[1] + k0 * residual);
      add("CG", v[2], i[2] + k0 * residual);
      add("AB", v[0] - v[1], i[0] - i[1]);
      add("BC", v[1] - v[2], i[1] - i[2]);
      add("CA", v[2] - v[0], i[2] - i[0]);
    }
    return {{"device", name}, {"plane", "impedance"}, {"time_s", time}, {"ways", ways}};
  }
  if (differentials.empty()) throw Error(name + " has no zones and no differential");
  const protection::Differential& settings = *differentials.front();
  std::vector<std::string> signals;
  std::vector<protection::Matching> matchings;
  for (std::size_t place = 0; place < settings.rated_currents.size(); ++place) {
    for (const std::string& one : three(stems_at(all, *device, place).current)) signals.push_back(one);
    matchings.push_back(protection::matching_of(settings, place, 1));
  }
  const Latest latest(traces, signals, seconds, frequency_Hz);
  for (std::size_t row = latest.cycle; row < latest.count; row += latest.cycle / 4) {
    time.push_back(latest.time_s(row));
    for (std::size_t k = 0; k < 3; ++k) {
      Phasor sum = 0;
      double total = 0, largest = 0;
      for (std::size_t place = 0; place < matchings.size(); ++place) {
        Phasor current = 0;
        for (std::size_t phase = 0; phase < 3; ++phase)
          current += matchings[place][k][phase] * latest.phasor(row, 3 * place + phase);
        sum += current;
        total += std::abs(current);
        largest = std::max(largest, std::abs(current));
      }
      const double restraint = settings.restraint == "largest" ? largest
                               : settings.restraint == "sum"   ? total
                                                               : total / 2;
      ways[std::string(1, static_cast<char>('A' + k))].push_back(json{restraint, std::abs(sum)});
    }
  }
  return {{"device", name}, {"plane", "differential"}, {"time_s", time}, {"ways", ways}};
}

}  // namespace zavrek::engine::internal
