#pragma once

#include <array>
#include <atomic>
#include <string>
#include <vector>

#include "zavrek/bench/port.hpp"
#include "zavrek/bench/snapshot.hpp"

namespace zavrek::bench {

/// A port for whoever talks beside the thread of the plant: sees chosen values and points as they were
/// lately, asks for chosen things, now, at an instant to come or little by little, and never makes a step
/// wait.
class Beside : public Port {
 public:
  Beside(std::string name, std::vector<std::string> values, std::vector<std::string> points,
         std::vector<std::string> asks);

  // --- by any thread, once the run has started ------------------------------------------------------
  /// What was shown at an instant of the plant, and how long ago that was.
  struct View {
    double time_s = 0;
    double age_s = 0;
    std::int64_t utc_ns = 0;     ///< of that instant, to a microsecond
    std::vector<double> values;  ///< in the order of their names, then points as 0 or 1
  };
  /// False when nothing is there yet.
  [[nodiscard]] bool read(View& view) const noexcept;
  /// `ask`: place among the names. As of AskQueue::Asked.
  struct Wish {
    std::size_t ask = 0;
    double value = 0;
    double at_s = 0;
    double from = 0;
    double over_s = 0;
  };
  /// A ticket, 0 when there was no room. What is wished for an instant to come, or little by little, is done
  /// once it is noted.
  [[nodiscard]] std::uint64_t post(const Wish& wish) noexcept;
  [[nodiscard]] AskQueue::Outcome outcome(std::uint64_t ticket) const noexcept {
    return queue_.outcome(ticket);
  }

  // --- by the run -------------------------------------------------------------------------------
  void wire(Exchange& exchange) override;
  void take(Exchange& exchange) noexcept override;
  void give(Exchange& exchange) noexcept override;
  void visit_state(StateArchive& archive) override { archive(waiting_, waits_); }
  [[nodiscard]] std::vector<Account> accounts() const override;
  static constexpr int most_asks_per_step = 16;
  static constexpr std::size_t most_waiting = 64;

 protected:
  /// Does it, or notes it; false when it is refused or there is no room.
  bool serve(Exchange& exchange, const AskQueue::Asked& asked) noexcept;
  /// By the thread of the plant, ahead of what was asked then: for whoever keeps a diary.
  virtual void asked(Exchange& /*exchange*/, const AskQueue::Asked& /*asked*/) noexcept {}
  /// What waits for an instant from there on is not done.
  void forget_from(double time_s) noexcept;
  [[nodiscard]] AskId ask_at(std::size_t place) const noexcept { return asks_[place]; }
  [[nodiscard]] std::size_t ask_count() const noexcept { return asks_.size(); }

 private:
  void go_on(Exchange& exchange) noexcept;

  std::string name_;
  std::vector<std::string> value_names_, point_names_, ask_names_;
  std::vector<ValueId> values_;
  std::vector<PointId> points_;
  std::vector<AskId> asks_;
  std::vector<double> present_;  // time, wall clock in s, UTC in s, values, points
  Snapshot snapshot_;
  AskQueue queue_;
  std::array<AskQueue::Asked, most_waiting> waiting_;  // for their instant, or under way
  std::size_t waits_ = 0;
  std::atomic<long long> served_{0}, refused_{0};
};

}  // namespace zavrek::bench
