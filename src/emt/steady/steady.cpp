#include "emt/steady/steady.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>
#include <set>

#include <fmt/format.h>
#include <klu.h>
#include <Eigen/SparseCore>

#include "emt/kinds/part_kind.hpp"
#include "emt/parts/fixed_point.hpp"

namespace zavrek::emt::internal {
namespace {

using Complex = Phasors::Complex;

/// Sparse factors of Y; a solution holds NaN when Y is singular.
class Factors {
 public:
  Factors(const std::vector<Eigen::Triplet<Complex>>& entries, int n) : n_(n), matrix_(n, n) {
    matrix_.setFromTriplets(entries.begin(), entries.end());
    klu_defaults(&common_);
    int* columns = matrix_.outerIndexPtr();
    int* rows = matrix_.innerIndexPtr();
    // KLU takes real and imaginary parts in turn.
    auto* numbers = reinterpret_cast<double*>(matrix_.valuePtr());
    symbolic_ = klu_analyze(n, columns, rows, &common_);
    if (symbolic_) numeric_ = klu_z_factor(columns, rows, numbers, symbolic_, &common_);
  }
  Factors(const Factors&) = delete;
  Factors& operator=(const Factors&) = delete;
  ~Factors() {
    if (numeric_) klu_z_free_numeric(&numeric_, &common_);
    if (symbolic_) klu_free_symbolic(&symbolic_, &common_);
  }

  [[nodiscard]] Eigen::VectorXcd solve(Eigen::VectorXcd v) {
    const bool solved =
        numeric_ && klu_z_solve(symbolic_, numeric_, n_, 1, reinterpret_cast<double*>(v.data()), &common_);
    if (!solved) v.setConstant(std::numeric_limits<double>::quiet_NaN());
    return v;
  }

 private:
  int n_;
  Eigen::SparseMatrix<Complex> matrix_;
  klu_common common_{};
  klu_symbolic* symbolic_ = nullptr;
  klu_numeric* numeric_ = nullptr;
};

class Steady {
 public:
  Steady(const Assembly& assembly, ModelGroup& models, const Layout& layout, double omega)
      : phasors_(assembly, models, layout, omega) {}

  SteadyComponent run() {
    place_sources();
    bool revised = true;
    for (int round = 0; revised && round < most_revisions; ++round) {
      phasors_.clear_equations();
      for (const PartKind* kind : part_kinds()) kind->stamp_phasors(phasors_);
      if (phasors_.layout.unknowns > 0) {
        Factors factors(phasors_.entries, phasors_.layout.unknowns);
        solve(factors);
      } else if (at_network_frequency()) {
        (void)injections();  // all voltages are imposed; the models find what they draw at those
      }
      for (const PartKind* kind : part_kinds()) kind->put_phasors(phasors_);
      revised = at_network_frequency() && revise_models();
    }
    return std::move(phasors_.component);
  }

 private:
  static constexpr int most_rounds = 500;
  static constexpr int plain_rounds = 20;
  static constexpr std::size_t most_remembered = 12;
  static constexpr double settled = 1e-10;
  static constexpr int most_revisions = 200;

  [[nodiscard]] bool at_network_frequency() const { return phasors_.omega == phasors_.assembly.omega(); }

  bool revise_models() {
    bool revised = false;
    const SteadyComponent& found = phasors_.component;
    for (std::size_t k = 0; k < phasors_.models.size(); ++k) {
      revised |=
          phasors_.models[k].model->revise(found.model_voltages[k], found.model_currents[k], found.omega);
    }
    return revised;
  }

  void place_sources() {
    for (const KnownNode& known : phasors_.assembly.known_nodes) {
      Complex& value = phasors_.component.values[static_cast<std::size_t>(phasors_.position(known.node))];
      for (const auto& line : phasors_.assembly.waveforms[known.waveform].lines(known.angle_rad)) {
        if (line.omega == phasors_.omega) value += line.amplitude * std::polar(1.0, line.angle_rad);
      }
    }
  }

  void solve(Factors& factors) {
    Eigen::VectorXcd v = factors.solve(phasors_.rhs);
    take(v);
    if (!v.allFinite()) {
      throw Error(
          fmt::format("the network has no sinusoidal steady state at {:.6g} Hz (its nodal admittance matrix "
                      "is singular: a lossless resonance); start it with start = \"zero\"",
                      phasors_.omega / (2 * std::numbers::pi)));
    }
    if (!at_network_frequency() || phasors_.models.empty()) return;
    if (settled_.size() > 0) take(v = settled_);
    settle(std::move(v), factors);
  }

