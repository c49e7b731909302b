#include "emt/condensed/condensed.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>

namespace zavrek::emt::internal {

int Condensed::history_of(PartGroups& parts, int segments) {
  int count = segments;
  for_each_history(parts, [&](double) { ++count; });
  return count;
}

Condensed::Condensed(const View& view, const Places& places, Outside outside, const ModelGroup& models)
    : view_(view), places_(places), outside_(std::move(outside)), numbers_(view.partition.numbers()) {
  const auto inside = [&](int position) { return position >= view.first && position < view.end; };
  conductances_.assign(static_cast<std::size_t>(filled_up(static_cast<int>(numbers_.size()))), 0.0);
  const auto among = [&](int number) {
    return std::find(numbers_.begin(), numbers_.end(), number) != numbers_.end();
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
  history_ = parts_history_ + static_cast<int>(segments_.size());
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
  sources_.assign(static_cast<std::size_t>(filled_up(static_cast<int>(ends_.size()))), 0.0);
  drives_ = history_ + static_cast<int>(outside_.known.size() + outside_.ends.size() + outside_.ports.size());
  columns_ = drives_ + static_cast<int>(ends_.size());
  rhs_.assign(static_cast<std::size_t>(view.voltages), 0.0);
  spill_ = rhs_;
  probe_.assign(static_cast<std::size_t>(view.values), 0.0);
  find_maps();
}

std::unique_ptr<Condensed> Condensed::clone(const View& view, const ModelGroup& models) const {
  return std::unique_ptr<Condensed>(new Condensed(*this, view, models));
}

Condensed::Condensed(const Condensed& other, const View& view, const ModelGroup& models) : Condensed(other) {
  view_.emplace(view);
  look_at(models);
  injections_.reserve(most_injections());
  if (divided_) divided_->forget_found();
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
  find_maps();
  if (!begun_) return;
  precompute_states();
}

/// For so many states, all of them empty.
void Condensed::make_room(std::size_t count) {
  states_.make_room({conductances_.size(), sources_.size(), static_cast<std::size_t>(rows_.count()),
                     static_cast<std::size_t>(columns_)},
                    count);
  met_ = false;
}

// --- states ------------------------------------------------------------------------------------------

void Condensed::choose() noexcept {
  if (!begun_) return;
  read_sources();
  if (divided_) {
    met_ = divided_->choose(view_->conductances.adjustable, sources_.data());
    return;
  }
  const double* const all = view_->conductances.adjustable.data();
  double* at = conductances_.data();
  for (const int number : numbers_) *at++ = all[number];
  met_ = states_.find(conductances_, state_);
  if (met_ && !SwitchStates::same(state_.sources, sources_.data(), sources_.size())) sum_constants();
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
  divided_ ? divided_->visit_state(archive) : states_.visit_state(archive, made_ahead_);
}

/// Gives the state at hand its matrix.
void Condensed::build_state_matrix() noexcept {
  if (divided_) {
    made_ += divided_->make({view_->conductances.adjustable, view_->couplings});
    met_ = true;
    return;
  }
  ++made_;
  state_ = states_.take(conductances_, made_);
  make_matrix();
  sum_constants();
  met_ = true;
}

void Condensed::read_sources() noexcept {
  std::size_t at = 0;
  const ValveGroup& valves = view_->valves;
  for (const std::size_t k : valves_) sources_[at++] = valves.source(k);
  for (const std::size_t k : segments_) sources_[at++] = -view_->segments.straight(k).offset;
}

void Condensed::sum_constants() noexcept {
  std::copy(sources_.begin(), sources_.end(), state_.sources);
  const int rows = rows_.count();
  std::fill_n(state_.constant, rows, 0.0);
  const double* column = state_.matrix + drives_ * rows;
  for (std::size_t k = 0; k < ends_.size(); ++k, column += rows) {
    if (sources_[k] == 0) continue;
    for (int r = 0; r < rows; ++r) state_.constant[r] += column[r] * sources_[k];
  }
}

/// The matrix of the state at hand.
void Condensed::make_matrix() noexcept {
  Partition& partition = view_->partition;
  if (partition.marked()) partition.refactor(view_->conductances.adjustable.data());
  injections_.clear();
  const auto inject = [&](int position, std::size_t column, double number) {
    if (position >= view_->first && position < view_->end)
      injections_.push_back({position - view_->first, static_cast<int>(column), number});
  };
  for (std::size_t k = 0; k < segments_.size(); ++k) {
    const auto line = view_->segments.straight(segments_[k]);
    const std::size_t column = static_cast<std::size_t>(parts_history_) + k;
    inject(line.p, column, -line.slope);
    inject(line.q, column, line.slope);
  }
  for (const Coupling& coupling : view_->couplings) {
    const auto known = std::find(outside_.known.begin(), outside_.known.end(), coupling.known);
    inject(coupling.row, static_cast<std::size_t>(history_ + (known - outside_.known.begin())),
           coupling.siemens);
  }
  for (const auto& [row, pole] : pole_rows_)
    scale_[static_cast<std::size_t>(row)] = view_->conductances.siemens(view_->poles[pole].number);
  response_.make(partition, injections_, scale_.data(), state_.matrix);
}

/// Which rows there are, and what of the response stands, by trying each column and each node alone.
void Condensed::find_maps() {
  state_row_ = filled_up(static_cast<int>(valves_.size()));
  scattered_row_ = state_row_ + filled_up(history_);
  rows_.divide(scattered_row_ + filled_up(static_cast<int>(scattered_.size())));
  const int nodes = view_->end - view_->first, rows = rows_.count();
  Eigen::MatrixXd read = Eigen::MatrixXd::Zero(rows, nodes), direct = Eigen::MatrixXd::Zero(rows, columns_);
  const auto read_into = [&](const Numbers& drive, auto&& column) {
    Numbers state(static_cast<std::size_t>(filled_up(history_)), 0.0);
    pass(drive.data(), probe_.data(), state.data());
    for (const std::size_t k : poles_) {
      const Pole& pole = view_->poles[k];
      probe_[static_cast<std::size_t>(pole.current)] =
          probe_[static_cast<std::size_t>(pole.p)] - probe_[static_cast<std::size_t>(pole.q)];
    }
    for (std::size_t k = 0; k < valves_.size(); ++k)
      column[static_cast<Eigen::Index>(k)] =
          probe_[static_cast<std::size_t>(view_->valves.voltage(valves_[k]))];
    for (int k = 0; k < history_; ++k) column[state_row_ + k] = state[static_cast<std::size_t>(k)];
    for (std::size_t k = 0; k < scattered_.size(); ++k)
      column[scattered_row_ + static_cast<Eigen::Index>(k)] = probe_[static_cast<std::size_t>(scattered_[k])];
  };
  const auto clear = [](Numbers& numbers) { std::fill(numbers.begin(), numbers.end(), 0.0); };

  Response::Maps maps;
  Numbers drive(static_cast<std::size_t>(columns_), 0.0);
  for (int c = 0; c < columns_; ++c) {
    clear(drive);
    clear(probe_);
    clear(rhs_);
    drive[static_cast<std::size_t>(c)] = 1;
    take_up(drive.data(), probe_.data());
    inject_standing(drive.data(), drive.data() + drives_);
    for (int node = 0; node < nodes; ++node)
      maps.injected.append(node, rhs_[static_cast<std::size_t>(view_->first + node)]);
    maps.injected.close();
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
    for (int node = 0; node < nodes; ++node) maps.read.append(node, read(row, node));
    for (int c = 0; c < columns_; ++c) maps.direct.append(c, direct(row, c));
    maps.read.close();
    maps.direct.close();
  }
  pole_rows_.clear();
  for (const std::size_t k : poles_) {
    const auto found = std::find(scattered_.begin(), scattered_.end(), view_->poles[k].current);
    if (found != scattered_.end())
      pole_rows_.emplace_back(scattered_row_ + static_cast<int>(found - scattered_.begin()), k);
  }
  divide(maps);
  response_ = Response(std::move(maps), nodes);
  scale_.assign(static_cast<std::size_t>(rows), 1.0);
  injections_.reserve(most_injections());
}

void Condensed::divide(const Response::Maps& maps) {
  divided_.reset();
  if (view_->partition.nodes() < least_divided || !segments_.empty()) return;
  Divided::Whole whole{view_->partition, maps, drives_, {}, {}};
  for (std::size_t k = 0; k < view_->couplings.size(); ++k) {
    const Coupling& coupling = view_->couplings[k];
    if (coupling.row < view_->first || coupling.row >= view_->end) continue;
    const auto known = std::find(outside_.known.begin(), outside_.known.end(), coupling.known);
    whole.varying.push_back({coupling.row - view_->first, static_cast<int>(k),
                             history_ + static_cast<int>(known - outside_.known.begin())});
  }
  for (const auto& [row, pole] : pole_rows_) whole.scaled.emplace_back(row, view_->poles[pole].number);
  divided_ = Divided::find(whole);
}

// --- solutions ---------------------------------------------------------------------------------------

void Condensed::begin(double* values) {
  const auto read = [&](Rule rule, double* history) {
    for_each_group(view_->parts, [&](auto& group) {
      group.inject(weights_of(rule), values, spill_.data(), view_->first_unknown);
    });
    for_each_history(view_->parts, [&](double number) { *history++ = number; });
    for (const std::size_t k : segments_) {
      const auto line = view_->segments.straight(k);
      const double more = rule == Rule::trapezoidal ? line.reach * (values[line.p] - values[line.q]) : 0;
      *history++ = line.remembers ? values[line.state] + more : 0;
    }
  };
  read(Rule::trapezoidal, values + places_.history);
  read(Rule::half_euler, values + state_at());
  for (const std::size_t k : valves_) {
    const auto [p, q] = view_->valves.ends(k);
    values[view_->valves.voltage(k)] = values[p] - values[q];
  }
  begun_ = true;
  precompute_states();
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
  if (whole) {
    solve_long(now + places_.drive, sources_.data(), now, now + state_at());
  } else {
    if (!met_) build_state_matrix();
    if (divided_)
      divided_->solve(now + places_.drive, now + places_.result);
    else
      rows_.multiply(state_.matrix, state_.constant, now + places_.drive, drives_, now + places_.result);
    scatter(now);
  }
  remember(now);
}

/// What a product gave to where others look for it.
void Condensed::scatter(double* now) const noexcept {
  const double* value = now + places_.result + scattered_row_;
  for (const int position : scattered_) now[position] = *value++;
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
  solve_long(values + places_.drive, sources_.data(), values, values + state_at());
}

/// The long way: right-hand side, factors, parts.
void Condensed::solve_long(const double* drive, const double* sources, double* now, double* state) noexcept {
  Partition& partition = view_->partition;
  if (partition.marked()) partition.refactor(view_->conductances.adjustable.data());
  take_up(drive, now);
  inject_standing(drive, sources);
  inject_varying(drive, now);
  partition.solve(rhs_.data(), now);
  pass(drive, now, state);
}

/// History of the parts and known voltages from the drive.
void Condensed::take_up(const double* drive, double* now) noexcept {
  for_each_history(view_->parts, [&](double& held) { held = *drive++; });
  drive += segments_.size();
  for (const int position : outside_.known) now[position] = *drive++;
}

/// Currents into the nodes, whatever the conductances,
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

/// and those that follow from these.
void Condensed::inject_varying(const double* drive, const double* now) noexcept {
  const double* number = drive + parts_history_;
  for (const std::size_t k : segments_) {
    const auto line = view_->segments.straight(k);
    const double history = line.slope * *number++;
    rhs_[static_cast<std::size_t>(line.p)] -= history;
    rhs_[static_cast<std::size_t>(line.q)] += history;
  }
  for (const Coupling& coupling : view_->couplings)
    rhs_[static_cast<std::size_t>(coupling.row)] += coupling.siemens * now[coupling.known];
}

/// What the parts make of the node voltages in `now`.
void Condensed::pass(const double* drive, double* now, double* state) noexcept {
  std::fill(spill_.data() + view_->first, spill_.data() + view_->end, 0.0);
  for_each_group(view_->parts, [&, half = weights_of(Rule::half_euler)](auto& group) {
    group.pass(half, now, spill_.data(), view_->first_unknown);
  });
  for_each_history(view_->parts, [&](double held) { *state++ = held; });
  const double* carried = drive + parts_history_;
  for (const std::size_t k : segments_) {
    const auto line = view_->segments.straight(k);
    now[line.state] = *carried++ + line.reach * (now[line.p] - now[line.q]);
    *state++ = line.remembers ? now[line.state] : 0;
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
