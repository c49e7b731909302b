// What a written-out step consists of: its text, and the factors of its nodal matrix.
#include <cmath>
#include <limits>

#include <gtest/gtest.h>

#include "emt/converters.hpp"
#include "emt/written/factors.hpp"
#include "emt/written/places.hpp"
#include "emt/written/text.hpp"

namespace zavrek::emt::internal {
namespace {

TEST(WrittenText, KeepsNumbersToTheBitAndTablesWithinTheirLines) {
  for (const double value : {0.1, 1.0 / 3, -2.5e-308, 6.02214076e23, 0.0, -7.0})
    EXPECT_EQ(std::stod(c_number(value)), value);
  EXPECT_EQ(c_number(never_s), "NEVER");
  EXPECT_EQ(c_number(-never_s), "-NEVER");
  EXPECT_EQ(std::stod(c_number(1.5 * never_s)), 1.5 * never_s) << "a number like any other";
  EXPECT_EQ(c_number(-std::numeric_limits<double>::infinity()), "-HUGE_VAL");
  EXPECT_EQ(c_number(std::nan("")), "NAN");
  EXPECT_EQ(c_list(std::vector<int>{1, -2}), "{1, -2}");
  EXPECT_EQ(c_matrix(Eigen::MatrixXd::Identity(2, 2)), "{{1, 0}, {0, 1}}");
  EXPECT_EQ(c_table("int", "none", std::vector<int>{}), "static const int none[] = {0};\n");
  EXPECT_EQ(c_rows("struct point", "none", {}), "static const struct point none[] = {\n  {0}\n};\n");
  const std::string table = c_table("double", "many", std::vector<double>(500, 1.0 / 3));
  std::size_t widest = 0, at = 0;
  for (std::size_t end; (end = table.find('\n', at)) != std::string::npos; at = end + 1)
    widest = std::max(widest, end - at);
  EXPECT_LE(widest, 112U);
}

TEST(WrittenText, IsNoCodeWhateverTheNamesAre) {
  EXPECT_EQ(c_comment("Q1 */ system(0); /*"), "/* Q1 * / system(0); / * */");
  EXPECT_EQ(c_words(std::string(2, '?') + "/"), "? ?/") << "no trigraph";
  EXPECT_EQ(replaced("NAME_step(NAME)", "NAME", "quay"), "quay_step(quay)");
}

TEST(WrittenText, TellsPlacesByTheirNamesAndFindsFiles) {
  const std::string told = c_numbers_of("What stands where", {"first", "", "third */"});
  EXPECT_EQ(told, "/* What stands where:\n * 0 first, 2 third * /, */\n");
  const std::string many = c_numbers_of("Many", std::vector<std::string>(200, "signal.with.a.name"));
  EXPECT_GT(std::count(many.begin(), many.end(), '\n'), 30) << "in lines that can be read";
  const std::vector<std::pair<std::string_view, std::string_view>> files{{"a.c", "first"}, {"b.c", "second"}};
  EXPECT_EQ(file_named("b.c", files), "second");
  EXPECT_TRUE(file_named("c.c", files).empty());
}

/// L D L^T of a converter's network is its matrix with the conductances as they stand.
TEST(WrittenFactors, MultiplyToTheMatrixAndChangeOnlyWhereItIsSaid) {
  const network::Network n = test::filtered_converter(true);
  const Compiled compiled = compile_parts(n, 0, Condensing::none);
  const WrittenPlaces places(compiled);
  const auto nodes = static_cast<Eigen::Index>(places.unknowns());
  const std::vector<int> node_of = places.unknown_of_position();
  const auto matrix_of = [&](const Conductances& conductances) {
    Eigen::MatrixXd all = Eigen::MatrixXd::Zero(nodes, nodes);
    for (const Partition& partition : conductances.partitions) {
      const auto node = [&](int local) {
        return node_of[static_cast<std::size_t>(partition.first() + local)];
      };
      for (int k = 0; k < partition.given().outerSize(); ++k) {
        for (Eigen::SparseMatrix<double>::InnerIterator at(partition.given(), k); at; ++at) {
          if (node(static_cast<int>(at.row())) >= 0)
            all(node(static_cast<int>(at.row())), node(static_cast<int>(at.col()))) += at.value();
        }
      }
      for (const Partition::Adjustable& one : partition.adjustables()) {
        if (one.row < one.column) continue;  // each stands on both sides
        const double siemens = one.sign * conductances.siemens(one.number);
        all(node(one.row), node(one.column)) += siemens;
        if (one.row != one.column) all(node(one.column), node(one.row)) += siemens;
      }
    }
    return all;
  };
  const auto lower_of = [&](const WrittenFactors& f) {
    Eigen::MatrixXd lower = Eigen::MatrixXd::Identity(nodes, nodes);
    for (Eigen::Index c = 0; c < nodes; ++c) {
      for (int e = f.column[static_cast<std::size_t>(c)]; e < f.column[static_cast<std::size_t>(c) + 1]; ++e)
        lower(f.row[static_cast<std::size_t>(e)], c) = f.below[static_cast<std::size_t>(e)];
    }
    return lower;
  };
  Conductances& conductances = compiled.core->conductances;
  const WrittenFactors before(conductances, node_of, places.unknowns());
  for (const int number : {0, static_cast<int>(conductances.adjustable.size()) / 2}) {
    conductances.adjustable[static_cast<std::size_t>(number)] = 70;
    const WrittenFactors f(conductances, node_of, places.unknowns());
    const Eigen::MatrixXd lower = lower_of(f), exact = matrix_of(conductances);
    const Eigen::Map<const Eigen::VectorXd> diagonal(f.diagonal.data(), nodes);
    const Eigen::MatrixXd made = lower * diagonal.asDiagonal() * lower.transpose();
    EXPECT_LT((made - exact).cwiseAbs().maxCoeff(), 1e-10 * exact.cwiseAbs().maxCoeff());
    const auto first = f.reached.begin() + f.reach[static_cast<std::size_t>(number)];
    const auto end = f.reached.begin() + f.reach[static_cast<std::size_t>(number) + 1];
    EXPECT_GT(end - first, 0);
    int elsewhere = 0;
    for (int c = 0; c < nodes; ++c) {
      if (std::find(first, end, c) != end) continue;
      EXPECT_EQ(f.diagonal[static_cast<std::size_t>(c)], before.diagonal[static_cast<std::size_t>(c)]) << c;
      ++elsewhere;
    }
    EXPECT_GT(elsewhere, 0);
    conductances.adjustable[static_cast<std::size_t>(number)] =
        before.entries.empty() ? 0 : compile_parts(n, 0, Condensing::none).core->conductances.siemens(number);
  }
}

}  // namespace
}  // namespace zavrek::emt::internal
