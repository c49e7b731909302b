// Trials, or a whole programme of a case, carried out by the engine on a thread of its own.
#pragma once

#include <atomic>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

#include <nlohmann/json.hpp>

#include "engine/session.hpp"
#include "engine/store.hpp"

namespace zavrek::engine::internal {

struct WorkAsked {
  std::string kind;                 ///< "trials" or "programme"
  std::vector<std::string> trials;  ///< by name; all when empty
  std::string place;
  bool free = false;
};

class Work {
 public:
  explicit Work(Store& store) : store_(store) {}
  ~Work() { stop(); }
  Work(const Work&) = delete;
  Work& operator=(const Work&) = delete;

  /// The session may not run meanwhile. By one thread at a time, as `stop`. Throws Error.
  void begin(std::shared_ptr<Session> session, const WorkAsked& asked);
  /// Waits until what is under way has ended.
  void stop();
  [[nodiscard]] bool under_way() const;
  /// State, what is done of how much, results so far.
  [[nodiscard]] nlohmann::json status() const;

 private:
  void carry_out(const WorkAsked& asked, const std::vector<const trial::Trial*>& trials);
  void run_trials(const WorkAsked& asked, const std::vector<const trial::Trial*>& trials);
  void run_programme(const WorkAsked& asked);
  void note(nlohmann::json result, long long done, long long of);

  Store& store_;
  std::shared_ptr<Session> session_;
  mutable std::mutex mutex_;  // of what follows
  nlohmann::json status_{{"state", "idle"},   {"kind", ""},   {"case", nullptr},
                         {"done", 0},         {"of", 0},      {"results", nlohmann::json::array()},
                         {"result", nullptr}, {"failure", ""}};
  std::atomic<bool> stop_ = false;
  std::jthread thread_;
};

}  // namespace zavrek::engine::internal
