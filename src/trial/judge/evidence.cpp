#include "trial/judge/evidence.hpp"

#include <algorithm>

#include "bench/names.hpp"

namespace zavrek::trial::internal {
namespace {

/// "Q1.closed" for the position of Q1, which is recorded under that name.
std::string column_of(const record::Record& record, const std::string& point) {
  std::string position = point + ".closed";
  return record.find_binary(position) ? position : point;
}

}  // namespace

void complete_events(record::Record& record) {
  for (const record::Event& event : record.events) {
    if (!event.of.empty()) return;
  }
  for (const record::Binary& binary : record.binaries) {
    for (std::size_t k = 1; k < binary.samples.size(); ++k) {
      const bool on = binary.samples[k] != 0;
      if (on != (binary.samples[k - 1] != 0))
        record.events.push_back({record.time_s[k], binary.name + (on ? "" : " off"), binary.name, on});
    }
  }
  std::stable_sort(record.events.begin(), record.events.end(),
                   [](const auto& a, const auto& b) { return a.time_s < b.time_s; });
}

const record::Analog& analog_of(const record::Record& record, const std::string& name) {
  if (const record::Analog* analog = record.find_analog(name)) return *analog;
  std::vector<std::string> names;
  for (const record::Analog& analog : record.analogs) names.push_back(analog.name);
  throw Error("the record has no channel \"" + name + "\"" + suggestion(name, names));
}

std::optional<double> Evidence::first(const std::string& point, bool on, double from_s) const {
  const std::string column = column_of(*record_, point);
  for (const record::Event& event : record_->events) {
    if (event.of == column && event.on == on && event.time_s >= from_s) return event.time_s;
  }
  return std::nullopt;
}

int Evidence::rises(const std::string& point) const {
  const std::string column = column_of(*record_, point);
  return static_cast<int>(
      std::count_if(record_->events.begin(), record_->events.end(),
                    [&](const record::Event& event) { return event.of == column && event.on; }));
}

std::vector<protection::RecordedInputs::Change> Evidence::inputs_of(const Device& device,
                                                                    double zero_s) const {
  std::vector<protection::RecordedInputs::Change> changes;
  for (const std::string& text : device.inputs) {
    const auto [name, text_of_source] = bench::internal::split_pair(text);
    const bench::internal::Signed source = bench::internal::signed_point(text_of_source);
    const std::string column = column_of(*record_, source.name);
    if (const record::Binary* binary = record_->find_binary(column); binary && !binary->samples.empty())
      changes.push_back({-zero_s, name, (binary->samples.front() != 0) != source.reversed});
    for (const record::Event& event : record_->events) {
      if (event.of == column) changes.push_back({event.time_s - zero_s, name, event.on != source.reversed});
    }
  }
  std::stable_sort(changes.begin(), changes.end(),
                   [](const auto& a, const auto& b) { return a.time_s < b.time_s; });
  return changes;
}

}  // namespace zavrek::trial::internal
