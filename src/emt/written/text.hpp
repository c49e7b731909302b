// Matrices in C, beside what quantity/c_text.hpp has.
#pragma once

#include <Eigen/Core>

#include "quantity/c_text.hpp"

namespace zavrek::emt::internal {

/// {{a, b}, {c, d}}
[[nodiscard]] std::string c_matrix(const Eigen::MatrixXd& matrix);

}  // namespace zavrek::emt::internal
