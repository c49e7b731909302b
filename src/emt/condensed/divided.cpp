#include "emt/condensed/divided.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <utility>

namespace zavrek::emt::internal {
namespace {

constexpr double largest_share = 0.7;  // of the switched conductances, in one area

/// Groups of lanes as a graph: who touches whom.
std::vector<std::set<int>> neighbours_of(const Partition& partition, int groups) {
  std::vector<std::set<int>> all(static_cast<std::size_t>(groups));
  const auto touch = [&](int row, int column) {
    const int r = row / lanes, c = column / lanes;
    if (r == c) return;
    all[static_cast<std::size_t>(r)].insert(c);
    all[static_cast<std::size_t>(c)].insert(r);
  };
  const auto& given = partition.given();
  for (int c = 0; c < given.outerSize(); ++c) {
    for (Eigen::SparseMatrix<double>::InnerIterator it(given, c); it; ++it)
      touch(static_cast<int>(it.row()), c);
  }
  for (const Partition::Adjustable& one : partition.adjustables()) touch(one.row, one.column);
  return all;
}

/// Areas without the group `between`: a number per group, -1 for that one.
std::vector<int> areas_without(const std::vector<std::set<int>>& neighbours, int between, int& count) {
  std::vector<int> area(neighbours.size(), -2);
  area[static_cast<std::size_t>(between)] = -1;
  count = 0;
  for (std::size_t k = 0; k < area.size(); ++k) {
    if (area[k] != -2) continue;
    std::vector<int> open{static_cast<int>(k)};
    area[k] = count;
    while (!open.empty()) {
      const int at = open.back();
      open.pop_back();
      for (const int next : neighbours[static_cast<std::size_t>(at)]) {
        if (area[static_cast<std::size_t>(next)] != -2) continue;
        area[static_cast<std::size_t>(next)] = count;
        open.push_back(next);
      }
    }
    ++count;
  }
  return area;
}

/// How many of the switches stand in each area; one between belongs to none.
std::vector<int> switched_in(const std::vector<std::array<int, 2>>& switches, const std::vector<int>& area,
                             int count) {
  std::vector<int> counts(static_cast<std::size_t>(count), 0);
  for (const auto& ends : switches) {
    int in = -1;
    for (const int end : ends) in = std::max(in, end < 0 ? -1 : area[static_cast<std::size_t>(end)]);
    if (in >= 0) ++counts[static_cast<std::size_t>(in)];
  }
  return counts;
}

/// The groups that each adjustable conductance joins.
std::vector<std::array<int, 2>> switches_of(const Partition& partition) {
  std::map<int, std::array<int, 2>> ends;
  for (const Partition::Adjustable& one : partition.adjustables()) {
    auto& of = ends.try_emplace(one.number, std::array{-1, -1}).first->second;
    for (const int group : {one.row / lanes, one.column / lanes}) {
      if (group == of[0] || group == of[1]) continue;
      (of[0] < 0 ? of[0] : of[1]) = group;
    }
  }
  std::vector<std::array<int, 2>> all;
  for (const auto& [number, of] : ends) all.push_back(of);
  return all;
}

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

int group_between(const std::vector<std::set<int>>& neighbours,
                  const std::vector<std::array<int, 2>>& switches) {
  int best = -1, least = 0;
  for (int between = 0; between < static_cast<int>(neighbours.size()); ++between) {
    int count = 0;
    const std::vector<int> area = areas_without(neighbours, between, count);
    const std::vector<int> switched = switched_in(switches, area, count);
    const int largest = switched.empty() ? 0 : *std::max_element(switched.begin(), switched.end());
    const int sum = std::accumulate(switched.begin(), switched.end(), 0);
    if (sum == 0 || largest > largest_share * sum || (best >= 0 && largest >= least)) continue;
    best = between;
    least = largest;
  }
  return best;
}

std::optional<Divided> Divided::find(const Whole& whole) {
  const Partition& partition = whole.partition;
  const auto nodes = partition.holds_node().size();
  const auto neighbours = neighbours_of(partition, static_cast<int>(nodes) / lanes);
  const auto switches = switches_of(partition);
  const int best = group_between(neighbours, switches);
  if (best < 0) return std::nullopt;
  for (const Whole::Varying& one : whole.varying) {
    if (one.node / lanes == best) return std::nullopt;
  }
  int count = 0;
  std::vector<int> area = areas_without(neighbours, best, count);
  // What has no switches goes with the first that has.
  const std::vector<int> switched = switched_in(switches, area, count);
  std::vector<int> name(static_cast<std::size_t>(count), 0);
  int named = 0;
  for (std::size_t k = 0; k < name.size(); ++k) {
    if (switched[k] > 0) name[k] = named++;
  }
  std::optional<Divided> divided(std::in_place);
  divided->first_source_ = whole.drives;
  divided->areas_.resize(static_cast<std::size_t>(named));
  divided->area_of_.assign(nodes, -1);
  divided->place_of_.assign(nodes, -1);
  for (std::size_t node = 0; node < nodes; ++node) {
    if (!partition.holds_node()[node]) continue;
    const int of = area[node / lanes];
    if (of < 0) {
      divided->place_of_[node] = divided->between_++;
      continue;
    }
    Area& its = divided->areas_[static_cast<std::size_t>(name[static_cast<std::size_t>(of)])];
    divided->area_of_[node] = name[static_cast<std::size_t>(of)];
    divided->place_of_[node] = its.nodes++;
  }
  if (divided->between_ > most_between) return std::nullopt;
  divided->find_columns(whole);
  if (divided->areas_.empty()) return std::nullopt;
  return divided;
}

/// Rows, columns and entries of each area. Without areas behind it where a row would read two of them.
void Divided::find_columns(const Whole& whole) {
  const auto area_of = [&](int node) { return area_of_[static_cast<std::size_t>(node)]; };
  // Lanes that only fill up a group hold what nobody looks at.
  const auto& holds = whole.partition.holds_node();
  const auto nodes_of = [&](const SparseLines& lines, int line) {
    std::vector<SparseLines::Entry> entries;
    for (const SparseLines::Entry& one : lines.line(line)) {
      if (holds[static_cast<std::size_t>(one.at)]) entries.push_back(one);
    }
    return entries;
  };
  const int rows = whole.maps.read.count(), columns = whole.maps.injected.count();
  std::vector<std::set<int>> of_area(areas_.size());  // columns
  std::vector<int> first_area(static_cast<std::size_t>(columns), -1);
  const auto take = [&](int area, int column) {
    of_area[static_cast<std::size_t>(area)].insert(column);
    if (first_area[static_cast<std::size_t>(column)] < 0) first_area[static_cast<std::size_t>(column)] = area;
  };
  for (int column = 0; column < columns; ++column) {
    for (const auto& [node, number] : nodes_of(whole.maps.injected, column)) {
      if (area_of(node) >= 0) take(area_of(node), column);
    }
  }
  for (const Whole::Varying& one : whole.varying) take(area_of(one.node), one.column);
  std::vector<int> row_in(static_cast<std::size_t>(rows), 0);
  for (int row = 0; row < rows; ++row) {
    int in = -1;
    for (const auto& [node, number] : nodes_of(whole.maps.read, row)) {
      if (area_of(node) < 0) continue;
      if (in >= 0 && in != area_of(node)) return areas_.clear();
      in = area_of(node);
    }
    row_in[static_cast<std::size_t>(row)] = std::max(0, in);
    for (const auto& [column, number] : whole.maps.direct.line(row)) take(std::max(0, in), column);
  }
  for (int column = 0; column < columns; ++column) {
    if (first_area[static_cast<std::size_t>(column)] < 0) take(0, column);
  }

  for (std::size_t k = 0; k < areas_.size(); ++k) {
    Area& area = areas_[k];
    area.between = between_;
    for (const int column : of_area[k])
      (column < whole.drives ? area.drives : area.sources).push_back(column);
    area.columns = static_cast<int>(area.drives.size() + area.sources.size()) + between_;
    const auto column_at = [&](int column) {
      const bool drive = column < whole.drives;
      const auto& all = drive ? area.drives : area.sources;
      const auto at = std::lower_bound(all.begin(), all.end(), column) - all.begin();
      return static_cast<int>(at) + (drive ? 0 : static_cast<int>(area.drives.size()) + between_);
    };
    const auto place_at = [&](int node) {
      return place_of_[static_cast<std::size_t>(node)] + (area_of(node) < 0 ? area.nodes : 0);
    };
    const auto own = [&](int row, int column) {
      const int r = area_of(row), c = area_of(column);
      return std::max(r, c) == static_cast<int>(k) || (k == 0 && r < 0 && c < 0);
    };
    const auto& given = whole.partition.given();
    for (int c = 0; c < given.outerSize(); ++c) {
      for (Eigen::SparseMatrix<double>::InnerIterator it(given, c); it; ++it) {
        const auto r = static_cast<int>(it.row());
        if (!holds[static_cast<std::size_t>(r)] || !holds[static_cast<std::size_t>(c)]) continue;
        if (own(r, c)) area.standing.push_back({place_at(r), place_at(c), it.value()});
      }
    }
    // What a switch at the edge adds to the nodes between belongs to the area at whose side it stands.
    std::set<int> numbers;
    for (const Partition::Adjustable& one : whole.partition.adjustables()) {
      if (std::max(area_of(one.row), area_of(one.column)) == static_cast<int>(k)) numbers.insert(one.number);
    }
    std::set<int> of_others;
    for (const Partition::Adjustable& one : whole.partition.adjustables()) {
      const int at = std::max(area_of(one.row), area_of(one.column));
      if (at >= 0) of_others.insert(one.number);
    }
    for (const Partition::Adjustable& one : whole.partition.adjustables()) {
      const bool here = numbers.contains(one.number), nowhere = !of_others.contains(one.number);
      if (!here && !(k == 0 && nowhere)) continue;
      if (nowhere) numbers.insert(one.number);
      area.adjustables.push_back({place_at(one.row), place_at(one.column), one.number, one.sign});
    }
    for (const auto& [row, number] : whole.scaled) {
      if (row_in[static_cast<std::size_t>(row)] == static_cast<int>(k)) numbers.insert(number);
    }
    area.numbers.assign(numbers.begin(), numbers.end());
    for (int column = 0; column < columns; ++column) {
      for (const auto& [node, number] : nodes_of(whole.maps.injected, column)) {
        const int at = area_of(node);
        if (at == static_cast<int>(k) ||
            (at < 0 && first_area[static_cast<std::size_t>(column)] == static_cast<int>(k)))
          area.injected.push_back({place_at(node), column_at(column), number});
      }
    }
    for (const Whole::Varying& one : whole.varying) {
      if (area_of(one.node) == static_cast<int>(k))
        area.varying.push_back({place_at(one.node), one.coupling, column_at(one.column)});
    }
    for (int row = 0; row < rows; ++row) {
      if (row_in[static_cast<std::size_t>(row)] != static_cast<int>(k)) continue;
      for (const auto& [node, number] : nodes_of(whole.maps.read, row))
        area.read.append(place_at(node), number);
      for (const auto& [column, number] : whole.maps.direct.line(row))
        area.direct.append(column_at(column), number);
      area.read.close();
      area.direct.close();
      const auto scaled = std::find_if(whole.scaled.begin(), whole.scaled.end(),
                                       [&](const auto& one) { return one.first == row; });
      if (scaled != whole.scaled.end())
        area.scaled.emplace_back(static_cast<int>(area.rows.size()), scaled->second);
      area.rows.push_back(row);
    }
    area.result_row = filled_up(between_);
    const int results = filled_up(static_cast<int>(area.rows.size()));
    area.results.divide(results, area.result_row, area.result_row + results);
    area.currents.divide(area.result_row, 0, area.result_row + results);
    const auto width = static_cast<std::size_t>(filled_up(area.columns));
    const auto places = static_cast<std::size_t>(area.nodes + between_);
    area.conductances.assign(static_cast<std::size_t>(filled_up(static_cast<int>(area.numbers.size()))), 0.0);
    area.source.assign(static_cast<std::size_t>(filled_up(static_cast<int>(area.sources.size()))), 0.0);
    area.x.assign(width, 0.0);
    area.out.assign(static_cast<std::size_t>(area.result_row + results), 0.0);
    area.matrix.assign(places * places, 0.0);
    area.response.assign(places * width, 0.0);
    area.line.assign(width, 0.0);
  }
}

void Divided::make_room(std::size_t area, std::size_t count) {
  Area& its = areas_[area];
  its.states.make_room({its.conductances.size(), std::max<std::size_t>(lanes, its.source.size()),
                        its.out.size(), static_cast<std::size_t>(its.columns)},
                       count);
  its.met = false;
}

bool Divided::read_numbers(Area& area, const std::vector<double>& adjustable,
                           const double* sources) noexcept {
  double* at = area.conductances.data();
  for (const int number : area.numbers) *at++ = adjustable[static_cast<std::size_t>(number)];
  at = area.source.data();
  for (const int column : area.sources) *at++ = sources[column - first_source_];
  return area.met &&
         SwitchStates::same(area.state.conductances, area.conductances.data(), area.conductances.size());
}

bool Divided::choose_area(std::size_t area, const std::vector<double>& adjustable,
                          const double* sources) noexcept {
  Area& its = areas_[area];
  if (!read_numbers(its, adjustable, sources)) its.met = its.states.find(its.conductances, its.state);
  if (its.met && !SwitchStates::same(its.state.sources, its.source.data(), its.source.size()))
    sum_constants(its);
  return its.met;
}

bool Divided::choose(const std::vector<double>& adjustable, const double* sources) noexcept {
  bool all = true;
  for (std::size_t k = 0; k < areas_.size(); ++k) all = choose_area(k, adjustable, sources) && all;
  if (all) factor_between();
  return all;
}

int Divided::make(const Standing& standing) noexcept {
  int made = 0;
  for (std::size_t k = 0; k < areas_.size(); ++k) {
    if (areas_[k].met) continue;
    make_area(k, standing);
    ++made;
  }
  factor_between();
  return made;
}

void Divided::sum_constants(Area& area) noexcept {
  std::copy(area.source.begin(), area.source.end(), area.state.sources);
  const auto rows = area.out.size();
  std::fill_n(area.state.constant, rows, 0.0);
  const double* column =
      area.state.matrix + (area.drives.size() + static_cast<std::size_t>(area.between)) * rows;
  for (std::size_t k = 0; k < area.sources.size(); ++k, column += rows) {
    if (area.source[k] == 0) continue;
    for (std::size_t r = 0; r < rows; ++r) area.state.constant[r] += column[r] * area.source[k];
  }
}

/// With Y of the area's nodes, C between them and those between: v = Y^-1 (b - C u).
void Divided::make_area(std::size_t which, const Standing& standing) noexcept {
  Area& area = areas_[which];
  area.state = area.states.take(area.conductances, ++area.made);
  const int nodes = area.nodes, places = nodes + area.between;
  const auto width = area.line.size();
  const int first_between = static_cast<int>(area.drives.size());
  double *const y = area.matrix.data(), *const w = area.response.data();
  std::fill(area.matrix.begin(), area.matrix.end(), 0.0);
  std::fill(area.response.begin(), area.response.end(), 0.0);
  for (const Place& one : area.standing) y[one.row * places + one.column] += one.number;
  for (const Partition::Adjustable& one : area.adjustables)
    y[one.row * places + one.column] += one.sign * standing.adjustable[static_cast<std::size_t>(one.number)];
  const auto line_at = [&](int place) { return w + static_cast<std::size_t>(place) * width; };
  for (const Place& one : area.injected) line_at(one.row)[one.column] += one.number;
  for (const Area::Varying& one : area.varying)
    line_at(one.node)[one.column] += standing.couplings[static_cast<std::size_t>(one.coupling)].siemens;
  // The columns of those between are -C above, and -S beside them.
  for (int p = 0; p < places; ++p) {
    for (int b = 0; b < area.between; ++b) line_at(p)[first_between + b] = -y[p * places + nodes + b];
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
  const auto rows = area.out.size();
  const auto write = [&](int row, const double* line) {
    double* to = area.state.matrix + row;
    for (int c = 0; c < area.columns; ++c, to += rows) *to = line[c];
  };
  // Into those between: what is driven there, less C^T v.
  for (int b = 0; b < area.between; ++b) {
    for (int n = 0; n < nodes; ++n) {
      if (const double c = y[(nodes + b) * places + n]; c != 0) subtract(nodes + b, c, n);
    }
    write(b, line_at(nodes + b));
  }
  std::fill(area.line.begin(), area.line.end(), 0.0);
  for (int b = area.between; b < area.result_row; ++b) write(b, area.line.data());
  for (std::size_t r = 0; r < static_cast<std::size_t>(rows) - static_cast<std::size_t>(area.result_row);
       ++r) {
    std::fill(area.line.begin(), area.line.end(), 0.0);
    if (r < area.rows.size()) {
      for (const auto& [place, number] : area.read.line(static_cast<int>(r))) {
        if (place >= nodes) {
          area.line[static_cast<std::size_t>(first_between + place - nodes)] += number;
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
  sum_constants(area);
  area.met = true;
}

/// The rows of the currents hold -S in the columns of those between.
void Divided::factor_between() noexcept {
  factors_.fill(0);
  for (const Area& area : areas_) {
    for (int c = 0; c < between_; ++c) {
      const double* column =
          area.state.matrix + (area.drives.size() + static_cast<std::size_t>(c)) * area.out.size();
      for (int r = 0; r < between_; ++r)
        factors_[static_cast<std::size_t>(r * most_between + c)] -= column[r];
    }
  }
  factor(factors_.data(), between_, most_between);
}

void Divided::solve(const double* drive, double* results) noexcept {
  std::array<double, filled_up(most_between)> u{};
  for (Area& area : areas_) {
    double* x = area.x.data();
    for (const int column : area.drives) *x++ = drive[column];
    area.currents.multiply(area.state.matrix, area.state.constant, area.x.data(),
                           static_cast<int>(area.drives.size()), area.out.data());
    for (int b = 0; b < between_; ++b)
      u[static_cast<std::size_t>(b)] += area.out[static_cast<std::size_t>(b)];
  }
  const auto f = [&](int r, int c) { return factors_[static_cast<std::size_t>(r * most_between + c)]; };
  for (int i = 1; i < between_; ++i) {
    for (int k = 0; k < i; ++k) u[static_cast<std::size_t>(i)] -= f(i, k) * u[static_cast<std::size_t>(k)];
  }
  for (int i = 0; i < between_; ++i) u[static_cast<std::size_t>(i)] *= f(i, i);
  for (int i = between_ - 2; i >= 0; --i) {
    for (int k = i + 1; k < between_; ++k)
      u[static_cast<std::size_t>(i)] -= f(k, i) * u[static_cast<std::size_t>(k)];
  }
  for (Area& area : areas_) {
    std::copy_n(u.begin(), between_, area.x.begin() + static_cast<std::ptrdiff_t>(area.drives.size()));
    area.results.multiply(area.state.matrix, area.state.constant, area.x.data(),
                          static_cast<int>(area.drives.size()) + between_, area.out.data());
    const double* from = area.out.data() + area.result_row;
    for (const int row : area.rows) results[row] = *from++;
  }
}

void Divided::begin() noexcept {
  for (Area& area : areas_) area.ahead = area.made;
}

void Divided::forget_found() noexcept {
  for (Area& area : areas_) area.met = false;
}

void Divided::visit_state(StateArchive& archive) {
  for (Area& area : areas_) {
    archive(area.made, area.ahead);
    area.states.visit_state(archive, area.ahead);
    if (archive.restores()) area.met = false;
  }
}

std::size_t Divided::bytes() const noexcept {
  std::size_t sum = 0;
  for (const Area& area : areas_) sum += area.states.bytes();
  return sum;
}
std::size_t Divided::states() const noexcept {
  std::size_t sum = 0;
  for (const Area& area : areas_) sum += area.states.count();
  return sum;
}

}  // namespace zavrek::emt::internal
