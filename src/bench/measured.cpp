#include "bench/measured.hpp"

namespace zavrek::bench::internal {

Ratio current_ratio(const network::Network& network, const std::string& name) {
  const network::Element* element = network.find_element(name);
  const auto* ct = element ? std::get_if<network::CurrentTransformer>(element) : nullptr;
  if (!ct) throw Error("no current transformer \"" + name + "\"");
  return {ct->primary_A, ct->secondary_A};
}

Ratio voltage_ratio(const network::Network& network, const std::string& name) {
  if (const network::Element* element = network.find_element(name)) {
    if (const auto* vt = std::get_if<network::CapacitiveVoltageTransformer>(element))
      return {vt->primary_V, vt->secondary_V};
    if (const auto* vt = std::get_if<network::VoltageTransformer>(element))
      return {vt->primary_V, vt->secondary_V};
  }
  throw Error("no voltage transformer \"" + name + "\"");
}

Ratio ratio_of(const Exchange& exchange, const std::string& signal) {
  const network::Element* element =
      exchange.plant() ? exchange.setup().network.find_element(signal.substr(0, signal.find('.'))) : nullptr;
  if (!element) return {1, 1};
  if (const auto* ct = std::get_if<network::CurrentTransformer>(element))
    return {ct->primary_A, ct->secondary_A};
  if (const auto* vt = std::get_if<network::CapacitiveVoltageTransformer>(element))
    return {vt->primary_V, vt->secondary_V};
  if (const auto* vt = std::get_if<network::VoltageTransformer>(element))
    return {vt->primary_V, vt->secondary_V};
  return {1, 1};
}

void MeasuredStream::wire(Exchange& exchange, const Stream& stream) {
  const network::Network& network = exchange.setup().network;
  const bool plant = exchange.plant() != nullptr;
  const Ratio ct = plant ? current_ratio(network, stream.ct) : Ratio{1, 1};
  const Ratio vt = plant ? voltage_ratio(network, stream.vt) : Ratio{1, 1};
  currents_ = exchange.three_values_of(stream.ct + ".i", ct.primary / ct.secondary);
  voltages_ = exchange.three_values_of(stream.vt + ".v", vt.primary / vt.secondary);
}

void MeasuredStream::wire(Exchange& exchange, const std::string& received) {
  currents_ = exchange.three_values_of(received + ".i", 1);
  voltages_ = exchange.three_values_of(received + ".v", 1);
}

protection::Sample MeasuredStream::sample(const Exchange& exchange) const noexcept {
  protection::Sample sample;
  for (std::size_t k = 0; k < 3; ++k) {
    sample.current_A[k] = exchange.value(currents_[k]);
    sample.voltage_V[k] = exchange.value(voltages_[k]);
  }
  sample.current_A[3] = sample.current_A[0] + sample.current_A[1] + sample.current_A[2];
  sample.voltage_V[3] = sample.voltage_V[0] + sample.voltage_V[1] + sample.voltage_V[2];
  return sample;
}

}  // namespace zavrek::bench::internal
