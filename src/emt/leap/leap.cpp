#include "emt/leap/leap.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <cstdint>
#include <utility>

#include "emt/step/core.hpp"

namespace zavrek::emt::internal {

Leap::Leap(Core& core, int steps, const std::vector<int>& watched)
    : core_(&core), steps_(steps), watched_(watched) {
  const bool linear = !core.options.euler_throughout && core.valves.empty() && core.legs.empty() &&
                      core.segments.empty() &&
                      std::none_of(core.shards.begin(), core.shards.end(),
                                   [](const Shard& shard) { return shard.condensed != nullptr; }) &&
                      std::all_of(core.models.begin(), core.models.end(),
                                  [](const ModelRow& row) { return row.model->measures(); });
  if (!linear || !find_tones()) return;
  for (Shard& shard : core.shards)
    for_each_history(shard.parts, [&](double& number) { of_parts_.push_back(&number); });
  for_each_stored([&](double&) { ++stored_; });
  numbers_ = stored_ + 2 * static_cast<int>(tones_.size());
  find_places(watched);
  const int observed = static_cast<int>(observed_.size()), read = static_cast<int>(read_.size());
  const int values = observed * steps + read;
  possible_ = numbers_ <= most_numbers && values <= most_numbers;
  if (!possible_) return;
  plan_powers(observed, read);
  make_room();
  z_.assign(static_cast<std::size_t>(filled_up(numbers_)), 0.0);
  before_ = unit_ = z_;
  nothing_.assign(static_cast<std::size_t>(shapes_.back().rows.count()), 0.0);
  out_ = nothing_;
  fours_.assign(static_cast<std::size_t>(most_columns * numbers_), 0.0);
  fours_out_.assign(most_columns * nothing_.size(), 0.0);
  now_.assign(core.at.present.size(), 0.0);
  then_ = probe_ = now_;
  rhs_.assign(core.history.rhs.size(), 0.0);
  core.lines.keep(waves_);
}

/// One step, then doubled and added up to a leap, then leaps doubled.
void Leap::plan_powers(int observed, int read) {
  shapes_.push_back({.each = observed, .last = read});
  int bit = 1;
  for (; 2 * bit <= steps_; bit *= 2) add_power(several_leaps(), several_leaps());
  for (int rest = steps_ - bit; rest > 0; rest -= bit) {
    int single = 0;
    for (bit = 1; 2 * bit <= rest; bit *= 2) ++single;
    add_power(several_leaps(), single);
  }
  one_leap_ = several_leaps();
  Shape& leap = shapes_.back();
  leap.each += std::exchange(leap.last, 0);
  const int values = leap.each;
  // Twice as many leaps save half of the rows for the memories, as long as those for values are few.
  for (; several_ < most_at_once && values * several_ < 2 * stored_; several_ *= 2)
    add_power(several_leaps(), several_leaps());
}

void Leap::add_power(int lower, int upper) {
  const Shape &first = shape(lower), &second = shape(upper);
  shapes_.push_back({first.steps + second.steps, lower, upper, first.each + second.each, second.last, {}});
}

/// For the matrices of all states, and those that one at a time needs on its way.
void Leap::make_room() {
  std::size_t room = 0;
  const auto take = [&](const Shape& shape) {
    return std::exchange(room, room + static_cast<std::size_t>(shape.rows.count() * numbers_));
  };
  std::vector<std::size_t> places;
  for (Shape& shape : shapes_) {
    shape.rows.divide(filled_up(stored_) + filled_up(shape.values()));
    places.push_back(take(shape));
  }
  for (std::size_t k = 1; k < most_states; ++k) {
    places.push_back(take(shape(one_leap_)));
    places.push_back(take(shape(several_leaps())));
  }
  constexpr std::size_t line = 8;
  matrices_ = std::make_unique_for_overwrite<double[]>(room + line);
  double* const first =
      matrices_.get() +
      (line - reinterpret_cast<std::uintptr_t>(matrices_.get()) / sizeof(double) % line) % line;
  for (std::size_t k = 0; k < shapes_.size(); ++k) on_the_way_.push_back({.matrix = first + places[k]});
  State state;
  state.conductances.assign(core_->conductances.adjustable.size(), std::nan(""));
  states_.assign(most_states, state);
  on_the_way_for_ = state.conductances;
  for (std::size_t k = 0; k < most_states; ++k) {
    const std::size_t own = shapes_.size() + 2 * (k - 1);
    states_[k].leap.matrix = first + places[k == 0 ? static_cast<std::size_t>(one_leap_) : own];
    states_[k].several.matrix = first + places[k == 0 ? shapes_.size() - 1 : own + 1];
  }
}

/// Columns to be made at once of a matrix whose rows are `rows`: bounded work.
int Leap::columns_at_once(int rows) const noexcept {
  return std::clamp(most_products / (rows * numbers_) / 4 * 4, fewest_columns, most_columns);
}

/// False when a source does not stay what it is.
bool Leap::find_tones() {
  const Core& core = *core_;
  if (core.sources.hears() || core.lines.hears()) return false;
  const auto& nodes = core.sources.nodes();
  for (std::size_t s = 0; s < nodes.size(); ++s) {
    const Waveform& waveform = core.sources.waveform_of(nodes[s]);
    if (!waveform.steady()) return false;
    for (const Waveform::Line& line : waveform.lines(nodes[s].phase.angle_rad)) {
      auto tone = std::find_if(tones_.begin(), tones_.end(),
                               [&](const Tone& known) { return known.omega == line.omega; });
      if (tone == tones_.end())
        tone = tones_.insert(tone, {line.omega, std::vector<std::complex<double>>(nodes.size())});
      tone->nodes[s] += std::polar(line.amplitude, line.angle_rad + line.omega * core.options.step_s);
    }
  }
  return true;
}

/// A signal of the network itself is found by a row of its own. Those of models, of positions and of knobs
/// are sums of values that stand anyway.
void Leap::find_places(const std::vector<int>& watched) {
  const Core& core = *core_;
  std::vector<char> stands(core.at.present.size(), 0);
  stands[0] = 1;
  for (const Pole& pole : core.poles) stands[static_cast<std::size_t>(pole.position)] = 1;
  for (const Knob& knob : core.controls.knobs) stands[static_cast<std::size_t>(knob.slot.index)] = 1;
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
  for (const SignalRow& row : core.signals.rows) {
    const auto* first = core.signals.terms.data() + row.first;
    const bool known = std::all_of(first, first + row.count, [&](const Term& term) {
      return stands[static_cast<std::size_t>(term.index)] != 0;
    });
    place_of_row_.push_back(known ? sum_of_values : unknown_row);
  }
  const int behind = static_cast<int>(observed_.size()) * steps_;
  for (const int row : watched) {
    int& place = place_of_row_[static_cast<std::size_t>(row)];
    if (place != unknown_row) continue;
    place = behind + static_cast<int>(read_.size());
    read_.push_back(row);
  }
}

// --- what the network remembers ------------------------------------------------------------------------

/// Numbers of parts stand where they stood at the start; those of lines move on.
template <class Visit>
void Leap::for_each_stored(Visit&& visit) noexcept {
  for (double* const number : of_parts_) visit(*number);
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
    const double turned = tone.omega * (static_cast<double>(step) * core_->options.step_s);
    *z++ = std::cos(turned);
    *z++ = std::sin(turned);
  }
}

