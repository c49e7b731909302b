// The loop of a run. The executive calls `advance` once a stride: a step, or all steps between two samples
// when nobody looks at the bench in between and samples lie on the grid of the steps.
//
// Delays: a sample is taken at the end of the step in which its instant lies (at most one step late); what
// came in by then is told ahead of the next step and acts from its beginning on.
#pragma once

#include <algorithm>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "bench/control_seat.hpp"
#include "bench/recorder.hpp"
#include "zavrek/bench/run.hpp"
#include "zavrek/pace/crew.hpp"

namespace zavrek::bench {

/// What was done in the longest stride of a paced run that ended late by its own work.
class OwnWorkOfStrides {
 public:
  struct Counts {
    long long discontinuities = 0, control_turns = 0;
  };
  /// Ahead of each stride, with what was done so far; and behind the last.
  void look(const pace::Timing& timing, const Counts& now) noexcept {
    if (timing.longest_own.step != longest_.step) {
      longest_ = timing.longest_own;
      longest_.discontinuities = now.discontinuities - before_.discontinuities;
      longest_.controlled = now.control_turns > before_.control_turns;
    }
    before_ = now;
  }
  void write(pace::Timing& timing) const noexcept { timing.longest_own = longest_; }

 private:
  pace::OwnWork longest_;
  Counts before_;
};

class Run::Loop {
 public:
  Loop(const Setup& setup, std::unique_ptr<Source> source, const RunOptions& options);

  ~Loop() {
    if (crew_) plant_->share(nullptr);  // it may outlive the crew
  }
  Loop(const Loop&) = delete;
  Loop& operator=(const Loop&) = delete;

  [[nodiscard]] bool advance() noexcept;

  // Everything that the outline above works with; Run fills and asks it.
  void make_ports();
  void add(std::unique_ptr<Port> port);
  void record(double duration_s, double kept_s, const std::vector<std::string>& further,
              const std::vector<std::string>& points);
  void find_stride();
  void begin();
  [[nodiscard]] bool begin_at(const RunState& state);
  [[nodiscard]] std::string listen();
  [[nodiscard]] std::string start();
  pace::Timing execute(double duration_s, const std::function<bool()>& until, bool by_the_clock);
  [[nodiscard]] std::string failure();
  [[nodiscard]] bool anybody_outside() const;
  [[nodiscard]] bool sends_beside() const;
  [[nodiscard]] double patience_s() const;
  [[nodiscard]] std::int64_t waited_ns() const noexcept;
  [[nodiscard]] Port* pacemaker() const;
  [[nodiscard]] int processor() const;
  [[nodiscard]] std::int64_t begin_on_the_clock();
  void begin_pace(std::int64_t zero_ns) noexcept;
  void take_until(std::int64_t until_ns);
  void follow_clock(pace::Executive& executive, std::int64_t number, std::int64_t ahead_ns) noexcept;
  [[nodiscard]] std::optional<Account> clock_account() const;
  [[nodiscard]] OwnWorkOfStrides::Counts work_so_far() const noexcept {
    return {plant_ ? plant_->discontinuities() : 0, control_ ? control_->turns() : 0};
  }

  const Setup& setup_;
  RunOptions options_;
  std::unique_ptr<pace::Crew> crew_;
  std::unique_ptr<Source> source_;
  emt::Plant* plant_;
  std::optional<internal::ControlSeat> control_;
  Exchange exchange_;
  Frames frames_;
  Cards cards_;
  std::vector<std::unique_ptr<Port>> ports_;
  std::vector<Port*> stepped_;  // those to which every step matters
  Timetable timetable_;
  std::optional<internal::Recorder> recorder_;
  /// Those that see samples at the same instants.
  struct Sampling {
    double rate_Hz;
    std::vector<Port*> ports;
    long long next = 0;
    [[nodiscard]] double next_s() const noexcept { return static_cast<double>(next) / rate_Hz; }
  };
  std::vector<Sampling> samplings_;  // that of relays first
  double record_rate_Hz_;            // of the record, which is finer than that or as fine
  int stride_ = 1;                   // steps
  bool begun_ = false, set_out_ = false;
  long long next_row_ = 0;
  std::int64_t utc_wanted_ns_ = 0;                          // of the plant's beginning
  std::int64_t strides_to_look_ = 1, next_clock_look_ = 0;  // at the clock
  std::int64_t first_zero_ns_ = 0;                          // that, by the clock that never jumps
  double next_look_s_ = 0;                                  // over the voltages of the plant
  bool goes_on_ = true;                                     // the source does
  std::optional<pace::Timing> gave_up_;                     // of a run that came too late to go on

 private:
  [[nodiscard]] bool step() noexcept;
  [[nodiscard]] bool take_stride() noexcept;
  void take_samples() noexcept;
  /// The next row of the record, the next samples, or both, so far within the step.
  void take_next(double share) noexcept;
  [[nodiscard]] double next_instant_s() const noexcept {
    double next = static_cast<double>(next_row_) / record_rate_Hz_;
    for (const Sampling& sampling : samplings_) next = std::min(next, sampling.next_s());
    return next;
  }
  void find_samplings();
  void visit_state(StateArchive& archive);
  /// False where a part of it is elsewhere.
  bool save(RunState& into);
  void keep_first_state();
  void keep_state();
  void record_transformers();
};

}  // namespace zavrek::bench
