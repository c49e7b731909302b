#include "emt/written/factors.hpp"

#include <algorithm>
#include <map>
#include <set>

namespace zavrek::emt::internal {

WrittenFactors::WrittenFactors(const Conductances& conductances, const std::vector<int>& node_of,
                               int unknowns) {
  const auto n = static_cast<std::size_t>(unknowns);
  std::vector<std::map<int, double>> given(n);  // per column: rows from the diagonal on
  std::vector<std::vector<Entry>> enters(n);
  for (const Partition& partition : conductances.partitions) {
    const auto node = [&](int local) { return node_of[static_cast<std::size_t>(partition.first() + local)]; };
    const Eigen::SparseMatrix<double>& matrix = partition.given();
    for (int k = 0; k < matrix.outerSize(); ++k) {
      for (Eigen::SparseMatrix<double>::InnerIterator at(matrix, k); at; ++at) {
        const int r = node(static_cast<int>(at.row())), c = node(static_cast<int>(at.col()));
        if (r >= c && c >= 0) given[static_cast<std::size_t>(c)][r] += at.value();
      }
    }
    for (const Partition::Adjustable& one : partition.adjustables()) {
      const int r = node(one.row), c = node(one.column);
      if (r >= c) enters[static_cast<std::size_t>(c)].push_back({r, one.number, one.sign});
    }
  }
  std::vector<std::vector<int>> lower(n);
  for (std::size_t c = 0; c < n; ++c) {
    std::set<int> rows;
    for (const auto& [r, value] : given[c]) rows.insert(r);
    for (const Entry& entry : enters[c]) rows.insert(entry.row);
    rows.erase(static_cast<int>(c));
    lower[c].assign(rows.begin(), rows.end());
  }
  find_pattern(lower);
  find_reaches(enters, conductances.adjustable.size());
  given_below.assign(row.size(), 0.0);
  given_diagonal.assign(n, 0.0);
  for (std::size_t c = 0; c < n; ++c) {
    given_diagonal[c] = given[c][static_cast<int>(c)];
    for (int e = column[c]; e < column[c + 1]; ++e) {
      const auto found = given[c].find(row[static_cast<std::size_t>(e)]);
      if (found != given[c].end()) given_below[static_cast<std::size_t>(e)] = found->second;
    }
    entries.insert(entries.end(), enters[c].begin(), enters[c].end());
    entering.push_back(static_cast<int>(entries.size()));
  }
  factor(conductances);
}

/// A column has what stands in it, and all of the columns whose first row below the diagonal it is.
void WrittenFactors::find_pattern(const std::vector<std::vector<int>>& lower) {
  std::vector<std::set<int>> pattern(lower.size());
  parent_.assign(lower.size(), -1);
  for (std::size_t c = 0; c < lower.size(); ++c) {
    pattern[c].insert(lower[c].begin(), lower[c].end());
    for (const int r : pattern[c]) row.push_back(r);
    column.push_back(static_cast<int>(row.size()));
    if (pattern[c].empty()) continue;
    parent_[c] = *pattern[c].begin();
    pattern[static_cast<std::size_t>(parent_[c])].insert(std::next(pattern[c].begin()), pattern[c].end());
  }
}

void WrittenFactors::find_reaches(const std::vector<std::vector<Entry>>& entering_column,
                                  std::size_t numbers) {
  std::vector<std::set<int>> columns(numbers);
  changes_.assign(entering_column.size(), false);
  for (std::size_t c = 0; c < entering_column.size(); ++c) {
    for (const Entry& entry : entering_column[c]) {
      for (int at = static_cast<int>(c); at >= 0; at = parent_[static_cast<std::size_t>(at)]) {
        columns[static_cast<std::size_t>(entry.number)].insert(at);
        changes_[static_cast<std::size_t>(at)] = true;
      }
    }
  }
  for (const std::set<int>& one : columns) {
    reached.insert(reached.end(), one.begin(), one.end());
    reach.push_back(static_cast<int>(reached.size()));
  }
}

void WrittenFactors::factor(const Conductances& conductances) {
  const std::size_t n = given_diagonal.size();
  std::vector<std::vector<Left>> by_row(n);
  for (std::size_t c = 0; c < n; ++c) {
    for (int e = column[c]; e < column[c + 1]; ++e)
      by_row[static_cast<std::size_t>(row[static_cast<std::size_t>(e)])].push_back({static_cast<int>(c), e});
  }
  below.assign(row.size(), 0.0);
  diagonal.assign(n, 0.0);
  std::vector<double> work(n), given(n);
  for (std::size_t j = 0; j < n; ++j) {
    const auto each = [&](auto&& use) {
      for (int e = column[j]; e < column[j + 1]; ++e)
        use(static_cast<std::size_t>(e), static_cast<std::size_t>(row[static_cast<std::size_t>(e)]));
    };
    const auto take = [&](const Left& from) {
      const auto first = static_cast<std::size_t>(from.entry), k = static_cast<std::size_t>(from.column);
      const double taken = below[first] * diagonal[k];
      for (std::size_t e = first; e < static_cast<std::size_t>(column[k + 1]); ++e)
        work[static_cast<std::size_t>(row[e])] -= below[e] * taken;
    };
    work[j] = given_diagonal[j];
    each([&](std::size_t e, std::size_t r) { work[r] = given_below[e]; });
    for (const Left& from : by_row[j]) {
      if (!changes_[static_cast<std::size_t>(from.column)]) take(from);
    }
    if (changes_[j]) {
      given_diagonal[j] = work[j];
      each([&](std::size_t e, std::size_t r) { given_below[e] = work[r]; });
    }
    for (int e = entering[j]; e < entering[j + 1]; ++e) {
      const Entry& entry = entries[static_cast<std::size_t>(e)];
      work[static_cast<std::size_t>(entry.row)] +=
          entry.sign * conductances.adjustable[static_cast<std::size_t>(entry.number)];
    }
    for (const Left& from : by_row[j]) {
      if (!changes_[static_cast<std::size_t>(from.column)]) continue;
      take(from);
      lefts.push_back(from);
    }
    left.push_back(static_cast<int>(lefts.size()));
    diagonal[j] = work[j];
    each([&](std::size_t e, std::size_t r) { below[e] = work[r] / work[j]; });
  }
}

}  // namespace zavrek::emt::internal
