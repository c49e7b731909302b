#pragma once

#include <array>
#include <complex>
#include <limits>
#include <span>
#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::protection {

using network::Table;
using network::TableOf;
using network::unset;

/// One set of instantaneous values as a relay samples them: three phases and neutral (residual).
struct Sample {
  std::array<double, 4> current_A{};
  std::array<double, 4> voltage_V{};
};

/// Inverse-time characteristic t = T (a / (M^p - 1) + b), M the multiple of pickup, T the time
/// multiplier: IEC 60255-151:2009 annex A, IEEE C37.112-2018.
struct Curve {
  std::string name;
  double a_s = 0;
  double p = 1;
  double b_s = 0;
  /// Infinite at and below pickup.
  [[nodiscard]] double time_s(double multiple, double time_multiplier) const;
};
[[nodiscard]] std::span<const Curve> curves();
/// Null when no curve has that name.
[[nodiscard]] const Curve* find_curve(std::string_view name);

/// One overcurrent stage.
struct Stage {
  std::string name;
  std::string quantity = "phase";           ///< "phase": the largest; "earth": the residual current
  std::string characteristic = "definite";  ///< or the name of a curve
  double pickup_A = unset;                  ///< primary or secondary, as the relay's `amperes` says
  double delay_s = unset;                   ///< definite only
  double time_multiplier = 1;               ///< curves only
  double drop_off = 0.95;                   ///< fraction of pickup
  double flat_above = 20;                   ///< multiple of pickup beyond which a curve gets no faster

  /// Operating time at a constant `current_A` in the amperes of the setting; infinite when it never operates.
  [[nodiscard]] double operate_time_s(double current_A) const;
};
const Table& table(const Stage*);

/// Settings of an overcurrent relay.
struct RelaySettings {
  std::string name;
  std::string amperes = "primary";  ///< in which the pickups are: "primary" or "secondary"
  double ct_primary_A = unset;
  double ct_secondary_A = 1;
  std::string earth = "sum";  ///< residual from the "sum" of phases or the "neutral" channel
  std::vector<Stage> stages;

  /// Amperes of the settings per primary ampere.
  [[nodiscard]] double scale() const { return amperes == "secondary" ? ct_secondary_A / ct_primary_A : 1; }
};
const Table& table(const RelaySettings*);

/// Settings that cannot work: no stage, a definite stage without delay, a CT ratio missing for secondary
/// amperes, a stage that can never operate before another one does.
[[nodiscard]] std::vector<Flaw> validate(const RelaySettings& settings);

/// Full-cycle Fourier estimate of the fundamental over a sliding window of one nominal cycle:
/// X = (2/N) sum x[k] exp(-j 2 pi k / N), peak phasor, its angle relative to the newest sample.
class CyclePhasor {
 public:
  /// `samples_per_cycle`: at least 4.
  explicit CyclePhasor(int samples_per_cycle);
  void push(double value) noexcept;
  void clear() noexcept;
  [[nodiscard]] std::complex<double> peak() const noexcept;
  [[nodiscard]] double rms() const noexcept;

 private:
  int length_;
  int newest_ = 0;
  std::vector<double> window_;  // 2 * length: each sample twice, so that any cycle is contiguous
  std::vector<double> cosine_;  // length
  std::vector<double> sine_;    // length
};

/// Overcurrent relay working sample by sample. Instantaneous reset; inverse stages integrate 1/t(M).
class OvercurrentRelay {
 public:
  /// Throws Error when `validate` finds flaws. `rate_Hz` / `frequency_Hz` samples make a cycle.
  OvercurrentRelay(RelaySettings settings, double rate_Hz, double frequency_Hz);

  /// One sample in primary amperes. No allocation.
  void push(const Sample& sample) noexcept;
  void reset() noexcept;

  [[nodiscard]] bool start() const noexcept { return start_; }
  [[nodiscard]] bool trip() const noexcept { return trip_; }
  [[nodiscard]] bool stage_start(std::size_t stage) const noexcept { return states_[stage].started; }
  [[nodiscard]] bool stage_trip(std::size_t stage) const noexcept { return states_[stage].tripped; }
  [[nodiscard]] const RelaySettings& settings() const noexcept { return settings_; }
  /// Primary amperes, rms of the fundamental: the largest phase, and the residual.
  [[nodiscard]] double phase_rms_A() const noexcept { return phase_A_; }
  [[nodiscard]] double earth_rms_A() const noexcept { return earth_A_; }

 private:
  struct StageState {
    const Curve* curve = nullptr;  // null for a definite stage
    bool started = false;
    bool tripped = false;
    double progress = 0;  // of 1
  };
  void advance(const Stage& stage, StageState& state, double current_A) noexcept;

  RelaySettings settings_;
  double interval_s_;
  std::vector<CyclePhasor> phasors_;  // a, b, c, neutral
  std::vector<StageState> states_;
  bool start_ = false;
  bool trip_ = false;
  double phase_A_ = 0;
  double earth_A_ = 0;
};

/// When the composite of all stages should operate under the given course of currents (rms, primary,
/// at `interval_s`), from the settings alone: the earliest instant at which a stage's integral of
/// 1/t(I) reaches one while its current stays above pickup. Infinite when none does.
struct ExpectedOperation {
  double time_s = std::numeric_limits<double>::infinity();
  std::string stage;
};
[[nodiscard]] ExpectedOperation expected_operation(const RelaySettings& settings,
                                                   std::span<const double> phase_rms_A,
                                                   std::span<const double> earth_rms_A, double interval_s);

}  // namespace zavrek::protection
