#pragma once

#include <atomic>
#include <string>
#include <vector>

#include "zavrek/bench/port.hpp"
#include "zavrek/bench/snapshot.hpp"

namespace zavrek::bench {

/// A port for whoever talks beside the thread of the plant: sees chosen values and points as they were
/// lately, asks for chosen things, and never makes a step wait.
class Beside : public Port {
 public:
  Beside(std::string name, std::vector<std::string> values, std::vector<std::string> points,
         std::vector<std::string> asks);

  // --- by any thread, once the run has started ------------------------------------------------------
  /// What was shown at an instant of the plant, and how long ago that was.
  struct View {
    double time_s = 0;
    double age_s = 0;
    std::vector<double> values;  ///< in the order of their names, then points as 0 or 1
  };
  /// False when nothing is there yet.
  [[nodiscard]] bool read(View& view) const noexcept;
  /// `ask`: place among the names; a ticket, 0 when there was no room.
  [[nodiscard]] std::uint64_t post(std::size_t ask, double value) noexcept;
  [[nodiscard]] AskQueue::Outcome outcome(std::uint64_t ticket) const noexcept {
    return queue_.outcome(ticket);
  }

  // --- by the run -------------------------------------------------------------------------------
  void wire(Exchange& exchange) override;
  void take(Exchange& exchange) noexcept override;
  void give(Exchange& exchange) noexcept override;
  [[nodiscard]] std::vector<Account> accounts() const override;
  static constexpr int most_asks_per_step = 16;

 private:
  std::string name_;
  std::vector<std::string> value_names_, point_names_, ask_names_;
  std::vector<ValueId> values_;
  std::vector<PointId> points_;
  std::vector<AskId> asks_;
  std::vector<double> present_;  // time, wall clock in s, values, points
  Snapshot snapshot_;
  AskQueue queue_;
  std::atomic<long long> served_{0}, refused_{0};
};

}  // namespace zavrek::bench
