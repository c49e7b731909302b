// A part in areas between its switches: against a dense solution of the whole.
#include "emt/condensed/divided.hpp"

#include <array>
#include <cmath>
#include <random>

#include <gtest/gtest.h>
#include <Eigen/Dense>

namespace zavrek::emt::internal {
namespace {

/// Two areas of four nodes, a1 ... a4 and b1 ... b4, and four nodes of a junction between them. Switches join
/// the junction's nodes, one of them to earth; a breaker stands in the first area, another between it and the
/// junction; a bent characteristic joins two nodes of the junction, and a known node is coupled to each area.
class Part {
 public:
  static constexpr int junction = 4, b = 8, nodes = 12;
  static constexpr int drives = 12, sources = 1, rows = 20;
  enum Number { upper, lower, to_earth, bent, breaker, tie, numbers };

  explicit Part(unsigned seed) : random_(seed) {
    std::uniform_real_distribution<double> siemens(0.1, 2);
    given_ = Eigen::MatrixXd::Zero(nodes, nodes);
    const auto join = [&](int p, int q) { stamp(given_, p, q, siemens(random_)); };
    for (const int first : {0, b}) {
      for (int k = 0; k < 3; ++k) join(first + k, first + k + 1);
      join(first, first + 2);
    }
    join(3, junction);
    join(2, junction + 1);
    join(b, junction + 2);
    join(b + 1, junction + 3);
    join(junction, junction + 2);
    for (const int node : {0, junction + 3, b + 3}) given_(node, node) += siemens(random_);
    build();
    injected_ = Eigen::MatrixXd::Zero(nodes, drives + sources);
    read_ = Eigen::MatrixXd::Zero(rows, nodes);
    direct_ = Eigen::MatrixXd::Zero(rows, drives + sources);
    fill_maps();
  }

  /// `lane`: of a node, where the partition has it.
  [[nodiscard]] static int lane(int node) { return node / 3 * lanes + node % 3; }

  [[nodiscard]] Divided divided() {
    Divided::Whole whole{partition_,
                         lines_of(injected_),
                         lines_of(read_.transpose()),
                         lines_of(direct_.transpose()),
                         drives,
                         12,
                         {upper, lower, to_earth, bent},
                         {},
                         {},
                         {}};
    return made(whole);
  }
  std::vector<double> adjustable = std::vector<double>(numbers, 0.5);
  std::vector<Coupling> couplings{{lane(1), 0, 0.3}, {lane(junction + 1), 0, 0.7}};
  double slope = 0.4, source = 3;

  /// Voltages and results, of the whole at once.
  void solve(const Eigen::VectorXd& drive, Eigen::VectorXd& voltages, Eigen::VectorXd& results) const {
    Eigen::MatrixXd y = given_;
    for (int k = 0; k < numbers; ++k)
      stamp(y, ends_[k].first, ends_[k].second, adjustable[static_cast<std::size_t>(k)]);
    Eigen::VectorXd all(drives + sources);
    all << drive, source;
    Eigen::VectorXd currents = injected_ * all;
    currents[1] += couplings[0].siemens * drive[drives - 1];
    currents[junction + 1] += couplings[1].siemens * drive[drives - 1];
    currents[junction] -= slope * drive[drives - 2];
    currents[junction + 3] += slope * drive[drives - 2];
    voltages = y.ldlt().solve(currents);
    results = read_ * voltages + direct_ * all;
    results[7] *= adjustable[breaker];  // the current of the breaker
  }

