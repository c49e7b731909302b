// Travelling wave, a line of n phases in n modes (parts/wave_matrices.hpp).
//   step        (Z + R/4)^-1 to ground at either end, what arrives of the waves that left as history currents
//   continuous  the same, with waves kept at accepted instants; no unknowns
#include <algorithm>
#include <cmath>

#include "emt/kinds/part_kind.hpp"
#include "emt/parts/wave_matrices.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {
namespace {

/// What arrives of waves that left either end, as the step delays them.
struct Arrival {
  Eigen::MatrixXcd through, back;
  Arrival(const WaveMatrices& matrices, Eigen::Index n, double omega, double step_s)
      : through(Eigen::MatrixXcd::Zero(n, n)), back(through) {
    for (const WaveMatrices::Path& path : matrices.paths) {
      const double steps = path.travel_s / step_s;
      const double whole = std::floor(steps + 1e-9 * steps);
      const double fraction = std::max(0.0, steps - whole);
      const std::complex<double> delay = (1 - fraction) * std::polar(1.0, -omega * step_s * whole) +
                                         fraction * std::polar(1.0, -omega * step_s * (whole + 1));
      through(path.to, path.from) = delay * path.through;
      back(path.to, path.from) = delay * path.back;
    }
  }
};

/// Two-port admittance of a line, (near; far) by (near; far), in phases.
struct LinePort {
  Eigen::MatrixXcd self;
  Eigen::MatrixXcd mutual;
};

/// What the step's interpolated delays make of the waves: with K what comes back and L what comes through,
/// the sum and the difference of the two ends part:
///   (Z + R/4 + (K +- L) (Z - R/4)) (i_near +- i_far) = (1 - (K +- L)) (v_near +- v_far)
LinePort line_admittance(const WavePart& part, double omega, double step_s) {
  using Complex = std::complex<double>;
  const WaveMatrices matrices(part);
  const Eigen::Index n = part.surge_ohm.size();
  const Arrival arrives(matrices, n, omega, step_s);
  const Eigen::MatrixXcd impedance = inverse(matrices.ends).cast<Complex>();
  const Eigen::MatrixXcd leaves = matrices.leaves.cast<Complex>(), one = Eigen::MatrixXcd::Identity(n, n);
  const auto admittance = [&](const Eigen::MatrixXcd& arriving) {
    return product(inverse(Eigen::MatrixXcd(impedance + product(arriving, leaves))),
                   Eigen::MatrixXcd(one - arriving));
  };
  const Eigen::MatrixXcd sum = admittance(arrives.back + arrives.through),
                         difference = admittance(arrives.back - arrives.through);
  const Eigen::MatrixXcd t = part.currents.cast<Complex>(), transposed = t.transpose();
  return {product(t, product(Eigen::MatrixXcd((sum + difference) / 2), transposed)),
          product(t, product(Eigen::MatrixXcd((sum - difference) / 2), transposed))};
}

/// A line of one end, whose far end sends f_far: with K what comes back and L what comes through,
///   (Z + R/4 + K (Z - R/4)) i = (1 - K) v - L f_far   in modes.
struct OneEndedLine {
  Eigen::MatrixXcd admittance;
  Eigen::VectorXcd injected;  // beyond that, into the line
  Eigen::MatrixXcd leaves;    // of the wave in phases: what it has of the current, beside the voltage
};
OneEndedLine one_ended(const WavePart& part, double omega, double network_omega, double step_s) {
  using Complex = std::complex<double>;
  const WaveMatrices matrices(part);
  const Eigen::Index n = part.surge_ohm.size();
  const Arrival arrives(matrices, n, omega, step_s);
  const Eigen::MatrixXcd leaves = matrices.leaves.cast<Complex>(), t = part.currents.cast<Complex>(),
                         t_v = part.voltages.cast<Complex>(), one = Eigen::MatrixXcd::Identity(n, n);
  const Eigen::MatrixXcd solved =
      inverse(Eigen::MatrixXcd(inverse(matrices.ends).cast<Complex>() + product(arrives.back, leaves)));
  Eigen::VectorXcd far = Eigen::VectorXcd::Zero(n);
  if (omega == network_omega) {
    for (Eigen::Index k = 0; k < n; ++k) far[k] = part.elsewhere.starts_with[static_cast<std::size_t>(k)];
  }
  const Eigen::MatrixXcd transposed = t.transpose();
  const Eigen::VectorXcd in_modes = transposed * far;
  const Eigen::VectorXcd come = arrives.through * in_modes;
  return {product(t, product(solved, product(Eigen::MatrixXcd(one - arrives.back), transposed))),
          -(t * (solved * come)), product(t_v, product(leaves, Eigen::MatrixXcd(t_v.transpose())))};
}
OneEndedLine one_ended(const WavePart& part, const Phasors& phasors) {
  return one_ended(part, phasors.omega, phasors.assembly.omega(), phasors.assembly.step_s());
}
void stamp_one_end(const WavePart& part, Phasors& phasors) {
  const OneEndedLine line = one_ended(part, phasors);
  for (std::size_t k = 0; k < part.near.size(); ++k) {
    const auto row = static_cast<Eigen::Index>(k);
    for (std::size_t m = 0; m < part.near.size(); ++m)
      phasors.add(part.near[k], part.near[m], line.admittance(row, static_cast<Eigen::Index>(m)));
    if (const int unknown = phasors.unknown(part.near[k]); unknown >= 0)
      phasors.rhs[unknown] -= line.injected[row];
  }
}
void put_one_end(const WavePart& part, Phasors& phasors) {
  const OneEndedLine line = one_ended(part, phasors);
  const Eigen::VectorXcd v = phasors.at(part.near), i = line.admittance * v + line.injected;
  phasors.put(part.first_near_current, i);
  const Eigen::Index n = v.size();
  const auto ago = std::polar(1.0, -phasors.omega * phasors.assembly.step_s());
  Eigen::VectorXcd left(2 * n);
  left.head(n) = v + line.leaves * i;
  left.tail(n) = left.head(n) * ago;
  phasors.put(part.first_leaving, left);
  if (phasors.omega != phasors.assembly.omega()) return;
  for (Eigen::Index k = 0; k < 2 * n; ++k) {
    Eigen::VectorXcd told(1);
    told[0] = part.elsewhere.starts_with[static_cast<std::size_t>(k % n)] * (k < n ? 1.0 : ago);
    phasors.put(part.elsewhere.arriving[static_cast<std::size_t>(k)], told);
  }
}

class WaveEquations final : public PartEquations {
 public:
  explicit WaveEquations(ContinuousFrame& frame) : PartEquations(frame) {
    for (const WavePart& part : frame.assembly.wave_parts) {
      kept_at_.push_back(frame.kept.add(2 * part.near.size()));
      matrices_.emplace_back(part);
    }
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
        const Eigen::VectorXd left =
            part.currents.transpose() * v + matrices_[k].leaves * (part.voltages.transpose() * i_end);
        for (const double wave : left) frame_.kept.push(series++, wave);
      }
    }
  }
  /// Of the modes themselves: what couples them in the lumps is small.
  void add_jump_arrivals(std::vector<double>& times_s) const override {
    for (const WaveMatrices& matrices : matrices_) {
      for (const WaveMatrices::Path& path : matrices.paths) {
        if (path.from == path.to) times_s.push_back(path.travel_s);
      }
    }
  }
  void add_travel_times(std::vector<double>& times_s) const override {
    for (const WaveMatrices& matrices : matrices_) {
      for (const WaveMatrices::Path& path : matrices.paths) times_s.push_back(path.travel_s);
    }
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
    Eigen::VectorXd near = part.currents.transpose() * voltages(part.near),
                    far = part.currents.transpose() * voltages(part.far);
    for (const WaveMatrices::Path& path : matrices_[k].paths) {
      const double past = t - path.travel_s;
      const double from_near = wave(k, path.from, 0, past), from_far = wave(k, path.from, 1, past);
      near[path.to] -= path.through * from_far + path.back * from_near;
      far[path.to] -= path.through * from_near + path.back * from_far;
    }
    return {part.currents * (matrices_[k].ends * near), part.currents * (matrices_[k].ends * far)};
  }
  /// Before the first accepted instant, what the start makes of it.
  [[nodiscard]] double wave(std::size_t k, int mode, int end, double t) const {
    if (t < frame_.kept.begins_s())
      return frame_.core.lines.wave(k, mode, end, std::max(0.0, -t / continuous_start_step_s));
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

  std::vector<WaveMatrices> matrices_;  // per line
  std::vector<std::size_t> kept_at_;    // per line: waves kept of its near end's modes, then of its far end's
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
      const Eigen::MatrixXd g = product(
          part.currents, product(WaveMatrices(part).ends, Eigen::MatrixXd(part.currents.transpose())));
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
      if (part.far.empty()) places.take(part.first_leaving, 2 * part.near.size());
    }
  }
  void lower(const Stamps& /*stamps*/, Lowering& lowering) const override {
    for (const WavePart& part : lowering.assembly.wave_parts) {
      WaveGroup::Stands stands{.near_current = lowering.at(part.first_near_current), .arriving = {}};
      if (part.far.empty()) {
        stands.leaving = lowering.at(part.first_leaving);
        for (const Slot knob : part.elsewhere.arriving) stands.arriving.push_back(lowering.at(knob));
      } else {
        stands.far_current = lowering.at(part.first_far_current);
      }
      lowering.core.lines.add(part, lowering.step_s(), lowering.layout.node_position.data(), stands);
    }
  }

  void stamp_phasors(Phasors& phasors) const override {
    for (const WavePart& part : phasors.assembly.wave_parts) {
      if (part.far.empty()) {
        stamp_one_end(part, phasors);
        continue;
      }
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
      if (part.far.empty()) {
        put_one_end(part, phasors);
        continue;
      }
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
