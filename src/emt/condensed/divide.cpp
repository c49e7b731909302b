// How a condensed part is divided (divided.hpp), once and for all: which of its nodes are at the junction,
// what hangs together between them, and what of the part each area and the junction takes.
#include <algorithm>
#include <map>
#include <numeric>

#include "emt/condensed/divided.hpp"

namespace zavrek::emt::internal {
namespace {

/// Numbers that an area of its own saves at least: it costs a product more.
constexpr long long least_saved = 200;
/// Breakers' and knobs' conductances that two areas may bring together.
constexpr std::size_t most_joined = 6;

/// Sets that are joined one by one.
class Classes {
 public:
  explicit Classes(std::size_t count) : leader_(count) { std::iota(leader_.begin(), leader_.end(), 0); }
  int leader(int of) {
    int& its = leader_[static_cast<std::size_t>(of)];
    return its == of ? of : its = leader(its);
  }
  void join(int a, int b) { leader_[static_cast<std::size_t>(leader(b))] = leader(a); }

 private:
  std::vector<int> leader_;
};

/// Visits the entries of the part's matrix that stand, but for those of lanes that hold no node.
template <class Visit>
void for_each_given(const Partition& partition, Visit&& visit) {
  const auto& holds = partition.holds_node();
  const auto& given = partition.given();
  for (int column = 0; column < given.outerSize(); ++column) {
    if (!holds[static_cast<std::size_t>(column)]) continue;
    for (Eigen::SparseMatrix<double>::InnerIterator it(given, column); it; ++it) {
      const auto row = static_cast<int>(it.row());
      if (holds[static_cast<std::size_t>(row)] && it.value() != 0) visit(row, column, it.value());
    }
  }
}

}  // namespace

class Divided::Plan {
 public:
  /// What an area has to do with.
  struct Extent {
    std::set<int> columns;  // of the drive
    std::set<int> ends;     // nodes of the junction, as the partition numbers them
    std::set<int> numbers;  // of adjustable conductances
    int rows = 0;           // but for what somebody asked for
    [[nodiscard]] long long product() const {
      const auto width = static_cast<long long>(columns.size() + ends.size());
      return (static_cast<long long>(ends.size()) + rows) * width;
    }
    void take(const Extent& other) {
      columns.insert(other.columns.begin(), other.columns.end());
      ends.insert(other.ends.begin(), other.ends.end());
      numbers.insert(other.numbers.begin(), other.numbers.end());
      rows += other.rows;
    }
  };

  explicit Plan(const Whole& whole)
      : whole_(whole), holds_(whole.partition.holds_node()), at_junction_(holds_.size(), false) {
    find_junction();
    find_areas();
    find_rows();
    find_numbers();
    measure();
    join();
    name_nodes();
  }

  /// Whether a lane holds a node; the area where it is, or the junction; its number there.
  [[nodiscard]] bool holds(int node) const { return holds_[static_cast<std::size_t>(node)]; }
  [[nodiscard]] int area(int node) const { return area_[static_cast<std::size_t>(node)]; }
  [[nodiscard]] int number(int node) const { return number_[static_cast<std::size_t>(node)]; }
  /// The area that gives a row, or the junction.
  [[nodiscard]] const std::vector<int>& areas_of_rows() const { return area_of_row_; }
  /// The area, or the junction, that an adjustable conductance belongs to.
  [[nodiscard]] int area_of_number(int number) const {
    return area_of_number_[static_cast<std::size_t>(number)];
  }
  [[nodiscard]] const std::vector<Extent>& extents() const { return extents_; }
  [[nodiscard]] std::size_t nodes() const { return holds_.size(); }

  /// Of the nodes there, which from then on have the numbers of their places.
  Junction make_junction();

 private:
  /// Whether one area for both costs hardly more than two.
  static bool belong_together(const Extent& a, const Extent& b) {
    const bool few =
        a.numbers.empty() || b.numbers.empty() || a.numbers.size() + b.numbers.size() <= most_joined;
    Extent both = a;
    both.take(b);
    return few && both.product() - a.product() - b.product() < least_saved;
  }

  [[nodiscard]] bool is_at_junction(int node) const { return at_junction_[static_cast<std::size_t>(node)]; }
  Extent& extent(int area) { return extents_[static_cast<std::size_t>(area)]; }
  void find_junction();
  void find_areas();
  void find_rows();
  void find_numbers();
  void measure();
  void join();
  void name_nodes();

