// D.c. side. Link: capacitors p-n, or p-m and m-n. Source: i = (v - E)/R from p to n, as seen by the network;
// `NAME.i` is what it gives.
#include <fmt/format.h>

#include "emt/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

NodeId pole(const Assembly& assembly, const std::string& owner, const std::string& bus, char letter) {
  const std::size_t at = assembly.bus(bus).phases.find(letter);
  if (at == std::string::npos)
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = "bus",
                     .text = fmt::format("\"{}\" has no pole {}; give it phases = \"pn\"", bus, letter)});
  return assembly.nodes(bus)[at];
}

class DcSourceModel final : public Model {
 public:
  DcSourceModel(double ohm, Slot voltage) : siemens_(1 / ohm), voltage_(voltage) {}
  [[nodiscard]] int slots() const override { return 1; }
  [[nodiscard]] std::vector<Slot> knobs() const override { return {voltage_}; }
  [[nodiscard]] Eigen::MatrixXd conductance(double) const override {
    return Eigen::MatrixXd::Constant(1, 1, siemens_);
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double>, double) const override {
    return Eigen::MatrixXcd::Constant(1, 1, siemens_);
  }
  void start(const Places&, const Eigen::VectorXcd&, const Eigen::VectorXcd&, double, double*) override {}
  [[nodiscard]] States states() const override { return {true, 0, 0, false}; }
  void slopes(const Places& places, double* values, double* currents, double*) noexcept override {
    currents[0] = siemens_ * (across(places, values) - values[places.knobs[0]]);
    values[places.first] = -currents[0];
  }
  bool begin(const Stretch&, const Places& places, const double* old, double* history,
             double*) noexcept override {
    history[0] = -siemens_ * old[places.knobs[0]];
    return false;
  }
  void end(const Stretch&, const Places& places, const double*, double* now, const double* history,
           const double*) noexcept override {
    now[places.first] = -(siemens_ * across(places, now) + history[0]);
  }

 private:
  [[nodiscard]] static double across(const Places& places, const double* values) noexcept {
    return values[places.p[0]] - values[places.q[0]];
  }
  double siemens_;
  Slot voltage_;
};

}  // namespace

template <>
void assemble(const network::DcLink& link, Assembly& assembly) {
  const std::string owner = "dc_link." + link.name;
  const NodeId p = pole(assembly, owner, link.bus, 'p'), n = pole(assembly, owner, link.bus, 'n');
  std::vector<Ends> capacitors{{p, n}};
  std::vector<NodeId> earthed{p, n};
  if (assembly.bus(link.bus).phases.find('m') != std::string::npos) {
    const NodeId m = pole(assembly, owner, link.bus, 'm');
    capacitors = {{p, m}, {m, n}};
    earthed = {m};
  }
  for (const Ends& ends : capacitors) {
    assembly.capacitance({.owner = owner,
                          .ends = {ends},
                          .capacitance = Eigen::MatrixXd::Constant(1, 1, link.capacitance_F),
                          .first_current = {}});
    if (network::is_set(link.discharge_ohm)) assembly.conductance(ends, 1 / link.discharge_ohm);
  }
  if (network::is_set(link.earth_ohm)) {
    for (const NodeId node : earthed) assembly.conductance({node, ground_node}, 1 / link.earth_ohm);
  }
  if (link.voltage_V > 0) assembly.charge({p, n}, link.voltage_V);
  assembly.signal(link.name + ".v", "V", {voltage_of(p), voltage_of(n, -1)});
}

template <>
void assemble(const network::DcSource& source, Assembly& assembly) {
  const std::string owner = "dc_source." + source.name;
  const Slot voltage = assembly.knob(source.name + ".voltage", "V", source.voltage_V, -1e9, 1e9);
  const Slot first = assembly.model(
      {.owner = owner,
       .ends = {{pole(assembly, owner, source.bus, 'p'), pole(assembly, owner, source.bus, 'n')}},
       .model = std::make_unique<DcSourceModel>(source.resistance_ohm, voltage)});
  assembly.signal(source.name + ".i", "A", {value_of(first)});
}

}  // namespace zavrek::emt::internal
