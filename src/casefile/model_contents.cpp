// What a model is made of: its network and its control. Apart from the rest of a case's files, for exported
// models read these and no others.
#include "casefile/model_contents.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zavrek::casefile::internal {
namespace {

/// Keys of the root that are tables of their own; anything else there is a field or a flaw.
std::vector<std::string> element_kinds() {
  std::vector<std::string> kinds{"bus", "geometry"};
  network::for_each_kind([&](const auto* null) { kinds.push_back(table(null).kind); });
  return kinds;
}

void read_buses(Reader& reader, network::Network& network) {
  const toml::node* node = reader.root().get("bus");
  if (!node) return;
  const toml::table* group = node->as_table();
  if (!group) return reader.report(*node, "bus", "", "a table is wanted: [bus], then NAME = \"11 kV\"");
  for (const auto& [key, value] : *group) {
    network::Bus bus;
    bus.name = key.str();
    const std::string place = "bus." + bus.name;
    if (const toml::table* body = value.as_table()) {
      reader.fields(*body, place, {target(bus)});
    } else {
      const toml::table brief{{"voltage", value}};
      reader.remember(place, "", value);
      const std::size_t before = reader.flaws().size();
      reader.fields(brief, place, {target(bus)});
      for (std::size_t k = before; k < reader.flaws().size(); ++k) {
        reader.flaws()[k].line = static_cast<int>(value.source().begin.line);
      }
      reader.remember(place, "", value);
    }
    network.buses.push_back(std::move(bus));
  }
}

/// The wires and cores of a geometry that stands at `from`, below `place`.
network::LineGeometry read_geometry_at(Reader& reader, const toml::table& from, const std::string& name,
                                       const std::string& place) {
  network::LineGeometry geometry;
  geometry.name = name;
  reader.fields(from, place.empty() ? "geometry" : place, {target(geometry)}, {"wire", "core"});
  const std::string above = place.empty() ? "" : place + ".";
  reader.each_named(from, "wire", above, [&](const std::string& of, const toml::table& body) {
    network::Wire wire;
    wire.name = of;
    reader.fields(body, above + "wire." + of, {target(wire)});
    geometry.wires.push_back(std::move(wire));
  });
  reader.each_named(from, "core", above, [&](const std::string& of, const toml::table& body) {
    network::Core core;
    core.name = of;
    reader.fields(body, above + "core." + of, {target(core)});
    geometry.cores.push_back(std::move(core));
  });
  return geometry;
}
}  // namespace

network::LineGeometry read_geometry(Reader& reader) {
  network::LineGeometry geometry = read_geometry_at(reader, reader.root(), "", "");
  reader.report_by_name(network::validate(geometry));
  return geometry;
}

network::Network read_network(Reader& reader) {
  network::Network network;
  reader.fields(reader.root(), "network", {target(network)}, element_kinds());
  read_buses(reader, network);
  network::for_each_kind([&](auto* null) {
    using Kind = std::remove_pointer_t<decltype(null)>;
    const std::string kind = table(null).kind;
    reader.each_named(kind, [&](const std::string& name, const toml::table& body) {
      Kind element;
      element.name = name;
      reader.fields(body, kind + "." + name, {target(element)});
      network.elements.emplace_back(std::move(element));
    });
  });
  reader.each_named("geometry", [&](const std::string& name, const toml::table& body) {
    network.geometries.push_back(read_geometry_at(reader, body, name, "geometry." + name));
  });
  reader.report_by_name(network::validate(network));
  return network;
}

control::Description read_control(Reader& reader) {
  control::Description control;
  std::vector<std::string> kinds;
  const auto note = [&](const auto* null) { kinds.push_back(table(null).kind); };
  control::for_each_kind(note);
  control::for_each_kind(static_cast<control::Ready*>(nullptr), note);
  reader.fields(reader.root(), "control", {target(control)}, kinds);
  const auto read_into = [&](auto& list) {
    return [&](auto* null) {
      using Kind = std::remove_pointer_t<decltype(null)>;
      const std::string kind = table(null).kind;
      reader.each_named(kind, [&](const std::string& name, const toml::table& body) {
        Kind block;
        block.name = name;
        const std::string place = kind + "." + name;
        reader.fields(body, place, {target(block)});
        for (const network::Field* field : network::missing_fields(table(&block), &block))
          reader.report_missing(body, place, *field);
        list.emplace_back(std::move(block));
      });
    };
  };
  control::for_each_kind(read_into(control.blocks));
  control::for_each_kind(static_cast<control::Ready*>(nullptr), read_into(control.ready));
  return control;
}

void add(control::Description more, Reader& reader, control::Description& into) {
  if (!more.ready.empty() && more.period_s != into.period_s)
    reader.report_by_name({{.file = {},
                            .place = "control",
                            .field = "period",
                            .text = "ready controllers want the period of the first file of the control"}});
  for (control::Block& block : more.blocks) {
    std::visit(
        [&](control::BlockBase& one) {
          if (!network::is_set(one.period_s)) one.period_s = more.period_s;
        },
        block);
    into.blocks.push_back(std::move(block));
  }
  for (control::Ready& ready : more.ready) into.ready.push_back(std::move(ready));
}
}  // namespace zavrek::casefile::internal
