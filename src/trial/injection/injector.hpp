// A source of samples in front of one device: in this process, in its own, or outside.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/bench.hpp"
#include "zavrek/trial/injection.hpp"

namespace zavrek::trial {
struct InjectedSequence;
}

namespace zavrek::trial::internal {

class StimulusSource;

class Injector {
 public:
  /// Starts the device where it shall be started and waits until it was heard; see `failure`.
  Injector(const protection::RelaySettings& settings, const std::filesystem::path& file,
           const InjectionOptions& options, std::size_t places);
  ~Injector();

  /// What was seen while something was injected, from its beginning.
  struct Reaction {
    std::optional<double> start_s, trip_s;  ///< first rise
    std::optional<double> start_fell_s, trip_fell_s;
    struct Edges {
      std::optional<double> rise_s, fall_s;
    };
    std::vector<Edges> outputs;  ///< of all that it sends, in the order of `outputs`
    /// What follows `at_s` later is seen as one with this.
    void add(const Reaction& next, double at_s);
  };
  enum class Until { end, start, trip, quiet };
  /// Injects for `for_s`, or until an output rises (until both are quiet), whichever comes first.
  Reaction inject(const Stimulus& stimulus, double for_s, Until until = Until::end);

  [[nodiscard]] bool start() const noexcept { return run_->exchange().on(start_); }
  /// Takes one of its outputs for its start: "start" again for the relay's own.
  void watch_as_start(const std::string& output);
  /// "start", "trip", then its own.
  [[nodiscard]] const std::vector<std::string>& outputs() const noexcept { return outputs_; }
  [[nodiscard]] bool trip() const noexcept { return run_->exchange().on(trip_); }
  /// A relay in this process forgets everything, its thermal image too; another cannot be told to.
  [[nodiscard]] bool forget();
  /// All that was injected since the device had nothing to remember.
  [[nodiscard]] const std::vector<protection::Held>& past() const noexcept { return past_; }
  /// It is known to have nothing to remember but this.
  void rested(const Stimulus& at) { past_ = {{at.measured, 1}}; }
  [[nodiscard]] bool elsewhere() const noexcept { return setup_.bench.devices[0].place != "plant"; }
  /// Why nothing more can be learnt; empty when all is well.
  [[nodiscard]] const std::string& failure() const noexcept { return failure_; }
  /// Told to stop: what it saw last is not whole.
  [[nodiscard]] bool interrupted() const noexcept { return interrupted_; }
  [[nodiscard]] std::string medium() const { return run_->medium(); }
  [[nodiscard]] double injected_s() const noexcept { return run_->exchange().time_s(); }
  /// Nothing is injected from now on; a process that it started ends and says what it counted.
  void end() { run_->end(); }
  [[nodiscard]] std::vector<bench::Account> accounts() const { return run_->accounts(); }
  [[nodiscard]] const pace::Punctuality& kept() const noexcept { return kept_; }
  [[nodiscard]] double step_s() const noexcept { return 1 / rate_Hz_; }

 private:
  bench::Setup setup_;
  double rate_Hz_;
  StimulusSource* source_;
  std::unique_ptr<bench::Run> run_;
  bench::PointId start_, trip_;
  std::vector<std::string> outputs_;
  std::vector<bench::PointId> points_;  // of the outputs
  std::string failure_;
  const std::atomic<bool>* stop_;
  bool interrupted_ = false;
  pace::Punctuality kept_;
  std::vector<protection::Held> past_;
};

/// Injects a sequence of a plan and adds a point to the report for each expectation.
void inject_sequence(const InjectedSequence& sequence, const protection::RelaySettings& approved,
                     const InjectionOptions& options, std::size_t places, Injector& injector,
                     InjectionReport& report);

}  // namespace zavrek::trial::internal
