// Where values stand in a written-out step: ground, known nodes, unknown nodes as the plant orders them, then
// slots, the voltages of valves, and last what is set from outside. Unlike the plant's they stand without
// gaps.
#pragma once

#include <string>
#include <vector>

#include "emt/compile/compile.hpp"

namespace zavrek::emt::internal {

class WrittenPlaces {
 public:
  explicit WrittenPlaces(const Compiled& compiled);

  [[nodiscard]] int of(NodeId node) const { return of_node_[static_cast<std::size_t>(node)]; }
  /// -1 for one without a place.
  [[nodiscard]] int of(Slot slot) const {
    return slot.index < 0 ? -1 : of_slot_[static_cast<std::size_t>(slot.index)];
  }
  [[nodiscard]] int of_valve_voltage(std::size_t valve) const {
    return first_valve_ + static_cast<int>(valve);
  }
  /// Of a position in the plant's value array.
  [[nodiscard]] int of_position(int position) const {
    return of_position_[static_cast<std::size_t>(position)];
  }
  /// Number among the unknown nodes by position in the plant's value array, else -1.
  [[nodiscard]] std::vector<int> unknown_of_position() const;

  [[nodiscard]] int first_unknown() const { return first_unknown_; }
  [[nodiscard]] int unknowns() const { return unknowns_; }
  [[nodiscard]] int settings() const { return settings_; }
  [[nodiscard]] int values() const { return static_cast<int>(start_.size()); }
  [[nodiscard]] const std::vector<double>& start() const { return start_; }
  /// What stands at each place: a node's name, or that of the signal that is it.
  [[nodiscard]] const std::vector<std::string>& names() const { return names_; }

 private:
  int take(int position, std::string name);

  const Compiled& compiled_;
  std::vector<int> of_node_, of_slot_, of_position_;
  std::vector<double> start_;
  std::vector<std::string> names_;
  int first_unknown_ = 0, unknowns_ = 0, first_valve_ = 0, settings_ = 0;
};

}  // namespace zavrek::emt::internal
