// Travelling wave, a line of n phases in n modes, its resistance R in three lumps (a quarter at either end, a
// half in the middle): with Z the surge impedance, z = Z + R/4, c = (Z - R/4) / z and a modal wave
// w = v/z + c i that leaves an end,
//   i = v/z - (1 + c)/2 w_other(t - T) - (1 - c)/2 w_own(t - T)
//   step        1/z to ground at either end, the waves of a travel time ago as history currents
//   continuous  the same, with waves kept at accepted instants; no unknowns
#include <algorithm>
#include <cmath>

#include <Eigen/LU>

#include "emt/kinds/part_kind.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {
namespace {

/// A mode's lossy surge impedance, and how much of a current a wave takes.
struct ModeValues {
  double z, c;
  ModeValues(const WavePart& part, Eigen::Index mode)
      : z(part.surge_ohm[mode] + part.resistance_ohm[mode] / 4),
        c((part.surge_ohm[mode] - part.resistance_ohm[mode] / 4) / z) {}
};

/// Two-port admittance of a line, (near; far) by (near; far), in phases.
struct LinePort {
  Eigen::MatrixXcd self;
  Eigen::MatrixXcd mutual;
};

LinePort line_admittance(const WavePart& part, double omega, double step_s) {
  using Complex = std::complex<double>;
  const Eigen::Index n = part.surge_ohm.size();
  Eigen::VectorXcd self(n);
  Eigen::VectorXcd mutual(n);
  for (Eigen::Index m = 0; m < n; ++m) {
    const double z = part.surge_ohm[m] + part.resistance_ohm[m] / 4;
    const double c = (part.surge_ohm[m] - part.resistance_ohm[m] / 4) / z;
    const double steps = part.travel_s[m] / step_s;
    const double whole = std::floor(steps + 1e-9 * steps);
    const double fraction = std::max(0.0, steps - whole);
    const Complex delay = (1 - fraction) * std::polar(1.0, -omega * step_s * whole) +
                          fraction * std::polar(1.0, -omega * step_s * (whole + 1));
    const Complex a = delay * (1 + c) / 2.0;
    const Complex b = delay * (1 - c) / 2.0;
    // (1 + bc) I_near + ac I_far = ((1 - b) V_near - a V_far) / z, and mirrored.
    Eigen::Matrix2cd left;
    left << 1.0 + b * c, a * c, a * c, 1.0 + b * c;
    Eigen::Matrix2cd right;
    right << 1.0 - b, -a, -a, 1.0 - b;
    const Eigen::Matrix2cd y = left.inverse() * right / z;
    self[m] = y(0, 0);
    mutual[m] = y(0, 1);
  }
  const Eigen::MatrixXcd t = part.currents.cast<Complex>(), back = t.transpose();
  return {product(t * self.asDiagonal(), back), product(t * mutual.asDiagonal(), back)};
}

class WaveEquations final : public PartEquations {
 public:
  explicit WaveEquations(ContinuousFrame& frame) : PartEquations(frame) {
    for (const WavePart& part : frame.assembly.wave_parts)
      kept_at_.push_back(frame.kept.add(2 * part.near.size()));
  }

  void hold(ContinuousFrame::Held& held) const override {
    for (const WavePart& part : frame_.assembly.wave_parts) {
      for (const auto* nodes : {&part.near, &part.far}) {
        for (const NodeId n : *nodes) held.tied.push_back({n, ground_node});
      }
    }
  }
  void residual(double t, const double* /*y*/, const double* /*dy*/, double* f) override {
    for (std::size_t k = 0; k < kept_at_.size(); ++k) {
      const auto [near, far] = currents(t, k);
      for (std::size_t p = 0; p < part(k).near.size(); ++p) {
        frame_.add_current({part(k).near[p], ground_node}, near[static_cast<Eigen::Index>(p)], f);
        frame_.add_current({part(k).far[p], ground_node}, far[static_cast<Eigen::Index>(p)], f);
      }
    }
  }
  void read_rest(double t) override {
    for (std::size_t k = 0; k < kept_at_.size(); ++k) put(part(k), currents(t, k));
  }
  /// The waves that leave the two ends.
  void keep(double t) override {
    for (std::size_t k = 0; k < kept_at_.size(); ++k) {
      const WavePart& part = this->part(k);
      const auto i = currents(t, k);
      put(part, i);
      std::size_t series = kept_at_[k];
      for (const auto& [v, i_end] :
           {std::pair{voltages(part.near), i.first}, {voltages(part.far), i.second}}) {
        const Eigen::VectorXd vm = part.currents.transpose() * v, im = part.voltages.transpose() * i_end;
        for (Eigen::Index m = 0; m < vm.size(); ++m) {
          const auto [z, c] = ModeValues(part, m);
          frame_.kept.push(series++, vm[m] / z + c * im[m]);
        }
      }
    }
  }
  void add_jump_arrivals(std::vector<double>& times_s) const override { add_travel_times(times_s); }
  void add_travel_times(std::vector<double>& times_s) const override {
    for (const WavePart& part : frame_.assembly.wave_parts)
      times_s.insert(times_s.end(), part.travel_s.begin(), part.travel_s.end());
  }