 private:
  static void stamp(Eigen::MatrixXd& y, int p, int q, double siemens) {
    y(p, p) += siemens;
    if (q < 0) return;
    y(q, q) += siemens;
    y(p, q) -= siemens;
    y(q, p) -= siemens;
  }
  void build() {
    std::vector<Eigen::Triplet<double>> entries;
    std::vector<bool> holds(static_cast<std::size_t>(nodes / 3) * lanes, false);
    for (int r = 0; r < nodes; ++r) {
      holds[static_cast<std::size_t>(lane(r))] = true;
      for (int c = 0; c < nodes; ++c) {
        if (given_(r, c) != 0) entries.emplace_back(lane(r), lane(c), given_(r, c));
      }
    }
    for (const auto& [p, q] : ends_) {
      for (const int r : {p, q}) {
        for (const int c : {p, q}) {
          if (r >= 0 && c >= 0) entries.emplace_back(lane(r), lane(c), 0);
        }
      }
    }
    const auto size = static_cast<Eigen::Index>(holds.size());
    for (int k = 0; k < size; ++k) {
      if (holds[static_cast<std::size_t>(k)]) entries.emplace_back(k, k, 0);  // a fourth lane holds nothing
    }
    Eigen::SparseMatrix<double> matrix(size, size);
    matrix.setFromTriplets(entries.begin(), entries.end());
    partition_.build(matrix, holds, 0);
    for (int k = 0; k < numbers; ++k) {
      const auto [p, q] = ends_[k];
      (void)partition_.add_adjustable(lane(p), lane(p), k, 1);
      if (q < 0) continue;
      (void)partition_.add_adjustable(lane(q), lane(q), k, 1);
      (void)partition_.add_adjustable(lane(p), lane(q), k, -1);
      (void)partition_.add_adjustable(lane(q), lane(p), k, -1);
    }
  }
  /// Rows in lanes: what switches see, each area's, and at the junction again.
  void fill_maps() {
    const auto between = [&](int column, int p, int q) {
      injected_(p, column) += 1;
      if (q >= 0) injected_(q, column) -= 1;
    };
    const auto difference = [&](int row, int p, int q) {
      read_(row, p) += 1;
      if (q >= 0) read_(row, q) -= 1;
    };
    for (int k = 0; k < 4; ++k) {
      between(k, k, k < 3 ? k + 1 : junction);
      between(4 + k, b + k, k < 3 ? b + k + 1 : -1);
      difference(4 + k, k, k < 3 ? k + 1 : junction);
      difference(8 + k, b + k, k == 0 ? junction + 2 : -1);
      direct_(4 + k, k) = 0.25;
      direct_(8 + k, 4 + k) = -0.5;
      difference(k, junction + k, junction + (k + 1) % 4);
    }
    difference(7, 3, -1);  // with that of the loop: twice the voltage of a4 less that of the junction
    between(8, junction + 1, junction + 2);
    between(9, junction, -1);
    between(drives, junction + 2, junction + 3);  // what drives a switch
    read_(16, junction + 1) = 2;
    direct_(16, 8) = 1;
    read_(17, junction + 3) = 1;
  }
  static SparseLines lines_of(const Eigen::MatrixXd& columns) {
    SparseLines lines;
    for (Eigen::Index c = 0; c < columns.cols(); ++c) {
      for (Eigen::Index r = 0; r < columns.rows(); ++r)
        lines.append(columns.rows() == nodes ? lane(static_cast<int>(r)) : static_cast<int>(r),
                     columns(r, c));
      lines.close();
    }
    return lines;
  }
  static Divided made(Divided::Whole& whole) {
    whole.couplings = {{lane(1), 0, drives - 1}, {lane(junction + 1), 1, drives - 1}};
    whole.bents = {{lane(junction), lane(junction + 3), drives - 2}};
    whole.scaled = {{7, breaker}};
    Divided divided(whole);
    for (std::size_t area = 0; area < divided.areas(); ++area) divided.make_room(area, 16);
    return divided;
  }

