#include "zavrek/network/geometry.hpp"

#include <algorithm>
#include <cmath>
#include <set>
#include <utility>

#include <fmt/format.h>

namespace zavrek::network {
namespace {

constexpr int most_circuits = 12;

int most_circuit(const LineGeometry& geometry) {
  int most = 1;
  for (const Wire& wire : geometry.wires) {
    if (wire.phase != "ground") most = std::max(most, wire.circuit);
  }
  for (const Core& core : geometry.cores) most = std::max(most, core.circuit);
  return most;
}

}  // namespace

std::string conductor_name(const LineGeometry& geometry, int circuit, const std::string& phase) {
  return most_circuit(geometry) == 1 ? phase : fmt::format("{}.{}", circuit, phase);
}

std::vector<std::string> conductors_of(const LineGeometry& geometry) {
  const auto rank = [](const std::string& phase) { return std::string("abcpnm").find(phase); };
  std::set<std::pair<int, std::size_t>> present;
  for (const Wire& wire : geometry.wires) {
    if (wire.phase != "ground") present.emplace(wire.circuit, rank(wire.phase));
  }
  for (const Core& core : geometry.cores) present.emplace(core.circuit, rank(core.phase));
  std::vector<std::string> names;
  for (const auto& [circuit, place] : present)
    names.push_back(conductor_name(geometry, circuit, std::string(1, "abcpnm"[place])));
  return names;
}

const Table& table(const Wire*) {
  static const Table built =
      TableOf<Wire>("wire", "one wire or bundle of an overhead line")
          .choice("phase", &Wire::phase, {"a", "b", "c", "p", "n", "m", "ground"},
                  "phase or d.c. pole that it belongs to; ground wires are eliminated")
          .count("circuit", &Wire::circuit, within(1, most_circuits), "of several beside each other")
          .quantity("x", &Wire::x_m, "m", any(), "horizontal place")
          .quantity("height", &Wire::height_m, "m", above(0), "above ground, at the tower")
          .quantity("sag", &Wire::sag_m, "m", at_least(0),
                    "at mid-span; the mean height lies 2/3 of it lower")
          .quantity("resistance", &Wire::resistance_ohm_per_m, "ohm/km", at_least(0), "of one wire")
          .quantity("diameter", &Wire::diameter_m, "mm", above(0), "outer diameter of one wire")
          .quantity("gmr", &Wire::gmr_m, "mm", above(0),
                    "geometric mean radius; that of a solid round wire when left out", Need::optional)
          .count("bundle", &Wire::bundle, within(1, 12), "wires on a circle, joined")
          .quantity("bundle_spacing", &Wire::bundle_spacing_m, "mm", above(0),
                    "between neighbours of the bundle", Need::optional)
          .build();
  return built;
}

const Table& table(const LineGeometry*) {
  static const Table built =
      TableOf<LineGeometry>(
          "geometry",
          "cross-section of an overhead line ([geometry.NAME.wire.NAME] tables) or of cables "
          "([geometry.NAME.core.NAME]); alone in a file for `zavrek line`, without \"geometry.NAME\"")
          .quantity("frequency", &LineGeometry::frequency_Hz, "Hz", above(0),
                    "at which the impedance is calculated")
          .quantity("earth_resistivity", &LineGeometry::earth_resistivity_ohm_m, "ohm m", above(0),
                    "of the soil")
          .choice("earth", &LineGeometry::earth, {"complex depth", "carson two-term"},
                  "how the return through earth is calculated for an overhead line")
          .choice("bonding", &LineGeometry::bonding, {"both ends", "one end", "cross-bonded"},
                  "where cable screens and armour are earthed")
          .build();
  return built;
}

const Table& table(const Core*) {
  static const Table built =
      TableOf<Core>("core", "one single-core cable in the ground")
          .choice("phase", &Core::phase, {"a", "b", "c", "p", "n", "m"},
                  "phase or d.c. pole that it belongs to")
          .count("circuit", &Core::circuit, within(1, most_circuits), "of several beside each other")
          .quantity("x", &Core::x_m, "m", any(), "horizontal place")
          .quantity("depth", &Core::depth_m, "m", above(0), "of its middle")
          .quantity("core_diameter", &Core::core_diameter_m, "mm", above(0), "of the conductor")
          .quantity("core_resistance", &Core::core_resistance_ohm_per_m, "ohm/km", above(0), "d.c.")
          .quantity("insulation_diameter", &Core::insulation_diameter_m, "mm", above(0), "outer")
          .quantity("permittivity", &Core::permittivity, "", at_least(1), "of the insulation, relative")
          .quantity("screen_diameter", &Core::screen_diameter_m, "mm", above(0), "outer")
          .quantity("screen_resistance", &Core::screen_resistance_ohm_per_m, "ohm/km", above(0), "d.c.")
          .quantity("jacket_diameter", &Core::jacket_diameter_m, "mm", above(0), "outer, over the screen")
          .quantity("armour_diameter", &Core::armour_diameter_m, "mm", above(0), "outer; none when left out",
                    Need::optional)
          .quantity("armour_resistance", &Core::armour_resistance_ohm_per_m, "ohm/km", above(0), "d.c.",
                    Need::optional)
          .quantity("armour_permeability", &Core::armour_permeability, "", at_least(1), "relative")
          .quantity("outer_diameter", &Core::outer_diameter_m, "mm", above(0),
                    "of the jacket over the armour", Need::optional)
          .build();
  return built;
}

std::vector<Flaw> validate(const LineGeometry& geometry) {
  std::vector<Flaw> flaws;
  const auto report = [&](const std::string& place, const std::string& field, std::string text) {
    flaws.push_back({.file = {}, .place = place, .field = field, .text = std::move(text)});
  };
  bool phase = false;
  for (const Wire& wire : geometry.wires) {
    const std::string place = "wire." + wire.name;
    for (const Field* field : missing_fields(table(&wire), &wire)) {
      report(place, field->name, fmt::format("missing; {} is wanted", field->expects));
    }
    if (wire.bundle > 1 && !is_set(wire.bundle_spacing_m))
      report(place, "bundle_spacing", "missing; a bundle needs it");
    if (wire.height_m - wire.sag_m <= 0) report(place, "sag", "lets the wire touch the ground");
    phase = phase || wire.phase != "ground";
    for (const Wire& other : geometry.wires) {
      if (&other == &wire) break;
      if (std::hypot(wire.x_m - other.x_m, wire.height_m - other.height_m) <
          (wire.diameter_m + other.diameter_m) / 2) {
        report(place, "x", fmt::format("lies inside wire \"{}\"", other.name));
      }
    }
  }
  for (const Core& core : geometry.cores) {
    const std::string place = "core." + core.name;
    for (const Field* field : missing_fields(table(&core), &core))
      report(place, field->name, fmt::format("missing; {} is wanted", field->expects));
    std::vector<std::pair<const char*, double>> layers{{"core_diameter", core.core_diameter_m},
                                                       {"insulation_diameter", core.insulation_diameter_m},
                                                       {"screen_diameter", core.screen_diameter_m},
                                                       {"jacket_diameter", core.jacket_diameter_m}};
    if (is_set(core.armour_diameter_m)) {
      layers.insert(layers.end(),
                    {{"armour_diameter", core.armour_diameter_m}, {"outer_diameter", core.outer_diameter_m}});
      if (!is_set(core.armour_resistance_ohm_per_m))
        report(place, "armour_resistance", "missing; armour needs it");
    }
    for (std::size_t k = 1; k < layers.size(); ++k) {
      if (!(layers[k].second > layers[k - 1].second) && is_set(layers[k - 1].second))
        report(place, layers[k].first, fmt::format("must be more than {}", layers[k - 1].first));
    }
    if (core.depth_m < layers.back().second / 2) report(place, "depth", "leaves the cable above the ground");
    for (const Core& other : geometry.cores) {
      if (&other == &core) break;
      if (other.phase == core.phase && other.circuit == core.circuit)
        report(place, "phase", fmt::format("is that of core \"{}\" too", other.name));
      if (std::hypot(core.x_m - other.x_m, core.depth_m - other.depth_m) < layers.back().second)
        report(place, "x", fmt::format("lies inside core \"{}\"", other.name));
    }
    phase = true;
  }
  if (!geometry.cores.empty() && !geometry.wires.empty())
    report("geometry", "", "has wires and cores; describe overhead line and cable apart");
  if (!phase)
    report("geometry", "", "has no phase wire; write at least one, such as [wire.a] with phase = \"a\"");
  return flaws;
}

}  // namespace zavrek::network
