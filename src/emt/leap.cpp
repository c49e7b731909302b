#include "emt/leap.hpp"

#include <algorithm>
#include <cmath>
#include <complex>

#include "emt/core.hpp"

namespace zavrek::emt::internal {

Leap::Leap(Core& core, int steps, const std::vector<int>& watched) : core_(&core), steps_(steps) {
  const bool linear = !core.euler_throughout && core.valves.empty() && core.legs.empty() &&
                      core.segments.empty() &&
                      std::none_of(core.shards.begin(), core.shards.end(),
                                   [](const Shard& shard) { return shard.condensed != nullptr; }) &&
                      std::all_of(core.models.begin(), core.models.end(),
                                  [](const ModelRow& row) { return row.model->measures(); });
  if (!linear || !find_tones()) return;
  for_each_stored([&](double&) { ++stored_; });
  numbers_ = stored_ + 2 * static_cast<int>(tones_.size());
  find_places(watched);
  const auto values = observed_.size() * static_cast<std::size_t>(steps_) + read_.size();
  possible_ = numbers_ <= most_numbers && values <= most_numbers;
  if (!possible_) return;
  rows_.divide(filled_up(stored_) + filled_up(static_cast<int>(values)));
  const auto rows = static_cast<std::size_t>(rows_.count());
  State empty;
  empty.conductances.assign(core.adjustable.size(), std::nan(""));
  empty.matrix.assign(rows * static_cast<std::size_t>(numbers_), 0.0);
  states_.assign(most_states, empty);
  z_.assign(static_cast<std::size_t>(filled_up(numbers_)), 0.0);
  before_ = unit_ = z_;
  nothing_.assign(rows, 0.0);
  out_ = nothing_;
  now_.assign(core.present.size(), 0.0);
  then_ = probe_ = now_;
  rhs_.assign(core.rhs.size(), 0.0);
  core.lines.keep(waves_);
}

/// False when a source does not stay what it is.
bool Leap::find_tones() {
  Core& core = *core_;
  for (std::size_t s = 0; s < core.sources.size(); ++s) {
    const Waveform& waveform = core.waveforms[core.sources[s].waveform];
    if (!waveform.steady()) return false;
    for (const Waveform::Line& line : waveform.lines(core.sources[s].phase.angle_rad)) {
      auto tone = std::find_if(tones_.begin(), tones_.end(),
                               [&](const Tone& known) { return known.omega == line.omega; });
      if (tone == tones_.end())
        tone = tones_.insert(tone, {line.omega, std::vector<std::complex<double>>(
                                                    static_cast<std::size_t>(steps_) * core.sources.size())});
      for (std::size_t i = 0; i < static_cast<std::size_t>(steps_); ++i)
        tone->nodes[i * core.sources.size() + s] += std::polar(
            line.amplitude, line.angle_rad + line.omega * static_cast<double>(i + 1) * core.step_s);
    }
  }
  return true;
}

/// A signal of the network itself is found by a row of its own. Those of models, of positions and of knobs
/// are sums of values that stand anyway.
void Leap::find_places(const std::vector<int>& watched) {
  const Core& core = *core_;
  std::vector<char> stands(core.present.size(), 0);
  stands[0] = 1;
  for (const Pole& pole : core.poles) stands[static_cast<std::size_t>(pole.position)] = 1;
  for (const Knob& knob : core.knobs) stands[static_cast<std::size_t>(knob.slot.index)] = 1;
  for (const ModelRow& row : core.models) {
    own_.emplace_back(row.places.first, row.model->slots());
    std::fill_n(stands.begin() + row.places.first, row.model->slots(), 1);
    own_before_.resize(own_before_.size() + static_cast<std::size_t>(row.model->slots()));
  }
  for (const ModelRow& row : core.models) {
    for (const auto& input : row.places.inputs) {
      for (const auto& [position, coefficient] : input) {
        if (std::exchange(stands[static_cast<std::size_t>(position)], 1) == 0) observed_.push_back(position);
      }
    }
  }
  for (const SignalRow& row : core.signals) {
    const auto* first = core.terms.data() + row.first;
    const bool known = std::all_of(first, first + row.count, [&](const Term& term) {
      return stands[static_cast<std::size_t>(term.index)] != 0;
    });
    place_of_row_.push_back(known ? sum_of_values : unknown_row);
  }
  const int behind = filled_up(stored_) + static_cast<int>(observed_.size()) * steps_;
  for (const int row : watched) {
    int& place = place_of_row_[static_cast<std::size_t>(row)];
    if (place != unknown_row) continue;
    place = behind + static_cast<int>(read_.size());
    read_.push_back(row);
  }
}

// --- what the network remembers ------------------------------------------------------------------------

template <class Visit>
void Leap::for_each_stored(Visit&& visit) noexcept {
  for (Shard& shard : core_->shards) for_each_memory(shard, visit);
  core_->lines.for_each_coming(visit);
}

void Leap::read_stored(double* z) noexcept {
  for_each_stored([&](double& number) { *z++ = number; });
}

void Leap::write_stored(const double* z) noexcept {
  for_each_stored([&](double& number) { number = *z++; });
}

void Leap::write_tones(long long step, double* z) const noexcept {
  for (const Tone& tone : tones_) {
    const double turned = tone.omega * (static_cast<double>(step) * core_->step_s);
    *z++ = std::cos(turned);
    *z++ = std::sin(turned);
  }
}

// --- matrices ------------------------------------------------------------------------------------------

void Leap::choose() noexcept {
  if (state_ != nullptr && core_->discontinuities == discontinuities_) return;
  discontinuities_ = core_->discontinuities;
  const auto found = std::find_if(states_.begin(), states_.end(), [&](const State& state) {
    return std::equal(state.conductances.begin(), state.conductances.end(), core_->adjustable.begin());
  });
  if (found != states_.end()) {
    state_ = &*found;
    return;
  }
  state_ = &states_[oldest_];
  oldest_ = (oldest_ + 1) % most_states;
  std::copy(core_->adjustable.begin(), core_->adjustable.end(), state_->conductances.begin());
  state_->stays = state_->columns = 0;
}

void Leap::make_columns() noexcept {
  if (++state_->stays <= longest_stay) return;
  read_stored(z_.data());
  core_->lines.keep(waves_);
  for (int k = 0; k < columns_at_once && state_->columns < numbers_; ++k) make_column(state_->columns++);
  core_->lines.bring_back(waves_);
  write_stored(z_.data());
}

/// What one unit of z becomes.
void Leap::make_column(int column) noexcept {
  Core& core = *core_;
  double* into = &state_->matrix[static_cast<std::size_t>(column) * static_cast<std::size_t>(rows_.count())];
  double* value = into + filled_up(stored_);
  std::fill(unit_.begin(), unit_.end(), 0.0);
  unit_[static_cast<std::size_t>(column)] = 1;
  write_stored(unit_.data());
  std::fill(rhs_.begin(), rhs_.end(), 0.0);
  for (Shard& shard : core.shards)
    for_each_group(shard, [&](auto& group) { group.drive(rhs_.data(), core.first_unknown); });
  for (std::size_t i = 0; i < static_cast<std::size_t>(steps_); ++i) {
    for (std::size_t s = 0; s < core.sources.size(); ++s) {
      double& known = probe_[static_cast<std::size_t>(core.sources[s].position)];
      known = 0;
      const double* shares = &unit_[static_cast<std::size_t>(stored_)];
      for (const Tone& tone : tones_) {
        const std::complex<double>& node = tone.nodes[i * core.sources.size() + s];
        known += *shares++ * node.real();
        known -= *shares++ * node.imag();
      }
    }
    if (!core.lines.empty()) core.lines.inject(1, rhs_.data());
    for (Shard& shard : core.shards)
      core.solve_by_factors(shard, Rule::trapezoidal, rhs_.data(), probe_.data());
    if (!core.lines.empty()) {
      core.lines.update(probe_.data());
      core.lines.push(probe_.data());
    }
    for (const Pole& pole : core.poles)
      probe_[static_cast<std::size_t>(pole.current)] =
          pole.siemens() *
          (probe_[static_cast<std::size_t>(pole.p)] - probe_[static_cast<std::size_t>(pole.q)]);
    for (const int position : observed_) *value++ = probe_[static_cast<std::size_t>(position)];
  }
  for (const int row : read_)
    *value++ = core.sum_of(core.signals[static_cast<std::size_t>(row)], probe_.data());
  read_stored(into);
}

// --- leaps ---------------------------------------------------------------------------------------------

/// Whether nothing can happen before the end of a leap.
bool Leap::quiet() const noexcept {
  const Core& core = *core_;
  const double until = static_cast<double>(core.steps + steps_) * core.step_s;
  return core.pole_alarm_s >= until && !core.turned && !core.settle_first && !core.stale &&
         core.ahead_holds && core.ahead_rule == Rule::trapezoidal;
}

bool Leap::take() noexcept {
  if (!quiet()) return false;
  Core& core = *core_;
  if (!landed_) {
    choose();
    if (state_->columns < numbers_) {
      make_columns();
      return false;
    }
    read_stored(z_.data());
    std::copy(core.present.begin(), core.present.end(), now_.begin());
    if (!own_.empty()) then_ = now_;
  }
  write_tones(core.steps, z_.data() + stored_);
  rows_.multiply(state_->matrix, nothing_, z_.data(), numbers_, out_.data());
  Lanes sums{};
  for (int k = 0; k < filled_up(stored_); k += lanes) sums += load(&out_[static_cast<std::size_t>(k)]);
  if (!std::isfinite(sums[0] + sums[1] + sums[2] + sums[3])) return false;
  std::swap(z_, before_);
  copy_lanes(out_.data(), stored_, z_.data());
  double* kept = own_before_.data();
  for (const auto& [first, count] : own_) kept = std::copy_n(now_.data() + first, count, kept);
  measure(out_.data() + filled_up(stored_));
  core.steps += steps_;
  landed_ = true;
  return true;
}

/// Models, step by step, from what was found.
void Leap::measure(const double* found) noexcept {
  const Core& core = *core_;
  for (int i = 1; i <= steps_ && !own_.empty(); ++i) {
    std::swap(then_, now_);
    for (const int position : observed_) now_[static_cast<std::size_t>(position)] = *found++;
    const Stretch stretch{Rule::trapezoidal, core.step_s, static_cast<double>(core.steps + i) * core.step_s};
    for (const ModelRow& row : core.models)
      row.model->end(stretch, row.places, then_.data(), now_.data(), nullptr, nullptr);
  }
}

void Leap::leave() noexcept {
  if (!landed_) return;
  landed_ = false;
  Core& core = *core_;
  core.steps -= steps_;
  write_stored(before_.data());
  std::fill(core.rhs.begin(), core.rhs.end(), 0.0);
  for (Shard& shard : core.shards)
    for_each_group(shard, [&](auto& group) { group.drive(core.rhs.data(), core.first_unknown); });
  const double* kept = own_before_.data();
  for (const auto& [first, count] : own_) {
    std::copy_n(kept, count, core.present.data() + first);
    kept += count;
  }
  for (int k = 0; k < steps_; ++k) {
    core.advance();
    core.resolve_discontinuities();
    (void)core.finish();
  }
}

}  // namespace zavrek::emt::internal
