#include "zavrek/bench/kept_states.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>

namespace zavrek::bench {
namespace {

constexpr double more_room = 1.25;  // than the first took: lines and leaps fill as they run
constexpr double same_s = 1e-9;

}  // namespace

KeptStates::KeptStates(std::size_t most_bytes, double every_s)
    : most_bytes_(most_bytes),
      every_s_(every_s),
      next_s_(std::numeric_limits<double>::infinity()),
      instants_(most + 1),
      row_(most + 1) {}

KeptStates::~KeptStates() = default;

void KeptStates::begin(RunState first) {
  if (states_.empty()) {
    const auto room = static_cast<std::size_t>(more_room * static_cast<double>(first.bytes())) + 1;
    const std::size_t count = std::clamp<std::size_t>(most_bytes_ / room, 2, most);
    for (std::size_t k = 0; k < count; ++k) {
      // The plant's part takes its room by being there once; pages come with their first use.
      states_.push_back(std::make_unique<RunState>());
      states_.back()->plant.reserve(
          static_cast<std::size_t>(more_room * static_cast<double>(first.plant.bytes())));
      states_.back()->rest.reserve(
          static_cast<std::size_t>(more_room * static_cast<double>(first.rest.size())));
    }
  }
  const double time_s = first.time_s;
  if (kept_ == 0) *states_[kept_++] = std::move(first);
  go_on_from(time_s);
}

void KeptStates::go_on_from(double time_s) noexcept {
  next_s_ = time_s + every_s_;
  publish();
}

RunState& KeptStates::room_for_next() noexcept {
  if (kept_ == states_.size()) make_room(next_s_);
  return *states_[kept_];
}

void KeptStates::commit() noexcept {
  next_s_ = states_[kept_++]->time_s + every_s_;
  publish();
}

/// The one goes whose absence leaves the least gap, measured by how long ago that is.
void KeptStates::make_room(double now_s) noexcept {
  std::size_t least = 1;
  double gap = std::numeric_limits<double>::infinity();
  for (std::size_t k = 1; k + 1 < kept_; ++k) {
    const double left = (states_[k + 1]->time_s - states_[k - 1]->time_s) / (now_s - states_[k]->time_s);
    if (left < gap) gap = left, least = k;
  }
  std::rotate(states_.begin() + static_cast<std::ptrdiff_t>(least),
              states_.begin() + static_cast<std::ptrdiff_t>(least) + 1,
              states_.begin() + static_cast<std::ptrdiff_t>(kept_));
  --kept_;
}

const RunState* KeptStates::latest_at(double time_s) const noexcept {
  const RunState* found = nullptr;
  for (std::size_t k = 0; k < kept_ && states_[k]->time_s <= time_s + same_s; ++k) found = states_[k].get();
  return found;
}

void KeptStates::forget_behind(double time_s) noexcept {
  while (kept_ > 0 && states_[kept_ - 1]->time_s > time_s + same_s) --kept_;
  publish();
}

void KeptStates::publish() noexcept {
  row_[0] = static_cast<double>(kept_);
  for (std::size_t k = 0; k < kept_; ++k) row_[k + 1] = states_[k]->time_s;
  instants_.publish(row_.data());
}

std::vector<double> KeptStates::instants_s() const {
  std::vector<double> row(most + 1);
  if (!instants_.read(row.data())) return {};
  return {row.begin() + 1, row.begin() + 1 + static_cast<std::ptrdiff_t>(row[0])};
}

}  // namespace zavrek::bench
