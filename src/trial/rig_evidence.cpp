// What a run left: outputs, breakers and commands by their times, and its record.
#include "trial/rig.hpp"

#include <algorithm>
#include <chrono>

#include <fmt/format.h>

namespace zavrek::trial::internal {

std::optional<double> Rig::first_rise(const std::string& device, const std::string& output,
                                      double from_s) const {
  for (const Mark& mark : marks_) {
    if (mark.seat < 0 || !mark.rose || mark.time_s < from_s) continue;
    const Party& party = seats_[static_cast<std::size_t>(mark.seat)].party;
    if (party.device().name == device && output == party.outputs()[static_cast<std::size_t>(mark.which)])
      return mark.time_s;
  }
  return std::nullopt;
}

int Rig::rises(const std::string& device, const std::string& output) const {
  return static_cast<int>(std::count_if(marks_.begin(), marks_.end(), [&](const Mark& mark) {
    if (mark.seat < 0 || !mark.rose) return false;
    const Party& party = seats_[static_cast<std::size_t>(mark.seat)].party;
    return party.device().name == device && party.outputs()[static_cast<std::size_t>(mark.which)] == output;
  }));
}

std::optional<double> Rig::closed(const std::string& breaker, double from_s) const {
  for (const Mark& mark : marks_) {
    if (mark.seat >= 0 || !mark.rose || mark.time_s < from_s) continue;
    if (breakers_[static_cast<std::size_t>(mark.which)] == breaker) return mark.time_s;
  }
  return std::nullopt;
}

std::vector<protection::Seen::Change> Rig::inputs_of(const Device& device, double zero_s) const {
  std::vector<protection::Seen::Change> changes;
  for (const std::string& text : device.inputs) {
    const auto [name, source] = split_pair(text);
    if (source.starts_with(contact_prefix)) {
      const std::size_t at = wire_of(source).which;
      changes.push_back({-zero_s, name, contact_of(case_.bench.contacts[at]).closed()});
      for (const ContactTurn& turn : contact_turns_) {
        if (turn.contact == at) changes.push_back({turn.at_s - zero_s, name, turn.closed});
      }
      continue;
    }
    const bool breaker = source.find('.') == std::string::npos;
    if (breaker) {  // as it stood at the start: against the first change, or as it stands now
      const auto at =
          static_cast<std::size_t>(std::find(breakers_.begin(), breakers_.end(), source) - breakers_.begin());
      bool initial = breaker_closed_[at];
      for (auto mark = marks_.rbegin(); mark != marks_.rend(); ++mark) {
        if (mark->seat < 0 && static_cast<std::size_t>(mark->which) == at) initial = !mark->rose;
      }
      changes.push_back({-zero_s, name, initial});
    }
    for (const Mark& mark : marks_) {
      const std::string of = mark.seat < 0
                                 ? breakers_[static_cast<std::size_t>(mark.which)]
                                 : seats_[static_cast<std::size_t>(mark.seat)].party.device().name + "." +
                                       seats_[static_cast<std::size_t>(mark.seat)]
                                           .party.outputs()[static_cast<std::size_t>(mark.which)];
      if (of == source) changes.push_back({mark.time_s - zero_s, name, mark.rose});
    }
  }
  std::stable_sort(changes.begin(), changes.end(),
                   [](const auto& a, const auto& b) { return a.time_s < b.time_s; });
  return changes;
}

std::optional<double> Rig::opened(const std::string& breaker, double from_s) const {
  for (const Mark& mark : marks_) {
    if (mark.seat >= 0 || mark.rose || mark.time_s < from_s) continue;
    if (breakers_[static_cast<std::size_t>(mark.which)] == breaker) return mark.time_s;
  }
  return std::nullopt;
}

record::Record Rig::take_record(double trigger_s) {
  record_.trigger_s = trigger_s;
  for (Lane& lane : lanes_) show(lane, lane.value);
  record_.time_s.resize(rows_);
  for (auto& analog : record_.analogs) analog.samples.resize(rows_);
  for (auto& binary : record_.binaries) binary.samples.resize(rows_);
  const auto now = std::chrono::system_clock::now().time_since_epoch();
  record_.start_utc_ns = std::chrono::duration_cast<std::chrono::nanoseconds>(now).count() -
                         static_cast<std::int64_t>(plant_.time_s() * 1e9);
  for (const Mark& mark : marks_) {
    const auto which = static_cast<std::size_t>(mark.which);
    const bool of_device = mark.seat >= 0;
    std::string name;
    if (of_device) {
      const Party& party = seats_[static_cast<std::size_t>(mark.seat)].party;
      name = party.device().name + " " + party.outputs()[which];
    } else {
      name = breakers_[which];
    }
    record_.events.push_back(
        {mark.time_s, name + (of_device ? (mark.rose ? "" : " off") : (mark.rose ? " closed" : " open"))});
  }
  for (const emt::Refusal& refusal : plant_.refusals()) {
    const char* command = refusal.close ? "close" : "open";
    record_.events.push_back({refusal.time_s, fmt::format("{} {} refused by its interlocking",
                                                          plant_.name(refusal.what), command)});
  }
  std::stable_sort(record_.events.begin(), record_.events.end(),
                   [](const auto& a, const auto& b) { return a.time_s < b.time_s; });
  return std::move(record_);
}

}  // namespace zavrek::trial::internal
