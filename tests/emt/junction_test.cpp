// The nodes where switches stand, eliminated without differences: against dense solutions of more digits.
#include <gtest/gtest.h>

#include <cmath>
#include <map>
#include <random>

#include <Eigen/Dense>

#include "emt/condensed/junction.hpp"

namespace zavrek::emt::internal {
namespace {

using Exact = Eigen::Matrix<long double, Eigen::Dynamic, Eigen::Dynamic>;
using ExactVector = Eigen::Matrix<long double, Eigen::Dynamic, 1>;

/// Conductances between nodes and to earth, given to a junction, partly as adjustable ones, and to a matrix.
struct Mesh {
  std::vector<std::set<int>> joined;
  std::vector<bool> driven;
  std::map<std::pair<int, int>, double> standing, adjustable;  // the same twice: to earth

  explicit Mesh(int nodes) : joined(static_cast<std::size_t>(nodes)), driven(joined.size(), true) {}
  void join(int a, int b, double siemens, bool adjusts) {
    joined[static_cast<std::size_t>(a)].insert(b);
    (adjusts ? adjustable : standing)[{a, b}] += siemens;
  }
  [[nodiscard]] std::vector<double> numbers() const {
    std::vector<double> all;
    for (const auto& [at, siemens] : adjustable) all.push_back(siemens);
    return all;
  }
  [[nodiscard]] Junction junction() const {
    Junction made(joined, driven);
    made.clear_standing();
    for (const auto& [at, siemens] : standing)
      made.add_standing(made.place(at.first), made.place(at.second), siemens);
    int number = 0;
    for (const auto& [at, siemens] : adjustable)
      made.add_adjustable(made.place(at.first), made.place(at.second), number++, 1);
    return made;
  }
  [[nodiscard]] Exact matrix() const {
    const auto n = static_cast<Eigen::Index>(joined.size());
    Exact all = Exact::Zero(n, n);
    for (const auto* of : {&standing, &adjustable}) {
      for (const auto& [at, siemens] : *of) {
        const auto [a, b] = at;
        all(a, a) += siemens;
        if (a == b) continue;
        all(b, b) += siemens;
        all(a, b) -= siemens;
        all(b, a) -= siemens;
      }
    }
    return all;
  }
};

/// Voltages per node from currents per node, of which those in `standing` act with each solution.
std::vector<double> voltages(Junction& junction, const std::vector<double>& currents,
                             const std::vector<double>& standing, const std::vector<double>& numbers) {
  Numbers drive(static_cast<std::size_t>(junction.places()) + 1, 0.0), at = drive;
  for (std::size_t node = 0; node < currents.size(); ++node) {
    drive[static_cast<std::size_t>(junction.place(static_cast<int>(node)))] = standing[node];
    at[static_cast<std::size_t>(junction.place(static_cast<int>(node)))] = currents[node];
  }
  junction.refactor(numbers.data());
  junction.drive(drive.data());
  junction.solve(at.data());
  std::vector<double> all;
  for (std::size_t node = 0; node < currents.size(); ++node)
    all.push_back(at[static_cast<std::size_t>(junction.place(static_cast<int>(node)))]);
  return all;
}

TEST(Junction, IsASolutionOfItsMatrixWhateverItsSize) {
  std::mt19937 random(5);
  std::uniform_real_distribution<double> decades(-3, 3), amperes(-100, 100);
  for (const int core : {1, 2, 3, 4, 5, 8, 9, 12, 13, 16, 17, 23}) {
    for (const int stars : {0, 1, 3, 4, 6, 12}) {
      Mesh mesh(core + stars);
      const auto any_of = [&](int count) {
        return static_cast<int>(random() % static_cast<unsigned>(count));
      };
      const auto siemens = [&] { return std::pow(10, decades(random)); };
      for (int node = 0; node < core; ++node) {
        mesh.join(node, node, siemens(), node % 2 == 0);
        if (node > 0) mesh.join(any_of(node), node, siemens(), node % 3 == 0);
      }
      for (int k = 0; k < 2 * core; ++k) {
        const int a = any_of(core), b = any_of(core);
        if (a != b) mesh.join(std::min(a, b), std::max(a, b), siemens(), true);
      }
      for (int star = core; star < core + stars; ++star) {
        mesh.driven[static_cast<std::size_t>(star)] = false;
        if (star % 2 == 0) mesh.join(star, star, siemens(), true);
        for (int k = 0; k < std::min(core, 4); ++k) mesh.join(any_of(core), star, siemens(), true);
      }
      Junction junction = mesh.junction();
      ASSERT_EQ(junction.nodes(), core + stars);
      std::vector<double> currents, standing;
      ExactVector sum(core + stars);
      for (int node = 0; node < core + stars; ++node) {
        currents.push_back(node < core ? amperes(random) : 0);
        standing.push_back(amperes(random));
        sum(node) = static_cast<long double>(currents.back()) + standing.back();
      }
      const ExactVector exact = mesh.matrix().fullPivLu().solve(sum);
      const std::vector<double> found = voltages(junction, currents, standing, mesh.numbers());
      const double scale = static_cast<double>(exact.cwiseAbs().maxCoeff());
      for (int node = 0; node < core + stars; ++node)
        EXPECT_NEAR(found[static_cast<std::size_t>(node)], static_cast<double>(exact(node)), 1e-12 * scale)
            << core << " and " << stars << " stars, node " << node;
    }
  }
}

TEST(Junction, KeepsItsDigitsWhereHardlyAnythingEarthsIt) {
  // A bridge of valves of a microohm, on or off, between the poles of a link, with 100 megohm to earth.
  enum { p, m, n, a, upper, lower, count };
  Mesh mesh(count);
  mesh.driven[upper] = mesh.driven[lower] = false;
  mesh.join(m, m, 1e-8, false);
  mesh.join(p, m, 4.8e3, false);
  mesh.join(m, n, 4.8e3, false);
  mesh.join(a, n, 1e-2, false);
  for (const auto& [from, to, on] : std::vector<std::tuple<int, int, bool>>{{p, upper, true},
                                                                            {upper, a, true},
                                                                            {m, upper, false},
                                                                            {a, lower, false},
                                                                            {lower, n, false},
                                                                            {m, lower, false}})
    mesh.join(std::min(from, to), std::max(from, to), on ? 1e6 : 1e-6, true);
  Junction junction = mesh.junction();
  // 600 V in each half of the link, as its history of 2.88 MA from pole to pole.
  const std::vector<double> found =
      voltages(junction, {2.88e6, 0, -2.88e6, 0, 0, 0}, std::vector<double>(count, 0.0), mesh.numbers());
  ExactVector sum = ExactVector::Zero(count);
  sum(p) = 2.88e6L;
  sum(n) = -2.88e6L;
  const ExactVector exact = mesh.matrix().fullPivLu().solve(sum);
  const auto of = [&](int node) { return found[static_cast<std::size_t>(node)]; };
  EXPECT_NEAR(of(p) - of(n), static_cast<double>(exact(p) - exact(n)), 1e-9);
  // What flows through the upper valves is what the load takes: 12 A in a drop of 12 uV, to the rounding of
  // the voltages.
  EXPECT_NEAR(of(p) - of(upper), static_cast<double>(exact(p) - exact(upper)), 2e-13 * std::abs(of(p)));
  EXPECT_GT(of(p) - of(upper), 12e-6);
  // Currents of 2.88 MA are rounded by a nanoampere, which finds 100 megohm.
  EXPECT_LT(std::abs(of(m) - static_cast<double>(exact(m))), 0.3);
}

TEST(Junction, GoesOverToOtherConductances) {
  Mesh mesh(3);
  mesh.join(0, 0, 1, false);
  mesh.join(0, 1, 2, true);
  mesh.join(1, 2, 3, true);
  mesh.join(2, 2, 0.5, false);
  Junction junction = mesh.junction();
  const std::vector<double> none(3, 0.0);
  const auto at_1 = [&](std::vector<double> numbers) {
    return voltages(junction, {0, 1, 0}, none, numbers)[1];
  };
  // 1 A finds 1 S behind 2 S beside 0.5 S behind 3 S.
  EXPECT_NEAR(at_1({2, 3}), 1 / (2.0 / 3 + 1.5 / 3.5), 1e-14);
  EXPECT_NEAR(at_1({2e6, 3}), 1 / (2e6 / (2e6 + 1) + 1.5 / 3.5), 1e-14);
  EXPECT_NEAR(at_1({2, 3e-6}), 1 / (2.0 / 3 + 1.5e-6 / 0.500003), 1e-14);
  EXPECT_NEAR(at_1({2, 3}), 1 / (2.0 / 3 + 1.5 / 3.5), 1e-14);
}

}  // namespace
}  // namespace zavrek::emt::internal
