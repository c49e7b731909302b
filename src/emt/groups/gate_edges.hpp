// Gate edges that wait for their instants: a short ring per valve, and side by side, for the step to look
// over, the first instant of each.
#pragma once

#include <algorithm>
#include <array>
#include <cstddef>
#include <utility>
#include <vector>

#include "emt/solve/lanes.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

class GateEdges {
 public:
  static constexpr double never = 1e300;
  static constexpr int most = 16;  // that wait, of one valve

  void add_valve() {
    rings_.emplace_back();
    make_room();
    due_.resize((rings_.size() + lanes - 1) / lanes * lanes, never);
  }

  /// An edge of a gate, which comes behind those that wait: a pulse shorter than the dead time before it has
  /// no length. False when too many wait already.
  bool push(std::size_t valve, bool on, double at_s) noexcept {
    Ring& ring = rings_[valve];
    if (ring.waiting > 0) at_s = std::max(at_s, ring.entry(ring.waiting - 1).at_s);
    if (ring.waiting == most) return false;
    ring.entry(ring.waiting++) = {at_s, on};
    if (ring.waiting == 1) look_at(valve);
    return true;
  }
  void forget(std::size_t valve) noexcept {
    rings_[valve].waiting = 0;
    look_at(valve);
  }
  /// Edges of a held valve are nothing to the step: somebody else takes them.
  void hold(std::size_t valve, bool held) noexcept {
    rings_[valve].held = held;
    look_at(valve);
  }

  /// Instant of the valve's first edge.
  [[nodiscard]] double next(std::size_t valve) const noexcept {
    const Ring& ring = rings_[valve];
    return ring.waiting > 0 ? ring.entry(0).at_s : never;
  }
  /// Lets a gate follow its edges up to an instant; whether there were any.
  bool take(std::size_t valve, double until, bool& gate) noexcept {
    Ring& ring = rings_[valve];
    const int before = ring.waiting;
    for (; ring.waiting > 0 && ring.entry(0).at_s <= until; --ring.waiting) {
      gate = ring.entry(0).on;
      ring.first = (ring.first + 1) % most;
    }
    if (ring.waiting == before) return false;
    if (marked_) taken_.push_back({valve, before - ring.waiting});
    look_at(valve);
    return true;
  }

  /// Between `mark` and `unmark` what is taken (once per valve) is noted, and `return_to_mark` takes it back;
  /// until then no edge may be pushed to those valves.
  void mark() noexcept {
    marked_ = true;
    taken_.clear();
  }
  void unmark() noexcept { marked_ = false; }
  [[nodiscard]] bool was_taken(std::size_t valve) const noexcept {
    return std::any_of(taken_.begin(), taken_.end(), [&](const auto& t) { return t.valve == valve; });
  }
  void return_to_mark() noexcept {
    for (const auto& [valve, count] : taken_) {
      Ring& ring = rings_[valve];
      ring.first = (ring.first + most - count) % most;
      ring.waiting += count;
      look_at(valve);
    }
    taken_.clear();
  }

  void visit_state(StateArchive& archive) {
    archive(rings_);
    archive(taken_);
    archive(marked_);
    archive(due_);
    archive(earliest_);
  }
  void make_room() { taken_.reserve(rings_.size()); }

  /// Earliest edge of all valves that are not held,
  [[nodiscard]] double earliest() const noexcept { return earliest_; }
  /// and of each (whole lanes); never of the held.
  [[nodiscard]] const Numbers& due() const noexcept { return due_; }

 private:
  struct Edge {
    double at_s;
    bool on;
  };
  struct Taken {
    std::size_t valve;
    int count;
  };
  struct Ring {
    int first = 0, waiting = 0;
    bool held = false;
    std::array<Edge, most> edges{};
    [[nodiscard]] Edge& entry(int k) noexcept { return edges[static_cast<std::size_t>((first + k) % most)]; }
    [[nodiscard]] const Edge& entry(int k) const noexcept {
      return edges[static_cast<std::size_t>((first + k) % most)];
    }
  };

  void look_at(std::size_t valve) noexcept {
    due_[valve] = rings_[valve].held ? never : next(valve);
    Lanes least = {never, never, never, never};
    for (std::size_t k = 0; k < due_.size(); k += lanes) least = lesser(load(&due_[k]), least);
    earliest_ = least_of(least);
  }

  std::vector<Ring> rings_;
  std::vector<Taken> taken_;  // since the mark
  bool marked_ = false;
  Numbers due_;
  double earliest_ = never;
};

}  // namespace zavrek::emt::internal
