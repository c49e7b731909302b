// A source of samples in front of one device: in this process, in its own, or outside.
#pragma once

#include <algorithm>
#include <array>
#include <memory>
#include <optional>
#include <vector>

#include "trial/party.hpp"
#include "zavrek/trial/injection.hpp"

namespace zavrek::trial::internal {

class Injector {
 public:
  /// Starts the device where it shall be started and waits until it was heard; see `failure`.
  Injector(const protection::RelaySettings& settings, const std::filesystem::path& file,
           const InjectionOptions& options, std::size_t places);

  /// What was seen while something was injected, from its beginning.
  struct Reaction {
    std::optional<double> start_s, trip_s;  ///< first rise
    std::optional<double> start_fell_s, trip_fell_s;
  };
  enum class Until { end, start, trip, quiet };
  /// Injects for `for_s`, or until an output rises (until both are quiet), whichever comes first.
  Reaction inject(const Stimulus& stimulus, double for_s, Until until = Until::end);

  [[nodiscard]] bool start() const noexcept { return party_.shown(0); }
  [[nodiscard]] bool trip() const noexcept { return party_.shown(1); }
  /// A relay in this process forgets everything, its thermal image too; another cannot be told to.
  [[nodiscard]] bool forget();
  /// Why nothing more can be learnt; empty when all is well.
  [[nodiscard]] const std::string& failure() const noexcept { return failure_; }
  [[nodiscard]] const std::string& medium() const noexcept { return medium_; }
  [[nodiscard]] double injected_s() const noexcept { return static_cast<double>(samples_) / rate_Hz_; }

 private:
  void sample(const Stimulus& stimulus, double time_s);
  void exchange();

  InjectionOptions options_;
  protection::RelaySettings settings_;
  Bench bench_;
  Device device_;
  Party party_;
  double rate_Hz_;
  double angle_rad_ = 0;
  long long samples_ = 0;
  std::vector<protection::Sample> places_;
  std::unique_ptr<wire::Link> link_;
  std::vector<wire::SampledValues> messages_;
  std::array<std::uint8_t, wire::longest_frame> frame_{};
  std::string failure_, medium_;
};

/// Injects the sequences of a plan and adds a point to the report for each expectation.
void inject_sequences(const InjectionPlan& plan, const protection::RelaySettings& approved,
                      const InjectionOptions& options, std::size_t places, Injector& injector,
                      InjectionReport& report);

}  // namespace zavrek::trial::internal
