// Line constants per unit of length. Overhead: for wires i and k at mean heights y, D their distance, D' the
// distance of one to the image of the other, k = w mu0:
//   complex depth   z_ik = r_i (i = k) + j k/(2 pi) ln( sqrt((y_i + y_k + 2p)^2 + dx^2) / D ),  p = sqrt(rho
//   / (j k)) Carson          z_ik = r_i (i = k) + k/8 + j k/(2 pi) ln(De / D),  De = 2 exp(1/2 - gamma)
//   sqrt(rho / k) p_ik = ln(D'/D) / (2 pi eps0),  C = p^-1
// with D = GMR (series) or radius (potential) for i = k. With skin effect, r + jw L of the inside of a solid
// wire, r_dc (x/2) I0(x)/I1(x), x = radius sqrt(jw mu0/rho), and D = radius. Cables, from the inside out (m =
// sqrt(jw mu/rho), d the thickness of a tube between r and q):
//   core       rho m/(2 pi r) I0(mr)/I1(mr)              insulation  j k/(2 pi) ln(q/r)
//   tube, in   rho m/(2 pi r) coth(m d) - rho/(2 pi r (r+q))      out  rho m/(2 pi q) coth(m d) + rho/(2 pi q
//   (r+q)) through    rho m/(pi (r+q) sinh(m d)) earth      (rho m^2/2 pi)(-ln(gamma m D/2) + 1/2 - (2/3) m
//   (h_i + h_k)),  D = outer radius for i = k
// as impedances of the loops core-screen, screen-armour, armour-earth, then of the conductors.
#include "zavrek/emt/line_constants.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include "emt/solve/dense.hpp"

