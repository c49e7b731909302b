// Meter: p = sum of v i over the phases, dE/dt = p; over a step either rule adds the mean of p at its ends
// (half Euler: p at its end).
#include <fmt/format.h>

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

class MeterModel final : public Model {
 public:
  explicit MeterModel(std::size_t phases) : phases_(phases) {}
  [[nodiscard]] std::unique_ptr<Model> clone() const override { return std::make_unique<MeterModel>(*this); }
  [[nodiscard]] int slots() const override { return 2; }  // p, E
  [[nodiscard]] bool measures() const override { return true; }
  [[nodiscard]] std::optional<WrittenLaw> law(double) const override {
    return WrittenLaw{"meter", {{"phases", static_cast<double>(phases_)}}};
  }
  [[nodiscard]] Eigen::MatrixXd conductance(double) const override { return {}; }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double>, double) const override { return {}; }
  void start(const Places& places, const Eigen::VectorXcd&, const Eigen::VectorXcd&, double,
             double* values) override {
    values[places.first] = power(places, values);
    values[places.first + 1] = 0;
  }
  [[nodiscard]] States states() const override { return {true, 1, 1, false}; }
  [[nodiscard]] int state_count() const override { return 1; }
  void slopes(const Places& places, double* values, double*, double* slopes) noexcept override {
    slopes[0] = values[places.first] = power(places, values);
  }
  bool begin(const Interval&, const Places&, const double*, double*, double*) noexcept override {
    return false;
  }
  void end(const Interval& stretch, const Places& places, const double* old, double* now, const double*,
           const double*) noexcept override {
    const double* before = old + places.first;
    double* slots = now + places.first;
    slots[0] = power(places, now);
    const double mean = stretch.rule == Rule::trapezoidal ? (before[0] + slots[0]) / 2 : slots[0];
    slots[1] = before[1] + mean * stretch.length_s();
  }

 private:
  /// Inputs: voltages, then currents.
  [[nodiscard]] double power(const Places& places, const double* values) const noexcept {
    double sum = 0;
    for (std::size_t k = 0; k < phases_; ++k)
      sum += places.input(k, values) * places.input(phases_ + k, values);
    return sum;
  }
  std::size_t phases_;
};

}  // namespace

template <>
void assemble(const network::Meter& meter, Assembly& assembly) {
  const std::string owner = "meter." + meter.name;
  const network::Element& element = *assembly.network().find_element(meter.on);
  // The end of the element that this bus is.
  std::string suffix = "?";
  const char* const suffixes[] = {"", "_far", "_tertiary"};
  std::size_t end = 0;
  for (const network::Field& field : network::table_of(element).fields) {
    if (!field.names_bus) continue;
    for (const std::string& bus : network::as_texts(field.read(network::fields_of(element)))) {
      if (bus == meter.bus && end < std::size(suffixes)) suffix = suffixes[end];
      ++end;
    }
  }
  if (suffix == "?")
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = "bus",
                     .text = fmt::format("\"{}\" is no bus of \"{}\"", meter.bus, meter.on)});
  std::vector<Terms> volts, amperes;
  const std::string& letters = assembly.bus(meter.bus).phases;
  const std::vector<NodeId> nodes = assembly.nodes(meter.bus);
  for (std::size_t k = 0; k < letters.size(); ++k) {
    const Terms* current = assembly.find_signal(meter.on + ".i" + letters[k] + suffix);
    if (!current) continue;
    volts.push_back({voltage_of(nodes[k])});
    amperes.push_back(*current);
  }
  if (volts.empty())
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = "on",
                     .text = fmt::format("\"{}\" has no phase currents at \"{}\"", meter.on, meter.bus)});
  auto model = std::make_unique<MeterModel>(volts.size());
  volts.insert(volts.end(), amperes.begin(), amperes.end());
  const Slot first =
      assembly.model({.owner = owner, .ends = {}, .model = std::move(model), .inputs = std::move(volts)});
  assembly.signal(meter.name + ".p", "W", {value_of(first)});
  assembly.signal(meter.name + ".energy", "J", {value_of({first.index + 1})});
}

}  // namespace zavrek::emt::internal