// --- matrices ------------------------------------------------------------------------------------------

void Leap::choose() noexcept {
  const auto& adjustable = core_->conductances.adjustable;
  if (state_ != nullptr && core_->counters.discontinuities == discontinuities_) return;
  discontinuities_ = core_->counters.discontinuities;
  const auto found = std::find_if(states_.begin(), states_.end(), [&](const State& state) {
    return state.met && state.conductances == adjustable;
  });
  if (found != states_.end()) {
    state_ = &*found;
    return;
  }
  state_ = &states_[oldest_];
  oldest_ = (oldest_ + 1) % most_states;
  state_->make_for(adjustable);
  state_->met = true;
  state_->stays = state_->leap.columns = state_->several.columns = 0;
  if (making_ == state_) making_ = nullptr;
}

/// What is stored of the powers on the way is kept for a state of the same conductances.
void Leap::start_making() noexcept {
  const bool same = on_the_way_for_ == state_->conductances;
  std::copy(state_->conductances.begin(), state_->conductances.end(), on_the_way_for_.begin());
  for (Power& power : on_the_way_) {
    power.columns = 0;
    if (!same) power.stored = 0;
  }
}

/// Whether columns up to `end` must be worked out: not when they are stored, nor on the way to a power that
/// is.
bool Leap::wants(int number, int end) noexcept {
  if (end <= power(number).stored) return false;
  return number < one_leap_   ? state_->leap.stored < numbers_
         : number > one_leap_ ? state_->several.stored < numbers_
                              : true;
}

