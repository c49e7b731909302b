// Imposed current: i(t) out of each phase of a bus is what its knob says, at the end of a step as it stands
// by then; a knob that moves at every step is no discontinuity.
#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr double most_A = 1e9;

class ImposedCurrentModel final : public Model {
 public:
  explicit ImposedCurrentModel(Slot current) : current_(current) {}
  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<ImposedCurrentModel>(*this);
  }
  [[nodiscard]] int slots() const override { return 1; }
  [[nodiscard]] std::vector<Slot> knobs() const override { return {current_}; }
  [[nodiscard]] Eigen::MatrixXd conductance(double) const override { return Eigen::MatrixXd::Zero(1, 1); }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double>, double) const override {
    return Eigen::MatrixXcd::Zero(1, 1);
  }
  void start(const Places&, const Eigen::VectorXcd&, const Eigen::VectorXcd&, double, double*) override {}
  [[nodiscard]] States states() const override { return {true, 0, 0, false}; }
  void slopes(const Places& places, double* values, double* currents, double*) noexcept override {
    currents[0] = values[places.first] = values[places.knobs[0]];
  }
  bool begin(const Interval&, const Places& places, const double* old, double* history,
             double*) noexcept override {
    history[0] = old[places.knobs[0]];
    return false;
  }
  void end(const Interval&, const Places& places, const double*, double* now, const double* history,
           const double*) noexcept override {
    now[places.first] = history[0];
  }

 private:
  Slot current_;
};

}  // namespace

template <>
void assemble(const network::ImposedCurrent& imposed, Assembly& assembly) {
  const std::string owner = "imposed_current." + imposed.name;
  const std::string letters = assembly.bus(imposed.bus).phases;
  const std::vector<NodeId> nodes = assembly.nodes(imposed.bus);
  std::vector<Terms> currents;
  for (std::size_t k = 0; k < nodes.size(); ++k) {
    const Slot knob = assembly.knob(imposed.name + "." + letters[k], "A", 0, -most_A, most_A, true);
    const Slot first = assembly.model({.owner = owner,
                                       .ends = {{nodes[k], ground_node}},
                                       .model = std::make_unique<ImposedCurrentModel>(knob)});
    currents.push_back({value_of(first)});
  }
  assembly.phase_signals(imposed.name + ".i", "A", currents, letters);
}

}  // namespace zavrek::emt::internal
