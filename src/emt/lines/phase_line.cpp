// Currents on the line follow d2I/dx2 = Y Z I. With the eigenvectors T of Y Z and gamma = sqrt(eigenvalue),
//   Yc = T gamma^-1 T^-1 Y,   H = T exp(-gamma l) T^-1 = sum over modes of exp(-gamma_m l) t_m (T^-1)_m.
// Modes are followed from frequency to frequency. Where two are equal (a transposed line) neither means
// anything alone, but they arrive together, and what arrives together is summed before it is fitted.
#include "zavrek/emt/phase_line.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>
#include <utility>

#include "emt/lines/phase_line_ports.hpp"
#include "emt/lines/sampled_line.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt {
namespace {

using Complex = std::complex<double>;
using Samples = std::vector<std::vector<Complex>>;  // per entry of a matrix, row by row: over frequency

constexpr int phase_samples_per_decade = 20;
constexpr double front_arrives = 0.03;
// Without any leakage a line has no admittance at standstill, which no fit meets: what it leaves would be
// negative as often as not. A charge left on it is gone in some minutes.
constexpr double leaks_in_s = 80;

/// The geometry over frequency, with its modes in the same order throughout.
struct Modes {
  std::vector<double> omega;
  std::vector<std::vector<Complex>> gamma;                     // per mode, over frequency
  std::vector<Eigen::MatrixXcd> vectors, inverse, admittance;  // over frequency
  [[nodiscard]] Eigen::Index count() const { return static_cast<Eigen::Index>(gamma.size()); }
};

/// Which of `vectors` goes on with which of `before`: the pairs most alike first.
std::vector<Eigen::Index> order_like(const Eigen::MatrixXcd& before, const Eigen::MatrixXcd& vectors) {
  const Eigen::Index n = before.cols();
  Eigen::MatrixXd alike = internal::product(Eigen::MatrixXcd(before.adjoint()), vectors).cwiseAbs();
  std::vector<Eigen::Index> order(static_cast<std::size_t>(n));
  for (Eigen::Index k = 0; k < n; ++k) {
    Eigen::Index row = 0, column = 0;
    alike.maxCoeff(&row, &column);
    order[static_cast<std::size_t>(row)] = column;
    alike.row(row).setConstant(-1);
    alike.col(column).setConstant(-1);
  }
  return order;
}

Modes modes_over(const network::LineGeometry& geometry, const FrequencyLineOptions& options) {
  constexpr double light = 299792458;
  Modes modes;
  modes.omega = internal::fit_frequencies(options, phase_samples_per_decade);
  for (const double w : modes.omega) {
    const internal::SampledLine at = internal::sample_line(geometry, w / (2 * std::numbers::pi));
    const Eigen::Index n = at.series.rows();
    const Eigen::MatrixXcd y = Complex(1 / leaks_in_s, w) * at.capacitance.cast<Complex>();
    // Waves run near the speed of light: what is left of the eigenvalues tells them apart.
    const double scale = -w * w / (light * light);
    const Eigen::MatrixXcd rest = internal::product(y, at.series) / scale - Eigen::MatrixXcd::Identity(n, n);
    const internal::Decomposition found = internal::decompose(rest);
    Eigen::MatrixXcd vectors = found.vectors;
    Eigen::VectorXcd values = found.values;
    if (modes.gamma.empty()) {
      modes.gamma.resize(static_cast<std::size_t>(n));
    } else {
      const std::vector<Eigen::Index> order = order_like(modes.vectors.back(), vectors);
      for (Eigen::Index m = 0; m < n; ++m) {
        vectors.col(m) = found.vectors.col(order[static_cast<std::size_t>(m)]);
        values[m] = found.values[order[static_cast<std::size_t>(m)]];
      }
    }
    for (Eigen::Index m = 0; m < n; ++m)
      modes.gamma[static_cast<std::size_t>(m)].push_back(std::sqrt((values[m] + 1.0) * scale));
    modes.inverse.push_back(internal::inverse(vectors));
    modes.vectors.push_back(std::move(vectors));
    Eigen::VectorXcd slow(n);
    for (Eigen::Index m = 0; m < n; ++m) slow[m] = 1.0 / modes.gamma[static_cast<std::size_t>(m)].back();
    modes.admittance.push_back(internal::product(Eigen::MatrixXcd(modes.vectors.back() * slow.asDiagonal()),
                                                 internal::product(modes.inverse.back(), y)));
  }
  return modes;
}

MatrixFit matrix_of(const CommonFit& fit, Eigen::Index n, const std::vector<std::size_t>& function_of) {
  MatrixFit out;
  out.poles = fit.poles;
  out.residues.resize(fit.poles.size());
  for (Eigen::Index entry = 0; entry < n * n; ++entry) {
    const std::size_t function = function_of[static_cast<std::size_t>(entry)];
    out.constant.push_back(fit.constants[function]);
    for (std::size_t p = 0; p < fit.poles.size(); ++p) out.residues[p].push_back(fit.residues[function][p]);
  }
  return out;
}

void fit_admittance(PhaseLine& line, const Modes& modes, const FrequencyLineOptions& options) {
  const Eigen::Index n = modes.count();
  constexpr int more = 4;  // of all fronts together, it is little work
  Samples samples;
  std::vector<std::size_t> function_of(static_cast<std::size_t>(n * n));
  std::vector<double> weight;
  for (const Eigen::MatrixXcd& y : modes.admittance) weight.push_back(1 / y.norm());
  for (Eigen::Index r = 0; r < n; ++r) {
    for (Eigen::Index c = 0; c <= r; ++c) {
      function_of[static_cast<std::size_t>(r * n + c)] = function_of[static_cast<std::size_t>(c * n + r)] =
          samples.size();
      auto& entry = samples.emplace_back();
      for (const Eigen::MatrixXcd& y : modes.admittance) entry.push_back((y(r, c) + y(c, r)) / 2.0);
    }
  }
  const CommonFit fit =
      vector_fit_together(modes.omega, samples, weight, {.poles = options.poles + more, .constant = true});
  line.admittance = matrix_of(fit, n, function_of);
  line.admittance_error = fit.error;
}

using Fronts = std::vector<std::vector<Eigen::Index>>;  // modes that arrive together

/// Modes that arrive together: within `together_rad` at the highest frequency that either still carries.
Fronts fronts_of(const Modes& modes, double length_m, double together_rad) {
  std::vector<Eigen::Index> order(modes.gamma.size());
  std::iota(order.begin(), order.end(), 0);
  const auto gamma = [&](Eigen::Index m) -> const std::vector<Complex>& {
    return modes.gamma[static_cast<std::size_t>(m)];
  };
  const auto delay = [&](Eigen::Index m) {
    return internal::delay_of(modes.omega, gamma(m), length_m, front_arrives);
  };
  const auto top = [&](Eigen::Index m) {
    return internal::top_of(modes.omega, gamma(m), length_m, front_arrives);
  };
  std::sort(order.begin(), order.end(), [&](Eigen::Index a, Eigen::Index b) { return delay(a) < delay(b); });
  Fronts fronts;
  for (const Eigen::Index m : order) {
    if (!fronts.empty()) {
      const Eigen::Index first = fronts.back().front();
      if ((delay(m) - delay(first)) * std::max(top(m), top(first)) < together_rad) {
        fronts.back().push_back(m);
        continue;
      }
    }
    fronts.push_back({m});
  }
  return fronts;
}

/// What the modes of a front bring together, the delay taken out.
std::vector<Complex> trace_of(const Modes& modes, const std::vector<Eigen::Index>& front, double length_m,
                              double delay_s) {
  std::vector<Complex> sum(modes.omega.size());
  for (const Eigen::Index m : front) {
    for (std::size_t k = 0; k < sum.size(); ++k) {
      sum[k] += std::exp(-modes.gamma[static_cast<std::size_t>(m)][k] * length_m +
                         Complex(0, modes.omega[k] * delay_s));
    }
  }
  return sum;
}

/// At low frequency nearly all arrives, and what the line itself is stands in the little that does not.
std::vector<double> weights_of(const Modes& modes, double length_m) {
  constexpr double least = 0.02;
  std::vector<double> weight;
  for (std::size_t k = 0; k < modes.omega.size(); ++k) {
    double shortest = 1;
    for (const auto& gamma : modes.gamma) shortest = std::min(shortest, std::abs(gamma[k]) * length_m);
    weight.push_back(1 / std::max(least, shortest));
  }
  return weight;
}

/// Of all fronts, by least squares over what arrives of all conductors.
void find_residues(PhaseLine& line, const Modes& modes, double length_m, const std::vector<double>& weight) {
  const Eigen::Index n = modes.count();
  const auto samples = static_cast<Eigen::Index>(modes.omega.size());
  Eigen::Index columns = 0;
  for (const WaveFront& front : line.fronts) {
    for (const Complex pole : front.propagation.poles) columns += pole.imag() == 0 ? 1 : 2;
  }
  Eigen::MatrixXd a(2 * samples, columns), wanted(2 * samples, n * n);
  for (Eigen::Index k = 0; k < samples; ++k) {
    const auto at = static_cast<std::size_t>(k);
    const double w = weight[at];
    const Complex s(0, modes.omega[at]);
    Eigen::Index column = 0;
    const auto put = [&](Complex value) {
      a(2 * k, column) = w * value.real();
      a(2 * k + 1, column++) = w * value.imag();
    };
    for (const WaveFront& front : line.fronts) {
      const Complex late = std::exp(-s * front.delay_s);
      for (const Complex pole : front.propagation.poles) {
        const Complex one = late / (s - pole), other = late / (s - std::conj(pole));
        if (pole.imag() == 0) {
          put(one);
        } else {
          put(one + other);
          put(Complex(0, 1) * (one - other));
        }
      }
    }
    Eigen::VectorXcd h(n);
    for (Eigen::Index m = 0; m < n; ++m)
      h[m] = std::exp(-modes.gamma[static_cast<std::size_t>(m)][at] * length_m);
    const Eigen::MatrixXcd all =
        internal::product(Eigen::MatrixXcd(modes.vectors[at] * h.asDiagonal()), modes.inverse[at]);
    for (Eigen::Index entry = 0; entry < n * n; ++entry) {
      wanted(2 * k, entry) = w * all(entry / n, entry % n).real();
      wanted(2 * k + 1, entry) = w * all(entry / n, entry % n).imag();
    }
  }
  const Eigen::VectorXd scale = a.colwise().norm().cwiseMax(1e-300);
  const Eigen::MatrixXd scaled = a * scale.cwiseInverse().asDiagonal();
  const Eigen::MatrixXd solution = internal::product(internal::pseudo_inverse(scaled), wanted);
  line.propagation_error = (internal::product(scaled, solution) - wanted).norm() / wanted.norm();
  Eigen::Index column = 0;
  for (WaveFront& front : line.fronts) {
    MatrixFit& fit = front.propagation;
    fit.constant.assign(static_cast<std::size_t>(n * n), 0.0);
    for (const Complex pole : fit.poles) {
      auto& residues = fit.residues.emplace_back();
      const bool pair = pole.imag() != 0;
      for (Eigen::Index entry = 0; entry < n * n; ++entry) {
        residues.emplace_back(solution(column, entry) / scale[column],
                              pair ? solution(column + 1, entry) / scale[column + 1] : 0.0);
      }
      column += pair ? 2 : 1;
    }
  }
}

/// The poles of each front follow from its modes alone, whatever they turn; residues of all fronts from all
/// of H at once.
void fit_fronts(PhaseLine& line, const Modes& modes, const FrequencyLineOptions& options,
                const Fronts& fronts) {
  const std::vector<double> weight = weights_of(modes, options.length_m);
  for (const std::vector<Eigen::Index>& front : fronts) {
    double earliest = 1e300, top = 0;
    for (const Eigen::Index m : front) {
      const auto& gamma = modes.gamma[static_cast<std::size_t>(m)];
      earliest = std::min(earliest, internal::delay_of(modes.omega, gamma, options.length_m, front_arrives));
      top = std::max(top, internal::top_of(modes.omega, gamma, options.length_m, front_arrives));
    }
    // A causal function that falls towards the top of the range has some lag left in it.
    double least = 1e300;
    WaveFront& made = line.fronts.emplace_back();
    for (const double lag : {0.0, 0.2, 0.4, 0.7, 1.0, 1.5}) {
      const double delay = earliest - lag / top;
      const std::vector<Complex> trace = trace_of(modes, front, options.length_m, delay);
      for (const bool pairs : {false, true}) {
        const CommonFit fit = vector_fit_together(
            modes.omega, {trace}, weight, {.poles = options.poles, .constant = false, .pairs = pairs});
        if (fit.error >= least) continue;
        least = fit.error;
        made.delay_s = delay;
        made.propagation.poles = fit.poles;
      }
    }
  }
  find_residues(line, modes, options.length_m, weight);
}

Eigen::MatrixXcd value_at(const MatrixFit& fit, Eigen::Index n, Complex s) {
  Eigen::MatrixXcd sum(n, n);
  for (Eigen::Index k = 0; k < n * n; ++k) sum(k / n, k % n) = fit.constant[static_cast<std::size_t>(k)];
  for (std::size_t p = 0; p < fit.poles.size(); ++p) {
    const Complex one = 1.0 / (s - fit.poles[p]);
    const Complex other = fit.poles[p].imag() == 0 ? Complex(0) : 1.0 / (s - std::conj(fit.poles[p]));
    for (Eigen::Index k = 0; k < n * n; ++k) {
      const Complex residue = fit.residues[p][static_cast<std::size_t>(k)];
      sum(k / n, k % n) += residue * one + std::conj(residue) * other;
    }
  }
  return sum;
}

/// Over and beyond the range of the fit.
void check_passivity(PhaseLine& line, const std::vector<double>& omega) {
  line.least_conductance = 1e300;
  for (double w = omega.front() / 10; w < omega.back() * 10; w *= 1.02) {
    const Complex s(0, w);
    Eigen::MatrixXcd h = Eigen::MatrixXcd::Zero(line.conductors, line.conductors);
    for (std::size_t f = 0; f < line.fronts.size(); ++f)
      h += internal::front_of(line, f, s) * std::polar(1.0, -w * line.fronts[f].delay_s);
    const internal::LinePorts ports = internal::ports_of(internal::admittance_of(line, s), h);
    for (const Eigen::MatrixXcd* y : {&ports.same, &ports.opposed}) {
      const Eigen::VectorXd values =
          internal::hermitian_eigenvalues(Eigen::MatrixXcd((*y + y->adjoint()) / 2.0));
      line.least_conductance = std::min(line.least_conductance, values[0] / y->norm());
    }
  }
}

}  // namespace

