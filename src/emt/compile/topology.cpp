#include "emt/compile/topology.hpp"

#include <algorithm>
#include <numeric>
#include <set>
#include <string>

#include <camd.h>

#include "emt/kinds/part_kind.hpp"

namespace zavrek::emt::internal {
namespace {

class Groups {  // union-find
 public:
  explicit Groups(int count) : parent_(static_cast<std::size_t>(count)) {
    std::iota(parent_.begin(), parent_.end(), 0);
  }
  int find(int k) {
    while (parent_[static_cast<std::size_t>(k)] != k)
      k = parent_[static_cast<std::size_t>(k)] =
          parent_[static_cast<std::size_t>(parent_[static_cast<std::size_t>(k)])];
    return k;
  }
  void join(int a, int b) { parent_[static_cast<std::size_t>(find(a))] = find(b); }

 private:
  std::vector<int> parent_;
};

/// Group number of each node; -1 for ground.
std::vector<int> group_numbers(const Assembly& assembly) {
  std::vector<int> number(static_cast<std::size_t>(assembly.node_count()), -1);
  for (std::size_t g = 0; g < assembly.groups().size(); ++g) {
    for (const NodeId node : assembly.groups()[g])
      number[static_cast<std::size_t>(node)] = static_cast<int>(g);
  }
  return number;
}

/// Pattern of one partition in groups, by columns.
std::vector<std::set<int>> pattern_of(const std::vector<int>& members, const std::vector<Entry>& entries,
                                      const std::vector<int>& group_of, std::size_t groups) {
  std::vector<int> local(groups, -1);
  for (std::size_t k = 0; k < members.size(); ++k)
    local[static_cast<std::size_t>(members[k])] = static_cast<int>(k);
  std::vector<std::set<int>> columns(members.size());
  const auto at = [&](NodeId node) {
    const int group = group_of[static_cast<std::size_t>(node)];
    return group < 0 ? -1 : local[static_cast<std::size_t>(group)];
  };
  for (const Entry& entry : entries) {
    if (at(entry.row) >= 0 && at(entry.column) >= 0)
      columns[static_cast<std::size_t>(at(entry.column))].insert(at(entry.row));
  }
  return columns;
}

/// Reorders `members`, given in an order of elimination, by their height in the elimination tree: the fill
/// stays the same, and neighbours in the new order do not wait for each other, so that the processor overlaps
/// them.
void order_by_height(std::vector<int>& members, const std::vector<int>& permutation,
                     const std::vector<std::set<int>>& columns) {
  const std::size_t n = members.size();
  std::vector<int> rank(n);
  for (std::size_t k = 0; k < n; ++k) rank[static_cast<std::size_t>(permutation[k])] = static_cast<int>(k);
  std::vector<std::set<int>> below(n);  // pattern of L in ranks
  std::vector<int> height(n, 0);
  for (std::size_t k = 0; k < n; ++k) {
    for (const int other : columns[static_cast<std::size_t>(permutation[k])]) {
      const int r = rank[static_cast<std::size_t>(other)];
      if (r > static_cast<int>(k)) below[k].insert(r);
    }
  }
  for (std::size_t k = 0; k < n; ++k) {
    if (below[k].empty()) continue;
    const auto parent = static_cast<std::size_t>(*below[k].begin());
    for (const int row : below[k]) {
      if (row != static_cast<int>(parent)) below[parent].insert(row);
    }
    height[parent] = std::max(height[parent], height[k] + 1);
  }
  std::vector<std::size_t> sequence(n);
  std::iota(sequence.begin(), sequence.end(), 0);
  std::stable_sort(sequence.begin(), sequence.end(),
                   [&](std::size_t a, std::size_t b) { return height[a] < height[b]; });
  const std::vector<int> given = members;
  for (std::size_t k = 0; k < n; ++k) members[k] = given[sequence[k]];
}

void order(std::vector<int>& members, const std::vector<std::set<int>>& columns,
           const std::vector<bool>& varies) {
  std::vector<int> start{0};
  std::vector<int> rows;
  std::vector<int> constraint;
  for (std::size_t k = 0; k < members.size(); ++k) {
    rows.insert(rows.end(), columns[k].begin(), columns[k].end());
    start.push_back(static_cast<int>(rows.size()));
    constraint.push_back(varies[static_cast<std::size_t>(members[k])] ? 1 : 0);
  }
  // CAMD numbers constraint sets from zero without gaps.
  if (std::find(constraint.begin(), constraint.end(), 0) == constraint.end()) {
    std::fill(constraint.begin(), constraint.end(), 0);
  }
  const int n = static_cast<int>(members.size());
  std::vector<int> permutation(members.size());
  if (camd_order(n, start.data(), rows.data(), permutation.data(), nullptr, nullptr, constraint.data()) >=
      CAMD_OK) {
    std::vector<int> ordered;
    for (const int k : permutation) ordered.push_back(members[static_cast<std::size_t>(k)]);
    members = std::move(ordered);
    order_by_height(members, permutation, columns);
  }
}

}  // namespace

namespace {

/// What hangs together by parts of the kinds that count, and by what imposes voltages.
template <class Counts>
Groups islands_of(const Assembly& assembly, Counts&& counts) {
  Groups islands(assembly.node_count());
  for (const PartKind* kind : part_kinds()) {
    if (counts(kind)) kind->visit_ends(assembly, [&](const Ends& ends) { islands.join(ends.p, ends.q); });
  }
  for (const auto& known : assembly.known_nodes) islands.join(known.node, ground_node);
  return islands;
}

}  // namespace

void note_held_by_valves(Assembly& assembly) {
  if (assembly.valve_parts.empty()) return;
  Groups islands =
      islands_of(assembly, [](const PartKind* kind) { return kind != &valve_kind() && kind != &leg_kind(); });
  for (const network::Bus& bus : assembly.network().buses) {
    const std::vector<NodeId> nodes = assembly.nodes(bus.name);
    const auto tied = [&](NodeId node) { return islands.find(node) == islands.find(ground_node); };
    if (std::none_of(nodes.begin(), nodes.end(), tied))
      assembly.note(
          "bus." + bus.name + ": " + held_by_valves +
          ": its voltage to ground is what their leakage makes of it; a resistance from there to ground "
          "settles it");
  }
}

void refuse_floating(const Assembly& assembly) {
  Groups islands = islands_of(assembly, [](const PartKind*) { return true; });
  std::vector<Flaw> flaws;
  std::set<std::string> named;
  for (NodeId node = 1; node < assembly.node_count(); ++node) {
    if (islands.find(node) == islands.find(ground_node)) continue;
    std::string name = assembly.node_name(node);
    name = name.substr(0, name.rfind('.'));
    if (!named.insert(name).second) continue;
    flaws.push_back(
        {.file = {},
         .place = assembly.network().find_bus(name) ? "bus." + name : name,
         .field = {},
         .text = "floats: nothing ties it to ground; connect a source, a grounded star, a capacitance or "
                 "a load between it and ground"});
  }
  if (!flaws.empty()) throw Error(std::move(flaws));
}

Topology find_topology(const Assembly& assembly, const std::vector<Entry>& entries) {
  const std::vector<int> group_of = group_numbers(assembly);
  const auto count = static_cast<std::size_t>(assembly.node_count());
  Topology t;
  t.known.assign(count, false);
  t.known[0] = true;
  for (const KnownNode& known : assembly.known_nodes) t.known[static_cast<std::size_t>(known.node)] = true;
  t.varies.assign(assembly.groups().size(), false);
  t.partition_of.assign(count, -1);

  Groups joined(static_cast<int>(assembly.groups().size()));
  const auto join = [&](NodeId a, NodeId b) {
    if (t.known[static_cast<std::size_t>(a)] || t.known[static_cast<std::size_t>(b)]) return;
    joined.join(group_of[static_cast<std::size_t>(a)], group_of[static_cast<std::size_t>(b)]);
  };
  for (const Entry& entry : entries) join(entry.row, entry.column);
  for (const ModelPart& part : assembly.model_parts) {
    if (!part.model->varies()) continue;
    for (const Ends& ends : part.ends) {
      for (const NodeId node : {ends.p, ends.q}) {
        if (!t.known[static_cast<std::size_t>(node)])
          t.varies[static_cast<std::size_t>(group_of[static_cast<std::size_t>(node)])] = true;
      }
    }
  }

  std::vector<int> number(assembly.groups().size(), -1);
  for (std::size_t g = 0; g < assembly.groups().size(); ++g) {
    const auto& group = assembly.groups()[g];
    if (t.known[static_cast<std::size_t>(group[0])]) continue;
    int& at = number[static_cast<std::size_t>(joined.find(static_cast<int>(g)))];
    if (at < 0) {
      at = static_cast<int>(t.members.size());
      t.members.emplace_back();
    }
    for (const NodeId node : group) t.partition_of[static_cast<std::size_t>(node)] = at;
    t.members[static_cast<std::size_t>(at)].push_back(static_cast<int>(g));
  }
  for (auto& members : t.members)
    order(members, pattern_of(members, entries, group_of, group_of.size()), t.varies);
  return t;
}

}  // namespace zavrek::emt::internal
