// Dense products in lanes give what Eigen gives.
#include <gtest/gtest.h>

#include <Eigen/Dense>

#include "emt/solve/product.hpp"

namespace zavrek::emt::internal {
namespace {

/// Rows from 1 lane to more than the pieces of a product hold.
constexpr int most_rows = 96;

Numbers numbers_of(const Eigen::MatrixXd& matrix) { return {matrix.data(), matrix.data() + matrix.size()}; }

TEST(Product, OfEveryNumberOfRowsIsThatOfTheMatrixPlusTheConstant) {
  for (int rows = lanes; rows <= most_rows; rows += lanes) {
    const Eigen::MatrixXd matrix = Eigen::MatrixXd::Random(rows, 7);
    const Eigen::VectorXd x = Eigen::VectorXd::Random(7), constant = Eigen::VectorXd::Random(rows);
    Rows divided;
    divided.divide(rows);
    Eigen::VectorXd out(rows);
    divided.multiply(numbers_of(matrix).data(), constant.data(), x.data(), 7, out.data());
    EXPECT_LT((out - (constant + matrix * x)).cwiseAbs().maxCoeff(), 1e-14) << rows;
  }
}

TEST(Product, OfSomeRowsLeavesTheOthersAlone) {
  const Eigen::MatrixXd matrix = Eigen::MatrixXd::Random(16, 5);
  const Eigen::VectorXd x = Eigen::VectorXd::Random(5), nothing = Eigen::VectorXd::Zero(16);
  Rows some;
  some.divide(8, 4, 16);
  Eigen::VectorXd out = Eigen::VectorXd::Constant(16, 3);
  some.multiply(numbers_of(matrix).data(), nothing.data(), x.data(), 5, out.data());
  EXPECT_LT((out.segment(4, 8) - (matrix * x).segment(4, 8)).cwiseAbs().maxCoeff(), 1e-14);
  EXPECT_EQ(out.head(4), Eigen::VectorXd::Constant(4, 3));
  EXPECT_EQ(out.tail(4), Eigen::VectorXd::Constant(4, 3));
}

TEST(Product, OfVectorsByFoursIsThatOfEach) {
  constexpr int columns = 9, fours = 3;
  for (int rows = lanes; rows <= most_rows; rows += lanes) {
    const Eigen::MatrixXd matrix = Eigen::MatrixXd::Random(rows, columns);
    const Eigen::MatrixXd x = Eigen::MatrixXd::Random(columns, 4 * fours);
    Numbers by_fours;
    for (int k = 0; k < fours; ++k) {
      for (int c = 0; c < columns; ++c) {
        for (int v = 0; v < 4; ++v) by_fours.push_back(x(c, 4 * k + v));
      }
    }
    Rows divided;
    divided.divide(rows);
    Eigen::MatrixXd out(rows, 4 * fours);
    divided.multiply_fours(numbers_of(matrix).data(), by_fours.data(), columns, fours, out.data());
    EXPECT_LT((out - matrix * x).cwiseAbs().maxCoeff(), 1e-14) << rows;
  }
}

}  // namespace
}  // namespace zavrek::emt::internal
