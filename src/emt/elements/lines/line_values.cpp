#include "emt/elements/lines/line_values.hpp"
#include "emt/solve/dense.hpp"

#include <fmt/format.h>

#include "zavrek/emt/line_constants.hpp"

namespace zavrek::emt::internal {
namespace {

using network::is_set;

[[noreturn]] void reject(const std::string& owner, const char* field, std::string text) {
  throw Error(Flaw{.file = {}, .place = owner, .field = field, .text = std::move(text)});
}

Eigen::MatrixXd full(const std::string& owner, const char* field, std::size_t n,
                     const std::vector<double>& lower) {
  if (lower.size() != n * (n + 1) / 2) {
    reject(owner, field,
           fmt::format("has {} numbers; the lower triangle for {} phase{} has {}", lower.size(), n,
                       n == 1 ? "" : "s", n * (n + 1) / 2));
  }
  const auto size = static_cast<Eigen::Index>(n);
  Eigen::MatrixXd matrix(size, size);
  std::size_t k = 0;
  for (Eigen::Index r = 0; r < size; ++r) {
    for (Eigen::Index c = 0; c <= r; ++c) matrix(r, c) = matrix(c, r) = lower[k++];
  }
  return matrix;
}

void require_passive(const std::string& owner, const char* field, const Eigen::MatrixXd& matrix,
                     bool strictly) {
  const double least = symmetric_eigenvalues(matrix)[0];
  const double scale = matrix.cwiseAbs().maxCoeff();
  if (strictly ? least <= 0 : least < -1e-9 * scale)
    reject(owner, field,
           "makes no passive line: its matrix is not positive definite; check mutual and self values");
}

LineMatrices from_sequence_values(const std::string& owner, std::size_t n, const LineValues& v,
                                  double omega) {
  if (!is_set(v.x1))
    reject(owner, "x1", "missing; give x1 with the other sequence values, x_matrix, or a geometry");
  const bool zero = n > 1;
  for (const auto& [field, value] :
       {std::pair{"r1", v.r1}, std::pair{"r0", v.r0}, std::pair{"x0", v.x0}, std::pair{"c0", v.c0}}) {
    const bool of_zero = field[1] == '0';
    const bool needed = of_zero ? zero && (field[0] != 'c' || is_set(v.c1)) : true;
    if (needed && !is_set(value))
      reject(owner, field, of_zero ? "missing; between buses of several phases it is needed" : "missing");
  }
  const auto sequence = [&](double positive, double zero_value) {
    return from_sequence(n, positive, zero ? zero_value : 0);
  };
  return {sequence(v.r1, v.r0), sequence(v.x1, v.x0) / omega,
          is_set(v.c1) ? sequence(v.c1, v.c0) : Eigen::MatrixXd(0 * sequence(v.x1, v.x0))};
}

}  // namespace

std::vector<std::string> conductor_names(const std::string& letters) {
  std::vector<std::string> names;
  for (const char letter : letters) names.emplace_back(1, letter);
  return names;
}

void require_passive(const std::string& owner, const MatrixFields& fields, const LineMatrices& m) {
  require_passive(owner, fields.inductance, m.inductance, true);
  require_passive(owner, fields.resistance, m.resistance, false);
  require_passive(owner, fields.capacitance, m.capacitance, false);
}

const network::LineGeometry& geometry_of(const Assembly& assembly, const std::string& owner,
                                         const std::vector<std::string>& conductors,
                                         const std::string& name) {
  std::vector<std::string> known;
  for (const network::LineGeometry& geometry : assembly.network().geometries) {
    known.push_back(geometry.name);
    if (geometry.name != name) continue;
    if (const auto has = network::conductors_of(geometry); has != conductors) {
      reject(owner, "geometry",
             fmt::format("\"{}\" has the phases {}; its buses have {}", name, fmt::join(has, " "),
                         fmt::join(conductors, " ")));
    }
    return geometry;
  }
  reject(owner, "geometry", fmt::format("no geometry \"{}\"{}", name, suggestion(name, known)));
}

LineMatrices line_matrices(const Assembly& assembly, const std::string& owner,
                           const std::vector<std::string>& conductors, const LineValues& v) {
  const std::size_t n = conductors.size();
  const double omega = assembly.omega();
  LineMatrices m;
  if (!v.geometry.empty()) {
    network::LineGeometry geometry = geometry_of(assembly, owner, conductors, v.geometry);
    geometry.frequency_Hz = assembly.network().frequency_Hz;
    const LineConstants constants = line_constants(geometry);
    const auto size = static_cast<Eigen::Index>(n);
    m = {Eigen::MatrixXd(size, size), Eigen::MatrixXd(size, size), Eigen::MatrixXd(size, size)};
    for (Eigen::Index k = 0; k < size * size; ++k) {
      const auto at = static_cast<std::size_t>(k);
      m.resistance.data()[k] = constants.series_ohm_per_m[at].real();
      m.inductance.data()[k] = constants.series_ohm_per_m[at].imag() / omega;
      m.capacitance.data()[k] = constants.capacitance_F_per_m[at];
    }
    return m;
  }
  if (v.x_matrix.empty() && v.r_matrix.empty()) {
    m = from_sequence_values(owner, n, v, omega);
  } else {
    m.resistance = full(owner, "r_matrix", n, v.r_matrix);
    m.inductance = full(owner, "x_matrix", n, v.x_matrix) / omega;
    m.capacitance = v.b_matrix.empty() ? Eigen::MatrixXd(0 * m.inductance)
                                       : Eigen::MatrixXd(full(owner, "b_matrix", n, v.b_matrix) / omega);
  }
  require_passive(
      owner,
      v.x_matrix.empty() ? MatrixFields{"r0", "x0", "c0"} : MatrixFields{"r_matrix", "x_matrix", "b_matrix"},
      m);
  return m;
}

}  // namespace zavrek::emt::internal
