#include "emt/solve/partition.hpp"

#include <gtest/gtest.h>

#include <algorithm>
#include <random>
#include <tuple>
#include <vector>

#include <Eigen/Dense>

#include "emt/solve/lanes.hpp"

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
  /// The matrix with room for a conductance between two nodes.
  [[nodiscard]] Eigen::SparseMatrix<double> with_room(int a, int b) const {
    Eigen::SparseMatrix<double> wide = matrix;
    wide.coeffRef(at(a), at(b)) += 0;
    wide.coeffRef(at(b), at(a)) += 0;
    return wide;
  }
  [[nodiscard]] int at(int node) const { return node / width * lanes + node % width; }
};

TEST(Partition, SolvesAsADenseSolverDoesThroughSwitchings) {
  std::mt19937 random(7);
  for (int round = 0; round < 60; ++round) {
    const int n = 4 + round % 20;
    const Eigen::MatrixXd g = random_conductances(n, random);
    const Padded padded(g, 1 + round % 3);
    // Adjustable conductance 0 joins two nodes, 1 ties the first of them to ground, 2 never changes.
    std::uniform_int_distribution<int> node(0, n - 1);
    const int a = node(random), b = (a + 1 + node(random) % (n - 1)) % n;
    Partition partition;
    partition.build(padded.with_room(a, b), padded.holds_node, 8);
    const int first = padded.at(a), second = padded.at(b);
    std::vector<int> columns;
    for (const auto& [row, column, sign] :
         {std::tuple{first, first, 1}, {second, second, 1}, {first, second, -1}, {second, first, -1}})
      columns.push_back(partition.add_adjustable(row, column, 0, sign));
    columns.push_back(partition.add_adjustable(first, first, 1, 1));
    (void)partition.add_adjustable(padded.at(0), padded.at(0), 2, 1);
    const double at_start[] = {1, 2, 0.25};
    ASSERT_EQ(partition.factor(at_start), -1);
    for (const double siemens : {0.5, 1e4, 1e-9}) {
      const double adjustable[] = {siemens, 1 / siemens, 0.25};
      for (const int column : columns) partition.mark(column);
      EXPECT_TRUE(partition.marked());
      partition.refactor(adjustable);
      EXPECT_FALSE(partition.marked());
      Eigen::MatrixXd whole = g;
      whole(0, 0) += 0.25;
      whole(a, a) += siemens + 1 / siemens;
      whole(b, b) += siemens;
      whole(a, b) -= siemens;
      whole(b, a) -= siemens;
      std::vector<double> values(padded.holds_node.size() + 8, 0.0);
      const Eigen::VectorXd rhs = Eigen::VectorXd::LinSpaced(n, -1, 1);
      for (int k = 0; k < n; ++k) values[static_cast<std::size_t>(padded.at(k)) + 8] = rhs[k];
      partition.solve(values.data(), values.data());
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

/// A tree of three-phase buses with balanced branches, closed to rings here and there; `unbalanced` buses
/// have a conductance between two of their phases.
Eigen::MatrixXd balanced_network(int buses, const std::vector<int>& unbalanced, std::mt19937& random) {
  std::uniform_real_distribution<double> size(0.1, 2);
  Eigen::MatrixXd g = Eigen::MatrixXd::Zero(3 * buses, 3 * buses);
  const auto branch = [&](int from, int to) {
    const double own = size(random), mutual = -0.3 * own * size(random) / 2;
    const Eigen::Matrix3d block =
        Eigen::Matrix3d::Constant(mutual) + (own - mutual) * Eigen::Matrix3d::Identity();
    g.block<3, 3>(3 * to, 3 * to) += block;
    if (from < 0) return;
    g.block<3, 3>(3 * from, 3 * from) += block;
    g.block<3, 3>(3 * from, 3 * to) -= block;
    g.block<3, 3>(3 * to, 3 * from) -= block;
  };
  for (int k = 0; k < buses; ++k)
    branch(k == 0 ? -1 : static_cast<int>(random() % static_cast<unsigned>(k)), k);
  for (int k = 0; k < buses / 4; ++k) {
    const int from = static_cast<int>(random() % static_cast<unsigned>(buses));
    if (const int to = (from + 2) % buses; to != from) branch(from, to);
  }
  for (const int bus : unbalanced) {
    g(3 * bus, 3 * bus) += 1.5;
    g(3 * bus + 1, 3 * bus + 1) += 1.5;
    g(3 * bus, 3 * bus + 1) -= 1.5;
    g(3 * bus + 1, 3 * bus) -= 1.5;
  }
  return g;
}

TEST(Partition, SolvesBalancedColumnsInSymmetricalComponents) {
  std::mt19937 random(23);
  for (int round = 0; round < 40; ++round) {
    const int buses = 3 + round;
    std::vector<int> unbalanced;
    for (int k = 0; k < round % 4; ++k)
      unbalanced.push_back(static_cast<int>(random() % static_cast<unsigned>(buses)));
    const Eigen::MatrixXd g = balanced_network(buses, unbalanced, random);
    const Padded padded(g, 3);
    Partition partition;
    partition.build(padded.matrix, padded.holds_node, 0);
    ASSERT_EQ(partition.factor(nullptr), -1);
    std::uniform_real_distribution<double> value(-1, 1);
    Eigen::VectorXd rhs(3 * buses);
    Numbers right(padded.holds_node.size(), 0.0), values(right.size(), 7.0);
    for (int k = 0; k < rhs.size(); ++k)
      right[static_cast<std::size_t>(padded.at(k))] = rhs[k] = value(random);
    partition.solve(right.data(), values.data());
    EXPECT_EQ(std::count(right.begin(), right.end(), 0.0), static_cast<int>(right.size())) << "emptied";
    const Eigen::VectorXd expected = g.ldlt().solve(rhs);
    for (int k = 0; k < rhs.size(); ++k)
      EXPECT_NEAR(values[static_cast<std::size_t>(padded.at(k))], expected[k], 1e-13 * expected.norm())
          << round;
    for (std::size_t k = 3; k < values.size(); k += lanes) EXPECT_EQ(values[k], 0) << "the fourth lane";
  }
}

/// What a solve reads tells which columns are balanced: a lane for each of their blocks.
TEST(Partition, TakesInPhasesOnlyWhatStandsAboveSomethingUnbalanced) {
  constexpr int buses = 30;
  const auto entries = [&](const std::vector<int>& unbalanced, bool pole) {
    std::mt19937 same(31);
    const Padded padded(balanced_network(buses, unbalanced, same), 3);
    Partition partition;
    partition.build(padded.matrix, padded.holds_node, 0);
    const int last = padded.at(3 * buses - 1);
    if (pole) (void)partition.add_adjustable(last, last, 0, 1);
    const double siemens = 1;
    EXPECT_EQ(partition.factor(&siemens), -1);
    return partition.entries();
  };
  const int none = entries({}, false);
  EXPECT_EQ(none % lanes, 0);
  const int root = entries({buses - 1}, false), pole = entries({}, true), leaf = entries({0}, false);
  EXPECT_GT(root, none);
  EXPECT_EQ(root, pole) << "an adjustable conductance is as good as an unbalanced one";
  EXPECT_LT(root, leaf) << "the last column is above all others, the first below many";
}

TEST(Partition, KeepsBalancedColumnsThroughSwitchings) {
  std::mt19937 random(37);
  constexpr int buses = 25;
  const Eigen::MatrixXd g = balanced_network(buses, {}, random);
  const Padded padded(g, 3);
  for (int bus = 0; bus < buses; bus += 4) {
    Partition partition;
    partition.build(padded.matrix, padded.holds_node, 0);
    const int node = 3 * bus + 1;
    const int column = partition.add_adjustable(padded.at(node), padded.at(node), 0, 1);
    double siemens = 1e-9;
    ASSERT_EQ(partition.factor(&siemens), -1);
    for (const double closed : {1e5, 0.0, 2.0}) {
      siemens = closed;
      partition.mark(column);
      partition.refactor(&siemens);
      Eigen::MatrixXd whole = g;
      whole(node, node) += siemens;
      const Eigen::VectorXd rhs = Eigen::VectorXd::LinSpaced(3 * buses, -1, 2);
      Numbers values(padded.holds_node.size(), 0.0);
      for (int k = 0; k < rhs.size(); ++k) values[static_cast<std::size_t>(padded.at(k))] = rhs[k];
      partition.solve(values.data(), values.data());
      const Eigen::VectorXd expected = whole.ldlt().solve(rhs);
      for (int k = 0; k < rhs.size(); ++k)
        EXPECT_NEAR(values[static_cast<std::size_t>(padded.at(k))], expected[k], 1e-12 * expected.norm());
    }
  }
}

TEST(Partition, NamesTheSingularNode) {
  Eigen::MatrixXd g(2, 2);
  g << 1, -1, -1, 1;
  const Padded together(g, 2);
  const Padded in_condensed(g, 1);
  const auto singular_at = [](const Padded& padded) {
    Partition partition;
    partition.build(padded.matrix, padded.holds_node, 0);
    return partition.factor(nullptr);
  };
  EXPECT_EQ(singular_at(together), 1);
  EXPECT_EQ(singular_at(in_condensed), lanes);
}

TEST(Partition, RefactorsToTheBitsOfAWholeFactorisation) {
  std::mt19937 random(3);
  const int n = 24;
  const Padded padded(random_conductances(n, random), 3);
  Partition changed, fresh;
  const auto set_up = [&](Partition& partition, const double* adjustable) {
    partition.build(padded.with_room(4, 10), padded.holds_node, 0);
    const int a = padded.at(4), b = padded.at(10);
    std::vector<int> columns{partition.add_adjustable(a, a, 0, 1), partition.add_adjustable(b, b, 0, 1),
                             partition.add_adjustable(a, b, 0, -1), partition.add_adjustable(b, a, 0, -1)};
    EXPECT_EQ(partition.factor(adjustable), -1);
    return columns;
  };
  const double open = 1e-9, closed = 1e5;
  const std::vector<int> columns = set_up(changed, &open);
  (void)set_up(fresh, &closed);
  EXPECT_LT(changed.adjustable_nodes(), n) << "columns that nothing reaches stay as they are";
  for (const int column : columns) changed.mark(column);
  changed.refactor(&closed);
  std::vector<double> one(padded.holds_node.size(), 0.0);
  for (int k = 0; k < n; ++k) one[static_cast<std::size_t>(padded.at(k))] = 1.0 / (k + 1);
  std::vector<double> other = one;
  changed.solve(one.data(), one.data());
  fresh.solve(other.data(), other.data());
  EXPECT_EQ(one, other);
}

}  // namespace
}  // namespace zavrek::emt::internal
