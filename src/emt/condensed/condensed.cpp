#include "emt/condensed/condensed.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <utility>

namespace zavrek::emt::internal {

namespace {

/// Places of rows, area by area in whole lanes; how many there are.
int sort_by_area(const Divided& divided, const std::vector<int>& areas, int first_row,
                 std::vector<int>& places) {
  std::vector<int> sorted(places.size());
  int next = 0;
  for (const int area : areas) {
    for (std::size_t k = 0; k < places.size(); ++k) {
      if (divided.area_of(first_row + places[k]) == area) sorted[k] = next++;
    }
    next = filled_up(next);
  }
  places = sorted;
  return next;
}

/// In the order in which values stand that are kept up; the states in front of them stand the other way, so
/// that the two of the first area follow each other.
std::vector<int> areas_of(const Divided& divided) {
  std::vector<int> areas(divided.areas());
  std::iota(areas.begin(), areas.end(), 0);
  areas.push_back(Divided::at_junction);
  return areas;
}

}  // namespace

int Condensed::history_of(PartGroups& parts, int segments) {
  int count = segments;
  for_each_history(parts, [&](double) { ++count; });
  return count;
}

Condensed::Condensed(const View& view, const Places& places, Outside outside, const ModelGroup& models)
    : view_(view), places_(places), outside_(std::move(outside)) {
  const auto inside = [&](int position) { return position >= view.first && position < view.end; };
  const auto among = [numbers = view.partition.numbers()](int number) {
    return std::binary_search(numbers.begin(), numbers.end(), number);
  };
  for (std::size_t k = 0; k < view.valves.size(); ++k) {
    if (!among(view.valves.number(k))) continue;
    valves_.push_back(k);
    ends_.push_back({view.valves.ends(k).first, view.valves.ends(k).second});
  }
  all_valves_ = !valves_.empty() && valves_.size() == view.valves.size();
  for (std::size_t k = 0; k < view.segments.size(); ++k) {
    if (!among(view.segments.number(k))) continue;
    segments_.push_back(k);
    const auto straight = view.segments.straight(k);
    ends_.push_back({straight.p, straight.q});
    scattered_.push_back(straight.state);
  }
  for (std::size_t k = 0; k < view.poles.size(); ++k) {
    if (inside(view.poles[k].p) || inside(view.poles[k].q)) poles_.push_back(k);
  }
  for_each_history(view.parts, [&](double) { ++parts_history_; });
  const auto keep_up = [&](int position) {
    if (inside(position) && std::find(scattered_.begin(), scattered_.end(), position) == scattered_.end())
      scattered_.push_back(position);
  };
  std::for_each(outside_.ports.begin(), outside_.ports.end(), keep_up);
  for (const ModelEnd& end : outside_.ends) {
    keep_up(end.p);
    keep_up(end.q);
  }
  look_at(models);
  for (const ModelRow& row : models) {
    if (row.number < 0 || !row.model->varies_by_itself()) continue;
    for (int k = 0; k < static_cast<int>(row.conductance.size()); ++k) varying_.push_back(row.number + k);
  }
  sources_.assign(ends_.size(), 0.0);
  slopes_.assign(segments_.size(), 0.0);
  rhs_.assign(static_cast<std::size_t>(view.voltages), 0.0);
  spill_ = rhs_;
  probe_.assign(static_cast<std::size_t>(view.values), 0.0);
  arrange();
}

std::unique_ptr<Condensed> Condensed::clone(const View& view, const ModelGroup& models) const {
  return std::unique_ptr<Condensed>(new Condensed(*this, view, models));
}

Condensed::Condensed(const Condensed& other, const View& view, const ModelGroup& models) : Condensed(other) {
  view_.emplace(view);
  look_at(models);
  divided_.forget_found();
  choose();
}

void Condensed::look_at(const ModelGroup& models) {
  for (ModelEnd& end : outside_.ends) end.history = &models[end.model].history[end.end];
}

void Condensed::keep(std::span<const int> positions) {
  const std::size_t before = scattered_.size();
  for (const int position : positions) {
    if (std::find(scattered_.begin(), scattered_.end(), position) == scattered_.end())
      scattered_.push_back(position);
  }
  if (scattered_.size() == before) return;
  arrange();
  if (begun_) make_ahead();
}

// --- states ------------------------------------------------------------------------------------------

void Condensed::choose() noexcept {
  if (!begun_) return;
  read_sources();
  made_ +=
      divided_.choose({view_->conductances.adjustable, view_->couplings, slopes_.data(), sources_.data()});
}

/// As `Core::refactor` does for all: this part's alone changed.
void Condensed::refactor() noexcept {
  for (const DrivenCoupling& d : view_->driven)
    view_->couplings[static_cast<std::size_t>(d.coupling)].siemens =
        d.sign * view_->conductances.siemens(d.number);
  choose();
}

void Condensed::visit_state(StateArchive& archive) {
  archive(made_);
  archive(made_ahead_);
  divided_.visit_state(archive);
}

void Condensed::read_sources() noexcept {
  std::size_t at = 0;
  const ValveGroup& valves = view_->valves;
  for (const std::size_t k : valves_) sources_[at++] = valves.source(k);
  for (std::size_t k = 0; k < segments_.size(); ++k) {
    const auto line = view_->segments.straight(segments_[k]);
    sources_[at++] = -line.offset;
    slopes_[k] = line.slope;
  }
}

/// The history of an area stands side by side, and so do values that are kept up: its product takes and
/// gives them as they stand. The history keeps its places when further values are asked for.
void Condensed::arrange() {
  const bool first = slots_.empty();
  if (first) {
    history_ = parts_history_ + static_cast<int>(segments_.size());
    slots_.resize(static_cast<std::size_t>(history_));
    std::iota(slots_.begin(), slots_.end(), 0);
  }
  kept_rows_.resize(scattered_.size());
  std::iota(kept_rows_.begin(), kept_rows_.end(), 0);
  find_maps();
  std::vector<int> areas = areas_of(divided_);
  sort_by_area(divided_, areas, scattered_row_, kept_rows_);
  std::reverse(areas.begin(), areas.end());
  if (first) history_ = sort_by_area(divided_, areas, state_row_, slots_);
  find_maps();
}

/// Which rows there are, and what of the response stands, by trying each column and each node alone.
void Condensed::find_maps() {
  state_.assign(static_cast<std::size_t>(filled_up(history_)), 0.0);
  drives_ = history_ + static_cast<int>(outside_.known.size() + outside_.ends.size() + outside_.ports.size());
  columns_ = drives_ + static_cast<int>(ends_.size());
  state_row_ = filled_up(static_cast<int>(valves_.size()));
  scattered_row_ = state_row_ + filled_up(history_);
  rows_ = scattered_row_;
  for (const int row : kept_rows_) rows_ = std::max(rows_, filled_up(scattered_row_ + row + 1));
  junction_row_ = rows_;
  const int nodes = view_->end - view_->first, rows = rows_;
  Eigen::MatrixXd read = Eigen::MatrixXd::Zero(rows, nodes), direct = Eigen::MatrixXd::Zero(rows, columns_);
  const auto read_into = [&](const Numbers& drive, auto&& column) {
    pass(drive.data(), probe_.data(), state_.data());
    for (const std::size_t k : poles_) {
      const Pole& pole = view_->poles[k];
      probe_[static_cast<std::size_t>(pole.current)] =
          probe_[static_cast<std::size_t>(pole.p)] - probe_[static_cast<std::size_t>(pole.q)];
    }
    for (std::size_t k = 0; k < valves_.size(); ++k)
      column[static_cast<Eigen::Index>(k)] =
          probe_[static_cast<std::size_t>(view_->valves.voltage(valves_[k]))];
    for (int k = 0; k < history_; ++k) column[state_row_ + k] = state_[static_cast<std::size_t>(k)];
    for (std::size_t k = 0; k < scattered_.size(); ++k)
      column[scattered_row_ + kept_rows_[k]] = probe_[static_cast<std::size_t>(scattered_[k])];
  };
  const auto clear = [](Numbers& numbers) { std::fill(numbers.begin(), numbers.end(), 0.0); };

  SparseLines injected, read_lines, direct_lines;
  Numbers drive(static_cast<std::size_t>(columns_), 0.0);
  for (int c = 0; c < columns_; ++c) {
    clear(drive);
    clear(probe_);
    clear(rhs_);
    drive[static_cast<std::size_t>(c)] = 1;
    take_up(drive.data(), probe_.data());
    inject_standing(drive.data(), drive.data() + drives_);
    for (int node = 0; node < nodes; ++node)
      injected.append(node, rhs_[static_cast<std::size_t>(view_->first + node)]);
    injected.close();
    read_into(drive, direct.col(c));
  }
  clear(rhs_);
  for (int node = 0; node < nodes; ++node) {
    clear(drive);
    clear(probe_);
    take_up(drive.data(), probe_.data());
    probe_[static_cast<std::size_t>(view_->first + node)] = 1;
    read_into(drive, read.col(node));
  }
  for (int row = 0; row < rows; ++row) {
    for (int node = 0; node < nodes; ++node) read_lines.append(node, read(row, node));
    for (int c = 0; c < columns_; ++c) direct_lines.append(c, direct(row, c));
    read_lines.close();
    direct_lines.close();
  }
  pole_rows_.clear();
  for (const std::size_t k : poles_) {
    const auto found = std::find(scattered_.begin(), scattered_.end(), view_->poles[k].current);
    if (found != scattered_.end())
      pole_rows_.emplace_back(
          scattered_row_ + kept_rows_[static_cast<std::size_t>(found - scattered_.begin())], k);
  }
  divide(injected, read_lines, direct_lines);
}

void Condensed::divide(const SparseLines& injected, const SparseLines& read, const SparseLines& direct) {
  Divided::Whole whole{view_->partition, injected, read, direct, drives_, scattered_row_, {}, {}, {}, {}};
  const auto local = [&](int position) {
    return position >= view_->first && position < view_->end ? position - view_->first : -1;
  };
  for (const std::size_t k : valves_) whole.switched.insert(view_->valves.number(k));
  whole.switched.insert(varying_.begin(), varying_.end());
  for (std::size_t k = 0; k < segments_.size(); ++k) {
    whole.switched.insert(view_->segments.number(segments_[k]));
    const auto line = view_->segments.straight(segments_[k]);
    whole.bents.push_back(
        {local(line.p), local(line.q), slots_[static_cast<std::size_t>(parts_history_) + k]});
  }
  for (std::size_t k = 0; k < view_->couplings.size(); ++k) {
    const Coupling& coupling = view_->couplings[k];
    if (local(coupling.row) < 0) continue;
    const auto known = std::find(outside_.known.begin(), outside_.known.end(), coupling.known);
    whole.couplings.push_back({local(coupling.row), static_cast<int>(k),
                               history_ + static_cast<int>(known - outside_.known.begin())});
  }
  for (const auto& [row, pole] : pole_rows_) whole.scaled.emplace_back(row, view_->poles[pole].number);
  divided_ = Divided(whole);
  rows_ = junction_row_ + filled_up(divided_.beside_results());
}

// --- solutions ---------------------------------------------------------------------------------------

void Condensed::begin(double* values) {
  const auto read = [&](Rule rule, double* history) {
    for_each_group(view_->parts, [&](auto& group) {
      group.inject(weights_of(rule), values, spill_.data(), view_->first_unknown);
    });
    const int* slot = slots_.data();
    for_each_history(view_->parts, [&](double number) { history[*slot++] = number; });
    for (const std::size_t k : segments_) {
      const auto line = view_->segments.straight(k);
      const double more = rule == Rule::trapezoidal ? line.reach * (values[line.p] - values[line.q]) : 0;
      history[*slot++] = line.remembers ? values[line.state] + more : 0;
    }
  };
  read(Rule::trapezoidal, values + places_.history);
  read(Rule::half_euler, values + state_at());
  for (const std::size_t k : valves_) {
    const auto [p, q] = view_->valves.ends(k);
    values[view_->valves.voltage(k)] = values[p] - values[q];
  }
  begun_ = true;
  make_ahead();
}

void Condensed::gather_inputs(Rule rule, const double* old, double* now, double* rhs) const noexcept {
  double* const drive = now + places_.drive;
  copy_lanes(old + (rule == Rule::trapezoidal ? places_.history : state_at()), history_, drive);
  double* outer = drive + history_;
  for (const int position : outside_.known) *outer++ = now[position];
  for (const ModelEnd& end : outside_.ends) *outer++ = *end.history;
  for (const int position : outside_.ports) {
    *outer++ = rhs[position];
    rhs[position] = 0;
  }
}

void Condensed::solve(double* now, bool whole) noexcept {
  double* const results = now + places_.result;
  divided_.solve(now + places_.drive, results, results + junction_row_);
  scatter(now);
  if (whole) complete(now);
  remember(now);
}

/// What a product gave to where others look for it.
void Condensed::scatter(double* now) const noexcept {
  const double* value = now + places_.result + scattered_row_;
  for (std::size_t k = 0; k < scattered_.size(); ++k) now[scattered_[k]] = value[kept_rows_[k]];
  if (all_valves_) return;
  value = now + places_.result;
  for (const std::size_t k : valves_) now[view_->valves.voltage(k)] = *value++;
}

void Condensed::remember(double* now) const noexcept {
  const double *state = now + state_at(), *before = now + places_.drive;
  double* history = now + places_.history;
  for (int k = 0; k < history_; k += lanes) store(history + k, 2 * load(state + k) - load(before + k));
}

void Condensed::state_within(double share, const double* present, const double* next,
                             double* into) const noexcept {
  const int state = state_at();
  const double *x0 = present + state, *m = present + places_.history, *x1 = next + state;
  const double first = 2 * share * (1 - share), second = share * share;
  for (int k = 0; k < history_; k += lanes) {
    const Lanes begin = load(x0 + k);
    store(into + state + k, begin + first * (load(m + k) - begin) + second * (load(x1 + k) - begin));
  }
}

void Condensed::remember_behind(double steps, const double* middle, const double* end, const double* third,
                                double* now) const noexcept {
  const int state = state_at();
  const double further = Behind::sloping(steps);
  for (int k = 0; k < history_; k += lanes) {
    const Lanes x2 = load(end + state + k);
    const Lanes slope = x2 - load(middle + state + k), later = load(third + state + k) - x2;
    store(now + places_.history + k, load(now + state + k) + slope + further * (later - slope));
  }
}

void Condensed::complete(double* values) noexcept {
  const double* const drive = values + places_.drive;
  divided_.read_voltages(drive, values + places_.result + junction_row_, values + view_->first);
  take_up(drive, values);
  pass(drive, values, state_.data());
}

/// History of the parts and known voltages from the drive.
void Condensed::take_up(const double* drive, double* now) noexcept {
  const int* slot = slots_.data();
  for_each_history(view_->parts, [&](double& held) { held = drive[*slot++]; });
  drive += history_;
  for (const int position : outside_.known) now[position] = *drive++;
}

/// Currents into the nodes, whatever the conductances.
void Condensed::inject_standing(const double* drive, const double* sources) noexcept {
  for_each_group(view_->parts, [&](auto& group) { group.drive(rhs_.data(), view_->first_unknown); });
  const double* number = drive + history_ + outside_.known.size();
  for (const ModelEnd& end : outside_.ends) {
    rhs_[static_cast<std::size_t>(end.p)] -= *number;
    rhs_[static_cast<std::size_t>(end.q)] += *number++;
  }
  for (const int position : outside_.ports) rhs_[static_cast<std::size_t>(position)] += *number++;
  for (std::size_t k = 0; k < ends_.size(); ++k) {
    rhs_[static_cast<std::size_t>(ends_[k].p)] += sources[k];
    rhs_[static_cast<std::size_t>(ends_[k].q)] -= sources[k];
  }
}

/// What the parts make of the node voltages in `now`.
void Condensed::pass(const double* drive, double* now, double* state) noexcept {
  std::fill(spill_.data() + view_->first, spill_.data() + view_->end, 0.0);
  for_each_group(view_->parts, [&, half = weights_of(Rule::half_euler)](auto& group) {
    group.pass(half, now, spill_.data(), view_->first_unknown);
  });
  const int* slot = slots_.data();
  for_each_history(view_->parts, [&](double held) { state[*slot++] = held; });
  for (const std::size_t k : segments_) {
    const auto line = view_->segments.straight(k);
    now[line.state] = drive[*slot] + line.reach * (now[line.p] - now[line.q]);
    state[*slot++] = line.remembers ? now[line.state] : 0;
  }
  for (const std::size_t k : valves_) {
    const auto [p, q] = view_->valves.ends(k);
    now[view_->valves.voltage(k)] = now[p] - now[q];
  }
  for (const std::size_t k : poles_) {
    const Pole& pole = view_->poles[k];
    now[pole.current] = pole.siemens() * (now[pole.p] - now[pole.q]);
  }
}

}  // namespace zavrek::emt::internal