 private:
  [[nodiscard]] const WavePart& part(std::size_t k) const { return frame_.assembly.wave_parts[k]; }
  [[nodiscard]] Eigen::VectorXd voltages(const std::vector<NodeId>& nodes) const {
    Eigen::VectorXd v(static_cast<Eigen::Index>(nodes.size()));
    for (std::size_t p = 0; p < nodes.size(); ++p) v[static_cast<Eigen::Index>(p)] = frame_.node(nodes[p]);
    return v;
  }
  /// Into the two ends of line k, by phase.
  [[nodiscard]] std::pair<Eigen::VectorXd, Eigen::VectorXd> currents(double t, std::size_t k) const {
    const WavePart& part = this->part(k);
    const auto n = static_cast<Eigen::Index>(part.near.size());
    const Eigen::VectorXd vm_near = part.currents.transpose() * voltages(part.near),
                          vm_far = part.currents.transpose() * voltages(part.far);
    Eigen::VectorXd near(n), far(n);
    for (Eigen::Index m = 0; m < n; ++m) {
      const auto [z, c] = ModeValues(part, m);
      const double other = (1 + c) / 2, own = (1 - c) / 2, past = t - part.travel_s[m];
      const double from_near = wave(k, m, 0, past), from_far = wave(k, m, 1, past);
      near[m] = vm_near[m] / z - other * from_far - own * from_near;
      far[m] = vm_far[m] / z - other * from_near - own * from_far;
    }
    return {part.currents * near, part.currents * far};
  }
  /// Before the first accepted instant, what the start makes of it.
  [[nodiscard]] double wave(std::size_t k, Eigen::Index mode, int end, double t) const {
    if (t < frame_.kept.begins_s())
      return frame_.core.lines.wave(k, static_cast<int>(mode), end,
                                    std::max(0.0, -t / continuous_start_step_s));
    return frame_.kept.at(
        kept_at_[k] + static_cast<std::size_t>(end) * part(k).near.size() + static_cast<std::size_t>(mode),
        t);
  }
  void put(const WavePart& part, const std::pair<Eigen::VectorXd, Eigen::VectorXd>& i) {
    for (std::size_t p = 0; p < part.near.size(); ++p) {
      frame_.value(part.first_near_current, p) = i.first[static_cast<Eigen::Index>(p)];
      frame_.value(part.first_far_current, p) = i.second[static_cast<Eigen::Index>(p)];
    }
  }

  std::vector<std::size_t> kept_at_;  // per line: waves kept of its near end's modes, then of its far end's
};

class WaveKind final : public PartKind {
 public:
  void visit_ends(const Assembly& assembly, const std::function<void(const Ends&)>& visit) const override {
    for (const WavePart& part : assembly.wave_parts) {
      for (const NodeId node : part.near) visit({node, ground_node});
      for (const NodeId node : part.far) visit({node, ground_node});
    }
  }
  void stamp(const Assembly& assembly, Stamps& stamps) const override {
    for (const WavePart& part : assembly.wave_parts) {
      const Eigen::VectorXd y = (part.surge_ohm + part.resistance_ohm / 4).cwiseInverse();
      const Eigen::MatrixXd g =
          product(part.currents * y.asDiagonal(), Eigen::MatrixXd(part.currents.transpose()));
      for (const auto* nodes : {&part.near, &part.far}) {
        std::vector<Ends> ends;
        for (const NodeId node : *nodes) ends.push_back({node, ground_node});
        stamps.add(ends, g);
      }
    }
  }
  void place(const Assembly& assembly, SlotPlaces& places) const override {
    for (const WavePart& part : assembly.wave_parts) {
      places.take(part.first_near_current, part.near.size());
      places.take(part.first_far_current, part.far.size());
    }
  }
  void lower(const Stamps& /*stamps*/, Lowering& lowering) const override {
    for (const WavePart& part : lowering.assembly.wave_parts)
      lowering.core.lines.add(part, lowering.step_s(), lowering.layout.node_position.data(),
                              lowering.at(part.first_near_current), lowering.at(part.first_far_current));
  }

  void stamp_phasors(Phasors& phasors) const override {
    for (const WavePart& part : phasors.assembly.wave_parts) {
      const LinePort y = line_admittance(part, phasors.omega, phasors.assembly.step_s());
      for (std::size_t k = 0; k < part.near.size(); ++k) {
        for (std::size_t m = 0; m < part.near.size(); ++m) {
          const auto row = static_cast<Eigen::Index>(k), column = static_cast<Eigen::Index>(m);
          phasors.add(part.near[k], part.near[m], y.self(row, column));
          phasors.add(part.far[k], part.far[m], y.self(row, column));
          phasors.add(part.near[k], part.far[m], y.mutual(row, column));
          phasors.add(part.far[k], part.near[m], y.mutual(row, column));
        }
      }
    }
  }
  void put_phasors(Phasors& phasors) const override {
    for (const WavePart& part : phasors.assembly.wave_parts) {
      const LinePort y = line_admittance(part, phasors.omega, phasors.assembly.step_s());
      const Eigen::VectorXcd near = phasors.at(part.near), far = phasors.at(part.far);
      phasors.put(part.first_near_current, y.self * near + y.mutual * far);
      phasors.put(part.first_far_current, y.self * far + y.mutual * near);
    }
  }

  void count(const Lowering& lowering, Summary& summary) const override {
    summary.states += static_cast<int>(lowering.core.lines.states());
    for (const WavePart& part : lowering.assembly.wave_parts)
      summary.largest_step_s = std::min(summary.largest_step_s, part.travel_s.minCoeff());
  }
  [[nodiscard]] std::unique_ptr<PartEquations> equations(ContinuousFrame& frame) const override {
    return std::make_unique<WaveEquations>(frame);
  }
};

}  // namespace

const PartKind& wave_kind() { return the_only<WaveKind>(); }

}  // namespace zavrek::emt::internal
