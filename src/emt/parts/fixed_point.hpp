// Fixed points z = g(z) of maps that contract slowly: the next point is that combination of the latest images
// whose distances from their points cancel best (Anderson, J. ACM 12 (1965); in the form of Walker and Ni,
// SIAM J. Numer. Anal. 49 (2011)). With the last points z_k, images g_k and distances f_k = g_k - z_k,
//   z' = g - dG c,   c = argmin |f - dF c|,   columns of dG and dF: differences of neighbours.
#pragma once

#include <algorithm>
#include <cstddef>
#include <deque>
#include <limits>
#include <utility>

#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {

class FixedPoint {
 public:
  explicit FixedPoint(std::size_t most) : most_(most) {}

  /// What to try behind a point and its image.
  [[nodiscard]] Eigen::VectorXd next(const Eigen::VectorXd& point, const Eigen::VectorXd& image) {
    Eigen::VectorXd distance = image - point;
    const double size = distance.norm();
    if (size > 10 * least_) {  // what was learned nearer to the fixed point misleads here
      images_.clear();
      distances_.clear();
      least_ = size;
    } else if (image_.size() > 0) {
      images_.push_back(image - image_);
      distances_.push_back(distance - distance_);
    }
    if (distances_.size() > most_) {
      images_.pop_front();
      distances_.pop_front();
    }
    least_ = std::min(least_, size);
    image_ = image;
    distance_ = std::move(distance);
    return image - combined();
  }

 private:
  [[nodiscard]] Eigen::VectorXd combined() const {
    Eigen::VectorXd sum = Eigen::VectorXd::Zero(image_.size());
    if (distances_.empty()) return sum;
    Eigen::MatrixXd columns(image_.size(), static_cast<Eigen::Index>(distances_.size()));
    for (std::size_t k = 0; k < distances_.size(); ++k)
      columns.col(static_cast<Eigen::Index>(k)) = distances_[k];
    const Eigen::VectorXd shares = least_squares_of_any_rank(columns, distance_);
    for (std::size_t k = 0; k < images_.size(); ++k) sum += shares[static_cast<Eigen::Index>(k)] * images_[k];
    return sum;
  }

  std::size_t most_;
  double least_ = std::numeric_limits<double>::infinity();
  Eigen::VectorXd image_, distance_;
  std::deque<Eigen::VectorXd> images_, distances_;  // differences of neighbours, the latest last
};

}  // namespace zavrek::emt::internal
