// All that an engine holds: loaded cases, the run or the trials under way, what it keeps on the disk, who did
// what.
#pragma once

#include <deque>
#include <filesystem>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "engine/session.hpp"
#include "engine/store.hpp"
#include "engine/strike.hpp"
#include "engine/work.hpp"
#include "zavrek/engine.hpp"

namespace zavrek::engine::internal {

/// Why a call is not followed: HTTP status, the field that is wrong, and what is.
struct Refusal {
  int status = 400;
  std::string field, text;
};
[[noreturn]] void refuse(int status, const std::string& field, const std::string& text);

/// What somebody did.
struct Deeded {
  long long number = 0;
  std::int64_t at_utc_ns = 0;
  double time_s = 0;  ///< of the plant
  std::string who, text;
};

/// A fault that was struck in the present run.
struct Struck {
  Strike strike;
  std::string place;
  double at_s = 0;       ///< inception, by the plant's time
  double angle_rad = 0;  ///< that the voltage had; 0 where it has none
};

/// By any number of threads.
class House {
 public:
  explicit House(const EngineOptions& options);
  ~House();
  House(const House&) = delete;
  House& operator=(const House&) = delete;

  // --- cases -------------------------------------------------------------------------------------
  [[nodiscard]] std::vector<std::shared_ptr<Session>> sessions() const;
  /// Throws Refusal with the nearest name.
  [[nodiscard]] std::shared_ptr<Session> session(const std::string& name) const;
  /// A bundle that was sent: it takes the place of a case of its name that was sent before and does not run.
  std::shared_ptr<Session> take_bundle(const std::string& bytes, const std::string& name);
  void remove(const std::string& name);
  [[nodiscard]] nlohmann::json page_of(const std::string& name) const;
  /// "" for a case of this computer; else the sum of the bundle it came in.
  [[nodiscard]] std::string sum_of(const std::string& name) const;

  // --- the run -----------------------------------------------------------------------------------
  /// The session that runs, or ran last. Throws Refusal.
  [[nodiscard]] std::shared_ptr<Session> current() const;
  [[nodiscard]] std::shared_ptr<Session> current_or_null() const;
  void start(const std::shared_ptr<Session>& wanted, const Start& how);
  void stop();
  /// Stops, and goes through the same again up to an instant, with other places of faults where they are
  /// given.
  void go_back(double to_s, const std::vector<network::FaultPlace>* places);
  [[nodiscard]] Struck strike(const Strike& wanted);
  void clear();
  [[nodiscard]] std::vector<Struck> struck() const;

  // --- trials ------------------------------------------------------------------------------------
  void begin_work(const std::shared_ptr<Session>& wanted, const WorkAsked& asked);
  [[nodiscard]] Work& work() noexcept { return work_; }
  void stop_work();
  [[nodiscard]] Store& store() noexcept { return store_; }

  void stop_all();
  void note(const std::string& who, const std::string& text);
  [[nodiscard]] std::vector<Deeded> deeds(long long from) const;

 private:
  struct Loaded {
    std::shared_ptr<Session> session;
    std::filesystem::path folder;  ///< of the case
    std::string sum;               ///< of its bundle
    nlohmann::json page;
  };
  void load(const std::string& name, const std::filesystem::path& folder, const std::string& sum,
            const std::filesystem::path& within);
  void load_sent(const std::string& name);
  void keep(const Session& session, const Ended& ended);
  void require_idle(const Session* but_for) const;

  EngineOptions options_;
  Store store_;
  Work work_;
  std::mutex starting_;       // one start or stop at a time
  mutable std::mutex mutex_;  // of what follows
  std::vector<Loaded> loaded_;
  std::shared_ptr<Session> current_;
  std::vector<Struck> struck_;
  std::deque<Deeded> deeds_;
  long long next_deed_ = 0;
};

}  // namespace zavrek::engine::internal
