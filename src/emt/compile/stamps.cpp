#include "emt/compile/stamps.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {
namespace {

void stamp(std::vector<Entry>& entries, const std::vector<Ends>& ends, const Eigen::MatrixXd& g,
           bool keep_zeros = false) {
  for (std::size_t k = 0; k < ends.size(); ++k) {
    for (std::size_t m = 0; m < ends.size(); ++m) {
      const double value = g(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(m));
      if (value == 0 && !keep_zeros) continue;
      entries.push_back({ends[k].p, ends[m].p, value});
      entries.push_back({ends[k].q, ends[m].q, value});
      entries.push_back({ends[k].p, ends[m].q, -value});
      entries.push_back({ends[k].q, ends[m].p, -value});
    }
  }
}

/// Room for conductances that change while the plant runs.
void reserve(std::vector<Entry>& entries, const std::vector<Ends>& ends) {
  const auto n = static_cast<Eigen::Index>(ends.size());
  stamp(entries, ends, Eigen::MatrixXd::Zero(n, n), true);
}

}  // namespace

Stamps stamp_parts(const Assembly& assembly) {
  Stamps stamps;
  const double h = assembly.step_s();
  for (const SeriesPart& part : assembly.series_parts) {
    Eigen::MatrixXd z = part.resistance + 2 / h * part.inductance;
    z.diagonal() += h / 2 * part.elastance;
    std::optional<Eigen::MatrixXd> conductance = inverse_if_regular(z);
    if (!conductance || z.diagonal().minCoeff() <= 0) {
      throw Error(Flaw{
          .file = {},
          .place = part.owner,
          .field = {},
          .text = "has no impedance; give it a resistance or an inductance, or join its buses into one"});
    }
    stamps.series_conductance.push_back(std::move(*conductance));
    stamp(stamps.entries, part.ends, stamps.series_conductance.back());
  }
  for (const CapacitancePart& part : assembly.capacitance_parts)
    stamp(stamps.entries, part.ends, 2 / h * part.capacitance);
  for (const ConductancePart& part : assembly.conductance_parts) {
    stamp(stamps.entries, {part.ends}, Eigen::MatrixXd::Constant(1, 1, part.siemens));
  }
  for (const ModelPart& part : assembly.model_parts) {
    if (part.model->varies()) {
      reserve(stamps.entries, part.ends);
    } else {
      stamp(stamps.entries, part.ends, part.model->conductance(h));
    }
  }
  for (const PolePart& part : assembly.pole_parts) reserve(stamps.entries, {part.ends});
  for (const ValvePart& part : assembly.valve_parts) reserve(stamps.entries, {part.ends});
  for (const LegPart& part : assembly.leg_parts) {
    std::vector<Ends> ends;
    for (const NodeId pole : part.poles) ends.push_back({pole, part.x});
    reserve(stamps.entries, ends);
  }
  for (const SegmentPart& part : assembly.segment_parts) reserve(stamps.entries, {part.ends});
  for (const WavePart& part : assembly.wave_parts) {
    const Eigen::VectorXd y = (part.surge_ohm + part.resistance_ohm / 4).cwiseInverse();
    const Eigen::MatrixXd g = part.currents * y.asDiagonal() * part.currents.transpose();
    for (const auto* nodes : {&part.near, &part.far}) {
      std::vector<Ends> ends;
      for (const NodeId node : *nodes) ends.push_back({node, ground_node});
      stamp(stamps.entries, ends, g);
    }
  }
  return stamps;
}

}  // namespace zavrek::emt::internal
