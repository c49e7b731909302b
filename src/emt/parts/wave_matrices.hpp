// A line of n modes with its resistance in three lumps, a quarter at either end and a half in the middle
// (H. W. Dommel, IEEE Trans. PAS-88 (1969)), here with all of the resistance matrix: modes that travel apart
// meet in the lumps. In modes, with Z the surge impedances (diagonal) and R the resistance of the line, a
// wave of voltage that leaves an end is
//   f = v + (Z - R/4) i,
// the middle lets P = 2 Z (2 Z + R/2)^-1 of it through and sends 1 - P back, so that into an end comes
//   b_n(t) = sum over m of P_nm f_m of the other end + (1 - P)_nm f_m of the same, both (T_m + T_n)/2 ago,
// and there  i = (Z + R/4)^-1 (v - b).
#pragma once

#include <cmath>
#include <vector>

#include "emt/parts/parts.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {

struct WaveMatrices {
  /// What of mode `from` arrives in mode `to`, so long after it left either end.
  struct Path {
    int from, to;
    double travel_s;
    double through, back;  // of the other end, of the same
  };
  Eigen::MatrixXd ends;    // (Z + R/4)^-1
  Eigen::MatrixXd leaves;  // Z - R/4
  std::vector<Path> paths;

  explicit WaveMatrices(const WavePart& part) {
    const Eigen::MatrixXd surge = part.surge_ohm.asDiagonal();
    const Eigen::MatrixXd& r = part.resistance_ohm;
    ends = inverse(Eigen::MatrixXd(surge + r / 4));
    leaves = surge - r / 4;
    const Eigen::MatrixXd through =
        product(Eigen::MatrixXd(2 * surge), inverse(Eigen::MatrixXd(2 * surge + r / 2)));
    const int n = static_cast<int>(surge.rows());
    for (int to = 0; to < n; ++to) {
      for (int from = 0; from < n; ++from) {
        // Of a transposed line rounding alone.
        if (from != to && std::abs(through(to, from)) < 1e-12) continue;
        paths.push_back({from, to, (part.travel_s[from] + part.travel_s[to]) / 2, through(to, from),
                         (from == to ? 1 : 0) - through(to, from)});
      }
    }
  }
};

}  // namespace zavrek::emt::internal
