#include "engine/desk.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "zavrek/error.hpp"

namespace zavrek::engine::internal {

namespace {

constexpr double same_step = 1e-3;  // of a step, by which times of one instant may differ

}  // namespace

Desk::Desk(const std::vector<std::string>& values, const std::vector<std::string>& points,
           const std::vector<std::string>& asks, std::shared_ptr<RowRing> diary, const Past& past)
    : Beside("engine", values, points, asks), diary_(std::move(diary)), to_s_(past.to_s) {
  const auto place_of = [&](const Act& act) {
    const auto at = std::find(asks.begin(), asks.end(), act.what);
    if (at == asks.end())
      throw Error(fmt::format("nothing named \"{}\" can be operated or set any more", act.what));
    return static_cast<std::size_t>(at - asks.begin());
  };
  for (const Act& act : past.before)
    note(act.time_s, place_of(act), {{}, act.value, act.at_s, act.from, act.over_s});
  for (const Act& act : past.again)
    past_.push_back({act.time_s, place_of(act), {{}, act.value, act.at_s, act.from, act.over_s}});
}

void Desk::visit_state(StateArchive& archive) {
  Beside::visit_state(archive);
  if (archive.restores()) forget_from(to_s_);
}

void Desk::wire(bench::Exchange& exchange) {
  Beside::wire(exchange);
  for (std::size_t place = 0; place < ask_count(); ++place) {
    const std::size_t index = ask_at(place).index;
    place_of_.resize(std::max(place_of_.size(), index + 1));
    place_of_[index] = static_cast<double>(place);
  }
  for (Again& past : past_) past.asked.what = ask_at(past.place);
}

void Desk::take(bench::Exchange& exchange) noexcept {
  const double now_s = exchange.time_s() + same_step * exchange.step_s();
  for (; next_ < past_.size() && past_[next_].time_s <= now_s; ++next_) {
    asked(exchange, past_[next_].asked);
    (void)serve(exchange, past_[next_].asked);
  }
  Beside::take(exchange);
}

void Desk::asked(bench::Exchange& exchange, const bench::AskQueue::Asked& asked) noexcept {
  note(exchange.time_s(), static_cast<std::size_t>(place_of_[asked.what.index]), asked);
}

void Desk::note(double time_s, std::size_t place, const bench::AskQueue::Asked& asked) noexcept {
  diary_->put(0, time_s);
  diary_->put(1, static_cast<double>(place));
  diary_->put(2, asked.value);
  diary_->put(3, asked.at_s);
  diary_->put(4, asked.from);
  diary_->put(5, asked.over_s);
  diary_->commit();
}

}  // namespace zavrek::engine::internal
