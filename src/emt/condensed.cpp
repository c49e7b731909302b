#include "emt/condensed.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>

#include "emt/core.hpp"

namespace zavrek::emt::internal {

int Condensed::memory_of(Shard& shard, int segments) {
  int count = segments;
  for_each_memory(shard, [&](double) { ++count; });
  return count;
}

Condensed::Condensed(Core& core, std::size_t shard, const Places& places, const Outside& outside)
    : core_(&core), shard_(shard), places_(places), outside_(outside) {
  Shard& own = core.shards[shard];
  const auto inside = [&](int position) { return position >= own.first && position < own.end; };
  for (const int number : core.partitions[static_cast<std::size_t>(own.first_partition)].numbers())
    numbers_.push_back(number);
  conductances_.assign(static_cast<std::size_t>(filled_up(static_cast<int>(numbers_.size()))), 0.0);
  const auto among = [&](int number) {
    return std::find(numbers_.begin(), numbers_.end(), number) != numbers_.end();
  };
  for (std::size_t k = 0; k < core.valves.size(); ++k) {
    if (!among(core.valves.number(k))) continue;
    valves_.push_back(k);
    ends_.push_back({core.valves.ends(k).first, core.valves.ends(k).second});
    core.valves.set_apart(k);
  }
  all_valves_ = !valves_.empty() && valves_.size() == core.valves.size();
  if (all_valves_) {
    for (const std::size_t k : valves_) core.stands[static_cast<std::size_t>(core.valves.voltage(k))] = 0;
  }
  for (std::size_t k = 0; k < core.segments.size(); ++k) {
    if (!among(core.segments.number(k))) continue;
    segments_.push_back(k);
    const auto straight = core.segments.straight(k);
    ends_.push_back({straight.p, straight.q});
    scattered_.push_back(straight.state);
    core.segments.set_apart(k);
  }
  for (std::size_t k = 0; k < core.poles.size(); ++k) {
    if (inside(core.poles[k].p) || inside(core.poles[k].q)) {
      poles_.push_back(k);
      core.poles[k].apart = true;
    }
  }
  for (const SourceNode& source : core.sources) {
    const auto drives = [&](const Coupling& coupling) { return coupling.known == source.position; };
    if (std::any_of(own.couplings.begin(), own.couplings.end(), drives)) known_.push_back(source.position);
  }
  for_each_group(own, [&]<class Group>(Group& group) {
    group.for_each_memory([&](double) {
      if constexpr (Group::charges) charging_.push_back(parts_memory_);
      ++parts_memory_;
    });
  });
  memory_ = parts_memory_ + static_cast<int>(segments_.size());
  const auto keep_up = [&](int position) {
    if (inside(position) && std::find(scattered_.begin(), scattered_.end(), position) == scattered_.end())
      scattered_.push_back(position);
  };
  std::for_each(outside_.ports.begin(), outside_.ports.end(), keep_up);
  for (const ModelEnd& end : outside_.ends) {
    keep_up(end.p);
    keep_up(end.q);
  }
  sources_.assign(static_cast<std::size_t>(filled_up(static_cast<int>(ends_.size()))), 0.0);
  drives_ = memory_ + static_cast<int>(known_.size() + outside_.ends.size() + outside_.ports.size());
  columns_ = drives_ + static_cast<int>(ends_.size());
  rhs_.assign(core.rhs.size(), 0.0);
  spill_ = rhs_;
  probe_.assign(core.present.size(), 0.0);
  find_maps();
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
  make_ahead();
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
  const double* const all = core_->adjustable.data();
  double* at = conductances_.data();
  for (const int number : numbers_) *at++ = all[number];
  met_ = states_.find(conductances_, state_);
  if (met_ && !SwitchStates::same(state_.sources, sources_.data(), sources_.size())) sum_constants();
}

/// Gives the state at hand its matrix.
void Condensed::meet() noexcept {
  ++made_;
  state_ = states_.take(conductances_);
  make_matrix();
  sum_constants();
  met_ = true;
}

void Condensed::read_sources() noexcept {
  std::size_t at = 0;
  const ValveGroup& valves = core_->valves;
  for (const std::size_t k : valves_) sources_[at++] = valves.source(k);
  for (const std::size_t k : segments_) sources_[at++] = -core_->segments.straight(k).offset;
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
  const Shard& shard = core_->shards[shard_];
  Partition& partition = core_->partitions[static_cast<std::size_t>(shard.first_partition)];
  if (partition.marked()) partition.refactor(core_->adjustable.data());
  injections_.clear();
  const auto inject = [&](int position, std::size_t column, double number) {
    if (position >= shard.first && position < shard.end)
      injections_.push_back({position - shard.first, static_cast<int>(column), number});
  };
  for (std::size_t k = 0; k < segments_.size(); ++k) {
    const auto line = core_->segments.straight(segments_[k]);
    const std::size_t column = static_cast<std::size_t>(parts_memory_) + k;
    inject(line.p, column, -line.slope);
    inject(line.q, column, line.slope);
  }
  for (const Coupling& coupling : shard.couplings) {
    const auto known = std::find(known_.begin(), known_.end(), coupling.known);
    inject(coupling.row, static_cast<std::size_t>(memory_ + (known - known_.begin())), coupling.siemens);
  }
  for (const auto& [row, pole] : pole_rows_)
    scale_[static_cast<std::size_t>(row)] = core_->poles[pole].siemens();
  response_.make(partition, injections_, scale_.data(), state_.matrix);
}

/// Which rows there are, and what of the response stands, by trying each column and each node alone.
void Condensed::find_maps() {
  state_row_ = filled_up(static_cast<int>(valves_.size()));
  scattered_row_ = state_row_ + filled_up(memory_);
  if (all_valves_) core_->valves.move_voltages(places_.result);
  rows_.divide(scattered_row_ + filled_up(static_cast<int>(scattered_.size())));
  const Shard& shard = core_->shards[shard_];
  const int nodes = shard.end - shard.first, rows = rows_.count();
  Eigen::MatrixXd read = Eigen::MatrixXd::Zero(rows, nodes), direct = Eigen::MatrixXd::Zero(rows, columns_);
  const auto read_into = [&](const Numbers& drive, auto&& column) {
    Numbers state(static_cast<std::size_t>(filled_up(memory_)), 0.0);
    pass(drive.data(), probe_.data(), state.data());
    for (const std::size_t k : poles_) {
      const Pole& pole = core_->poles[k];
      probe_[static_cast<std::size_t>(pole.current)] =
          probe_[static_cast<std::size_t>(pole.p)] - probe_[static_cast<std::size_t>(pole.q)];
    }
    for (std::size_t k = 0; k < valves_.size(); ++k)
      column[static_cast<Eigen::Index>(k)] =
          probe_[static_cast<std::size_t>(core_->valves.voltage(valves_[k]))];
    for (int k = 0; k < memory_; ++k) column[state_row_ + k] = state[static_cast<std::size_t>(k)];
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
      maps.injected.append(node, rhs_[static_cast<std::size_t>(shard.first + node)]);
    maps.injected.close();
    read_into(drive, direct.col(c));
  }
  clear(rhs_);
  for (int node = 0; node < nodes; ++node) {
    clear(drive);
    clear(probe_);
    take_up(drive.data(), probe_.data());
    probe_[static_cast<std::size_t>(shard.first + node)] = 1;
    read_into(drive, read.col(node));
  }
  for (int row = 0; row < rows; ++row) {
    for (int node = 0; node < nodes; ++node) maps.read.append(node, read(row, node));
    for (int c = 0; c < columns_; ++c) maps.direct.append(c, direct(row, c));
    maps.read.close();
    maps.direct.close();
  }
  response_ = Response(std::move(maps), nodes);
  scale_.assign(static_cast<std::size_t>(rows), 1.0);
  injections_.reserve(2 * segments_.size() + shard.couplings.size());
  pole_rows_.clear();
  for (const std::size_t k : poles_) {
    const auto found = std::find(scattered_.begin(), scattered_.end(), core_->poles[k].current);
    if (found != scattered_.end())
      pole_rows_.emplace_back(scattered_row_ + static_cast<int>(found - scattered_.begin()), k);
  }
}

// --- solutions ---------------------------------------------------------------------------------------

void Condensed::begin(double* values) {
  Shard& shard = core_->shards[shard_];
  const auto read = [&](Rule rule, double* memory) {
    for_each_group(shard, [&](auto& group) {
      group.inject(weights_of(rule), values, spill_.data(), core_->first_unknown);
    });
    for_each_memory(shard, [&](double number) { *memory++ = number; });
    for (const std::size_t k : segments_) {
      const auto line = core_->segments.straight(k);
      const double more = rule == Rule::trapezoidal ? line.reach * (values[line.p] - values[line.q]) : 0;
      *memory++ = line.remembers ? values[line.state] + more : 0;
    }
  };
  read(Rule::trapezoidal, values + places_.memory);
  read(Rule::half_euler, values + state_at());
  for (const std::size_t k : valves_) {
    const auto [p, q] = core_->valves.ends(k);
    values[core_->valves.voltage(k)] = values[p] - values[q];
  }
  begun_ = true;
  make_ahead();
}

void Condensed::take_drive(Rule rule, const double* old, double* now, double* rhs) const noexcept {
  double* const drive = now + places_.drive;
  copy_lanes(old + (rule == Rule::trapezoidal ? places_.memory : state_at()), memory_, drive);
  double* outer = drive + memory_;
  for (const int position : known_) *outer++ = now[position];
  for (const ModelEnd& end : outside_.ends) *outer++ = *end.history;
  for (const int position : outside_.ports) {
    *outer++ = rhs[position];
    rhs[position] = 0;
  }
}

void Condensed::solve(double* now, bool whole, bool brief) noexcept {
  if (whole || (brief && !met_)) {
    solve_long(now + places_.drive, sources_.data(), now, now + state_at());
  } else {
    if (!met_) meet();
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
  for (const std::size_t k : valves_) now[core_->valves.voltage(k)] = *value++;
}

void Condensed::remember(double* now) const noexcept {
  const double *state = now + state_at(), *before = now + places_.drive;
  double* memory = now + places_.memory;
  for (int k = 0; k < memory_; k += lanes) store(memory + k, 2 * load(state + k) - load(before + k));
}

void Condensed::take_charging(double along, const double* first, const double* second,
                              double* into) const noexcept {
  const int memory = places_.memory, state = state_at();
  for (const int k : charging_) {
    const double stands = first[state + k] + along * (second[state + k] - first[state + k]);
    into[memory + k] = stands + second[memory + k] - second[state + k];
  }
}

void Condensed::complete(double* values) noexcept {
  solve_long(values + places_.drive, sources_.data(), values, values + state_at());
}

/// The long way: right-hand side, factors, parts.
void Condensed::solve_long(const double* drive, const double* sources, double* now, double* state) noexcept {
  const Shard& shard = core_->shards[shard_];
  Partition& partition = core_->partitions[static_cast<std::size_t>(shard.first_partition)];
  if (partition.marked()) partition.refactor(core_->adjustable.data());
  take_up(drive, now);
  inject_standing(drive, sources);
  inject_varying(drive, now);
  partition.solve(rhs_.data(), now);
  pass(drive, now, state);
}

/// Memory of the parts and known voltages from the drive.
void Condensed::take_up(const double* drive, double* now) noexcept {
  for_each_memory(core_->shards[shard_], [&](double& held) { held = *drive++; });
  drive += segments_.size();
  for (const int position : known_) now[position] = *drive++;
}

/// Currents into the nodes, whatever the conductances,
void Condensed::inject_standing(const double* drive, const double* sources) noexcept {
  for_each_group(core_->shards[shard_], [&](auto& group) { group.drive(rhs_.data(), core_->first_unknown); });
  const double* number = drive + memory_ + known_.size();
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
  const double* number = drive + parts_memory_;
  for (const std::size_t k : segments_) {
    const auto line = core_->segments.straight(k);
    const double history = line.slope * *number++;
    rhs_[static_cast<std::size_t>(line.p)] -= history;
    rhs_[static_cast<std::size_t>(line.q)] += history;
  }
  for (const Coupling& coupling : core_->shards[shard_].couplings)
    rhs_[static_cast<std::size_t>(coupling.row)] += coupling.siemens * now[coupling.known];
}

/// What the parts make of the node voltages in `now`.
void Condensed::pass(const double* drive, double* now, double* state) noexcept {
  Shard& shard = core_->shards[shard_];
  std::fill(spill_.data() + shard.first, spill_.data() + shard.end, 0.0);
  for_each_group(shard, [&, half = weights_of(Rule::half_euler)](auto& group) {
    group.pass(half, now, spill_.data(), core_->first_unknown);
  });
  for_each_memory(shard, [&](double held) { *state++ = held; });
  const double* carried = drive + parts_memory_;
  for (const std::size_t k : segments_) {
    const auto line = core_->segments.straight(k);
    now[line.state] = *carried++ + line.reach * (now[line.p] - now[line.q]);
    *state++ = line.remembers ? now[line.state] : 0;
  }
  for (const std::size_t k : valves_) {
    const auto [p, q] = core_->valves.ends(k);
    now[core_->valves.voltage(k)] = now[p] - now[q];
  }
  for (const std::size_t k : poles_) {
    const Pole& pole = core_->poles[k];
    now[pole.current] = pole.siemens() * (now[pole.p] - now[pole.q]);
  }
}

}  // namespace zavrek::emt::internal
