// Keeps what a run shows: values at each sample, points where they change. All of the run, or, when it is
// open-ended, the latest stretch of it.
#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/exchange.hpp"
#include "zavrek/record.hpp"

namespace zavrek::bench::internal {

class Recorder {
 public:
  /// Room for so many samples at a rate; what comes beyond is left out, or, in a `ring`, takes the place of
  /// the oldest.
  Recorder(std::size_t samples, double rate_Hz, bool ring);

  // --- before the run ---------------------------------------------------------------------------
  /// A column; the value is looked up by its id at each sample.
  void add(record::Analog as, ValueId from);
  [[nodiscard]] bool has(const std::string& analog) const { return record_.find_analog(analog) != nullptr; }
  /// A two-state column, named `as`.
  void add(PointId point, std::string as, bool on);
  [[nodiscard]] bool has_binary(const std::string& name) const {
    return record_.find_binary(name) != nullptr;
  }
  [[nodiscard]] record::Record& head() noexcept { return record_; }

  /// All that is shown has its place.
  void begin(const Exchange& exchange);

  // --- during it --------------------------------------------------------------------------------
  void sample(const Exchange& exchange) noexcept;
  /// From the next sample on.
  void change(PointId point, bool on) noexcept;

  /// The record in order of time, with the events of `exchange` as text.
  [[nodiscard]] record::Record take(const Exchange& exchange);

 private:
  struct Column {
    ValueId from;
    double* samples;
    std::size_t place = 0;  // of `from` among what is shown
  };
  /// Written where it changes: `since` is the number of the first sample that is not.
  struct Lane {
    std::uint8_t* samples;
    long long since = 0;
    bool on = false;
  };
  static constexpr std::size_t none = static_cast<std::size_t>(-1);
  [[nodiscard]] std::size_t place(long long sample) const noexcept {
    return ring_ ? static_cast<std::size_t>(sample) % samples_ : static_cast<std::size_t>(sample);
  }
  void write(Lane& lane) noexcept;

  std::size_t samples_;
  double rate_Hz_;
  bool ring_;
  record::Record record_;
  std::vector<Column> columns_;
  std::vector<Lane> lanes_;
  std::vector<std::size_t> lane_of_point_;
  std::vector<bool> is_position_;
  long long taken_ = 0;  // samples
};

}  // namespace zavrek::bench::internal