  const Whole& whole_;
  const std::vector<bool>& holds_;
  std::vector<bool> at_junction_;
  std::vector<int> area_, number_;  // per node
  std::vector<int> area_of_row_, area_of_number_;
  std::vector<Extent> extents_;  // per area
};

void Divided::Plan::find_junction() {
  const auto mark = [&](int node) {
    if (node >= 0) at_junction_[static_cast<std::size_t>(node)] = true;
  };
  for (const Partition::Adjustable& one : whole_.partition.adjustables()) {
    if (!whole_.switched.contains(one.number)) continue;
    mark(one.row);
    mark(one.column);
  }
  for (const Whole::Bent& one : whole_.bents) {
    mark(one.p);
    mark(one.q);
  }
}

/// What hangs together: by conductances, and as what one result is read from.
void Divided::Plan::find_areas() {
  Classes classes(holds_.size());
  const auto join_both = [&](int a, int b) {
    if (!is_at_junction(a) && !is_at_junction(b)) classes.join(a, b);
  };
  for_each_given(whole_.partition, [&](int row, int column, double) { join_both(row, column); });
  for (const Partition::Adjustable& one : whole_.partition.adjustables()) join_both(one.row, one.column);
  for (int row = 0; row < whole_.read.count(); ++row) {
    int first = -1;
    for (const auto& [node, number] : whole_.read.line(row)) {
      if (!holds(node) || is_at_junction(node)) continue;
      if (first >= 0) join_both(first, node);
      first = node;
    }
  }
  std::map<int, int> area_of_class;
  area_.assign(holds_.size(), at_junction);
  for (std::size_t node = 0; node < holds_.size(); ++node) {
    if (!holds_[node] || at_junction_[node]) continue;
    const int leader = classes.leader(static_cast<int>(node));
    area_[node] = area_of_class.try_emplace(leader, static_cast<int>(area_of_class.size())).first->second;
  }
  extents_.resize(area_of_class.size());
}

void Divided::Plan::find_rows() {
  for (int row = 0; row < whole_.read.count(); ++row) {
    int in = at_junction;
    for (const auto& [node, number] : whole_.read.line(row)) {
      if (holds(node)) in = std::max(in, area(node));
    }
    area_of_row_.push_back(in);
  }
}

/// One that touches an area belongs there, with all that it does between nodes of the junction.
void Divided::Plan::find_numbers() {
  for (const Partition::Adjustable& one : whole_.partition.adjustables()) {
    const auto number = static_cast<std::size_t>(one.number);
    if (number >= area_of_number_.size()) area_of_number_.resize(number + 1, at_junction);
    const int in = std::max(area(one.row), area(one.column));
    int& first = area_of_number_[number];
    if (in >= 0 && (first < 0 || in < first)) first = in;
  }
}

void Divided::Plan::measure() {
  const auto touch = [&](int a, int b) {
    if (area(a) >= 0 && area(b) < 0) extent(area(a)).ends.insert(b);
  };
  for_each_given(whole_.partition, [&](int row, int column, double) { touch(row, column); });
  for (const Partition::Adjustable& one : whole_.partition.adjustables()) {
    touch(one.row, one.column);
    const int owner = area_of_number(one.number);
    for (const int node : {one.row, one.column}) {
      if (area(node) >= 0) extent(area(node)).numbers.insert(one.number);
      if (area(node) < 0 && owner >= 0) extent(owner).ends.insert(node);
    }
  }
  for (int column = 0; column < whole_.drives; ++column) {
    for (const auto& [node, number] : whole_.injected.line(column)) {
      if (holds(node) && area(node) >= 0) extent(area(node)).columns.insert(column);
    }
  }
  for (const Whole::Coupled& one : whole_.couplings) {
    if (area(one.node) >= 0) extent(area(one.node)).columns.insert(one.column);
  }
  for (int row = 0; row < whole_.read.count(); ++row) {
    const int in = area_of_row_[static_cast<std::size_t>(row)];
    if (in < 0) continue;
    Extent& its = extent(in);
    if (row < whole_.first_kept) ++its.rows;
    for (const auto& [node, number] : whole_.read.line(row)) {
      if (holds(node) && area(node) < 0) its.ends.insert(node);
    }
    for (const auto& [column, number] : whole_.direct.line(row)) {
      if (column < whole_.drives) its.columns.insert(column);
    }
  }
  for (const auto& [row, number] : whole_.scaled) {
    const int in = area_of_row_[static_cast<std::size_t>(row)];
    if (in >= 0) extent(in).numbers.insert(number);
  }
}

void Divided::Plan::join() {
  std::vector<int> name(extents_.size());
  std::iota(name.begin(), name.end(), 0);
  for (std::size_t a = 0; a < extents_.size(); ++a) {
    for (std::size_t b = a + 1; b < extents_.size();) {
      if (extents_.size() <= most_areas && !belong_together(extents_[a], extents_[b])) {
        ++b;
        continue;
      }
      extents_[a].take(extents_[b]);
      extents_.erase(extents_.begin() + static_cast<std::ptrdiff_t>(b));
      for (int& one : name) {
        if (one == static_cast<int>(b))
          one = static_cast<int>(a);
        else if (one > static_cast<int>(b))
          --one;
      }
      b = a + 1;
    }
  }
  for (std::vector<int>* areas : {&area_, &area_of_row_, &area_of_number_}) {
    for (int& area : *areas) {
      if (area >= 0) area = name[static_cast<std::size_t>(area)];
    }
  }
}

/// In the order in which the partition has them.
void Divided::Plan::name_nodes() {
  std::vector<int> next(extents_.size() + 1, 0);
  number_.assign(holds_.size(), -1);
  for (std::size_t node = 0; node < holds_.size(); ++node) {
    if (holds_[node]) number_[node] = next[static_cast<std::size_t>(area_[node] + 1)]++;
  }
}

/// Each area is a mesh between its ends.
Junction Divided::Plan::make_junction() {
  std::vector<int> nodes;
  for (std::size_t node = 0; node < holds_.size(); ++node) {
    if (holds_[node] && area_[node] < 0) nodes.push_back(static_cast<int>(node));
  }
  std::vector<std::set<int>> joined(nodes.size());
  std::vector<bool> driven(nodes.size(), false);
  const auto link = [&](int a, int b) {
    if (area(a) < 0 && area(b) < 0 && a != b) joined[static_cast<std::size_t>(number(a))].insert(number(b));
  };
  const auto drive = [&](int node) {
    if (node >= 0 && holds(node) && area(node) < 0) driven[static_cast<std::size_t>(number(node))] = true;
  };
  for_each_given(whole_.partition, [&](int row, int column, double) { link(row, column); });
  for (const Partition::Adjustable& one : whole_.partition.adjustables()) link(one.row, one.column);
  for (const Extent& its : extents_) {
    for (const int a : its.ends) {
      drive(a);
      for (const int b : its.ends) link(a, b);
    }
  }
  for (int column = 0; column < whole_.drives; ++column) {
    for (const auto& [node, number] : whole_.injected.line(column)) drive(node);
  }
  for (const Whole::Coupled& one : whole_.couplings) drive(one.node);
  for (const Whole::Bent& one : whole_.bents) {
    drive(one.p);
    drive(one.q);
  }
  Junction made(std::move(joined), driven);
  for (const int node : nodes) {
    int& its = number_[static_cast<std::size_t>(node)];
    its = made.place(its);
  }
  return made;
}

Divided::Divided(const Whole& whole) {
  Plan plan(whole);
  area_of_row_ = plan.areas_of_rows();
  areas_.resize(plan.extents().size());
  junction_ = plan.make_junction();
  for (int node = 0; node < static_cast<int>(plan.nodes()); ++node) {
    if (!plan.holds(node)) continue;
    if (plan.area(node) < 0) {
      junction_at_.emplace_back(node, plan.number(node));
      continue;
    }
    Area& area = areas_[static_cast<std::size_t>(plan.area(node))];
    area.at.push_back(node);
    ++area.nodes;
  }
  for (std::size_t k = 0; k < areas_.size(); ++k) fill_area(whole, plan, static_cast<int>(k));
  fill_junction(whole, plan);
  read_direct(whole, plan);
}

/// Whether a row follows the last of the area, or rows behind it that are not used.
bool Divided::goes_on(Area& area, const Whole& whole, int row) {
  if (area.runs.empty()) return false;
  const int next = area.runs.back().first + static_cast<int>(area.rows.size()) - area.runs.back().own;
  if (row - next >= lanes) return false;
  for (int between = next; between < row; ++between) {
    if (!whole.read.line(between).empty() || !whole.direct.line(between).empty()) return false;
  }
  for (int between = next; between < row; ++between) add_empty_row(area);
  return true;
}

void Divided::add_empty_row(Area& area) {
  area.read.close();
  area.direct.close();
  area.rows.push_back(-1);
}

/// Rows, columns and entries of an area.
void Divided::fill_area(const Whole& whole, const Plan& plan, int which) {
  Area& area = areas_[static_cast<std::size_t>(which)];
  const Plan::Extent& extent = plan.extents()[static_cast<std::size_t>(which)];
  const std::set<int>& columns = extent.columns;
  area.numbers.assign(extent.numbers.begin(), extent.numbers.end());
  for (const int node : extent.ends) area.ends.push_back(plan.number(node));
  std::sort(area.ends.begin(), area.ends.end());
  for (auto first = columns.begin(); first != columns.end();) {
    auto end = first;
    int count = 0;
    while (end != columns.end() && *end == *first + count) {
      ++end;
      ++count;
    }
    if (count > area.drives) {
      area.first_drive = *first;
      area.drives = count;
    }
    first = end;
  }
  for (const int column : columns) {
    if (column < area.first_drive || column >= area.first_drive + area.drives)
      area.other_drives.push_back(column);
  }
  const int drives = area.all_drives(), ends = static_cast<int>(area.ends.size());
  const auto column_at = [&](int column) {
    if (column >= area.first_drive && column < area.first_drive + area.drives)
      return column - area.first_drive;
    const auto& others = area.other_drives;
    return area.drives +
           static_cast<int>(std::lower_bound(others.begin(), others.end(), column) - others.begin());
  };
  const auto end_at = [&](int node) {
    return static_cast<int>(std::lower_bound(area.ends.begin(), area.ends.end(), plan.number(node)) -
                            area.ends.begin());
  };
  const auto place_at = [&](int node) {
    return plan.area(node) < 0 ? area.nodes + end_at(node) : plan.number(node);
  };
  for_each_given(whole.partition, [&](int row, int column, double siemens) {
    if (std::max(plan.area(row), plan.area(column)) != which) return;
    area.standing.push_back({place_at(row), place_at(column), siemens});
    // What joins a node of the junction to the area stands in the area whole.
    if (plan.area(row) < 0) area.standing.push_back({place_at(row), place_at(row), -siemens});
  });
  for (const Partition::Adjustable& one : whole.partition.adjustables()) {
    const int in = std::max(plan.area(one.row), plan.area(one.column));
    const bool owns = in == which || (in < 0 && plan.area_of_number(one.number) == which);
    if (owns) area.adjustables.push_back({place_at(one.row), place_at(one.column), one.number, one.sign});
  }
  for (const int column : columns) {
    for (const auto& [node, number] : whole.injected.line(column)) {
      if (plan.holds(node) && plan.area(node) == which)
        area.injected.push_back({place_at(node), column_at(column), number});
    }
  }
  for (const Whole::Coupled& one : whole.couplings) {
    if (plan.area(one.node) == which)
      area.couplings.push_back({place_at(one.node), one.coupling, column_at(one.column)});
  }
  for (int row = 0; row < whole.read.count(); ++row) {
    if (area_of(row) != which) continue;
    if (!goes_on(area, whole, row)) {
      while (area.rows.size() % lanes != 0) add_empty_row(area);
      area.runs.push_back({{}, row, static_cast<int>(area.rows.size())});
    }
    for (const auto& [node, number] : whole.read.line(row)) {
      if (plan.holds(node)) area.read.append(place_at(node), number);
    }
    for (const auto& [column, number] : whole.direct.line(row)) {
      if (column < whole.drives) area.direct.append(column_at(column), number);
    }
    area.read.close();
    area.direct.close();
    for (const auto& [scaled, number] : whole.scaled) {
      if (scaled == row) area.scaled.emplace_back(static_cast<int>(area.rows.size()), number);
    }
    area.rows.push_back(row);
  }
  while (area.rows.size() % lanes != 0) add_empty_row(area);
  area.result_row = in_lines(ends);
  const int results = static_cast<int>(area.rows.size());
  area.currents.divide(area.result_row, 0, area.height());
  area.voltages.divide(filled_up(area.nodes));
  for (std::size_t k = 0; k < area.runs.size(); ++k) {
    const int end = k + 1 < area.runs.size() ? area.runs[k + 1].own : results;
    area.runs[k].own += area.result_row;
    area.runs[k].rows.divide(end + area.result_row - area.runs[k].own, area.runs[k].own, area.height());
  }
  const auto width = static_cast<std::size_t>(filled_up(drives + ends));
  const auto places = static_cast<std::size_t>(area.nodes + ends);
  area.conductances.assign(static_cast<std::size_t>(filled_up(static_cast<int>(area.numbers.size()))), 0.0);
  area.x.assign(width + lanes, 0.0);
  area.out.assign(static_cast<std::size_t>(area.result_row + results), 0.0);
  area.matrix.assign(places * places, 0.0);
  area.response.assign(places * width, 0.0);
  area.line.assign(width, 0.0);
  area.out.resize(std::max(area.out.size(), static_cast<std::size_t>(area.voltages.count())));
  if (nothing_.size() < area.out.size()) nothing_.assign(area.out.size(), 0.0);
}

/// What joins the nodes of the junction beside areas, and what drives them.
void Divided::fill_junction(const Whole& whole, const Plan& plan) {
  const auto here = [&](int node) { return plan.holds(node) && plan.area(node) < 0; };
  for_each_given(whole.partition, [&](int row, int column, double siemens) {
    if (!here(row)) return;
    // All of a row is what joins it to earth.
    const int at = plan.number(row);
    given_.push_back({at, at, siemens});
    if (here(column) && at < plan.number(column)) given_.push_back({at, plan.number(column), -siemens});
  });
  std::map<std::array<int, 2>, double> to_earth;  // node, number
  for (const Partition::Adjustable& one : whole.partition.adjustables()) {
    if (!here(one.row) || plan.area_of_number(one.number) >= 0) continue;
    to_earth[{plan.number(one.row), one.number}] += one.sign;
    if (here(one.column) && plan.number(one.row) < plan.number(one.column))
      junction_.add_adjustable(plan.number(one.row), plan.number(one.column), one.number, -one.sign);
  }
  for (const auto& [at, sign] : to_earth) {
    if (sign != 0) junction_.add_adjustable(at[0], at[0], at[1], sign);
  }
  for (int column = 0; column < whole.injected.count(); ++column) {
    Source source{-1, -1, column - whole.drives};
    for (const auto& [node, number] : whole.injected.line(column)) {
      if (!here(node)) continue;
      if (column < whole.drives)
        drives_.push_back({plan.number(node), column, number});
      else
        (number > 0 ? source.p : source.q) = plan.number(node);
    }
    if (column >= whole.drives) sources_.push_back(source);
  }
  for (const Whole::Coupled& one : whole.couplings) {
    if (here(one.node)) couplings_.push_back({plan.number(one.node), one.coupling, one.column});
  }
  coupled_.assign(couplings_.size(), 0.0);
  for (const Whole::Bent& one : whole.bents)
    bents_.push_back({one.p < 0 ? -1 : plan.number(one.p), one.q < 0 ? -1 : plan.number(one.q), one.column});
  slopes_.assign(bents_.size(), 0.0);
  // Behind all places one that what stands nowhere is added to.
  standing_currents_.assign(static_cast<std::size_t>(junction_.places()) + 1, 0.0);
  for (auto& [p, q, source] : sources_) {
    for (int* const node : {&p, &q}) {
      if (*node < 0) *node = junction_.places();
    }
  }
}

/// Results that need no area.
void Divided::read_direct(const Whole& whole, const Plan& plan) {
  for (int row = 0; row < whole.read.count(); ++row) {
    if (area_of(row) != at_junction) continue;
    std::vector<SparseLines::Entry> nodes;
    for (const auto& [node, number] : whole.read.line(row)) {
      if (plan.holds(node)) nodes.push_back({plan.number(node), number});
    }
    const auto direct = whole.direct.line(row);
    if (nodes.empty() && direct.empty()) continue;
    const auto scaled = std::find_if(whole.scaled.begin(), whole.scaled.end(),
                                     [&](const auto& one) { return one.first == row; });
    const bool is_scaled = scaled != whole.scaled.end();
    if (!is_scaled && direct.empty() && nodes.size() == 2 && nodes[0].number * nodes[1].number == -1 &&
        (nodes[0].number == 1 || nodes[1].number == 1)) {
      if (nodes[0].number < 0) std::swap(nodes[0], nodes[1]);
      differences_.push_back({row, nodes[0].at, nodes[1].at});
      continue;
    }
    if (is_scaled) scaled_.emplace_back(row, scaled->second);
    for (const auto& [node, number] : nodes) read_.push_back({row, node, number});
    for (const auto& [column, number] : direct) {
      if (column < whole.drives) direct_.push_back({row, column, number});
    }
    other_rows_.push_back(row);
  }
  scales_.assign(scaled_.size(), 1.0);
  // Four that begin a group of lanes go together.
  const auto in_fours = [&](std::size_t k) {
    if (k + lanes > differences_.size() || differences_[k].row % lanes != 0) return false;
    return differences_[k + lanes - 1].row == differences_[k].row + lanes - 1;
  };
  std::vector<Difference> single;
  for (std::size_t k = 0; k < differences_.size();) {
    if (!in_fours(k)) {
      single.push_back(differences_[k++]);
      continue;
    }
    Differences four{differences_[k].row, {}, {}};
    for (std::size_t l = 0; l < lanes; ++l, ++k) {
      four.p[l] = differences_[k].p;
      four.q[l] = differences_[k].q;
    }
    fours_.push_back(four);
  }
  differences_ = std::move(single);
}

}  // namespace zavrek::emt::internal
