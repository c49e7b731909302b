// What a trial left behind: its record alone, with the events in it. Nothing of the run itself.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "zavrek/trial.hpp"

namespace zavrek::trial::internal {

class Evidence {
 public:
  explicit Evidence(const record::Record& record) : record_(&record) {}
  [[nodiscard]] const record::Record& record() const noexcept { return *record_; }

  /// First instant at or after `from_s` at which a two-state signal became `on`; a position is named as its
  /// switch is. Empty when there was none.
  [[nodiscard]] std::optional<double> first(const std::string& point, bool on, double from_s) const;
  /// How often it came on.
  [[nodiscard]] int rises(const std::string& point) const;
  /// What the binary inputs of a device saw, times counted from `zero_s`.
  [[nodiscard]] std::vector<protection::RecordedInputs::Change> inputs_of(const Device& device,
                                                                          double zero_s) const;

 private:
  const record::Record* record_;
};

/// Where a record has no events of its two-state signals: those that their samples tell.
void complete_events(record::Record& record);
/// Throws Error when the record has no such channel.
[[nodiscard]] const record::Analog& analog_of(const record::Record& record, const std::string& name);

}  // namespace zavrek::trial::internal
