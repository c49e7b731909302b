#include "emt/groups/wave_group.hpp"

#include <algorithm>
#include <bit>
#include <cassert>
#include <cmath>
#include <utility>

#include "emt/parts/wave_matrices.hpp"

namespace zavrek::emt::internal {
namespace {

std::vector<double> by_rows(const Eigen::MatrixXd& matrix) {
  std::vector<double> rows;
  for (Eigen::Index r = 0; r < matrix.rows(); ++r) {
    for (Eigen::Index c = 0; c < matrix.cols(); ++c) rows.push_back(matrix(r, c));
  }
  return rows;
}

}  // namespace

void WaveGroup::add(const WavePart& part, double step_s, const int* node_position, const Stands& stands) {
  const int n = static_cast<int>(part.near.size());
  const WaveMatrices matrices(part);
  const Eigen::MatrixXd arrives = product(part.currents, matrices.ends);
  const int first_mode = static_cast<int>(modes_.size());
  const bool whole_line = !part.far.empty();
  Line line{.phases = n,
            .ends = whole_line ? 2 : 1,
            .first_mode = first_mode,
            .first_terminal = static_cast<int>(terminals_.size()),
            .first_current = {stands.near_current, stands.far_current},
            .first_path = static_cast<int>(paths_.size()),
            .end_path = 0,
            .conductance = by_rows(product(arrives, Eigen::MatrixXd(part.currents.transpose()))),
            .arrives = by_rows(arrives),
            .from_voltages = by_rows(part.currents.transpose()),
            .from_currents = by_rows(product(matrices.leaves, Eigen::MatrixXd(part.voltages.transpose()))),
            .in_phases = whole_line ? std::vector<double>{} : by_rows(part.voltages),
            .arriving = stands.arriving,
            .leaving = stands.leaving,
            .age = static_cast<std::size_t>(part.elsewhere.delay_steps - 1)};
  hears_ = hears_ || !whole_line;
  for (const auto* nodes : {&part.near, &part.far}) {
    for (const NodeId node : *nodes) terminals_.push_back(node_position[node]);
  }
  std::vector<double> longest(part.near.size(), 0.0);
  std::vector<char> all_whole(part.near.size(), 1);
  for (const WaveMatrices::Path& path : matrices.paths) {
    const double delay = path.travel_s / step_s;
    // Rounding of a delay meant to be whole must not cost an interpolation.
    const double whole = std::round(delay);
    const double steps = std::abs(delay - whole) < 1e-9 * whole ? whole : delay;
    paths_.push_back({first_mode + path.from, path.to, steps, path.through, path.back});
    double& most = longest[static_cast<std::size_t>(path.from)];
    most = std::max(most, steps);
    if (steps != whole) all_whole[static_cast<std::size_t>(path.from)] = 0;
  }
  line.end_path = static_cast<int>(paths_.size());
  for (std::size_t m = 0; m < longest.size(); ++m) {
    const auto length = std::bit_ceil(static_cast<std::size_t>(longest[m]) + 3);
    modes_.push_back({longest[m], all_whole[m] != 0, rings_.size(), length});
    rings_.resize(rings_.size() + 2 * length, 0.0);
  }
  less_.resize(2 * modes_.size(), 0.0);
  history_.resize(terminals_.size());
  scratch_.resize(std::max(scratch_.size(), 3 * part.near.size()));
  lines_.push_back(std::move(line));
}

double WaveGroup::past(const Mode& mode, int end, double age) const noexcept {
  // Ages below zero (the half steps after a discontinuity on the shortest lines) extrapolate.
  const auto whole = static_cast<std::size_t>(age > 0 ? age : 0);
  const double fraction = age - static_cast<double>(whole);
  const double* ring = &rings_[mode.ring + static_cast<std::size_t>(end) * mode.length];
  const std::size_t at = (newest_ - whole) & (mode.length - 1);
  const double young = ring[at];
  if (fraction == 0) return young;
  const double older = ring[(at - 1) & (mode.length - 1)];
  return young + fraction * (older - young);
}

void WaveGroup::add_product(const std::vector<double>& matrix, int n, const double* values,
                            double* out) noexcept {
  const double* row = matrix.data();
  for (int r = 0; r < n; ++r) {
    for (int c = 0; c < n; ++c) out[r] += *row++ * values[c];
  }
}

const double* WaveGroup::voltages(const Line& line, int end, const double* now) noexcept {
  const int* terminal = &terminals_[static_cast<std::size_t>(line.first_terminal + end * line.phases)];
  for (int k = 0; k < line.phases; ++k) scratch_[static_cast<std::size_t>(k)] = now[terminal[k]];
  return scratch_.data();
}

void WaveGroup::inject(double ahead, double* rhs) noexcept {
  assert(ahead > 0);
  for (const Line& line : lines_) {
    const int n = line.phases;
    double *to_near = scratch_.data(), *to_far = to_near + n;
    std::fill_n(to_near, 2 * n, 0.0);
    for (int k = line.first_path; k < line.end_path; ++k) {
      const Path& path = paths_[static_cast<std::size_t>(k)];
      const Mode& mode = modes_[static_cast<std::size_t>(path.from)];
      const double age = path.steps - ahead;
      const double from_near = past(mode, 0, age), from_far = past(mode, 1, age);
      to_near[path.to] -= path.through * from_far + path.back * from_near;
      to_far[path.to] -= path.through * from_near + path.back * from_far;
    }
    double* const history = &history_[static_cast<std::size_t>(line.first_terminal)];
    std::fill_n(history, line.ends * n, 0.0);
    add_product(line.arrives, n, to_near, history);
    if (line.ends == 2) add_product(line.arrives, n, to_far, history + n);
    const int* terminal = &terminals_[static_cast<std::size_t>(line.first_terminal)];
    for (int k = 0; k < line.ends * n; ++k) rhs[terminal[k]] -= history[k];
  }
}

void WaveGroup::update(double* now) noexcept {
  for (const Line& line : lines_) {
    for (int end = 0; end < line.ends; ++end) {
      double* const into = now + line.first_current[end];
      std::copy_n(&history_[static_cast<std::size_t>(line.first_terminal + end * line.phases)], line.phases,
                  into);
      add_product(line.conductance, line.phases, voltages(line, end, now), into);
    }
  }
}

const double* WaveGroup::leaving(const Line& line, int end, const double* now) noexcept {
  double* const left = scratch_.data() + line.phases;
  std::fill_n(left, line.phases, 0.0);
  add_product(line.from_voltages, line.phases, voltages(line, end, now), left);
  add_product(line.from_currents, line.phases, now + line.first_current[end], left);
  return left;
}

void WaveGroup::hear(const double* now) noexcept {
  for (const Line& line : lines_) {
    if (line.ends == 1 && newest_ >= begun_ + line.age) hear(line, now, line.age);
  }
}

/// Of a grid point so many steps before the newest, and of the one before that.
void WaveGroup::hear(const Line& line, const double* now, std::size_t age) noexcept {
  const auto n = static_cast<std::size_t>(line.phases);
  double *told = scratch_.data(), *in_modes = told + n;
  for (std::size_t before = 0; before < 2; ++before) {
    for (std::size_t k = 0; k < n; ++k) told[k] = now[line.arriving[before * n + k]];
    std::fill_n(in_modes, n, 0.0);
    add_product(line.from_voltages, line.phases, told, in_modes);
    for (std::size_t m = 0; m < n; ++m)
      newest_of(modes_[static_cast<std::size_t>(line.first_mode) + m], 1, age + before) = in_modes[m];
  }
}

/// The newest wave that left, and that of the step before as it stands by now.
void WaveGroup::say(const Line& line, double* now) noexcept {
  const int n = line.phases;
  for (std::size_t before = 0; before < 2; ++before) {
    double* const in_modes = scratch_.data();
    for (int m = 0; m < n; ++m)
      in_modes[m] = newest_of(modes_[static_cast<std::size_t>(line.first_mode + m)], 0, before);
    double* const into = now + line.leaving + before * static_cast<std::size_t>(n);
    std::fill_n(into, n, 0.0);
    add_product(line.in_phases, n, in_modes, into);
  }
}

void WaveGroup::push(double* now) noexcept {
  ++newest_;
  for (const Line& line : lines_) {
    for (int end = 0; end < line.ends; ++end) {
      const double* const left = leaving(line, end, now);
      for (int m = 0; m < line.phases; ++m) {
        const auto number = static_cast<std::size_t>(line.first_mode + m);
        double& less = less_[2 * number + static_cast<std::size_t>(end)];
        newest_of(modes_[number], end) = left[m] - less;
        less = 0;
      }
    }
    if (line.ends == 1) say(line, now);
  }
}

void WaveGroup::jump(double share, const double* before, const double* behind) noexcept {
  for (const Line& line : lines_) {
    double* const earlier = scratch_.data() + 2 * line.phases;
    for (int end = 0; end < line.ends; ++end) {
      std::copy_n(leaving(line, end, before), line.phases, earlier);
      const double* const left = leaving(line, end, behind);
      for (int m = 0; m < line.phases; ++m) {
        const auto number = static_cast<std::size_t>(line.first_mode + m);
        const Mode& mode = modes_[number];
        double& newest = newest_of(mode, end);
        // At the grid point itself what was kept is what stood before, whatever a start made of the values.
        const double part =
            (mode.whole && share == 0 ? 1 : 0.5 - share) * (left[m] - (share == 0 ? newest : earlier[m]));
        if (share < 0.5) {
          newest += part;
        } else {
          less_[2 * number + static_cast<std::size_t>(end)] -= part;
        }
      }
    }
  }
}

void WaveGroup::fill(const std::vector<Component>& components, double step_s) {
  if (components.empty()) return;
  std::size_t longest = 0;
  for (const Mode& mode : modes_) longest = std::max(longest, mode.length);
  std::vector<double> present(components.front().values.size());
  for (std::size_t back = longest; back-- > 0;) {
    std::fill(present.begin(), present.end(), 0.0);
    for (const Component& component : components) {
      const auto turn = std::polar(1.0, -component.omega * step_s * static_cast<double>(back));
      for (std::size_t k = 0; k < present.size(); ++k) present[k] += (component.values[k] * turn).real();
    }
    push(present.data());
    for (const Line& line : lines_) {
      if (line.ends == 1) hear(line, present.data(), 0);
    }
  }
  begun_ = newest_;
}

}  // namespace zavrek::emt::internal