/// The next columns, of the first power that is not whole.
void Leap::make_columns() noexcept {
  if (++state_->stays <= longest_stay) return;
  if (std::exchange(making_, state_) != state_) start_making();
  int next = made(one_leap_) ? one_leap_ + 1 : 0;
  while (made(next)) ++next;
  if (next > 0) return multiply_columns(next);
  // A step takes about as long as a tenth of such a product.
  const int first = power(0).columns, end = std::min(numbers_, first + columns_at_once(most_numbers));
  power(0).columns = end;
  if (!wants(0, end)) return;
  read_stored(z_.data());
  core_->lines.keep(waves_);
  for (int column = first; column < end; ++column) make_column(column);
  core_->lines.bring_back(waves_);
  write_stored(z_.data());
  power(0).stored = end;
}

/// What one unit of z becomes in a step.
void Leap::make_column(int column) noexcept {
  Core& core = *core_;
  double* into = column_of(0, column);
  double* value = into + filled_up(stored_);
  std::fill(into, into + shape(0).rows.count(), 0.0);
  std::fill(unit_.begin(), unit_.end(), 0.0);
  unit_[static_cast<std::size_t>(column)] = 1;
  write_stored(unit_.data());
  const auto& nodes = core.sources.nodes();
  for (std::size_t s = 0; s < nodes.size(); ++s) {
    double& known = probe_[static_cast<std::size_t>(nodes[s].position)];
    known = 0;
    const double* shares = &unit_[static_cast<std::size_t>(stored_)];
    for (const Tone& tone : tones_) {
      known += *shares++ * tone.nodes[s].real();
      known -= *shares++ * tone.nodes[s].imag();
    }
  }
  core.step_linear(rhs_.data(), probe_.data());
  for (const int position : observed_) *value++ = probe_[static_cast<std::size_t>(position)];
  for (const int row : read_)
    *value++ = core.signals.sum_of(core.signals.rows[static_cast<std::size_t>(row)], probe_.data());
  read_stored(into);
}

/// The next columns, in fours: what the lower power makes of a unit of z goes through the upper.
void Leap::multiply_columns(int number) noexcept {
  const Shape& own = shape(number);
  const Shape &lower = shape(own.lower), &upper = shape(own.upper);
  const auto behind = static_cast<std::size_t>(filled_up(stored_));
  const int first = power(number).columns,
            count = std::min(columns_at_once(upper.rows.count()), numbers_ - first);
  power(number).columns += count;
  if (!wants(number, first + count)) return;
  const int fours = (count + 3) / 4;
  for (int k = 0; k < count; ++k) {
    double* into = &fours_[static_cast<std::size_t>(k / 4 * 4 * numbers_ + k % 4)];
    const double* from = column_of(own.lower, first + k);
    for (int i = 0; i < stored_; ++i) into[4 * i] = from[i];
    turn_tones(first + k - stored_, lower.steps, into + 4 * stored_);
  }
  upper.rows.multiply_fours(power(own.upper).matrix, fours_.data(), numbers_, fours, fours_out_.data());
  for (int k = 0; k < count; ++k) {
    const double* found = &fours_out_[static_cast<std::size_t>(k * upper.rows.count())];
    double* into = column_of(number, first + k);
    std::copy_n(found, stored_, into);
    std::fill(into + stored_, into + own.rows.count(), 0.0);
    into = std::copy_n(column_of(own.lower, first + k) + behind, lower.each, into + behind);
    std::copy_n(found + behind, upper.values(), into);
  }
  power(number).stored = first + count;
}

/// What a unit of one of the tones' numbers (none below 0) becomes, every fourth place from `into` on.
void Leap::turn_tones(int unit, int steps, double* into) const noexcept {
  for (std::size_t k = 0; k < 2 * tones_.size(); ++k) into[4 * k] = 0;
  if (unit < 0) return;
  const double turned = tones_[static_cast<std::size_t>(unit / 2)].omega * steps * core_->options.step_s;
  const double along = std::cos(turned), across = std::sin(turned);
  double* pair = into + 4 * (unit / 2 * 2);
  pair[0] = unit % 2 == 0 ? along : -across;
  pair[4] = unit % 2 == 0 ? across : along;
}

// --- leaps ---------------------------------------------------------------------------------------------

/// Whether nothing can happen before the end of a leap.
bool Leap::quiet() const noexcept {
  const Core& core = *core_;
  const double until = static_cast<double>(core.counters.steps + steps_) * core.options.step_s;
  return core.poles.alarm_s() >= until && !core.restart.due() && !core.conductances.stale &&
         !core.ahead.reaches(Lookahead::Rung::solved) && core.history.stands_for(Rule::trapezoidal);
}

