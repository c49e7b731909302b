// What left the ends of a fitted line at past grid points, by channel (a mode or a conductor of an end),
// straight between them. A jump at an instant within a step is felt there: the kept value before it takes so
// much of the jump, or that behind it so much less, that the area under the straight line is that of the
// jump.
#pragma once

#include <algorithm>
#include <bit>
#include <cmath>
#include <complex>
#include <cstddef>
#include <utility>
#include <vector>

#include "emt/parts/model.hpp"
#include "emt/parts/rule.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

/// As many as written/pieces/shared_fitted_lines.c has room for.
constexpr int most_written_conductors = 16;

class SentWaves {
 public:
  SentWaves() = default;
  SentWaves(int channels, double longest_delay_steps)
      : channels_(channels), length_(std::bit_ceil(static_cast<std::size_t>(longest_delay_steps) + 4)) {
    const auto count = static_cast<std::size_t>(channels);
    kept_.assign(count * length_, 0.0);
    less_.assign(count, 0.0);
    before_.assign(count, 0.0);
  }
  void visit_state(StateArchive& archive) {
    archive(kept_);
    archive(less_);
    archive(newest_);
    archive(behind_until_s_);
  }

  /// As written/pieces/shared_fitted_lines.c keeps it.
  [[nodiscard]] std::vector<double> memory() const {
    std::vector<double> all{static_cast<double>(newest_), behind_until_s_, first_behind_ ? 1.0 : 0.0};
    for (const auto* part : {&less_, &before_, &kept_}) all.insert(all.end(), part->begin(), part->end());
    return all;
  }
  [[nodiscard]] std::size_t length() const { return length_; }

  /// The past of a sinusoid, t = 0 being the newest.
  void fill(int channel, std::complex<double> phasor, double omega, double step_s) {
    double* ring = ring_of(channel);
    for (std::size_t back = 0; back < length_; ++back) {
      ring[(length_ - back) % length_] =
          (phasor * std::polar(1.0, -omega * step_s * static_cast<double>(back))).real();
    }
    newest_ = 0;
  }

  /// Ahead of a stretch: the values at its begin.
  void begin(const Interval& stretch, const double* values) noexcept {
    if (stretch.beyond) return;
    const double from_s = stretch.until_s - stretch.length_s();
    first_behind_ =
        stretch.rule == Rule::half_euler && std::abs(from_s - behind_until_s_) > 1e-6 * stretch.step_s;
    if (first_behind_) std::copy_n(values, channels_, before_.begin());
    const double steps = from_s / stretch.step_s;
    const auto index = static_cast<long long>(std::llround(steps));
    if (std::abs(steps - static_cast<double>(index)) > 1e-6 || index < newest_) return;
    if (index == newest_ && stretch.rule == Rule::half_euler) return;  // kept when the step began
    newest_ = index;
    for (int c = 0; c < channels_; ++c) {
      double& less = less_[static_cast<std::size_t>(c)];
      ring_of(c)[slot_of(index)] = values[c] - std::exchange(less, 0.0);
    }
  }
  /// Behind it: the values at its end.
  void end(const Interval& stretch, const double* values) noexcept {
    if (stretch.rule != Rule::half_euler || stretch.beyond) return;
    behind_until_s_ = stretch.until_s;
    if (!std::exchange(first_behind_, false)) return;
    const double share =
        std::clamp((stretch.until_s - stretch.length_s() - stretch.grid_s) / stretch.step_s, 0.0, 1.0);
    const auto grid = static_cast<long long>(std::llround(stretch.grid_s / stretch.step_s));
    for (int c = 0; c < channels_; ++c) {
      const double part = (0.5 - share) * (values[c] - before_[static_cast<std::size_t>(c)]);
      if (share < 0.5 && grid == newest_) {
        ring_of(c)[slot_of(grid)] += part;
      } else if (share >= 0.5) {
        less_[static_cast<std::size_t>(c)] -= part;
      }
    }
  }

  [[nodiscard]] double at(int channel, double time_steps) const noexcept {
    const double* ring = ring_of(channel);
    const double clamped = std::min(time_steps, static_cast<double>(newest_));
    const double whole = std::floor(clamped), share = clamped - whole;
    const auto index = static_cast<long long>(whole);
    const double young = ring[slot_of(index)];
    if (share == 0) return young;
    return young + share * (ring[slot_of(index + 1)] - young);
  }

 private:
  [[nodiscard]] std::size_t slot_of(long long index) const noexcept {
    return static_cast<std::size_t>(index) & (length_ - 1);
  }
  [[nodiscard]] double* ring_of(int channel) noexcept {
    return &kept_[static_cast<std::size_t>(channel) * length_];
  }
  [[nodiscard]] const double* ring_of(int channel) const noexcept {
    return &kept_[static_cast<std::size_t>(channel) * length_];
  }

  int channels_ = 0;
  std::size_t length_ = 0;
  std::vector<double> kept_;
  std::vector<double> less_;    // what the next value kept is less by
  std::vector<double> before_;  // a jump
  long long newest_ = -1;       // grid index of the newest kept value
  double behind_until_s_ = -1;  // where the half steps behind the last jump have come to
  bool first_behind_ = false;
};

}  // namespace zavrek::emt::internal
