// What a disturbance recorder waits for: conditions on signals and points at its samples.
#pragma once

#include <complex>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/bench/exchange.hpp"
#include "zavrek/protection/measuring.hpp"

namespace zavrek::bench::internal {

/// Root mean square over the latest nominal cycle.
class RmsOfCycle {
 public:
  explicit RmsOfCycle(std::size_t samples) : squares_(samples, 0.0) {}
  void push(double value) noexcept;
  void visit_state(StateArchive& archive) { archive(squares_, at_, whole_, sum_); }
  [[nodiscard]] bool whole() const noexcept { return whole_; }
  [[nodiscard]] double get() const noexcept;

 private:
  std::vector<double> squares_;
  std::size_t at_ = 0;
  bool whole_ = false;
  double sum_ = 0;
};

/// Frequency from the turn of the phasor in the latest nominal cycle (A. G. Phadke, J. S. Thorp,
/// "Synchronized Phasor Measurements and Their Applications", ch. 4), its mean over half a cycle, in which
/// the ripple of a phasor off its nominal frequency goes round once; two and a half cycles behind. Unknown
/// while the signal is below a fifth of what it was at most.
class FrequencyOfPhasor {
 public:
  FrequencyOfPhasor(int samples_per_cycle, double nominal_Hz);
  void push(double value) noexcept;
  void visit_state(StateArchive& archive) {
    phasor_.visit_state(archive);
    archive(past_, found_Hz_, found_at_, at_, pushed_, frequency_Hz_, most_, known_);
  }
  [[nodiscard]] bool known() const noexcept { return known_; }
  [[nodiscard]] double get_Hz() const noexcept { return frequency_Hz_; }

 private:
  protection::RunningPhasor phasor_;
  std::vector<protection::Phasor> past_;
  std::vector<double> found_Hz_;  // of half a cycle
  std::size_t found_at_ = 0;
  std::size_t at_ = 0;
  int pushed_ = 0;
  double nominal_Hz_, frequency_Hz_, most_ = 0;
  bool known_ = false;
};

class Trigger {
 public:
  /// As the file has it, for samples at `rate_Hz`. Throws Error that says what is not understood.
  Trigger(std::string text, Exchange& exchange, double rate_Hz);
  /// Once for each sample: whether it comes true with this one. What is true from its first moment on does
  /// not.
  [[nodiscard]] bool comes_true(const Exchange& exchange) noexcept;
  void visit_state(StateArchive& archive);
  [[nodiscard]] const std::string& text() const noexcept { return text_; }

 private:
  struct Term {
    enum class What : char { point, value, magnitude, slope, rms, frequency } what = What::point;
    bool negated = false, above = true;
    PointId point;
    ValueId value;
    double level = 0;
    std::optional<double> before;  // of a slope
    std::optional<RmsOfCycle> rms;
    std::optional<FrequencyOfPhasor> frequency;
  };
  [[nodiscard]] Term term_of(const std::string& text, Exchange& exchange) const;
  /// Nothing while it is not known.
  [[nodiscard]] std::optional<bool> holds(Term& term, const Exchange& exchange) const noexcept;

  std::string text_;
  double rate_Hz_;
  std::vector<Term> terms_;
  long long lasting_ = 0, held_ = 0;  // samples
  bool known_ = false, true_ = false;
};

}  // namespace zavrek::bench::internal