bool Leap::take() noexcept {
  if (!quiet()) return false;
  if (!landed_) {
    choose();
    if (!made(one_leap_)) {
      make_columns();
      return false;
    }
    read_stored(z_.data());
    std::copy(core_->at.present.begin(), core_->at.present.end(), now_.begin());
    if (!own_.empty()) then_ = now_;
    calm_ = at_once_ = taken_ = 0;
  }
  if (taken_ == at_once_ && !multiply()) return false;
  land();
  return true;
}

/// Of one leap, or of several when it has been quiet for as many. False when values are not finite.
bool Leap::multiply() noexcept {
  if (landed_ && !made(several_leaps())) make_columns();
  const bool several = calm_ >= several_ && made(several_leaps());
  const int number = several ? several_leaps() : one_leap_;
  write_tones(core_->counters.steps, z_.data() + stored_);
  shape(number).rows.multiply(power(number).matrix, nothing_.data(), z_.data(), numbers_, out_.data());
  Lanes sums{};
  for (int k = 0; k < filled_up(stored_); k += lanes) sums += load(&out_[static_cast<std::size_t>(k)]);
  if (!std::isfinite(sums[0] + sums[1] + sums[2] + sums[3])) return false;
  std::swap(z_, before_);
  copy_lanes(out_.data(), stored_, z_.data());
  double* kept = own_before_.data();
  for (const auto& [first, count] : own_) kept = std::copy_n(now_.data() + first, count, kept);
  at_once_ = several ? several_ : 1;
  taken_ = 0;
  return true;
}

/// At the end of the next leap of the product.
void Leap::land() noexcept {
  found_ = out_.data() + filled_up(stored_) + taken_ * shape(one_leap_).values();
  measure();
  core_->counters.steps += steps_;
  landed_ = true;
  ++taken_;
  ++calm_;
}

/// Models, step by step, from what was found.
void Leap::measure() noexcept {
  const Core& core = *core_;
  const double* found = found_;
  for (int i = 1; i <= steps_ && !own_.empty(); ++i) {
    std::swap(then_, now_);
    for (const int position : observed_) now_[static_cast<std::size_t>(position)] = *found++;
    const Interval stretch{Rule::trapezoidal, core.options.step_s, core.grid_time_s(i),
                           core.grid_time_s(i - 1)};
    for (const ModelRow& row : core.models)
      row.model->end(stretch, row.places, then_.data(), now_.data(), nullptr, nullptr);
  }
}

// --- state ---------------------------------------------------------------------------------------------

void Leap::carry(StateArchive& archive, int number, Power& power) {
  archive(power.columns);
  const auto rows = static_cast<std::size_t>(shape(number).rows.count());
  archive.carry(power.matrix, static_cast<std::size_t>(power.columns) * rows * sizeof(double));
  power.stored = std::max(power.stored, power.columns);
}

void Leap::visit_state(StateArchive& archive) {
  const auto carry_place = [&](auto*& state) {
    int place = state == nullptr ? -1 : static_cast<int>(state - states_.data());
    archive(place);
    state = place < 0 ? nullptr : &states_[static_cast<std::size_t>(place)];
  };
  archive(oldest_);
  archive(discontinuities_);
  for (State& state : states_) {
    archive(state.met);
    archive(state.stays);
    if (!state.met) {
      state.leap.columns = state.several.columns = 0;
      continue;
    }
    std::vector<double> conductances = state.conductances;
    archive(conductances);
    state.make_for(conductances);
    carry(archive, one_leap_, state.leap);
    carry(archive, several_leaps(), state.several);
  }
  carry_place(state_);
  carry_place(making_);
  if (making_ == nullptr) return;
  if (archive.restores()) {
    State* const state = std::exchange(state_, making_);
    start_making();
    state_ = state;
  }
  for (int number = 0; number < several_leaps(); ++number) {
    if (number != one_leap_) carry(archive, number, on_the_way_[static_cast<std::size_t>(number)]);
  }
}

std::unique_ptr<Leap> Leap::clone(Core& core) {
  auto copy = std::make_unique<Leap>(core, steps_, watched_);
  std::vector<std::byte> bytes;
  StateArchive out(bytes);
  visit_state(out);
  StateArchive in{std::span<const std::byte>(bytes)};
  copy->visit_state(in);
  return copy;
}

void Leap::leave() noexcept {
  if (!landed_) return;
  landed_ = false;
  Core& core = *core_;
  const int again = taken_ * steps_;
  core.counters.steps -= again;
  write_stored(before_.data());
  core.drive_parts(core.history.rhs.data());
  const double* kept = own_before_.data();
  for (const auto& [first, count] : own_) {
    std::copy_n(kept, count, core.at.present.data() + first);
    kept += count;
  }
  for (int k = 0; k < again; ++k) (void)core.take_step();
}

}  // namespace zavrek::emt::internal
