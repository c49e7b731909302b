#include "emt/written/places.hpp"

#include <algorithm>

namespace zavrek::emt::internal {

int WrittenPlaces::take(int position, std::string name) {
  const int place = static_cast<int>(start_.size());
  of_position_[static_cast<std::size_t>(position)] = place;
  start_.push_back(compiled_.core->at.present[static_cast<std::size_t>(position)]);
  names_.push_back(std::move(name));
  return place;
}

WrittenPlaces::WrittenPlaces(const Compiled& compiled)
    : compiled_(compiled),
      of_node_(compiled.layout.node_position.size()),
      of_slot_(compiled.layout.slot_position.size(), -1),
      of_position_(compiled.core->at.present.size(), -1) {
  const Layout& layout = compiled.layout;
  std::vector<NodeId> nodes;
  for (NodeId node = 0; node < static_cast<NodeId>(of_node_.size()); ++node) nodes.push_back(node);
  const auto position = [&](NodeId node) { return layout.node_position[static_cast<std::size_t>(node)]; };
  std::sort(nodes.begin(), nodes.end(), [&](NodeId a, NodeId b) { return position(a) < position(b); });
  for (const NodeId node : nodes) {
    of_node_[static_cast<std::size_t>(node)] = take(position(node), compiled.assembly->node_name(node));
    if (position(node) < compiled.core->map.first_unknown) ++first_unknown_;
  }
  unknowns_ = static_cast<int>(start_.size()) - first_unknown_;

  std::vector<bool> is_setting(of_slot_.size(), false);
  for (const Knob& knob : compiled.assembly->knobs)
    is_setting[static_cast<std::size_t>(knob.slot.index)] = true;
  const auto take_slots = [&](bool settings) {
    for (std::size_t slot = 0; slot < of_slot_.size(); ++slot) {
      if (layout.slot_position[slot] >= 0 && is_setting[slot] == settings)
        of_slot_[slot] = take(layout.slot_position[slot], "");
    }
  };
  take_slots(false);
  first_valve_ = static_cast<int>(start_.size());
  for (std::size_t k = 0; k < compiled.assembly->valve_parts.size(); ++k) {
    start_.push_back(0);
    names_.push_back(compiled.assembly->valve_parts[k].owner + " across");
  }
  settings_ = static_cast<int>(start_.size());
  take_slots(true);
  for (const SignalRow& row : compiled.core->signals.rows) {
    if (row.count != 1) continue;
    const Term& term = compiled.core->signals.terms[static_cast<std::size_t>(row.first)];
    const int place = of_position(term.index);
    if (place >= first_unknown_ + unknowns_ && names_[static_cast<std::size_t>(place)].empty())
      names_[static_cast<std::size_t>(place)] = (term.coefficient < 0 ? "-" : "") + row.name;
  }
}

std::vector<int> WrittenPlaces::unknown_of_position() const {
  std::vector<int> all(of_position_.size(), -1);
  for (std::size_t k = 0; k < all.size(); ++k) {
    const int place = of_position_[k];
    if (place >= first_unknown_ && place < first_unknown_ + unknowns_) all[k] = place - first_unknown_;
  }
  return all;
}

}  // namespace zavrek::emt::internal
