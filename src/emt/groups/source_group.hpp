// Known node voltages, imposed by stiff sources. A waveform is evaluated once for all nodes that it drives.
#pragma once

#include <utility>
#include <vector>

#include "emt/parts/waveform.hpp"

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
      : waveforms_(other.waveforms_), nodes_(other.nodes_), drivings_(other.drivings_) {
    stand_on_grid(other.step_s_);
  }
  SourceGroup& operator=(const SourceGroup&) = delete;

  void set_waveforms(std::vector<Waveform> waveforms, double step_s) {
    waveforms_ = std::move(waveforms);
    stand_on_grid(step_s);
  }
  /// Nodes of one waveform one after the other.
  void add(const SourceNode& node) {
    if (drivings_.empty() || drivings_.back().waveform != node.waveform)
      drivings_.push_back({node.waveform, static_cast<int>(nodes_.size()), 0});
    nodes_.push_back(node);
    drivings_.back().end = static_cast<int>(nodes_.size());
  }
  [[nodiscard]] const std::vector<SourceNode>& nodes() const noexcept { return nodes_; }
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
        const Waveform::Instant instant = grid.at(step);
        impose(d, now, [&](const Waveform::Phase& phase) { return instant.value(phase); });
      }
    }
  }
  /// or of an instant so much later than it.
  void impose_at(long long step, double later_s, double* now) noexcept {
    for (const Driving& d : drivings_) {
      const Waveform::Instant instant = on_grid_[d.waveform].at(step, later_s);
      impose(d, now, [&](const Waveform::Phase& phase) { return instant.value(phase); });
    }
  }

 private:
  /// Nodes that one waveform drives.
  struct Driving {
    std::size_t waveform;
    int first, end;
  };
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
  std::vector<Driving> drivings_;
};

}  // namespace zavrek::emt::internal
