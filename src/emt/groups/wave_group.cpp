#include "emt/groups/wave_group.hpp"

#include <algorithm>
#include <bit>
#include <cassert>
#include <cmath>

namespace zavrek::emt::internal {
namespace {
constexpr int most_phases = 3;
}

void WaveGroup::add(const WavePart& part, double step_s, const int* node_position, int first_near_current,
                    int first_far_current) {
  const int n = static_cast<int>(part.near.size());
  Line line{n,
            static_cast<int>(modes_.size()),
            static_cast<int>(terminals_.size()),
            first_near_current,
            first_far_current,
            {},
            {}};
  for (const NodeId node : part.near) terminals_.push_back(node_position[node]);
  for (const NodeId node : part.far) terminals_.push_back(node_position[node]);
  for (int k = 0; k < n; ++k) {
    for (int m = 0; m < n; ++m) {
      line.currents.push_back(part.currents(k, m));
      line.voltages.push_back(part.voltages(k, m));
    }
  }
  for (int m = 0; m < n; ++m) {
    const double quarter = part.resistance_ohm[m] / 4;
    const double z = part.surge_ohm[m] + quarter;
    const double delay = part.travel_s[m] / step_s;
    // Rounding of a delay meant to be whole must not cost an interpolation.
    const double whole = std::round(delay);
    const double steps = std::abs(delay - whole) < 1e-9 * whole ? whole : delay;
    const auto length = std::bit_ceil(static_cast<std::size_t>(steps) + 3);
    modes_.push_back({1 / z, (part.surge_ohm[m] - quarter) / z, steps, rings_.size(), length, 0, 0});
    rings_.resize(rings_.size() + 2 * length, 0.0);
  }
  phase_history_.resize(terminals_.size());
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

void WaveGroup::inject(double ahead, double* rhs) noexcept {
  assert(ahead > 0);
  for (const Line& line : lines_) {
    double near[most_phases] = {};
    double far[most_phases] = {};
    for (int m = 0; m < line.phases; ++m) {
      Mode& mode = modes_[static_cast<std::size_t>(line.first_mode + m)];
      const double age = mode.delay_steps - ahead;
      const double from_near = past(mode, 0, age);
      const double from_far = past(mode, 1, age);
      const double a = (1 + mode.reflected) / 2;
      const double b = (1 - mode.reflected) / 2;
      mode.near_history = -(a * from_far + b * from_near);
      mode.far_history = -(a * from_near + b * from_far);
    }
    for (int k = 0; k < line.phases; ++k) {
      for (int m = 0; m < line.phases; ++m) {
        const Mode& mode = modes_[static_cast<std::size_t>(line.first_mode + m)];
        const double t = line.currents[static_cast<std::size_t>(k * line.phases + m)];
        near[k] += t * mode.near_history;
        far[k] += t * mode.far_history;
      }
      rhs[terminals_[static_cast<std::size_t>(line.first_terminal + k)]] -= near[k];
      rhs[terminals_[static_cast<std::size_t>(line.first_terminal + line.phases + k)]] -= far[k];
    }
  }
}

void WaveGroup::modal(const std::vector<double>& transform, int phases, const double* values,
                      const int* positions, double* out) noexcept {
  for (int m = 0; m < phases; ++m) {
    out[m] = 0;
    for (int k = 0; k < phases; ++k)
      out[m] += transform[static_cast<std::size_t>(k * phases + m)] * values[positions[k]];
  }
}

void WaveGroup::update(double* now) const noexcept {
  for (const Line& line : lines_) {
    double near[most_phases];
    double far[most_phases];
    const int* terminals = &terminals_[static_cast<std::size_t>(line.first_terminal)];
    modal(line.currents, line.phases, now, terminals, near);
    modal(line.currents, line.phases, now, terminals + line.phases, far);
    for (int m = 0; m < line.phases; ++m) {
      const Mode& mode = modes_[static_cast<std::size_t>(line.first_mode + m)];
      near[m] = near[m] * mode.admittance + mode.near_history;
      far[m] = far[m] * mode.admittance + mode.far_history;
    }
    for (int k = 0; k < line.phases; ++k) {
      double into_near = 0;
      double into_far = 0;
      for (int m = 0; m < line.phases; ++m) {
        const double t = line.currents[static_cast<std::size_t>(k * line.phases + m)];
        into_near += t * near[m];
        into_far += t * far[m];
      }
      now[line.near_current + k] = into_near;
      now[line.far_current + k] = into_far;
    }
  }
}

void WaveGroup::waves(const Line& line, const double* now, double* near, double* far) const noexcept {
  const int* terminals = &terminals_[static_cast<std::size_t>(line.first_terminal)];
  int near_slots[most_phases];
  int far_slots[most_phases];
  for (int k = 0; k < line.phases; ++k) {
    near_slots[k] = line.near_current + k;
    far_slots[k] = line.far_current + k;
  }
  double near_v[most_phases];
  double far_v[most_phases];
  modal(line.currents, line.phases, now, terminals, near_v);
  modal(line.currents, line.phases, now, terminals + line.phases, far_v);
  modal(line.voltages, line.phases, now, near_slots, near);
  modal(line.voltages, line.phases, now, far_slots, far);
  for (int m = 0; m < line.phases; ++m) {
    const Mode& mode = modes_[static_cast<std::size_t>(line.first_mode + m)];
    near[m] = near_v[m] * mode.admittance + mode.reflected * near[m];
    far[m] = far_v[m] * mode.admittance + mode.reflected * far[m];
  }
}

void WaveGroup::push(const double* now) noexcept {
  ++newest_;
  replace_newest(now);
}

void WaveGroup::replace_newest(const double* now) noexcept {
  for (const Line& line : lines_) {
    double near[most_phases];
    double far[most_phases];
    waves(line, now, near, far);
    for (int m = 0; m < line.phases; ++m) {
      const Mode& mode = modes_[static_cast<std::size_t>(line.first_mode + m)];
      rings_[mode.ring + (newest_ & (mode.length - 1))] = near[m];
      rings_[mode.ring + mode.length + (newest_ & (mode.length - 1))] = far[m];
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
  }
}

}  // namespace zavrek::emt::internal
