// A case that is loaded, and its run: on a thread of its own, apart from whoever looks at it.
#pragma once

#include <array>
#include <atomic>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "engine/desk.hpp"
#include "engine/trace.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::engine::internal {

/// Something that can be asked for.
struct Askable {
  std::string name, unit;
  bool operated = false;  ///< opens and closes; else a number
  double least = 0, greatest = 0;
  double initial = 0;  ///< as the files have it; NaN where nobody can tell
};
struct Status {
  std::string state = "stopped";  ///< "stopped", "starting", "running", "ended"
  double time_s = 0, duration_s = 0;
  bool paced = false;
  bool bound = false;        ///< somebody outside lives by the clock: it cannot go back
  double again_until_s = 0;  ///< it goes through what was before, as fast as it goes, up to there
  std::string failure;
  long long number = 0;  ///< of the run, counted from the engine's start
};
struct Happened {
  double time_s = 0;
  std::string text;
  std::string point;  ///< that changed
  bool on = false;
};
enum class Outcome { done, refused, not_running, late };

/// How a run begins.
struct Start {
  double duration_s = 0;  ///< 0: until it is stopped
  bool free = false;
  std::string place;         ///< "plant": all devices in the plant's process
  std::vector<Act> past;     ///< is done again ...
  bool past_whole = true;    ///< (it is all that was done)
  double again_until_s = 0;  ///< ... up to there, as fast as it goes, from the latest state kept before
};

/// Timing while it runs: counts of coarse classes, and sums.
struct LiveTiming {
  double steps = 0, overruns = 0, worst_overrun_us = 0, step_us = 0;
  std::array<double, static_cast<std::size_t>(pace::Cause::all)> causes{};
  std::array<double, pace::Histogram::coarse_classes> compute{}, lateness{};
};

/// What a run that has ended leaves.
struct Ended {
  Status status;
  pace::Timing timing;
  std::vector<bench::Account> accounts;
  record::Record record;
};

class Session {
 public:
  /// Throws Error when the case does not compile, or its bench does not fit it. `ended` is called on the
  /// thread of each run, behind it.
  Session(std::string name, trial::Case all, bench::RunOptions options,
          std::function<void(const Session&, const Ended&)> ended = {});
  ~Session();
  Session(const Session&) = delete;
  Session& operator=(const Session&) = delete;

  [[nodiscard]] const std::string& name() const noexcept { return name_; }
  [[nodiscard]] const trial::Case& loaded() const noexcept { return all_; }
  [[nodiscard]] const bench::RunOptions& options() const noexcept { return options_; }

  // What it has; by the thread that starts, stops and makes places ready, or under its lock.
  struct Known {
    std::vector<Askable> askables;
    std::vector<std::string> signals, units, points;
    std::vector<double> factors;  ///< from a signal to its primary value, which is what viewers see
    std::vector<network::FaultPlace> places;
    double compiled_s = 0;  ///< how long that took
  };
  [[nodiscard]] std::shared_ptr<const Known> known() const;
  /// Places where a fault may be struck; those of the trials stand ready from the start. While nothing runs.
  /// Throws Error.
  void make_ready(std::vector<network::FaultPlace> places);

  /// Throws Error while it runs already. By one thread at a time, as `stop`.
  void start(const Start& how);
  /// Waits until it has ended.
  void stop();
  [[nodiscard]] Status status() const;
  [[nodiscard]] Start started() const;
  /// Waits at most so long until the plant has answered.
  [[nodiscard]] Outcome ask(const bench::Beside::Wish& wish, double wait_s = 0.5);
  /// Of signals, then of points as 0 or 1; empty while nothing runs.
  [[nodiscard]] std::optional<bench::Beside::View> values() const;
  /// States of this run that are kept, to go back to.
  [[nodiscard]] std::shared_ptr<const bench::KeptStates> states() const;
  /// The instant of the one that going back to `to_s` would begin at; while nothing runs.
  [[nodiscard]] double state_behind(double to_s) const;
  /// Null before the first start; `before`: of the way that was left to go back.
  [[nodiscard]] std::shared_ptr<const Traces> traces(bool before = false) const;
  /// From number `from` on; `next` is the number behind the last.
  [[nodiscard]] std::vector<Happened> events(std::int64_t from, std::int64_t& next) const;
  /// All that was asked of this run, from its start on; false when the first of it was overwritten.
  [[nodiscard]] bool diary(std::vector<Act>& acts) const;
  [[nodiscard]] std::optional<LiveTiming> live_timing() const;
  /// Of the ports, as far as they have counted; behind the run, all of it.
  [[nodiscard]] std::vector<bench::Account> accounts() const;
  [[nodiscard]] std::shared_ptr<const Ended> ended() const;
  /// A part of the latest seconds, as far as they are kept, with what changed in it; its time begins at 0.
  /// Throws Error when there is none.
  [[nodiscard]] record::Record capture(double from_s, double until_s, double trigger_s) const;

 private:
  /// Of one run; viewers may hold its parts longer.
  struct Life;
  void work(const Start& how);
  void run_to_its_end(const Start& how);
  [[nodiscard]] std::unique_ptr<Desk> begin_desk(Life& life, const bench::RunState* from,
                                                 const Start& start) const;
  void fail(const std::string& why);

  std::string name_;
  trial::Case all_;
  network::Network network_;
  bench::RunOptions options_;
  std::function<void(const Session&, const Ended&)> on_end_;
  mutable std::mutex mutex_;  // of what follows
  std::shared_ptr<const Known> known_;
  Status status_;
  Start started_;
  std::shared_ptr<Life> life_, before_;
  std::shared_ptr<bench::KeptStates> states_;
  std::shared_ptr<const Ended> ended_;
  std::atomic<bool> stop_ = false;
  std::jthread thread_;
};

}  // namespace zavrek::engine::internal
