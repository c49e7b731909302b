#include "emt/condensed/divided.hpp"

#include <algorithm>
#include <map>
#include <numeric>

namespace zavrek::emt::internal {
namespace {

constexpr std::size_t most_areas = Divided::most_areas;
/// Breakers' and knobs' conductances that two areas may bring together.
constexpr std::size_t most_joined = 6;
/// Numbers that an area of its own saves at least: it costs a product more.
constexpr int least_saved = 200;

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

/// Factors a symmetric positive definite matrix in place as l d l^T: l below the diagonal, 1/d on it.
void factor(double* a, int n, int stride) noexcept {
  for (int j = 0; j < n; ++j) {
    // Row j of l d, until its own d is known.
    double* row = a + j * stride;
    double d = row[j];
    for (int k = 0; k < j; ++k) {
      if (row[k] == 0) continue;
      const double* of = a + k * stride;
      const double l = row[k] * of[k];
      d -= l * row[k];
      for (int i = k + 1; i < j; ++i) row[i] -= row[k] * a[i * stride + k];
      row[k] = l;
    }
    row[j] = 1 / d;
  }
}

}  // namespace

struct Divided::Plan {
  /// A node of the partition stands in an area or at the junction, and is one of its nodes.
  struct Home {
    int area = at_junction, node = -1;
  };
  std::vector<Home> home;              // per node
  std::vector<std::set<int>> ends;     // per area: nodes of the junction, as the partition numbers them
  std::vector<int> row_in;             // per row: area, or the junction
  std::vector<std::set<int>> columns;  // per area: of the drive
  std::vector<int> number_in;          // per adjustable conductance that is not switched
  [[nodiscard]] int area(int node) const { return home[static_cast<std::size_t>(node)].area; }
  [[nodiscard]] int node(int node) const { return home[static_cast<std::size_t>(node)].node; }
};

Divided::Divided(const Whole& whole) {
  Plan plan;
  plan_areas(whole, plan);
  join(whole, plan);
  for (std::size_t k = 0; k < areas_.size(); ++k) fill_area(whole, plan, static_cast<int>(k));
  fill_junction(whole, plan);
  read_direct(whole, plan);
}

/// Which nodes and rows are in which area.
void Divided::plan_areas(const Whole& whole, Plan& plan) {
  const Partition& partition = whole.partition;
  const auto& holds = partition.holds_node();
  const auto nodes = holds.size();
  std::vector<bool> between(nodes, false);
  const auto is_between = [&](int node) { return between[static_cast<std::size_t>(node)]; };
  for (const Partition::Adjustable& one : partition.adjustables()) {
    if (!whole.switched.contains(one.number)) continue;
    between[static_cast<std::size_t>(one.row)] = between[static_cast<std::size_t>(one.column)] = true;
  }
  for (const Whole::Bent& one : whole.bents) {
    for (const int node : {one.p, one.q}) {
      if (node >= 0) between[static_cast<std::size_t>(node)] = true;
    }
  }

  // What hangs together: by conductances, and as what one result is read from.
  Classes classes(nodes);
  const auto join_both = [&](int a, int b) {
    if (!is_between(a) && !is_between(b)) classes.join(a, b);
  };
  const auto& given = partition.given();
  for (int c = 0; c < given.outerSize(); ++c) {
    for (Eigen::SparseMatrix<double>::InnerIterator it(given, c); it; ++it) {
      if (it.value() != 0) join_both(static_cast<int>(it.row()), c);
    }
  }
  for (const Partition::Adjustable& one : partition.adjustables()) join_both(one.row, one.column);
  for (int row = 0; row < whole.read.count(); ++row) {
    int first = -1;
    for (const auto& [node, number] : whole.read.line(row)) {
      if (!holds[static_cast<std::size_t>(node)] || is_between(node)) continue;
      if (first >= 0) join_both(first, node);
      first = node;
    }
  }

  std::map<int, int> area_of_class;
  plan.home.assign(nodes, {});
  for (std::size_t node = 0; node < nodes; ++node) {
    if (!holds[node] || between[node]) continue;
    const int leader = classes.leader(static_cast<int>(node));
    plan.home[node].area =
        area_of_class.try_emplace(leader, static_cast<int>(area_of_class.size())).first->second;
  }
  int named = 0;
  for (std::size_t node = 0; node < nodes; ++node) {
    if (between[node]) plan.home[node].node = named++;
  }
  areas_.resize(area_of_class.size());
}

/// Joins small areas, and finds what each has to do with.
void Divided::join(const Whole& whole, Plan& plan) {
  const Partition& partition = whole.partition;
  const auto& holds = partition.holds_node();
  const int rows = whole.read.count();
  struct Sizes {
    std::set<int> columns, ends, numbers;
    int rows = 0, nodes = 0;
    [[nodiscard]] long long product() const {
      const auto width = static_cast<long long>(columns.size() + ends.size());
      return (static_cast<long long>(ends.size()) + rows) * width;
    }
  };
  std::vector<Sizes> sizes(areas_.size());
  const auto touch = [&](int a, int b) {
    if (!holds[static_cast<std::size_t>(a)] || !holds[static_cast<std::size_t>(b)]) return;
    if (plan.area(a) >= 0 && plan.area(b) < 0) sizes[static_cast<std::size_t>(plan.area(a))].ends.insert(b);
  };
  const auto& given = partition.given();
  for (int c = 0; c < given.outerSize(); ++c) {
    for (Eigen::SparseMatrix<double>::InnerIterator it(given, c); it; ++it) {
      if (it.value() != 0) touch(static_cast<int>(it.row()), c);
    }
  }
  for (const Partition::Adjustable& one : partition.adjustables()) {
    touch(one.row, one.column);
    for (const int node : {one.row, one.column}) {
      if (plan.area(node) >= 0) sizes[static_cast<std::size_t>(plan.area(node))].numbers.insert(one.number);
    }
  }
  for (int column = 0; column < whole.drives; ++column) {
    for (const auto& [node, number] : whole.injected.line(column)) {
      if (holds[static_cast<std::size_t>(node)] && plan.area(node) >= 0)
        sizes[static_cast<std::size_t>(plan.area(node))].columns.insert(column);
    }
  }
  for (const Whole::Coupled& one : whole.couplings) {
    if (plan.area(one.node) >= 0)
      sizes[static_cast<std::size_t>(plan.area(one.node))].columns.insert(one.column);
  }
  plan.row_in.assign(static_cast<std::size_t>(rows), at_junction);
  for (int row = 0; row < rows; ++row) {
    int& in = plan.row_in[static_cast<std::size_t>(row)];
    for (const auto& [node, number] : whole.read.line(row)) {
      if (holds[static_cast<std::size_t>(node)]) in = std::max(in, plan.area(node));
    }
    if (in < 0) continue;
    Sizes& its = sizes[static_cast<std::size_t>(in)];
    if (row < whole.first_kept) ++its.rows;
    for (const auto& [node, number] : whole.read.line(row)) {
      if (holds[static_cast<std::size_t>(node)] && plan.area(node) < 0) its.ends.insert(node);
    }
    for (const auto& [column, number] : whole.direct.line(row)) {
      if (column < whole.drives) its.columns.insert(column);
    }
  }
  for (const auto& [row, number] : whole.scaled) {
    const int in = plan.row_in[static_cast<std::size_t>(row)];
    if (in >= 0) sizes[static_cast<std::size_t>(in)].numbers.insert(number);
  }

  std::vector<int> name(sizes.size());
  std::iota(name.begin(), name.end(), 0);
  for (std::size_t a = 0; a < sizes.size(); ++a) {
    for (std::size_t b = a + 1; b < sizes.size();) {
      Sizes both = sizes[a];
      both.columns.insert(sizes[b].columns.begin(), sizes[b].columns.end());
      both.ends.insert(sizes[b].ends.begin(), sizes[b].ends.end());
      both.rows += sizes[b].rows;
      const bool alike = sizes[a].numbers.size() + sizes[b].numbers.size() <= most_joined ||
                         sizes[a].numbers.empty() || sizes[b].numbers.empty();
      const long long more = both.product() - sizes[a].product() - sizes[b].product();
      if (sizes.size() <= most_areas && (!alike || more >= least_saved)) {
        ++b;
        continue;
      }
      both.numbers.insert(sizes[b].numbers.begin(), sizes[b].numbers.end());
      sizes[a] = std::move(both);
      sizes.erase(sizes.begin() + static_cast<std::ptrdiff_t>(b));
      for (int& one : name) {
        if (one == static_cast<int>(b)) one = static_cast<int>(a);
        if (one > static_cast<int>(b)) --one;
      }
      b = a + 1;
    }
  }
  const auto rename = [&](int& area) {
    if (area >= 0) area = name[static_cast<std::size_t>(area)];
  };
  for (Plan::Home& home : plan.home) rename(home.area);
  for (int& in : plan.row_in) rename(in);
  area_of_row_ = plan.row_in;
  areas_.resize(sizes.size());
  int numbers = 0;
  for (const Partition::Adjustable& one : partition.adjustables())
    numbers = std::max(numbers, one.number + 1);
  plan.number_in.assign(static_cast<std::size_t>(numbers), at_junction);
  for (std::size_t k = sizes.size(); k-- > 0;) {
    plan.columns.insert(plan.columns.begin(), std::move(sizes[k].columns));
    plan.ends.insert(plan.ends.begin(), std::move(sizes[k].ends));
    areas_[k].numbers.assign(sizes[k].numbers.begin(), sizes[k].numbers.end());
  }
  for (const Partition::Adjustable& one : partition.adjustables()) {
    const int in = std::max(plan.area(one.row), plan.area(one.column));
    int& first = plan.number_in[static_cast<std::size_t>(one.number)];
    if (in >= 0 && (first < 0 || in < first)) first = in;
  }
  for (std::size_t node = 0; node < plan.home.size(); ++node) {
    Plan::Home& home = plan.home[node];
    if (home.area < 0) continue;
    Area& area = areas_[static_cast<std::size_t>(home.area)];
    home.node = area.nodes++;
    area.at.push_back(static_cast<int>(node));
  }

  // Each area is a mesh between its ends.
  std::vector<std::set<int>> joined;
  for (std::size_t node = 0; node < plan.home.size(); ++node) {
    if (holds[node] && plan.home[node].area < 0) joined.emplace_back();
  }
  const auto link = [&](int a, int b) {
    if (!holds[static_cast<std::size_t>(a)] || !holds[static_cast<std::size_t>(b)]) return;
    if (plan.area(a) < 0 && plan.area(b) < 0 && a != b)
      joined[static_cast<std::size_t>(plan.node(a))].insert(plan.node(b));
  };
  for (int c = 0; c < given.outerSize(); ++c) {
    for (Eigen::SparseMatrix<double>::InnerIterator it(given, c); it; ++it) {
      if (it.value() != 0) link(static_cast<int>(it.row()), c);
    }
  }
  for (const Partition::Adjustable& one : partition.adjustables()) link(one.row, one.column);
  for (const std::set<int>& ends : plan.ends) {
    for (const int a : ends) {
      for (const int b : ends) link(a, b);
    }
  }
  std::vector<bool> driven(joined.size(), false);
  const auto drive = [&](int node) {
    if (node >= 0 && holds[static_cast<std::size_t>(node)] && plan.area(node) < 0)
      driven[static_cast<std::size_t>(plan.node(node))] = true;
  };
  for (const std::set<int>& ends : plan.ends) std::for_each(ends.begin(), ends.end(), drive);
  for (int column = 0; column < whole.drives; ++column) {
    for (const auto& [node, number] : whole.injected.line(column)) drive(node);
  }
  for (const Whole::Coupled& one : whole.couplings) drive(one.node);
  for (const Whole::Bent& one : whole.bents) {
    drive(one.p);
    drive(one.q);
  }
  junction_ = Junction(std::move(joined), driven);
  for (std::size_t node = 0; node < plan.home.size(); ++node) {
    Plan::Home& home = plan.home[node];
    if (!holds[node] || home.area >= 0) continue;
    home.node = junction_.place(home.node);
    junction_at_.emplace_back(static_cast<int>(node), home.node);
  }
  for (std::size_t k = 0; k < areas_.size(); ++k) {
    for (const int node : plan.ends[k]) areas_[k].ends.push_back(plan.node(node));
    std::sort(areas_[k].ends.begin(), areas_[k].ends.end());
  }
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
  const Partition& partition = whole.partition;
  const auto& holds = partition.holds_node();
  const std::set<int>& columns = plan.columns[static_cast<std::size_t>(which)];
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
    return static_cast<int>(std::lower_bound(area.ends.begin(), area.ends.end(), plan.node(node)) -
                            area.ends.begin());
  };
  const auto is_end = [&](int node) { return plan.ends[static_cast<std::size_t>(which)].contains(node); };
  const auto place_at = [&](int node) {
    return plan.area(node) < 0 ? area.nodes + end_at(node) : plan.node(node);
  };
  const auto& given = partition.given();
  for (int c = 0; c < given.outerSize(); ++c) {
    for (Eigen::SparseMatrix<double>::InnerIterator it(given, c); it; ++it) {
      const auto r = static_cast<int>(it.row());
      if (!holds[static_cast<std::size_t>(r)] || !holds[static_cast<std::size_t>(c)] || it.value() == 0)
        continue;
      if (std::max(plan.area(r), plan.area(c)) != which) continue;
      area.standing.push_back({place_at(r), place_at(c), it.value()});
      // What joins a node of the junction to the area stands in the area whole.
      if (plan.area(r) < 0) area.standing.push_back({place_at(r), place_at(r), -it.value()});
    }
  }
  for (const Partition::Adjustable& one : partition.adjustables()) {
    const int in = std::max(plan.area(one.row), plan.area(one.column));
    const bool owns =
        in == which || (in < 0 && plan.number_in[static_cast<std::size_t>(one.number)] == which);
    if (owns) area.adjustables.push_back({place_at(one.row), place_at(one.column), one.number, one.sign});
  }
  for (const int column : columns) {
    for (const auto& [node, number] : whole.injected.line(column)) {
      if (!holds[static_cast<std::size_t>(node)]) continue;
      if (plan.area(node) == which) area.injected.push_back({place_at(node), column_at(column), number});
    }
  }
  for (const Whole::Coupled& one : whole.couplings) {
    if (plan.area(one.node) == which)
      area.couplings.push_back({place_at(one.node), one.coupling, column_at(one.column)});
  }
  for (int row = 0; row < whole.read.count(); ++row) {
    if (plan.row_in[static_cast<std::size_t>(row)] != which) continue;
    if (!goes_on(area, whole, row)) {
      while (area.rows.size() % lanes != 0) add_empty_row(area);
      area.runs.push_back({{}, row, static_cast<int>(area.rows.size())});
    }
    for (const auto& [node, number] : whole.read.line(row)) {
      if (holds[static_cast<std::size_t>(node)] && (plan.area(node) == which || is_end(node)))
        area.read.append(place_at(node), number);
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
    area.runs[k].rows.divide(end + area.result_row - area.runs[k].own, area.runs[k].own,
                             area.height());
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
  const Partition& partition = whole.partition;
  const auto& holds = partition.holds_node();
  const auto here = [&](int node) { return holds[static_cast<std::size_t>(node)] && plan.area(node) < 0; };
  const auto& given = partition.given();
  for (int c = 0; c < given.outerSize(); ++c) {
    for (Eigen::SparseMatrix<double>::InnerIterator it(given, c); it; ++it) {
      const auto r = static_cast<int>(it.row());
      if (!here(r) || !holds[static_cast<std::size_t>(c)] || it.value() == 0) continue;
      // All of a row is what joins it to earth.
      given_.push_back({plan.node(r), plan.node(r), it.value()});
      if (here(c) && plan.node(r) < plan.node(c)) given_.push_back({plan.node(r), plan.node(c), -it.value()});
    }
  }
  std::map<std::array<int, 2>, double> to_earth;  // node, number
  for (const Partition::Adjustable& one : partition.adjustables()) {
    if (!here(one.row) || plan.number_in[static_cast<std::size_t>(one.number)] >= 0) continue;
    to_earth[{plan.node(one.row), one.number}] += one.sign;
    if (here(one.column) && plan.node(one.row) < plan.node(one.column))
      junction_.add_adjustable(plan.node(one.row), plan.node(one.column), one.number, -one.sign);
  }
  for (const auto& [at, sign] : to_earth) {
    if (sign != 0) junction_.add_adjustable(at[0], at[0], at[1], sign);
  }
  for (int column = 0; column < whole.injected.count(); ++column) {
    Source source{-1, -1, column - whole.drives};
    for (const auto& [node, number] : whole.injected.line(column)) {
      if (!here(node)) continue;
      if (column < whole.drives)
        drives_.push_back({plan.node(node), column, number});
      else
        (number > 0 ? source.p : source.q) = plan.node(node);
    }
    if (column >= whole.drives) sources_.push_back(source);
  }
  for (const Whole::Coupled& one : whole.couplings) {
    if (here(one.node)) couplings_.push_back({plan.node(one.node), one.coupling, one.column});
  }
  coupled_.assign(couplings_.size(), 0.0);
  for (const Whole::Bent& one : whole.bents)
    bents_.push_back({one.p < 0 ? -1 : plan.node(one.p), one.q < 0 ? -1 : plan.node(one.q), one.column});
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
  const auto& holds = whole.partition.holds_node();
  for (int row = 0; row < whole.read.count(); ++row) {
    if (plan.row_in[static_cast<std::size_t>(row)] != at_junction) continue;
    std::vector<SparseLines::Entry> nodes;
    for (const auto& [node, number] : whole.read.line(row)) {
      if (holds[static_cast<std::size_t>(node)]) nodes.push_back({plan.node(node), number});
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

void Divided::make_room(std::size_t area, std::size_t count) {
  Area& its = areas_[area];
  its.kept.make_room(its.conductances.size(), its.numbers_of_results() + its.numbers_of_voltages(), count);
  its.met = false;
}

/// Whether there is one; `met` until now says the same of the conductances before.
bool Divided::find_matrix(Area& area, const std::vector<double>& adjustable) noexcept {
  double* at = area.conductances.data();
  for (const int number : area.numbers) *at++ = adjustable[static_cast<std::size_t>(number)];
  return area.kept.find(area.conductances, area.now);
}

int Divided::choose(const Standing& standing) noexcept {
  bool areas_changed = !stands_;
  int made = 0;
  for (Area& area : areas_) {
    bool same = area.met;
    const double* is = area.conductances.data();
    for (const int number : area.numbers)
      same = same && *is++ == standing.adjustable[static_cast<std::size_t>(number)];
    if (same) continue;
    areas_changed = true;
    if (!find_matrix(area, standing.adjustable)) {
      make_matrix(area, standing);
      ++made;
    }
    area.met = true;
  }
  if (areas_changed) add_standing();
  stands_ = true;
  junction_.refactor(standing.adjustable.data());
  for (std::size_t k = 0; k < couplings_.size(); ++k)
    coupled_[k] = standing.couplings[static_cast<std::size_t>(couplings_[k].coupling)].siemens;
  std::copy_n(standing.slopes, slopes_.size(), slopes_.begin());
  for (std::size_t k = 0; k < scaled_.size(); ++k)
    scales_[k] = standing.adjustable[static_cast<std::size_t>(scaled_[k].second)];
  std::fill(standing_currents_.begin(), standing_currents_.end(), 0.0);
  double* const currents = standing_currents_.data();
  for (const auto& [p, q, source] : sources_) {
    const double amperes = standing.sources[source];
    if (amperes == 0) continue;
    currents[p] += amperes;
    currents[q] -= amperes;
  }
  junction_.drive(standing_currents_.data());
  return made;
}

/// With Y of the area's nodes, C between them and its ends: v = Y^-1 (b - C u).
void Divided::make_matrix(Area& area, const Standing& standing) noexcept {
  area.now = area.kept.take(area.conductances, ++area.made);
  const int nodes = area.nodes, ends = static_cast<int>(area.ends.size()), places = nodes + ends;
  const auto width = area.line.size();
  const int drives = area.all_drives();
  double *const y = area.matrix.data(), *const w = area.response.data();
  std::fill(area.matrix.begin(), area.matrix.end(), 0.0);
  std::fill(area.response.begin(), area.response.end(), 0.0);
  for (const Place& one : area.standing) y[one.row * places + one.column] += one.number;
  for (const Partition::Adjustable& one : area.adjustables)
    y[one.row * places + one.column] += one.sign * standing.adjustable[static_cast<std::size_t>(one.number)];
  const auto line_at = [&](int place) { return w + static_cast<std::size_t>(place) * width; };
  for (const Place& one : area.injected) line_at(one.row)[one.column] += one.number;
  for (const Whole::Coupled& one : area.couplings)
    line_at(one.node)[one.column] += standing.couplings[static_cast<std::size_t>(one.coupling)].siemens;
  // The columns of its ends are -C above, and -S beside them.
  for (int p = 0; p < places; ++p) {
    for (int b = 0; b < ends; ++b) line_at(p)[drives + b] = -y[p * places + nodes + b];
  }
  factor(y, nodes, places);
  const auto subtract = [&](int to, double factor, int from) {
    const double* source = line_at(from);
    double* target = line_at(to);
    for (std::size_t c = 0; c < width; c += lanes)
      store(target + c, load(target + c) - factor * load(source + c));
  };
  for (int i = 0; i < nodes; ++i) {
    for (int k = 0; k < i; ++k) {
      if (const double l = y[i * places + k]; l != 0) subtract(i, l, k);
    }
  }
  for (int i = 0; i < nodes; ++i) {
    double* line = line_at(i);
    for (std::size_t c = 0; c < width; c += lanes) store(line + c, y[i * places + i] * load(line + c));
  }
  for (int i = nodes - 1; i >= 0; --i) {
    for (int k = i + 1; k < nodes; ++k) {
      if (const double l = y[k * places + i]; l != 0) subtract(i, l, k);
    }
  }
  {
    double* to = area.now.matrix + area.numbers_of_results();
    const int filled = area.voltages.count();
    for (int c = 0; c < drives + ends; ++c) {
      for (int k = 0; k < filled; ++k) *to++ = k < nodes ? line_at(k)[c] : 0;
    }
  }
  const auto rows = static_cast<std::size_t>(area.height());
  const auto write = [&](int row, const double* line) {
    double* to = area.now.matrix + row;
    for (int c = 0; c < drives + ends; ++c, to += rows) *to = line[c];
  };
  // Into its ends: what is driven there, less C^T v.
  for (int b = 0; b < ends; ++b) {
    for (int n = 0; n < nodes; ++n) {
      if (const double c = y[(nodes + b) * places + n]; c != 0) subtract(nodes + b, c, n);
    }
    write(b, line_at(nodes + b));
  }
  std::fill(area.line.begin(), area.line.end(), 0.0);
  for (int b = ends; b < area.result_row; ++b) write(b, area.line.data());
  for (std::size_t r = 0; r < rows - static_cast<std::size_t>(area.result_row); ++r) {
    std::fill(area.line.begin(), area.line.end(), 0.0);
    if (r < area.rows.size()) {
      for (const auto& [place, number] : area.read.line(static_cast<int>(r))) {
        if (place >= nodes) {
          area.line[static_cast<std::size_t>(drives + place - nodes)] += number;
          continue;
        }
        const double* from = line_at(place);
        for (std::size_t c = 0; c < width; c += lanes)
          store(&area.line[c], load(&area.line[c]) + number * load(from + c));
      }
      for (const auto& [column, number] : area.direct.line(static_cast<int>(r)))
        area.line[static_cast<std::size_t>(column)] += number;
      for (const auto& [row, of] : area.scaled) {
        if (row != static_cast<int>(r)) continue;
        for (double& entry : area.line) entry *= standing.adjustable[static_cast<std::size_t>(of)];
      }
    }
    write(area.result_row + static_cast<int>(r), area.line.data());
  }
}

/// What the areas are between their ends: the rows of the currents hold -S in the columns of these.
void Divided::add_standing() noexcept {
  junction_.clear_standing();
  for (const Place& one : given_) junction_.add_standing(one.row, one.column, one.number);
  for (const Area& area : areas_) {
    const auto ends = area.ends.size();
    for (std::size_t c = 0; c < ends; ++c) {
      const double* column = area.now.matrix + (static_cast<std::size_t>(area.all_drives()) + c) *
                                                   static_cast<std::size_t>(area.height());
      for (std::size_t r = 0; r < ends; ++r) {
        if (r < c) junction_.add_standing(area.ends[r], area.ends[c], column[r]);
        junction_.add_standing(area.ends[r], area.ends[r], -column[r]);
      }
    }
  }
}

void Divided::take_drive(Area& area, const double* drive) noexcept {
  double* x = area.x.data();
  copy_lanes(drive + area.first_drive, area.drives, x);
  x += area.drives;
  for (const int column : area.other_drives) *x++ = drive[column];
}

void Divided::take_ends(Area& area, const double* u) noexcept {
  double* x = area.x.data() + area.all_drives();
  for (const int end : area.ends) *x++ = u[end];
}

void Divided::solve(const double* drive, double* results, double* const u) noexcept {
  std::fill(u + junction_.core(), u + junction_.places(), 0.0);
  for (const auto& [node, column, number] : drives_) u[node] += number * drive[column];
  for (std::size_t k = 0; k < couplings_.size(); ++k)
    u[couplings_[k].node] += coupled_[k] * drive[couplings_[k].column];
  for (std::size_t k = 0; k < bents_.size(); ++k) {
    const double history = slopes_[k] * drive[bents_[k].column];
    if (bents_[k].p >= 0) u[bents_[k].p] -= history;
    if (bents_[k].q >= 0) u[bents_[k].q] += history;
  }
  for (Area& area : areas_) {
    take_drive(area, drive);
    double* const out = area.out.data();
    area.currents.multiply(area.now.matrix, nothing_.data(), area.x.data(), area.all_drives(), out);
    const int* const ends = area.ends.data();
    for (std::size_t k = 0; k < area.ends.size(); ++k) u[ends[k]] += out[k];
  }
  junction_.solve(u);
  for (Area& area : areas_) {
    take_ends(area, u);
    for (const Area::Run& run : area.runs)
      run.rows.multiply(area.now.matrix, nothing_.data(), area.x.data(), area.width(),
                        results + (run.first - run.own));
  }
  for (const auto& [row, p, q] : fours_)
    store(results + row,
          Lanes{u[p[0]], u[p[1]], u[p[2]], u[p[3]]} - Lanes{u[q[0]], u[q[1]], u[q[2]], u[q[3]]});
  for (const auto& [row, p, q] : differences_) results[row] = u[p] - u[q];
  for (const int row : other_rows_) results[row] = 0;
  for (const auto& [row, node, number] : read_) results[row] += number * u[node];
  for (const auto& [row, column, number] : direct_) results[row] += number * drive[column];
  for (std::size_t k = 0; k < scaled_.size(); ++k) results[scaled_[k].first] *= scales_[k];
}

void Divided::read_voltages(const double* drive, const double* beside, double* voltages) noexcept {
  for (const auto& [node, place] : junction_at_) voltages[node] = beside[place];
  for (Area& area : areas_) {
    const double* const matrix = area.now.matrix + area.numbers_of_results();
    take_drive(area, drive);
    take_ends(area, beside);
    area.voltages.multiply(matrix, nothing_.data(), area.x.data(), area.width(), area.out.data());
    for (std::size_t k = 0; k < area.at.size(); ++k) voltages[area.at[k]] = area.out[k];
  }
}

void Divided::begin() noexcept {
  for (Area& area : areas_) area.ahead = area.made;
}

void Divided::forget_found() noexcept {
  for (Area& area : areas_) area.met = false;
  stands_ = false;
}

void Divided::visit_state(StateArchive& archive) {
  for (Area& area : areas_) {
    archive(area.made, area.ahead);
    area.kept.visit_state(archive, area.ahead);
  }
  if (archive.restores()) forget_found();
}

std::size_t Divided::bytes() const noexcept {
  std::size_t sum = 0;
  for (const Area& area : areas_) sum += area.kept.bytes();
  return sum;
}
std::size_t Divided::matrices() const noexcept {
  std::size_t sum = 0;
  for (const Area& area : areas_) sum += area.kept.count();
  return sum;
}

}  // namespace zavrek::emt::internal
