#pragma once

#include <cstddef>
#include <memory>
#include <vector>

#include "zavrek/bench/snapshot.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::bench {

/// The whole of a run between two of its steps: plant, control, devices in this process, and what waits.
/// What viewers and recorders keep beside it is no part of it.
struct RunState {
  double time_s = 0;  ///< of the plant
  emt::PlantState plant;
  std::vector<std::byte> rest;
  [[nodiscard]] std::size_t bytes() const noexcept { return plant.bytes() + rest.size(); }
};

/// States of a run, kept every so often in so much memory: dense near the present, ever sparser before it,
/// the first always among them. Their room is taken ahead of the first step.
class KeptStates {
 public:
  static constexpr std::size_t most = 240;
  KeptStates(std::size_t most_bytes, double every_s);
  ~KeptStates();
  KeptStates(const KeptStates&) = delete;
  KeptStates& operator=(const KeptStates&) = delete;

  // --- by any thread ----------------------------------------------------------------------------
  /// Of the plant, from the first to the latest; empty where none are kept.
  [[nodiscard]] std::vector<double> instants_s() const;
  [[nodiscard]] double every_s() const noexcept { return every_s_; }
  [[nodiscard]] std::size_t most_bytes() const noexcept { return most_bytes_; }

  // --- while no run keeps any -------------------------------------------------------------------
  /// The latest at or before an instant; null where there is none.
  [[nodiscard]] const RunState* latest_at(double time_s) const noexcept;
  /// What comes behind an instant is forgotten: another way is taken from there.
  void forget_behind(double time_s) noexcept;

  // --- by the thread of the run -----------------------------------------------------------------
  [[nodiscard]] double next_s() const noexcept { return next_s_; }
  /// Takes the room for states like `first`, which is kept, or goes on behind those that are.
  void begin(RunState first);
  void go_on_from(double time_s) noexcept;
  /// Where the state of this instant goes; then `commit`.
  [[nodiscard]] RunState& room_for_next() noexcept;
  void commit() noexcept;

 private:
  void make_room(double now_s) noexcept;
  void publish() noexcept;

  std::size_t most_bytes_;
  double every_s_, next_s_;
  std::vector<std::unique_ptr<RunState>> states_;  // those kept, by time, then rooms that are free
  std::size_t kept_ = 0;
  Snapshot instants_;  // how many, then when
  std::vector<double> row_;
};

}  // namespace zavrek::bench
