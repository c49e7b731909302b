#include "emt/partition.hpp"

#include <gtest/gtest.h>

#include <random>

#include <Eigen/Dense>

namespace zavrek::emt::internal {
namespace {

/// A random conductance network: `n` nodes, each tied to ground and to a few others.
Eigen::MatrixXd random_conductances(int n, std::mt19937& random) {
  std::uniform_real_distribution<double> size(0.1, 2);
  std::uniform_int_distribution<int> node(0, n - 1);
  Eigen::MatrixXd g = Eigen::MatrixXd::Zero(n, n);
  for (int k = 0; k < n; ++k) g(k, k) += size(random);
  for (int k = 0; k < 2 * n; ++k) {
    const int a = node(random), b = node(random);
    if (a == b) continue;
    const double s = size(random);
    g(a, a) += s;
    g(b, b) += s;
    g(a, b) -= s;
    g(b, a) -= s;
  }
  return g;
}

TEST(Partition, SolvesAsADenseSolverDoesThroughSwitchings) {
  std::mt19937 random(7);
  for (int round = 0; round < 40; ++round) {
    const int n = 3 + round % 20;
    const int leading = round % 4 == 0 ? 0 : n / 2;
    Eigen::MatrixXd g = random_conductances(n, random);
    Partition partition;
    ASSERT_EQ(partition.build(g.sparseView(), leading, 2), -1);
    const int inside = partition.add_pole(n - 1, n - 2 >= leading ? n - 2 : -1, 0.5);
    const int outside = partition.add_pole(-1, n - 1, 2.0);
    for (const double siemens : {0.5, 1e4, 1e-9}) {
      partition.set_pole(inside, siemens);
      partition.set_pole(outside, 1 / siemens);
      ASSERT_EQ(partition.refactor(), -1);
      Eigen::MatrixXd whole = g;
      whole(n - 1, n - 1) += siemens + 1 / siemens;
      if (n - 2 >= leading) {
        whole(n - 2, n - 2) += siemens;
        whole(n - 1, n - 2) -= siemens;
        whole(n - 2, n - 1) -= siemens;
      }
      std::vector<double> values(static_cast<std::size_t>(n) + 2, 0.0);
      Eigen::VectorXd rhs = Eigen::VectorXd::LinSpaced(n, -1, 1);
      for (int k = 0; k < n; ++k) values[static_cast<std::size_t>(k) + 2] = rhs[k];
      partition.solve(values.data());
      const Eigen::VectorXd expected = whole.ldlt().solve(rhs);
      for (int k = 0; k < n; ++k)
        EXPECT_NEAR(values[static_cast<std::size_t>(k) + 2], expected[k], 1e-8 * expected.norm() + 1e-12);
    }
  }
}

TEST(Partition, NamesTheSingularNode) {
  Eigen::MatrixXd g(2, 2);
  g << 1, -1, -1, 1;
  Partition partition;
  EXPECT_EQ(partition.build(g.sparseView(), 2, 0), 1);
}

}  // namespace
}  // namespace zavrek::emt::internal
