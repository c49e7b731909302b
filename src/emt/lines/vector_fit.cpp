#include "zavrek/emt/vector_fit.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

#include "emt/solve/dense.hpp"

#include "zavrek/error.hpp"

namespace zavrek::emt {
namespace {

using Complex = std::complex<double>;

[[nodiscard]] bool is_real(Complex pole) { return pole.imag() == 0; }

/// Real unknowns that a set of poles brings: one each, two for a pair.
int unknowns(const std::vector<Complex>& poles) {
  int count = 0;
  for (const Complex p : poles) count += is_real(p) ? 1 : 2;
  return count;
}

/// Values of the partial fractions at s, one per real unknown.
void fractions(const std::vector<Complex>& poles, Complex s, Complex* out) {
  for (const Complex p : poles) {
    const Complex one = 1.0 / (s - p);
    if (is_real(p)) {
      *out++ = one;
      continue;
    }
    const Complex other = 1.0 / (s - std::conj(p));
    *out++ = one + other;
    *out++ = Complex(0, 1) * (one - other);
  }
}

/// Least squares with columns scaled to unit length; rows in pairs (real, imaginary).
Eigen::VectorXd least_squares(Eigen::MatrixXd a, const Eigen::VectorXd& b) {
  const Eigen::VectorXd scale = a.colwise().norm().cwiseMax(1e-300);
  a = a * scale.cwiseInverse().asDiagonal();
  return internal::least_squares_of_full_rank(a, b).cwiseQuotient(scale);
}

std::vector<Complex> starting_poles(const std::vector<double>& omega, int count, bool pairs) {
  std::vector<Complex> poles;
  const double low = std::log(omega.front()), high = std::log(omega.back());
  if (pairs) {
    const int half = count / 2;
    for (int k = 0; k < half; ++k) {
      const double at = std::exp(low + (high - low) * (half == 1 ? 0.5 : k / (half - 1.0)));
      poles.emplace_back(-at / 10, at);
    }
    if (count % 2 == 1) poles.emplace_back(-std::exp((low + high) / 2), 0.0);
    return poles;
  }
  for (int k = 0; k < count; ++k)
    poles.emplace_back(-std::exp(low + (high - low) * (count == 1 ? 0.5 : k / (count - 1.0))), 0.0);
  return poles;
}

/// Zeros of 1 + sum c_n phi_n: eigenvalues of A - b c^T in real form, reflected into the left half plane.
std::vector<Complex> zeros(const std::vector<Complex>& poles, const Eigen::VectorXd& c) {
  const auto n = static_cast<Eigen::Index>(unknowns(poles));
  Eigen::MatrixXd a = Eigen::MatrixXd::Zero(n, n);
  Eigen::VectorXd b(n);
  Eigen::Index at = 0;
  for (const Complex p : poles) {
    a(at, at) = p.real();
    if (is_real(p)) {
      b[at++] = 1;
      continue;
    }
    a(at, at + 1) = p.imag();
    a(at + 1, at) = -p.imag();
    a(at + 1, at + 1) = p.real();
    b[at] = 2;
    b[at + 1] = 0;
    at += 2;
  }
  const Eigen::VectorXcd values = internal::decompose(a - b * c.transpose(), false).values;
  std::vector<Complex> found;
  for (Eigen::Index k = 0; k < n; ++k) {
    Complex z = values[k];
    if (z.imag() < 0) continue;  // its conjugate stands for it
    z.real(-std::max(std::abs(z.real()), 1e-3));
    found.push_back(z);
  }
  return found;
}

}  // namespace

Complex RationalFit::operator()(Complex s) const {
  Complex sum = constant;
  for (std::size_t k = 0; k < poles.size(); ++k) {
    sum += residues[k] / (s - poles[k]);
    if (!is_real(poles[k])) sum += std::conj(residues[k]) / (s - std::conj(poles[k]));
  }
  return sum;
}

RationalFit vector_fit(const std::vector<double>& omega, const std::vector<Complex>& f,
                       const FitOptions& options) {
  if (f.size() != omega.size()) throw Error("a fit needs as many samples as frequencies");
  std::vector<double> weight;
  for (const Complex value : f) weight.push_back(options.relative ? 1 / std::abs(value) : 1);
  CommonFit fit = vector_fit_together(omega, {f}, weight, options);
  return {fit.constants[0], std::move(fit.poles), std::move(fit.residues[0]), fit.error};
}

Complex CommonFit::operator()(std::size_t function, Complex s) const {
  Complex sum = constants[function];
  for (std::size_t k = 0; k < poles.size(); ++k) {
    const Complex residue = residues[function][k];
    sum += residue / (s - poles[k]);
    if (!is_real(poles[k])) sum += std::conj(residue) / (s - std::conj(poles[k]));
  }
  return sum;
}

/// What of the samples no residues of the functions themselves could explain is all that relocation has to
/// explain: the functions are projected, each by itself, on what is left beside the partial fractions.
CommonFit vector_fit_together(const std::vector<double>& omega, const std::vector<std::vector<Complex>>& f,
                              const std::vector<double>& weight, const FitOptions& options) {
  const auto samples = static_cast<Eigen::Index>(omega.size());
  const auto functions = static_cast<Eigen::Index>(f.size());
  if (2 * samples < 2 * options.poles + 1) throw Error("a fit needs more samples than twice its poles");
  const auto weight_at = [&](Eigen::Index k) {
    return weight.empty() ? 1.0 : weight[static_cast<std::size_t>(k)];
  };
  Eigen::MatrixXd wanted(2 * samples, functions);
  for (Eigen::Index m = 0; m < functions; ++m) {
    for (Eigen::Index k = 0; k < samples; ++k) {
      const Complex value = weight_at(k) * f[static_cast<std::size_t>(m)][static_cast<std::size_t>(k)];
      wanted(2 * k, m) = value.real();
      wanted(2 * k + 1, m) = value.imag();
    }
  }
  CommonFit fit;
  fit.poles = starting_poles(omega, options.poles, options.pairs);

  Eigen::MatrixXd basis;  // weighed partial fractions, and the constant
  Eigen::MatrixXcd phi;   // not weighed
  const auto lay_out = [&] {
    const auto n = static_cast<Eigen::Index>(unknowns(fit.poles));
    phi.resize(samples, n);
    basis.resize(2 * samples, n + (options.constant ? 1 : 0));
    std::vector<Complex> row(static_cast<std::size_t>(n));
    for (Eigen::Index k = 0; k < samples; ++k) {
      fractions(fit.poles, Complex(0, omega[static_cast<std::size_t>(k)]), row.data());
      for (Eigen::Index c = 0; c < n; ++c) {
        phi(k, c) = row[static_cast<std::size_t>(c)];
        basis(2 * k, c) = weight_at(k) * phi(k, c).real();
        basis(2 * k + 1, c) = weight_at(k) * phi(k, c).imag();
      }
      if (options.constant) {
        basis(2 * k, n) = weight_at(k);
        basis(2 * k + 1, n) = 0;
      }
    }
    // Columns of one length: they span the same, and rounding is that of the best scale.
    return Eigen::VectorXd(basis.colwise().norm().cwiseMax(1e-300));
  };
  for (int round = 0; round < options.rounds; ++round) {
    const Eigen::VectorXd scale = lay_out();
    const Eigen::MatrixXd scaled = basis * scale.cwiseInverse().asDiagonal();
    const Eigen::MatrixXd explains = internal::pseudo_inverse(scaled);
    const auto rest = [&](const Eigen::MatrixXd& of) {
      return Eigen::MatrixXd(of - internal::product(scaled, internal::product(explains, of)));
    };
    const auto n = phi.cols();
    Eigen::MatrixXd a(functions * 2 * samples, n);
    Eigen::VectorXd b(functions * 2 * samples);
    Eigen::MatrixXd turned(2 * samples, n);
    for (Eigen::Index m = 0; m < functions; ++m) {
      for (Eigen::Index c = 0; c < n; ++c) {
        for (Eigen::Index k = 0; k < samples; ++k) {
          const Complex value = -Complex(wanted(2 * k, m), wanted(2 * k + 1, m)) * phi(k, c);
          turned(2 * k, c) = value.real();
          turned(2 * k + 1, c) = value.imag();
        }
      }
      a.middleRows(m * 2 * samples, 2 * samples) = rest(turned);
      b.segment(m * 2 * samples, 2 * samples) = rest(wanted.col(m));
    }
    fit.poles = zeros(fit.poles, least_squares(std::move(a), b));
  }
  const Eigen::VectorXd scale = lay_out();
  const Eigen::MatrixXd scaled = basis * scale.cwiseInverse().asDiagonal();
  const Eigen::MatrixXd solution = internal::product(internal::pseudo_inverse(scaled), wanted);
  fit.error = (internal::product(scaled, solution) - wanted).norm() / wanted.norm();
  for (Eigen::Index m = 0; m < functions; ++m) {
    Eigen::Index at = 0;
    auto& residues = fit.residues.emplace_back();
    for (const Complex p : fit.poles) {
      const double real = solution(at, m) / scale[at];
      ++at;
      if (is_real(p)) {
        residues.emplace_back(real, 0.0);
        continue;
      }
      residues.emplace_back(real, solution(at, m) / scale[at]);
      ++at;
    }
    fit.constants.push_back(options.constant ? solution(at, m) / scale[at] : 0);
  }
  return fit;
}

}  // namespace zavrek::emt
