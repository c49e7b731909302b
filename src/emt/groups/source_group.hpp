// Known node voltages, imposed by stiff sources. A waveform is evaluated once for all nodes that it drives.
// Corners and jumps of programmes are discontinuities: up to `pass`, instants behind a corner are those of
// the piece before it.
#pragma once

#include <algorithm>
#include <cmath>
#include <cstddef>
#include <utility>
#include <vector>

#include "emt/parts/parts.hpp"
#include "emt/parts/waveform.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

/// A known node; the phases of one source stand next to each other.
struct SourceNode {
  int position;
  std::size_t waveform;
  Waveform::Phase phase;
};

class SourceGroup {
 public:
  SourceGroup() = default;
  SourceGroup(const SourceGroup& other)
      : waveforms_(other.waveforms_),
        nodes_(other.nodes_),
        told_(other.told_),
        drivings_(other.drivings_),
        corners_s_(other.corners_s_),
        passed_(other.passed_) {
    stand_on_grid(other.step_s_);
  }
  SourceGroup& operator=(const SourceGroup&) = delete;

  void set_waveforms(std::vector<Waveform> waveforms, double step_s) {
    waveforms_ = std::move(waveforms);
    stand_on_grid(step_s);
    for (const Waveform& waveform : waveforms_) {
      for (const double corner : waveform.corners_s()) {
        if (corner > 0) corners_s_.push_back(corner);
      }
    }
    std::sort(corners_s_.begin(), corners_s_.end());
  }
  /// Nodes of one waveform one after the other.
  void add(const SourceNode& node) {
    if (drivings_.empty() || drivings_.back().waveform != node.waveform)
      drivings_.push_back({node.waveform, static_cast<int>(nodes_.size()), 0});
    nodes_.push_back(node);
    drivings_.back().end = static_cast<int>(nodes_.size());
  }
  /// A node whose voltage a knob says, whatever its waveform.
  void add_told(const SourceNode& node, int knob) {
    nodes_.push_back(node);
    told_.push_back({node.position, knob});
  }
  [[nodiscard]] bool hears() const noexcept { return !told_.empty(); }
  [[nodiscard]] const std::vector<SourceNode>& nodes() const noexcept { return nodes_; }
  /// The coming corner, never_s behind the last.
  [[nodiscard]] double corner_s() const noexcept {
    return passed_ < corners_s_.size() ? corners_s_[passed_] : never_s;
  }
  /// From now on the pieces behind the corners up to `until_s` hold.
  void pass(double until_s) noexcept {
    while (corner_s() <= until_s) ++passed_;
  }
  void visit_state(StateArchive& archive) { archive(passed_); }

  [[nodiscard]] const Waveform& waveform_of(const SourceNode& node) const noexcept {
    return waveforms_[node.waveform];
  }

  /// Writes the known voltages of a grid point,
  void impose_at(long long step, double* now) noexcept {
    for (const Driving& d : drivings_) {
      Waveform::Grid& grid = on_grid_[d.waveform];
      if (grid.steady()) {
        const auto [cosine, sine] = grid.turned(static_cast<unsigned long long>(step));
        impose(d, now, [c = cosine, s = sine](const Waveform::Phase& phase) { return phase.value(c, s); });
      } else {
        impose_instant(d, now, instant_of(d, static_cast<double>(step) * step_s_));
      }
    }
    impose_told(now);
  }
  /// or of an instant so much later than it.
  void impose_at(long long step, double later_s, double* now) noexcept {
    for (const Driving& d : drivings_) {
      Waveform::Grid& grid = on_grid_[d.waveform];
      impose_instant(d, now,
                     grid.steady() ? grid.at(step, later_s)
                                   : instant_of(d, static_cast<double>(step) * step_s_ + later_s));
    }
    impose_told(now);
  }
  /// The known voltage of a node at an instant.
  [[nodiscard]] double value(const SourceNode& node, double time_s) const noexcept {
    return waveform_of(node).value(time_s, piece_s(time_s), node.phase.angle_rad);
  }

 private:
  struct Told {
    int position, knob;
  };
  void impose_told(double* now) const noexcept {
    for (const Told& told : told_) now[told.position] = now[told.knob];
  }
  /// Nodes that one waveform drives.
  struct Driving {
    std::size_t waveform;
    int first, end;
  };
  [[nodiscard]] double piece_s(double time_s) const noexcept {
    const double first = passed_ == 0 ? time_s : std::max(time_s, corners_s_[passed_ - 1]);
    return passed_ == corners_s_.size() ? first : std::min(first, std::nextafter(corners_s_[passed_], -1.0));
  }
  [[nodiscard]] Waveform::Instant instant_of(const Driving& d, double time_s) const noexcept {
    return {waveforms_[d.waveform], time_s, piece_s(time_s)};
  }
  void impose_instant(const Driving& d, double* now, const Waveform::Instant& instant) const noexcept {
    impose(d, now, [&](const Waveform::Phase& phase) { return instant.value(phase); });
  }
  template <class ValueOf>
  void impose(const Driving& d, double* now, ValueOf&& value_of) const noexcept {
    const SourceNode* const end = nodes_.data() + d.end;
    for (const SourceNode* node = nodes_.data() + d.first; node != end; ++node)
      now[node->position] = value_of(node->phase);
  }
  void stand_on_grid(double step_s) {
    step_s_ = step_s;
    on_grid_.clear();
    for (const Waveform& waveform : waveforms_) on_grid_.emplace_back(waveform, step_s);
  }

  double step_s_ = 0;
  std::vector<Waveform> waveforms_;
  std::vector<Waveform::Grid> on_grid_;  // of each; what it holds of an instant follows from its number
  std::vector<SourceNode> nodes_;
  std::vector<Told> told_;
  std::vector<Driving> drivings_;
  std::vector<double> corners_s_;  // behind the start, in their order
  std::size_t passed_ = 0;         // of them
};

}  // namespace zavrek::emt::internal
