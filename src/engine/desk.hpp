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
  /// `past` is done again, each at its time; what it names must be among `asks`.
  Desk(const std::vector<std::string>& values, const std::vector<std::string>& points,
       const std::vector<std::string>& asks, std::shared_ptr<RowRing> diary, const std::vector<Act>& past);
  void wire(bench::Exchange& exchange) override;
  void take(bench::Exchange& exchange) noexcept override;

 private:
  void asked(bench::Exchange& exchange, const bench::AskQueue::Asked& asked) noexcept override;

  std::shared_ptr<RowRing> diary_;
  std::vector<double> place_of_;  // among the names, by the number of what is asked
  struct Past {
    double time_s;
    std::size_t place;
    bench::AskQueue::Asked asked;
  };
  std::vector<Past> past_;
  std::size_t next_ = 0;
};

}  // namespace zavrek::engine::internal
