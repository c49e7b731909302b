#pragma once

#include <vector>

namespace zavrek::emt::internal {

/// Where the compiler put nodes and slots in the plant's value array. Ground, then the known nodes, then
/// the unknown ones, each group of nodes in lanes of its own; lanes without a node stay zero.
struct Layout {
  std::vector<int> node_position;  // per node
  std::vector<int> slot_position;  // per slot; -1 for one that is a share of others
  std::vector<int> unknown;        // per position up to `voltages`: number among the unknown nodes, or -1
  int unknowns = 0;
  int voltages = 0;  // positions of ground, known and unknown nodes
  int valves = 0;    // position of the valves' values
  int values = 0;    // length of the array
};

}  // namespace zavrek::emt::internal