namespace zavrek::emt {
namespace {

using network::Core;
using network::is_set;
using network::Wire;
using Complex = std::complex<double>;

constexpr double pi = std::numbers::pi;
constexpr double mu0 = 4e-7 * pi;
constexpr double eps0 = 8.8541878128e-12;

/// A wire as the equations see it: a bundle has the radius of its equivalent.
struct Conductor {
  double x, y, resistance, gmr, radius;
  int phase;  // among those of the matrices; `ground_wire` for ground
};
constexpr int ground_wire = -1;

/// Radius that stands for `count` wires of radius r on a circle: (n r A^(n-1))^(1/n), A the circle's radius.
double bundled(double radius, const Wire& wire) {
  if (wire.bundle == 1) return radius;
  const double n = wire.bundle;
  const double circle = wire.bundle_spacing_m / (2 * std::sin(pi / n));
  return std::pow(n * radius * std::pow(circle, n - 1), 1 / n);
}

/// The row of a phase of a circuit in the matrices.
int row_of(const LineGeometry& g, const std::vector<std::string>& conductors, int circuit,
           const std::string& phase) {
  const auto found =
      std::find(conductors.begin(), conductors.end(), network::conductor_name(g, circuit, phase));
  return static_cast<int>(found - conductors.begin());
}

Conductor conductor_of(const LineGeometry& g, const std::vector<std::string>& conductors, const Wire& wire) {
  const double radius = wire.diameter_m / 2;
  const double gmr = is_set(wire.gmr_m) ? wire.gmr_m : radius * std::exp(-0.25);
  const int phase = wire.phase == "ground" ? ground_wire : row_of(g, conductors, wire.circuit, wire.phase);
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
Matrix reduced(const Matrix& matrix, const std::vector<Conductor>& conductors, std::size_t phases) {
  Eigen::MatrixXd joins = Eigen::MatrixXd::Zero(matrix.rows(), static_cast<Eigen::Index>(phases));
  for (std::size_t k = 0; k < conductors.size(); ++k) {
    if (conductors[k].phase != ground_wire) joins(static_cast<Eigen::Index>(k), conductors[k].phase) = 1;
  }
  const Matrix inverse = internal::inverse(matrix);
  const Matrix joined = joins.cast<typename Matrix::Scalar>();
  const Matrix admittance = internal::product(Matrix(joined.transpose()), internal::product(inverse, joined));
  return internal::inverse(admittance);
}

/// I0(x)/I1(x) by the continued fraction of I1/I0 = 1/(2/x + 1/(4/x + 1/(6/x + ...))).
Complex bessel_ratio(Complex x) {
  Complex rest = 0;
  for (int k = 200; k > 0; --k) rest = 1.0 / (2.0 * k / x + rest);
  return 1.0 / rest;
}

/// Inside of a solid wire of given d.c. resistance and radius.
Complex solid_wire(double resistance_ohm_per_m, double radius, double omega, double permeability = 1) {
  const double resistivity = resistance_ohm_per_m * pi * radius * radius;
  const Complex x = radius * std::sqrt(Complex(0, omega * mu0 * permeability / resistivity));
  return resistance_ohm_per_m * x / 2.0 * bessel_ratio(x);
}

struct Tube {
  Complex inside, outside, through;
};

Tube tube(double resistance_ohm_per_m, double r, double q, double omega, double permeability) {
  const double rho = resistance_ohm_per_m * pi * (q * q - r * r);
  const Complex m = std::sqrt(Complex(0, omega * mu0 * permeability / rho));
  const Complex md = m * (q - r);
  const Complex coth = 1.0 / std::tanh(md);
  return {rho * m / (2 * pi * r) * coth - rho / (2 * pi * r * (r + q)),
          rho * m / (2 * pi * q) * coth + rho / (2 * pi * q * (r + q)),
          rho * m / (pi * (r + q)) * (std::abs(md) > 300 ? Complex(0) : 1.0 / std::sinh(md))};
}

Complex cable_earth(const Core& a, const Core& b, double outer_radius, double rho, double omega) {
  const Complex m = std::sqrt(Complex(0, omega * mu0 / rho));
  const double distance = &a == &b ? outer_radius : std::hypot(a.x_m - b.x_m, a.depth_m - b.depth_m);
  const double gamma = std::exp(std::numbers::egamma);
  return rho * m * m / (2 * pi) *
         (-std::log(gamma * m * distance / 2.0) + 0.5 - 2.0 / 3.0 * m * (a.depth_m + b.depth_m));
}

/// Impedances of a cable's own conductors (core, screen, armour) without the earth.
Eigen::MatrixXcd own_impedances(const Core& c, double omega) {
  const auto gap = [&](double outer, double inner) {
    return Complex(0, omega * mu0 / (2 * pi) * std::log(outer / inner));
  };
  const bool armoured = is_set(c.armour_diameter_m);
  const Tube screen =
      tube(c.screen_resistance_ohm_per_m, c.insulation_diameter_m / 2, c.screen_diameter_m / 2, omega, 1);
  const Complex core_loop = solid_wire(c.core_resistance_ohm_per_m, c.core_diameter_m / 2, omega) +
                            gap(c.insulation_diameter_m, c.core_diameter_m) + screen.inside;
  Complex screen_loop = screen.outside + gap(c.jacket_diameter_m, c.screen_diameter_m);
  const Eigen::Index n = armoured ? 3 : 2;
  Eigen::MatrixXcd loops = Eigen::MatrixXcd::Zero(n, n);
  loops(0, 0) = core_loop;
  loops(0, 1) = loops(1, 0) = -screen.through;
  if (armoured) {
    const Tube armour = tube(c.armour_resistance_ohm_per_m, c.jacket_diameter_m / 2, c.armour_diameter_m / 2,
                             omega, c.armour_permeability);
    screen_loop += armour.inside;
    loops(1, 2) = loops(2, 1) = -armour.through;
    loops(2, 2) = armour.outside + gap(c.outer_diameter_m, c.armour_diameter_m);
  }
  loops(1, 1) = screen_loop;
  // A conductor's current flows in its loop and all outer ones: I_loop = A I, V = A^T V_loop.
  Eigen::MatrixXcd sums = Eigen::MatrixXcd::Zero(n, n);
  for (Eigen::Index r = 0; r < n; ++r) {
    for (Eigen::Index k = 0; k <= r; ++k) sums(r, k) = 1;
  }
  return internal::product(Eigen::MatrixXcd(sums.transpose()), internal::product(loops, sums));
}

/// Cores first, then the screens (and armours), to be eliminated as the bonding says.
Eigen::MatrixXcd cable_impedances(const LineGeometry& g, const std::vector<const Core*>& cores,
                                  double omega) {
  const auto n = static_cast<Eigen::Index>(cores.size());
  const bool armoured =
      std::any_of(cores.begin(), cores.end(), [](const Core* c) { return is_set(c->armour_diameter_m); });
  const Eigen::Index layers = armoured ? 3 : 2;
  Eigen::MatrixXcd z = Eigen::MatrixXcd::Zero(layers * n, layers * n);
  for (Eigen::Index i = 0; i < n; ++i) {
    const Core& a = *cores[static_cast<std::size_t>(i)];
    const Eigen::MatrixXcd own = own_impedances(a, omega);
    const bool bare = own.rows() < layers;
    for (Eigen::Index r = 0; r < layers; ++r) {
      for (Eigen::Index c = 0; c < layers; ++c) {
        if (r < own.rows() && c < own.rows()) z(r * n + i, c * n + i) = own(r, c);
        for (Eigen::Index k = 0; k < n; ++k) {
          const double outer = (is_set(a.armour_diameter_m) ? a.outer_diameter_m : a.jacket_diameter_m) / 2;
          z(r * n + i, c * n + k) +=
              cable_earth(a, *cores[static_cast<std::size_t>(k)], outer, g.earth_resistivity_ohm_m, omega);
        }
      }
    }
    if (bare) {
      // No armour on this one: a conductor that carries nothing.
      z.row(2 * n + i).setZero();
      z.col(2 * n + i).setZero();
      z(2 * n + i, 2 * n + i) = 1e12;
    }
  }
  if (g.bonding == "one end") return z.topLeftCorner(n, n);
  if (g.bonding == "cross-bonded") {
    // Screens (and armours) change places along the cable: the mean over the rotations.
    Eigen::MatrixXcd mean = Eigen::MatrixXcd::Zero(z.rows(), z.cols());
    for (Eigen::Index turn = 0; turn < n; ++turn) {
      const auto at = [&](Eigen::Index k) { return k < n ? k : k / n * n + (k % n + turn) % n; };
      for (Eigen::Index r = 0; r < z.rows(); ++r) {
        for (Eigen::Index c = 0; c < z.cols(); ++c) mean(r, c) += z(at(r), at(c)) / static_cast<double>(n);
      }
    }
    z = mean;
  }
  const Eigen::Index rest = z.rows() - n;
  const Eigen::MatrixXcd there = z.topRightCorner(n, rest), back = z.bottomLeftCorner(rest, n);
  const Eigen::MatrixXcd closed = internal::inverse(Eigen::MatrixXcd(z.bottomRightCorner(rest, rest)));
  return z.topLeftCorner(n, n) - internal::product(internal::product(there, closed), back);
}

struct Matrices {
  std::vector<std::string> phases;
  Eigen::MatrixXcd series;
  Eigen::MatrixXd capacitance;
};

Matrices of_cables(const LineGeometry& g, double frequency_Hz) {
  Matrices m;
  m.phases = network::conductors_of(g);
  std::vector<const Core*> cores(m.phases.size());
  for (const Core& core : g.cores)
    cores[static_cast<std::size_t>(row_of(g, m.phases, core.circuit, core.phase))] = &core;
  m.series = cable_impedances(g, cores, 2 * pi * frequency_Hz);
  // Screens hold the potential of earth: each core has its own capacitance and no other.
  const auto n = static_cast<Eigen::Index>(cores.size());
  m.capacitance = Eigen::MatrixXd::Zero(n, n);
  for (Eigen::Index k = 0; k < n; ++k) {
    const Core& c = *cores[static_cast<std::size_t>(k)];
    m.capacitance(k, k) =
        2 * pi * eps0 * c.permittivity / std::log(c.insulation_diameter_m / c.core_diameter_m);
  }
  return m;
}

Matrices of_wires(const LineGeometry& geometry, double frequency_Hz, bool skin) {
  LineGeometry g = geometry;
  g.frequency_Hz = frequency_Hz;
  Matrices m;
  m.phases = network::conductors_of(g);
  std::vector<Conductor> conductors;
  std::vector<Complex> inside;
  for (const Wire& wire : g.wires) {
    conductors.push_back(conductor_of(g, m.phases, wire));
    inside.emplace_back(conductors.back().resistance);
    if (!skin) continue;
    // Resistance and inner inductance of a solid wire, the latter scaled to the given GMR.
    const double radius = wire.diameter_m / 2;
    const double gmr = is_set(wire.gmr_m) ? wire.gmr_m : radius * std::exp(-0.25);
    Complex z = solid_wire(wire.resistance_ohm_per_m, radius, 2 * pi * frequency_Hz);
    z.imag(z.imag() * std::log(radius / gmr) / 0.25);
    inside.back() = z / static_cast<double>(wire.bundle);
    conductors.back().gmr = conductors.back().radius;
    conductors.back().resistance = 0;
  }
  const auto n = static_cast<Eigen::Index>(conductors.size());
  Eigen::MatrixXcd series(n, n);
  Eigen::MatrixXd potential(n, n);
  for (Eigen::Index i = 0; i < n; ++i) {
    for (Eigen::Index k = 0; k < n; ++k) {
      const Conductor& a = conductors[static_cast<std::size_t>(i)];
      const Conductor& b = conductors[static_cast<std::size_t>(k)];
      series(i, k) = series_entry(a, b, i == k, g);
      if (skin && i == k) series(i, k) += inside[static_cast<std::size_t>(i)];
      potential(i, k) = potential_entry(a, b, i == k);
    }
  }
  m.series = reduced(series, conductors, m.phases.size());
  m.capacitance = internal::inverse(reduced(potential, conductors, m.phases.size()));
  return m;
}

LineConstants constants_of(const Matrices& matrices, double frequency_Hz) {
  LineConstants constants;
  constants.frequency_Hz = frequency_Hz;
  constants.phases = matrices.phases;
  const Eigen::MatrixXcd& z = matrices.series;
  const Eigen::MatrixXd& c = matrices.capacitance;
  const auto m = z.rows();
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

}  // namespace

LineConstants line_constants(const LineGeometry& geometry) {
  if (auto flaws = network::validate(geometry); !flaws.empty()) throw Error(std::move(flaws));
  const double f = geometry.frequency_Hz;
  return constants_of(geometry.cores.empty() ? of_wires(geometry, f, false) : of_cables(geometry, f), f);
}

LineConstants line_constants_at(const LineGeometry& geometry, double frequency_Hz) {
  if (auto flaws = network::validate(geometry); !flaws.empty()) throw Error(std::move(flaws));
  return constants_of(
      geometry.cores.empty() ? of_wires(geometry, frequency_Hz, true) : of_cables(geometry, frequency_Hz),
      frequency_Hz);
}

}  // namespace zavrek::emt
