#pragma once

#include <algorithm>
#include <vector>

#include <Eigen/Core>

#include "emt/groups/three_phase_groups.hpp"

namespace zavrek::emt::internal {

/// Calls `use` with the way of keeping 3 x 3 matrices that takes the fewest numbers; rounding is no number.
template <class Use>
void in_least_form(const std::vector<Eigen::MatrixXd>& matrices, Use&& use) {
  using Form = Eigen::MatrixXd;
  const auto all = [&](auto&& form_of) {
    return std::all_of(matrices.begin(), matrices.end(), [&](const Form& m) {
      return (m - form_of(m)).cwiseAbs().maxCoeff() <= 1e-14 * m.cwiseAbs().maxCoeff();
    });
  };
  if (all([](const Form& m) -> Form { return m.diagonal().asDiagonal(); })) return use(Uncoupled{});
  const bool balanced = all([](const Form& m) -> Form {
    return Form::Constant(3, 3, m(0, 1)) + (m(0, 0) - m(0, 1)) * Form::Identity(3, 3);
  });
  balanced ? use(Balanced{}) : use(Coupled{});
}

}  // namespace zavrek::emt::internal
