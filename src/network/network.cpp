#include "zavrek/network.hpp"
#include "zavrek/limits.hpp"

#include <algorithm>
#include <map>
#include <set>

#include <fmt/format.h>

namespace zavrek::network {
namespace {

struct Checker {
  const Network& network;
  std::vector<Flaw> flaws;
  std::vector<std::string> bus_names{};
  std::vector<std::string> element_names{};
  std::set<std::string> buses{};  // the same, for looking up
  std::set<std::string> elements{};

  void report(std::string place, std::string field, std::string text) {
    flaws.push_back(
        {.file = {}, .place = std::move(place), .field = std::move(field), .text = std::move(text)});
  }

  void collect_names() {
    std::map<std::string, std::string> seen;
    const auto take = [&](const std::string& place, const std::string& name) {
      if (name.empty()) report(place, "", "has no name; give it one");
      if (name == ground) report(place, "", "\"ground\" is the reference node; choose another name");
      const auto [other, fresh] = seen.emplace(name, place);
      if (!fresh) {
        report(place, "", fmt::format("the name \"{}\" is taken by {}; choose another", name, other->second));
      }
    };
    for (const Bus& bus : network.buses) {
      take("bus." + bus.name, bus.name);
      bus_names.push_back(bus.name);
      buses.insert(bus.name);
    }
    for (const Element& element : network.elements) {
      take(table_of(element).kind + "." + name_of(element), name_of(element));
      element_names.push_back(name_of(element));
      elements.insert(name_of(element));
    }
  }

  void check_bus(const std::string& place, const std::string& field, const std::string& name) {
    if (name == ground || buses.contains(name)) return;
    // A terminal of a bus, such as "dc.p"; whether it has that phase is seen when it is used.
    if (const auto dot = name.find('.'); dot != std::string::npos && buses.contains(name.substr(0, dot)))
      return;
    report(place, field, fmt::format("no bus \"{}\"{}", name, suggestion(name, bus_names)));
  }

  void check_fields(const std::string& place, const Table& table, const void* fields) {
    const std::vector<const Field*> missing = missing_fields(table, fields);
    for (const Field& field : table.fields) {
      if (std::find(missing.begin(), missing.end(), &field) != missing.end()) {
        report(place, field.name, fmt::format("missing; {} is wanted ({})", field.expects, field.doc));
        continue;
      }
      try {
        field.check(fields);
      } catch (const Error& error) {
        report(place, field.name, error.what());
      }
      const auto left_out = [&](const std::string& name) {
        return name.empty() && field.need == Need::optional;
      };
      if (field.names_bus) {
        for (const std::string& name : as_texts(field.read(fields))) {
          if (!left_out(name)) check_bus(place, field.name, name);
        }
      }
      if (field.names_element) {
        for (const std::string& name : as_texts(field.read(fields))) {
          if (!left_out(name)) check_element(place, field.name, name, table.kind == "fault");
        }
      }
    }
  }

  /// Lines and cables need sequence values unless matrices or a geometry stand for them; where a right of way
  /// has them, what a line lacks is told when a stretch needs it.
  void check_line_values(const std::string& place, const Element& element) {
    std::visit(
        [&](const auto& e) {
          if constexpr (requires { e.x1_ohm_per_m; }) {
            if (!e.geometry.empty() || !e.x_matrix_ohm_per_m.empty() || in_right_of_way(e.name)) return;
            for (const auto& [field, value] :
                 {std::pair{"r1", e.r1_ohm_per_m}, std::pair{"x1", e.x1_ohm_per_m}}) {
              if (!is_set(value))
                report(place, field,
                       "missing; sequence values, r_matrix and x_matrix, or a geometry are wanted");
            }
          }
        },
        element);
  }

  [[nodiscard]] bool in_right_of_way(const std::string& line) const {
    return std::any_of(network.elements.begin(), network.elements.end(), [&](const Element& element) {
      const auto* way = std::get_if<RightOfWay>(&element);
      return way && way->has_own_values() &&
             std::find(way->lines.begin(), way->lines.end(), line) != way->lines.end();
    });
  }

  void check_element(const std::string& place, const std::string& field, const std::string& name,
                     bool or_bus) {
    if (elements.contains(name) || (or_bus && buses.contains(name))) return;
    std::vector<std::string> known = element_names;
    if (or_bus) known.insert(known.end(), bus_names.begin(), bus_names.end());
    report(
        place, field,
        fmt::format("no {} \"{}\"{}", or_bus ? "bus or element" : "element", name, suggestion(name, known)));
  }
};

}  // namespace

Network::Network() = default;
Network::Network(const Network&) = default;
Network::Network(Network&&) noexcept = default;
Network& Network::operator=(const Network&) = default;
Network& Network::operator=(Network&&) noexcept = default;
Network::~Network() = default;

const Bus* Network::find_bus(std::string_view name) const {
  for (const Bus& bus : buses) {
    if (bus.name == name) return &bus;
  }
  return nullptr;
}

const Element* Network::find_element(std::string_view name) const {
  for (const Element& element : elements) {
    if (name_of(element) == name) return &element;
  }
  return nullptr;
}

std::string meaning_of(const Network& network, std::string_view signal) {
  // A name may have points itself, so the longest that is one is whose signal it is.
  for (std::size_t dot = signal.rfind('.'); dot != std::string_view::npos && dot > 0;
       dot = signal.rfind('.', dot - 1)) {
    const std::string_view name = signal.substr(0, dot), behind = signal.substr(dot + 1);
    if (const Element* element = network.find_element(name)) return table_of(*element).meaning_of(behind);
    if (const Bus* bus = network.find_bus(name)) return table(bus).meaning_of(behind);
    for (const Fault& fault : network.faults) {
      if (fault.name == name) return table(&fault).meaning_of(behind);
    }
  }
  return {};
}

std::vector<Flaw> validate(const Network& network) {
  Checker checker{network, {}};
  if (const std::size_t count = network.buses.size() + network.elements.size(); count > limits::elements) {
    checker.report("network", "",
                   fmt::format("has {} buses and elements; {} at most", count, limits::elements));
    return std::move(checker.flaws);
  }
  checker.collect_names();
  for (const Bus& bus : network.buses) checker.check_fields("bus." + bus.name, table(&bus), &bus);
  for (const Element& element : network.elements) {
    checker.check_fields(table_of(element).kind + "." + name_of(element), table_of(element),
                         fields_of(element));
    checker.check_line_values(table_of(element).kind + "." + name_of(element), element);
  }
  for (const LineGeometry& geometry : network.geometries) {
    for (Flaw flaw : validate(geometry)) {
      flaw.place = "geometry." + geometry.name + (flaw.place == "geometry" ? "" : "." + flaw.place);
      checker.flaws.push_back(std::move(flaw));
    }
  }
  for (const Fault& fault : network.faults) checker.check_fields(fault.name, table(&fault), &fault);
  if (network.buses.empty())
    checker.report("network", "", "has no bus; write at least one, such as bus.quay = \"11 kV\"");
  return std::move(checker.flaws);
}

}  // namespace zavrek::network
