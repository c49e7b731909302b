#include "emt/written/text.hpp"

namespace zavrek::emt::internal {

std::string c_matrix(const Eigen::MatrixXd& matrix) {
  std::string text;
  for (Eigen::Index r = 0; r < matrix.rows(); ++r) {
    std::vector<double> row;
    for (Eigen::Index c = 0; c < matrix.cols(); ++c) row.push_back(matrix(r, c));
    text += (r == 0 ? "" : ", ") + c_list(row);
  }
  return "{" + text + "}";
}

}  // namespace zavrek::emt::internal