  /// Rounds of what the models draw at the voltages and what voltages that makes. The first are taken as they
  /// come, those after them combined: a machine that holds the voltage of a stiff bus moves it by a fiftieth
  /// of what is missing in each.
  void settle(Eigen::VectorXcd v, Factors& factors) {
    FixedPoint rounds(most_remembered);
    Eigen::VectorXcd before = v;
    Eigen::VectorXd sizes;
    for (int round = 0;; ++round) {
      const Eigen::VectorXd steady_unknowns = all_sought();
      const Eigen::VectorXcd image = factors.solve(phasors_.rhs - injections());
      const double change = (image - v).cwiseAbs().maxCoeff();
      const double moved = change == 0 ? 0 : change / image.cwiseAbs().maxCoeff();
      const double sought_moved =
          steady_unknowns.size() == 0 ? 0 : (all_sought() - steady_unknowns).cwiseAbs().maxCoeff();
      if ((moved <= settled && sought_moved <= 100 * settled) || round == most_rounds || !image.allFinite()) {
        if (!(moved <= 1e-6)) image.allFinite() ? refuse(v, image) : refuse(before, v);
        take(image);
        settled_ = image;
        return;
      }
      before = v;
      if (round < plain_rounds) {
        v = image;
        sizes = v.cwiseAbs().array() + 1e-3 * v.cwiseAbs().maxCoeff();
      } else {
        const Eigen::VectorXd next =
            rounds.next(packed(v, sizes, steady_unknowns), packed(image, sizes, all_sought()));
        const Eigen::Index n = v.size();
        v.real() = next.head(n).cwiseProduct(sizes);
        v.imag() = next.segment(n, n).cwiseProduct(sizes);
        seek(next.tail(steady_unknowns.size()));
      }
      take(v);
    }
  }

  static Eigen::VectorXd packed(const Eigen::VectorXcd& v, const Eigen::VectorXd& sizes,
                                const Eigen::VectorXd& steady_unknowns) {
    Eigen::VectorXd all(2 * v.size() + steady_unknowns.size());
    all << v.real().cwiseQuotient(sizes), v.imag().cwiseQuotient(sizes), steady_unknowns;
    return all;
  }

  template <class Visit>
  void for_each_sought(Visit&& visit) {
    for (const ModelRow& row : phasors_.models) {
      for (double& number : row.model->steady_unknowns()) visit(number);
    }
  }
  [[nodiscard]] Eigen::VectorXd all_sought() {
    std::vector<double> all;
    for_each_sought([&](double number) { all.push_back(number); });
    return Eigen::Map<const Eigen::VectorXd>(all.data(), static_cast<Eigen::Index>(all.size()));
  }
  void seek(const Eigen::VectorXd& all) {
    Eigen::Index at = 0;
    for_each_sought([&](double& number) { number = all[at++]; });
  }

  [[noreturn]] void refuse(const Eigen::VectorXcd& v, const Eigen::VectorXcd& image) const {
    Eigen::Index worst = 0;
    const double floor = 1e-3 * v.cwiseAbs().maxCoeff();  // star points stand at none
    (void)((image - v).cwiseAbs().array() / (v.cwiseAbs().array() + floor)).maxCoeff(&worst);
    std::string where;
    for (NodeId node = 1; node < phasors_.assembly.node_count(); ++node) {
      if (phasors_.unknown(node) == worst) where = phasors_.assembly.node_name(node);
    }
    throw Error(
        fmt::format("no steady state found at {:.6g} Hz: the voltages do not settle, least of all that of "
                    "{}; the loads or "
                    "machines ask for more power than the network can carry to them, or for voltages that it "
                    "cannot have: "
                    "ease them or start with start = \"zero\"",
                    phasors_.omega / (2 * std::numbers::pi), where));
  }

  void take(const Eigen::VectorXcd& v) {
    const std::vector<int>& unknown = phasors_.layout.unknown;
    for (std::size_t k = 0; k < unknown.size(); ++k) {
      if (unknown[k] >= 0) phasors_.component.values[k] = v[unknown[k]];
    }
  }

  /// Currents that the models draw beyond their admittances, by unknown node.
  Eigen::VectorXcd injections() {
    Eigen::VectorXcd sum = Eigen::VectorXcd::Zero(phasors_.layout.unknowns);
    for (std::size_t k = 0; k < phasors_.models.size(); ++k) {
      const auto& ends = phasors_.assembly.model_parts[k].ends;
      const Eigen::VectorXcd j = phasors_.models[k].model->injection(phasors_.across(ends), phasors_.s);
      phasors_.component.model_currents[k] = j;
      for (std::size_t e = 0; e < ends.size(); ++e) {
        for (const auto& [node, sign] : {std::pair{ends[e].p, 1.0}, std::pair{ends[e].q, -1.0}}) {
          if (const int unknown = phasors_.unknown(node); unknown >= 0)
            sum[unknown] += sign * j[static_cast<Eigen::Index>(e)];
        }
      }
    }
    return sum;
  }

  Phasors phasors_;
  Eigen::VectorXcd settled_;  // before the last revision
};

}  // namespace

std::vector<SteadyComponent> steady_components(const Assembly& assembly, ModelGroup& models,
                                               const Layout& layout) {
  std::set<double> frequencies;
  for (const KnownNode& known : assembly.known_nodes) {
    for (const auto& line : assembly.waveforms[known.waveform].lines(known.angle_rad))
      frequencies.insert(line.omega);
  }
  // Models such as generators drive the network by themselves, and so does what comes from far ends.
  const bool heard = std::any_of(assembly.wave_parts.begin(), assembly.wave_parts.end(),
                                 [](const WavePart& part) { return part.far.empty(); });
  if (!models.empty() || heard) frequencies.insert(assembly.omega());
  std::vector<SteadyComponent> components;
  for (const double omega : frequencies) components.push_back(Steady(assembly, models, layout, omega).run());
  return components;
}

}  // namespace zavrek::emt::internal
