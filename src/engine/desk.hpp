// What is asked of a running plant, and the diary of it: by which the same run can be gone through again.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "engine/ring.hpp"
#include "zavrek/bench/beside.hpp"

namespace zavrek::engine::internal {

/// Something that was asked of a run, and when.
struct Act {
  double time_s = 0;  ///< of the plant, when it came
  std::string what;
  double value = 0;
  double at_s = 0, from = 0, over_s = 0;  ///< as of bench::Beside::Wish
};

/// Rows of a diary: time, place of what is asked, value, at, from, over.
inline constexpr std::size_t diary_width = 6, most_acts = 16'384;

class Desk final : public bench::Beside {
 public:
  /// What was done `before` the state that a run begins at, what is done `again` behind it, each at its time,
  /// and the instant that is gone back to: nothing that waits for a later one is done.
  struct Past {
    std::vector<Act> before, again;
    double to_s = 0;
  };
  /// What the past names must be among `asks`.
  Desk(const std::vector<std::string>& values, const std::vector<std::string>& points,
       const std::vector<std::string>& asks, std::shared_ptr<RowRing> diary, const Past& past);
  void wire(bench::Exchange& exchange) override;
  void take(bench::Exchange& exchange) noexcept override;
  void visit_state(StateArchive& archive) override;

 private:
  void asked(bench::Exchange& exchange, const bench::AskQueue::Asked& asked) noexcept override;

  void note(double time_s, std::size_t place, const bench::AskQueue::Asked& asked) noexcept;

  std::shared_ptr<RowRing> diary_;
  std::vector<double> place_of_;  // among the names, by the number of what is asked
  struct Again {
    double time_s;
    std::size_t place;
    bench::AskQueue::Asked asked;
  };
  std::vector<Again> past_;
  double to_s_;
  std::size_t next_ = 0;
};

}  // namespace zavrek::engine::internal
