#include "emt/partition.hpp"

#include <gtest/gtest.h>

#include <random>
#include <vector>

#include <Eigen/Dense>

#include "emt/lanes.hpp"

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

/// Node k of a plain matrix stands in lane k % width of group k / width; other lanes are empty.
struct Padded {
  int width;
  std::vector<bool> holds_node;
  Eigen::SparseMatrix<double> matrix;

  Padded(const Eigen::MatrixXd& g, int w) : width(w) {
    const auto n = static_cast<int>(g.rows());
    const int groups = (n + width - 1) / width;
    holds_node.assign(static_cast<std::size_t>(groups * lanes), false);
    Eigen::MatrixXd wide = Eigen::MatrixXd::Zero(groups * lanes, groups * lanes);
    for (int r = 0; r < n; ++r) {
      holds_node[static_cast<std::size_t>(at(r))] = true;
      for (int c = 0; c < n; ++c) wide(at(r), at(c)) = g(r, c);
    }
    matrix = wide.sparseView();
  }
  [[nodiscard]] int at(int node) const { return node / width * lanes + node % width; }
};

TEST(Partition, SolvesAsADenseSolverDoesThroughSwitchings) {
  std::mt19937 random(7);
  for (int round = 0; round < 60; ++round) {
    const int n = 4 + round % 20;
    const Eigen::MatrixXd g = random_conductances(n, random);
    const Padded padded(g, 1 + round % 3);
    const int groups = static_cast<int>(padded.matrix.rows()) / lanes;
    const int leading = round % 4 == 0 ? 0 : groups / 2;
    Partition partition;
    ASSERT_EQ(partition.build(padded.matrix, padded.holds_node, leading, 8), -1);
    const bool pair = padded.at(n - 2) >= leading * lanes;
    // Adjustable conductance 0: from the last node, to the one before it or outside; 1: from the last to
    // ground.
    const int last = padded.at(n - 1), before = padded.at(n - 2);
    partition.add_adjustable(last, last, 0, 1);
    partition.add_adjustable(last, last, 1, 1);
    if (pair) {
      partition.add_adjustable(before, before, 0, 1);
      partition.add_adjustable(last, before, 0, -1);
      partition.add_adjustable(before, last, 0, -1);
    }
    for (const double siemens : {0.5, 1e4, 1e-9}) {
      const double adjustable[] = {siemens, 1 / siemens};
      ASSERT_EQ(partition.refactor(adjustable), -1);
      Eigen::MatrixXd whole = g;
      whole(n - 1, n - 1) += siemens + 1 / siemens;
      if (pair) {
        whole(n - 2, n - 2) += siemens;
        whole(n - 1, n - 2) -= siemens;
        whole(n - 2, n - 1) -= siemens;
      }
      std::vector<double> values(padded.holds_node.size() + 8, 0.0);
      const Eigen::VectorXd rhs = Eigen::VectorXd::LinSpaced(n, -1, 1);
      for (int k = 0; k < n; ++k) values[static_cast<std::size_t>(padded.at(k)) + 8] = rhs[k];
      partition.solve(values.data());
      const Eigen::VectorXd expected = whole.ldlt().solve(rhs);
      for (int k = 0; k < n; ++k) {
        EXPECT_NEAR(values[static_cast<std::size_t>(padded.at(k)) + 8], expected[k],
                    1e-8 * expected.norm() + 1e-12);
      }
      for (std::size_t k = 0; k < padded.holds_node.size(); ++k) {
        EXPECT_TRUE(padded.holds_node[k] || values[k + 8] == 0) << "an empty lane was written";
      }
    }
  }
}

TEST(Partition, NamesTheSingularNode) {
  Eigen::MatrixXd g(2, 2);
  g << 1, -1, -1, 1;
  const Padded together(g, 2);
  const Padded apart(g, 1);
  EXPECT_EQ(Partition().build(together.matrix, together.holds_node, 1, 0), 1);
  EXPECT_EQ(Partition().build(apart.matrix, apart.holds_node, 2, 0), lanes);
}

}  // namespace
}  // namespace zavrek::emt::internal
