#include "emt/condensed/divided.hpp"

#include <algorithm>

namespace zavrek::emt::internal {
namespace {

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

int Divided::numbers_read() const noexcept {
  int sum = junction_.numbers_read();
  for (const Area& area : areas_) sum += area.height() * area.width();
  return sum;
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
