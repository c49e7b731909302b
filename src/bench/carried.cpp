#include "bench/carried.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "bench/measured.hpp"

namespace zavrek::bench::internal {
namespace {

/// "CT1.ia" in "CT1" and "ia".
std::pair<std::string, std::string> split_signal(const std::string& name) {
  const std::size_t dot = name.rfind('.');
  if (dot == std::string::npos) return {name, {}};
  return {name.substr(0, dot), name.substr(dot + 1)};
}

/// From the value in the plant, which is a secondary one of a transformer, to the primary one.
double to_primary(const network::Network& network, const std::string& owner) {
  const network::Element* element = network.find_element(owner);
  if (!element) return 1;
  if (std::holds_alternative<network::CurrentTransformer>(*element)) {
    const Ratio ratio = current_ratio(network, owner);
    return ratio.primary / ratio.secondary;
  }
  if (std::holds_alternative<network::VoltageTransformer>(*element) ||
      std::holds_alternative<network::CapacitiveVoltageTransformer>(*element)) {
    const Ratio ratio = voltage_ratio(network, owner);
    return ratio.primary / ratio.secondary;
  }
  return 1;
}

}  // namespace

std::vector<std::string> names_carried(const Stream& stream) {
  if (!stream.carries.empty()) return stream.carries;
  std::vector<std::string> names;
  for (const char* phase : {".ia", ".ib", ".ic", ".in"}) names.push_back(stream.ct + phase);
  for (const char* phase : {".va", ".vb", ".vc", ".vn"}) names.push_back(stream.vt + phase);
  return names;
}

std::vector<Carried> carried_by(const Stream& stream, Exchange& exchange) {
  std::vector<Carried> all;
  for (const std::string& name : names_carried(stream)) {
    const auto [owner, signal] = split_signal(name);
    const double factor =
        exchange.plant() ? to_primary(exchange.setup().network, owner) : 1;  // a stimulus is primary
    Carried one;
    if (signal == "in" || signal == "vn") {
      one.size = 3;
      one.terms = exchange.three_values_of(owner + "." + signal[0], factor);
    } else {
      one.terms[0] = exchange.value_of(name, factor);
    }
    const std::string unit = exchange.unit_of(one.terms[0]);
    if (unit != "A" && unit != "V")
      throw Error(Flaw{.file = {},
                       .place = {},
                       .field = "carries",
                       .text = fmt::format("\"{}\" is neither a current nor a voltage", name)});
    one.lsb = unit == "A" ? wire::current_lsb_A : wire::voltage_lsb_V;
    all.push_back(one);
  }
  return all;
}

std::vector<std::size_t> standard_places(const Stream& stream) {
  const std::vector<std::string> names = names_carried(stream);
  Stream standard = stream;
  standard.carries.clear();
  std::vector<std::size_t> places;
  for (const std::string& wanted : names_carried(standard)) {
    const auto at = std::find(names.begin(), names.end(), wanted);
    if (at == names.end()) return {};
    places.push_back(static_cast<std::size_t>(at - names.begin()));
  }
  return places;
}

std::vector<std::size_t> standard_places(const StreamIn& stream) {
  std::vector<std::size_t> places;
  for (const char* wanted : {"ia", "ib", "ic", "in", "va", "vb", "vc", "vn"}) {
    const auto at = std::find(stream.values.begin(), stream.values.end(), wanted);
    if (at == stream.values.end()) return {};
    places.push_back(static_cast<std::size_t>(at - stream.values.begin()));
  }
  return places;
}

}  // namespace zavrek::bench::internal
