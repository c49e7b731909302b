// A relay at work, and what its settings say it should do.
#pragma once

#include <limits>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "zavrek/protection/measuring.hpp"
#include "zavrek/protection/settings.hpp"

namespace zavrek::protection {

class Function;

/// A relay working sample by sample: measures, lets its functions decide, then its logic.
class Relay {
 public:
  /// Throws Error when `validate` finds flaws. `rate_Hz` / `frequency_Hz` samples make a cycle. `ends`:
  /// places that it reads, at least as many as its functions name.
  Relay(RelaySettings settings, double rate_Hz, double frequency_Hz, int ends = 1);
  Relay(Relay&&) noexcept;
  ~Relay();

  /// One sample of each place, in primary values. No allocation. Whether it decided, so that its signals may
  /// have changed.
  bool push(std::span<const Sample> samples) noexcept;
  bool push(const Sample& sample) noexcept { return push(std::span(&sample, 1)); }
  void reset() noexcept;

  /// All that `push`, `decide`, `set_input` and `reset` change.
  void visit_state(StateArchive& archive);

  /// The two halves of `push`: measure without deciding, and decide on something measured, held for `dt_s`.
  bool measure(std::span<const Sample> samples) noexcept { return measuring_.push(samples); }
  void decide(const Measured& measured, double dt_s) noexcept;

  [[nodiscard]] bool start() const noexcept { return bits_[0] != 0; }
  [[nodiscard]] bool trip() const noexcept { return bits_[1] != 0; }
  /// "start", "trip", then those of the settings.
  [[nodiscard]] const std::vector<std::string>& outputs() const noexcept { return outputs_; }
  [[nodiscard]] bool output(std::size_t k) const noexcept { return bits_[output_bits_[k]] != 0; }
  /// Names of its binary inputs, as its conditions use them.
  [[nodiscard]] const std::vector<std::string>& inputs() const noexcept { return inputs_; }
  void set_input(std::size_t k, bool on) noexcept { bits_[input_bits_[k]] = on ? 1 : 0; }

  /// Any signal by name, such as "phase1.trip"; throws Error with the nearest name.
  [[nodiscard]] std::size_t find_signal(const std::string& name) const;
  [[nodiscard]] bool signal(std::size_t k) const noexcept { return bits_[k] != 0; }
  [[nodiscard]] const std::vector<std::string>& signals() const noexcept { return names_; }

  /// Which function tripped the relay first, as an index of `settings().functions`; empty before.
  [[nodiscard]] std::optional<std::size_t> tripped_by() const noexcept { return tripped_by_; }
  /// The next trip is the first again.
  void await_trip() noexcept { tripped_by_.reset(); }
  /// How long before the end of the latest step that happened.
  [[nodiscard]] double tripped_before_s() const noexcept { return tripped_before_s_; }

  [[nodiscard]] const RelaySettings& settings() const noexcept { return settings_; }
  [[nodiscard]] const Measured& measured() const noexcept { return measuring_.measured(); }
  [[nodiscard]] const Measuring& measuring() const noexcept { return measuring_; }

 private:
  struct Row;

  RelaySettings settings_;
  Measuring measuring_;
  std::vector<std::string> names_;  // of all signals
  std::vector<char> bits_;          // start, trip, inputs, then those of the functions
  std::vector<std::string> outputs_, inputs_;
  std::vector<std::size_t> output_bits_, input_bits_;
  std::vector<Row> rows_;  // in the order of execution
  bool own_start_ = true, own_trip_ = true;
  std::optional<std::size_t> tripped_by_;
  double tripped_before_s_ = 0;
};

/// When a relay with these settings should trip, its measuring taking no time: each decision is made on the
/// window that begins at its instant instead of the one that ends there.
struct ExpectedOperation {
  double time_s = std::numeric_limits<double>::infinity();  ///< from the inception
  std::string stage;                                        ///< function that trips
};

/// What a relay saw: samples of each place (all of the same length) at `rate_Hz`, of which those before
/// `inception` (an index) are prefault. After the last sample the values of the last whole
/// window are held for `hold_s`.
struct RecordedInputs {
  std::vector<std::vector<Sample>> ends;
  std::size_t inception = 0;
  double rate_Hz = 4000;
  double frequency_Hz = 50;
  double hold_s = 30;
  struct Change {
    double time_s;  ///< from the inception
    std::string input;
    bool on;
  };
  std::vector<Change>
      inputs;  ///< in the order of their times; those that the relay does not know are ignored
};
[[nodiscard]] ExpectedOperation expected_operation(const RelaySettings& settings, const RecordedInputs& seen);
/// The same with all currents so many times as large, one for each of `factors`: what is measured is measured
/// once.
[[nodiscard]] std::vector<ExpectedOperation> expected_operations(const RelaySettings& settings,
                                                                 const RecordedInputs& seen,
                                                                 std::span<const double> factors);

/// Something steady at the terminals of a relay, and for how long.
struct Held {
  Measured measured;
  double for_s = 0;
};
/// The same for `during`, for `limit_s`, behind all of `past` in its order: what a relay still remembers of
/// that counts.
[[nodiscard]] ExpectedOperation expected_operation(const RelaySettings& settings, std::span<const Held> past,
                                                   const Measured& during, double limit_s);

/// The same for steady quantities: `before` long enough that all is at rest, then `during` for `limit_s`.
[[nodiscard]] ExpectedOperation expected_operation(const RelaySettings& settings, const Measured& before,
                                                   const Measured& during, double limit_s);

}  // namespace zavrek::protection
