// Overhead line constants per unit of length. For wires i and k at mean heights y, D their distance, D' the
// distance of one to the image of the other, k = w mu0:
//   complex depth   z_ik = r_i (i = k) + j k/(2 pi) ln( sqrt((y_i + y_k + 2p)^2 + dx^2) / D ),  p = sqrt(rho
//   / (j k)) Carson          z_ik = r_i (i = k) + k/8 + j k/(2 pi) ln(De / D),  De = 2 exp(1/2 - gamma)
//   sqrt(rho / k) p_ik = ln(D'/D) / (2 pi eps0),  C = p^-1
// with D = GMR (series) or radius (potential) for i = k.
#include "zavrek/emt/line_constants.hpp"

#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <Eigen/Dense>

namespace zavrek::emt {
namespace {

using network::above;
using network::any;
using network::at_least;
using network::is_set;
using network::Need;
using network::TableOf;
using network::within;
using Complex = std::complex<double>;

constexpr double pi = std::numbers::pi;
constexpr double mu0 = 4e-7 * pi;
constexpr double eps0 = 8.8541878128e-12;

/// A wire as the equations see it: a bundle has the radius of its equivalent.
struct Conductor {
  double x, y, resistance, gmr, radius;
  int phase;  // 0, 1, 2; 3 for ground
};

/// Radius that stands for `count` wires of radius r on a circle: (n r A^(n-1))^(1/n), A the circle's radius.
double bundled(double radius, const Wire& wire) {
  if (wire.bundle == 1) return radius;
  const double n = wire.bundle;
  const double circle = wire.bundle_spacing_m / (2 * std::sin(pi / n));
  return std::pow(n * radius * std::pow(circle, n - 1), 1 / n);
}

Conductor conductor_of(const Wire& wire) {
  const double radius = wire.diameter_m / 2;
  const double gmr = is_set(wire.gmr_m) ? wire.gmr_m : radius * std::exp(-0.25);
  const int phase = wire.phase == "ground" ? 3 : wire.phase[0] - 'a';
  return {wire.x_m,
          wire.height_m - 2 * wire.sag_m / 3,
          wire.resistance_ohm_per_m / wire.bundle,
          bundled(gmr, wire),
          bundled(radius, wire),
          phase};
}

Complex series_entry(const Conductor& a, const Conductor& b, bool self, const LineGeometry& g) {
  const double k = 2 * pi * g.frequency_Hz * mu0;
  const double distance = self ? a.gmr : std::hypot(a.x - b.x, a.y - b.y);
  const Complex resistance = self ? a.resistance : 0;
  if (g.earth == "carson two-term") {
    const double depth = 2 * std::exp(0.5 - std::numbers::egamma) * std::sqrt(g.earth_resistivity_ohm_m / k);
    return resistance + Complex(k / 8, k / (2 * pi) * std::log(depth / distance));
  }
  const Complex p = std::sqrt(g.earth_resistivity_ohm_m / Complex(0, k));
  const Complex down = a.y + b.y + 2.0 * p;
  const Complex image = std::sqrt(down * down + (a.x - b.x) * (a.x - b.x));
  return resistance + Complex(0, k / (2 * pi)) * std::log(image / distance);
}

double potential_entry(const Conductor& a, const Conductor& b, bool self) {
  const double distance = self ? a.radius : std::hypot(a.x - b.x, a.y - b.y);
  return std::log(std::hypot(a.x - b.x, a.y + b.y) / distance) / (2 * pi * eps0);
}

/// Admittance-like reduction: wires of one phase share its voltage and add their currents (or charges),
/// ground wires have no voltage. `matrix` maps currents to voltage drops; so does the result, phase by phase.
template <class Matrix>
Matrix reduced(const Matrix& matrix, const std::vector<Conductor>& conductors,
               const std::vector<int>& phases) {
  Eigen::MatrixXd joins = Eigen::MatrixXd::Zero(matrix.rows(), static_cast<Eigen::Index>(phases.size()));
  for (std::size_t k = 0; k < conductors.size(); ++k) {
    for (std::size_t m = 0; m < phases.size(); ++m) {
      if (conductors[k].phase == phases[m])
        joins(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(m)) = 1;
    }
  }
  const Matrix inverse = matrix.inverse();
  const Matrix admittance = joins.transpose() * inverse * joins;
  return admittance.inverse();
}

}  // namespace

const Table& table(const Wire*) {
  static const Table built =
      TableOf<Wire>("wire", "one wire or bundle of an overhead line")
          .choice("phase", &Wire::phase, {"a", "b", "c", "ground"},
                  "phase that it belongs to; ground wires are eliminated")
          .quantity("x", &Wire::x_m, "m", any(), "horizontal place")
          .quantity("height", &Wire::height_m, "m", above(0), "above ground, at the tower")
          .quantity("sag", &Wire::sag_m, "m", at_least(0),
                    "at mid-span; the mean height lies 2/3 of it lower")
          .quantity("resistance", &Wire::resistance_ohm_per_m, "ohm/km", at_least(0), "of one wire")
          .quantity("diameter", &Wire::diameter_m, "mm", above(0), "outer diameter of one wire")
          .quantity("gmr", &Wire::gmr_m, "mm", above(0),
                    "geometric mean radius; that of a solid round wire when left out", Need::optional)
          .count("bundle", &Wire::bundle, within(1, 12), "wires on a circle, joined")
          .quantity("bundle_spacing", &Wire::bundle_spacing_m, "mm", above(0),
                    "between neighbours of the bundle", Need::optional)
          .build();
  return built;
}

const Table& table(const LineGeometry*) {
  static const Table built =
      TableOf<LineGeometry>(
          "geometry", "a file for `zavrek line`: an overhead line's cross-section, with [wire.NAME] tables")
          .quantity("frequency", &LineGeometry::frequency_Hz, "Hz", above(0),
                    "at which the impedance is calculated")
          .quantity("earth_resistivity", &LineGeometry::earth_resistivity_ohm_m, "ohm m", above(0),
                    "of the soil")
          .choice("earth", &LineGeometry::earth, {"complex depth", "carson two-term"},
                  "how the return through earth is calculated")
          .build();
  return built;
}

std::vector<Flaw> validate(const LineGeometry& geometry) {
  std::vector<Flaw> flaws;
  const auto report = [&](const std::string& place, const std::string& field, std::string text) {
    flaws.push_back({.file = {}, .place = place, .field = field, .text = std::move(text)});
  };
  bool phase = false;
  for (const Wire& wire : geometry.wires) {
    const std::string place = "wire." + wire.name;
    for (const network::Field* field : network::missing_fields(table(&wire), &wire)) {
      report(place, field->name, fmt::format("missing; {} is wanted", field->expects));
    }
    if (wire.bundle > 1 && !is_set(wire.bundle_spacing_m))
      report(place, "bundle_spacing", "missing; a bundle needs it");
    if (wire.height_m - wire.sag_m <= 0) report(place, "sag", "lets the wire touch the ground");
    phase = phase || wire.phase != "ground";
    for (const Wire& other : geometry.wires) {
      if (&other == &wire) break;
      if (std::hypot(wire.x_m - other.x_m, wire.height_m - other.height_m) <
          (wire.diameter_m + other.diameter_m) / 2) {
        report(place, "x", fmt::format("lies inside wire \"{}\"", other.name));
      }
    }
  }
  if (!phase)
    report("geometry", "", "has no phase wire; write at least one, such as [wire.a] with phase = \"a\"");
  return flaws;
}

LineConstants line_constants(const LineGeometry& geometry) {
  if (auto flaws = validate(geometry); !flaws.empty()) throw Error(std::move(flaws));
  std::vector<Conductor> conductors;
  for (const Wire& wire : geometry.wires) conductors.push_back(conductor_of(wire));
  LineConstants constants;
  constants.frequency_Hz = geometry.frequency_Hz;
  std::vector<int> phases;
  for (int phase = 0; phase < 3; ++phase) {
    for (const Conductor& c : conductors) {
      if (c.phase == phase && (phases.empty() || phases.back() != phase)) phases.push_back(phase);
    }
  }
  for (const int phase : phases) constants.phases.emplace_back(1, static_cast<char>('a' + phase));

  const auto n = static_cast<Eigen::Index>(conductors.size());
  Eigen::MatrixXcd series(n, n);
  Eigen::MatrixXd potential(n, n);
  for (Eigen::Index i = 0; i < n; ++i) {
    for (Eigen::Index k = 0; k < n; ++k) {
      const Conductor& a = conductors[static_cast<std::size_t>(i)];
      const Conductor& b = conductors[static_cast<std::size_t>(k)];
      series(i, k) = series_entry(a, b, i == k, geometry);
      potential(i, k) = potential_entry(a, b, i == k);
    }
  }
  const Eigen::MatrixXcd z = reduced(series, conductors, phases);
  const Eigen::MatrixXd c = reduced(potential, conductors, phases).inverse();
  const auto m = static_cast<Eigen::Index>(phases.size());
  for (Eigen::Index i = 0; i < m; ++i) {
    for (Eigen::Index k = 0; k < m; ++k) {
      constants.series_ohm_per_m.push_back(z(i, k));
      constants.capacitance_F_per_m.push_back(c(i, k));
    }
  }
  if (m == 3) {
    const Complex self = z.trace() / 3.0;
    const Complex mutual = (z.sum() - z.trace()) / 6.0;
    constants.z0_ohm_per_m = self + 2.0 * mutual;
    constants.z1_ohm_per_m = self - mutual;
    const double own = c.trace() / 3;
    const double between = (c.sum() - c.trace()) / 6;
    constants.c0_F_per_m = own + 2 * between;
    constants.c1_F_per_m = own - between;
  }
  return constants;
}

}  // namespace zavrek::emt