  static constexpr std::array<std::pair<int, int>, numbers> ends_{{{junction, junction + 1},
                                                                   {junction + 1, junction + 2},
                                                                   {junction + 3, -1},
                                                                   {junction, junction + 3},
                                                                   {0, 3},
                                                                   {1, junction + 1}}};
  std::mt19937 random_;
  Eigen::MatrixXd given_, injected_, read_, direct_;
  Partition partition_;
};

/// Chooses, solves and compares with the whole at once; how many matrices were made.
int compare(Part& part, Divided& divided, std::mt19937& random) {
  std::uniform_real_distribution<double> number(-10, 10);
  const int made = divided.choose({part.adjustable, part.couplings, &part.slope, &part.source});
  Numbers drive(Part::drives + lanes, 0.0), results(Part::rows, -1.0);
  Numbers beside(static_cast<std::size_t>(divided.beside_results()), 0.0), voltages(20, 0.0);
  Eigen::VectorXd exact_drive(Part::drives), exact_voltages, exact;
  for (int k = 0; k < Part::drives; ++k) exact_drive[k] = drive[static_cast<std::size_t>(k)] = number(random);
  divided.solve(drive.data(), results.data(), beside.data());
  divided.read_voltages(drive.data(), beside.data(), voltages.data());
  part.solve(exact_drive, exact_voltages, exact);
  const double scale = exact_voltages.cwiseAbs().maxCoeff();
  for (int node = 0; node < Part::nodes; ++node)
    EXPECT_NEAR(voltages[static_cast<std::size_t>(Part::lane(node))], exact_voltages[node], 1e-11 * scale)
        << node;
  for (const int row : {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 16, 17})
    EXPECT_NEAR(results[static_cast<std::size_t>(row)], exact[row],
                4e-11 * scale + 2e-12 * std::abs(exact[row]))
        << row;
  return made;
}

TEST(Divided, GivesWhatTheWholeGives) {
  std::mt19937 random(23);
  std::uniform_real_distribution<double> decades(-6, 4);
  for (unsigned seed = 1; seed <= 10; ++seed) {
    Part part(seed);
    Divided divided = part.divided();
    EXPECT_EQ(divided.junction_nodes(), 4);
    EXPECT_EQ(divided.areas(), 1U) << "small ones are joined";
    EXPECT_EQ(compare(part, divided, random), 1);
    for (int round = 0; round < 20; ++round) {
      for (const int switched : {Part::upper, Part::lower, Part::to_earth, Part::bent})
        part.adjustable[static_cast<std::size_t>(switched)] = std::pow(10, decades(random));
      part.slope = decades(random);
      part.source = 100 * decades(random);
      part.couplings[1].siemens = 0.7 + 0.1 * round;
      EXPECT_EQ(compare(part, divided, random), 0) << "no matrix belongs to a state of the switches";
    }
  }
}

TEST(Divided, KeepsAMatrixPerStateOfItsBreakers) {
  std::mt19937 random(5);
  Part part(4);
  Divided divided = part.divided();
  EXPECT_EQ(compare(part, divided, random), 1);
  const double closed = 1e3, open = 1e-8;
  for (const int round : {0, 1}) {
    for (const double breaker : {closed, open}) {
      for (const double tie : {closed, open}) {
        part.adjustable[Part::breaker] = breaker;
        part.adjustable[Part::tie] = tie;
        EXPECT_EQ(compare(part, divided, random), round == 0 ? 1 : 0) << "each is made once";
      }
    }
  }
  const Divided copy = divided;
  Divided again = copy;
  again.forget_found();
  EXPECT_EQ(compare(part, again, random), 0) << "a copy finds what was kept";
}

TEST(KeptMatrices, GiveUpTheOldestOfASet) {
  KeptMatrices kept;
  kept.make_room(lanes, 8, KeptMatrices::ways);
  Numbers conductances(lanes, 0.0);
  const auto with = [&](double siemens) -> const Numbers& {
    conductances[0] = siemens;
    return conductances;
  };
  for (int k = 0; k < 9; ++k) {
    KeptMatrices::Kept taken = kept.take(with(k), k + 1);
    for (int n = 0; n < 8; ++n) taken.matrix[n] = 10 * k + n;
  }
  KeptMatrices::Kept found{};
  EXPECT_FALSE(kept.find(with(0), found)) << "the ninth took its place";
  for (int k = 1; k < 9; ++k) {
    ASSERT_TRUE(kept.find(with(k), found)) << k;
    EXPECT_EQ(found.matrix[7], 10 * k + 7);
    EXPECT_EQ(found.conductances[0], k);
  }
  EXPECT_FALSE(kept.find(with(0.5), found));
  EXPECT_EQ(kept.count(), KeptMatrices::ways);
}

TEST(KeptMatrices, TakeNoMoreMemoryThanTheyMay) {
  KeptMatrices kept;
  const std::size_t huge = KeptMatrices::most_bytes / sizeof(double) / 4;
  kept.make_room(lanes, huge, 512);
  EXPECT_EQ(kept.count(), KeptMatrices::ways) << "a set at least";
  kept.make_room(lanes, 1000, 512);
  EXPECT_EQ(kept.count(), 512U);
  EXPECT_LE(kept.bytes(), KeptMatrices::most_bytes);
}

}  // namespace
}  // namespace zavrek::emt::internal
