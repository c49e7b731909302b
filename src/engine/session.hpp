// A case that is loaded, and its run: on a thread of its own, apart from whoever looks at it.
#pragma once

#include <atomic>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "engine/trace.hpp"
#include "zavrek/bench/beside.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::engine::internal {

/// Something that can be asked for.
struct Askable {
  std::string name, unit;
  bool operated = false;  ///< opens and closes; else a number
  double least = 0, greatest = 0;
};
struct Status {
  std::string state = "stopped";  ///< "stopped", "starting", "running", "ended"
  double time_s = 0, duration_s = 0;
  bool paced = false;
  std::string failure;
};
struct Happened {
  double time_s = 0;
  std::string text;
};
enum class Outcome { done, refused, not_running, late };

class Session {
 public:
  /// Throws Error when the case does not compile, or its bench does not fit it.
  Session(std::string name, trial::Case all, bench::RunOptions options);
  ~Session();
  Session(const Session&) = delete;
  Session& operator=(const Session&) = delete;

  [[nodiscard]] const std::string& name() const noexcept { return name_; }
  [[nodiscard]] const trial::Case& loaded() const noexcept { return all_; }
  [[nodiscard]] const std::vector<Askable>& askables() const noexcept { return askables_; }
  [[nodiscard]] const std::vector<std::string>& signals() const noexcept { return signals_; }
  [[nodiscard]] const std::vector<std::string>& units() const noexcept { return units_; }
  [[nodiscard]] const std::vector<std::string>& points() const noexcept { return points_; }

  /// `duration_s` 0: until stopped. Throws Error while it runs already. By one thread at a time, as `stop`.
  void start(double duration_s, bool free, const std::string& place);
  /// Waits until it has ended.
  void stop();
  [[nodiscard]] Status status() const;
  /// Waits at most so long until the plant has answered.
  [[nodiscard]] Outcome ask(std::size_t askable, double value, double wait_s = 0.5);
  /// Of signals, then of points as 0 or 1; empty while nothing runs.
  [[nodiscard]] std::optional<bench::Beside::View> values() const;
  /// Null before the first start.
  [[nodiscard]] std::shared_ptr<const Traces> traces() const;
  /// From number `from` on; `next` is the number behind the last.
  [[nodiscard]] std::vector<Happened> events(std::int64_t from, std::int64_t& next) const;
  [[nodiscard]] std::vector<bench::Account> accounts() const;
  [[nodiscard]] std::optional<pace::Timing> timing() const;
  /// Of the latest run, once it has ended.
  [[nodiscard]] std::optional<record::Record> record() const;

 private:
  /// Of one run; viewers may hold its parts longer.
  struct Life;
  void work(double duration_s, bool free, const std::string& place);
  void run_to_its_end(double duration_s, bool free, const std::string& place);
  void fail(const std::string& why);

  std::string name_;
  trial::Case all_;
  network::Network network_;
  bench::RunOptions options_;
  std::vector<std::string> signals_, units_, points_;
  std::vector<Askable> askables_;
  mutable std::mutex mutex_;  // of what follows
  Status status_;
  std::shared_ptr<Life> life_;
  std::vector<bench::Account> accounts_;
  std::optional<pace::Timing> timing_;
  std::optional<record::Record> record_;
  std::atomic<bool> stop_ = false;
  std::jthread thread_;
};

}  // namespace zavrek::engine::internal