PhaseLine fit_line_in_phases(const network::LineGeometry& given, const FrequencyLineOptions& wanted) {
  network::LineGeometry geometry = given;
  geometry.earth = "complex depth";  // two terms of Carson's series hold at low frequency alone
  FrequencyLineOptions options = wanted;
  // A short line carries all of the range, and nothing would bind the fit beyond it.
  constexpr double light = 299792458, turns = 2.5;
  options.to_Hz = std::max(wanted.to_Hz, turns * light / wanted.length_m);
  // Below the range too: what a line is at standstill decides whether a charge on it stays.
  options.from_Hz = wanted.from_Hz / 10;
  const Modes modes = modes_over(geometry, options);
  PhaseLine best;
  best.least_conductance = -1e300;
  // What arrives nearly together is better one front or several, as the line has it; where neither is passive
  // (screens of cables take over within a decade) more poles are.
  for (const int more : {0, 4, 8}) {
    options.poles = wanted.poles + more;
    std::vector<Fronts> tried;
    for (const double together_rad : {3.0, 1.0, 10.0, 0.3}) {
      const Fronts fronts = fronts_of(modes, options.length_m, together_rad);
      if (std::find(tried.begin(), tried.end(), fronts) != tried.end()) continue;
      tried.push_back(fronts);
      PhaseLine line;
      line.conductors = static_cast<int>(modes.count());
      fit_admittance(line, modes, options);
      fit_fronts(line, modes, options, fronts);
      check_passivity(line, modes.omega);
      if (line.least_conductance > best.least_conductance) best = std::move(line);
      if (best.passive()) return best;
    }
  }
  return best;
}

namespace internal {

Eigen::MatrixXcd admittance_of(const PhaseLine& line, Complex s) {
  return value_at(line.admittance, line.conductors, s);
}

Eigen::MatrixXcd front_of(const PhaseLine& line, std::size_t front, Complex s) {
  return value_at(line.fronts[front].propagation, line.conductors, s);
}

LinePorts ports_of(const Eigen::MatrixXcd& admittance, const Eigen::MatrixXcd& propagation) {
  const Eigen::MatrixXcd one = Eigen::MatrixXcd::Identity(admittance.rows(), admittance.cols());
  const auto of = [&](double sign) {
    return product(product(inverse(Eigen::MatrixXcd(one + sign * propagation)),
                           Eigen::MatrixXcd(one - sign * propagation)),
                   admittance);
  };
  return {of(1), of(-1)};
}

}  // namespace internal
}  // namespace zavrek::emt
