#include "zavrek/bench/beside.hpp"

#include <algorithm>

#include "zavrek/pace.hpp"

namespace zavrek::bench {

Beside::Beside(std::string name, std::vector<std::string> values, std::vector<std::string> points,
               std::vector<std::string> asks)
    : name_(std::move(name)),
      value_names_(std::move(values)),
      point_names_(std::move(points)),
      ask_names_(std::move(asks)),
      present_(3 + value_names_.size() + point_names_.size()),
      snapshot_(present_.size()) {}

void Beside::wire(Exchange& exchange) {
  for (const std::string& name : value_names_) values_.push_back(exchange.value_of(name));
  for (const std::string& name : point_names_) points_.push_back(exchange.point_of(name));
  for (const std::string& name : ask_names_) asks_.push_back(exchange.ask_of(name));
}

void Beside::take(Exchange& exchange) noexcept {
  queue_.serve(most_asks_per_step, [&](const AskQueue::Asked& wish) {
    asked(exchange, wish);
    return serve(exchange, wish);
  });
  go_on(exchange);
}

bool Beside::serve(Exchange& exchange, const AskQueue::Asked& asked) noexcept {
  const double now_s = exchange.time_s();
  // Whoever asks for the same anew turns what is under way; what waits for its instant stays.
  for (std::size_t k = 0; k < waits_;) {
    const bool turned = waiting_[k].what.index == asked.what.index && waiting_[k].over_s > 0;
    if (turned)
      waiting_[k] = waiting_[--waits_];
    else
      ++k;
  }
  bool done = false;
  if (asked.over_s > 0 || asked.at_s >= now_s + exchange.step_s()) {
    done = waits_ < waiting_.size();
    if (done) {
      waiting_[waits_] = asked;
      waiting_[waits_++].at_s = std::max(asked.at_s, now_s);
    }
  } else {
    done = exchange.ask(asked.what, asked.value, std::max(asked.at_s, now_s));
  }
  (done ? served_ : refused_).fetch_add(1, std::memory_order_relaxed);
  return done;
}

void Beside::forget_from(double time_s) noexcept {
  for (std::size_t k = 0; k < waits_;) {
    if (waiting_[k].at_s >= time_s)
      waiting_[k] = waiting_[--waits_];
    else
      ++k;
  }
}

/// What waits and falls into the step to come; what is under way gets its value for that step.
void Beside::go_on(Exchange& exchange) noexcept {
  const double now_s = exchange.time_s(), end_s = now_s + exchange.step_s();
  for (std::size_t k = 0; k < waits_;) {
    const AskQueue::Asked& one = waiting_[k];
    if (one.at_s >= end_s) {
      ++k;
      continue;
    }
    const double share = one.over_s > 0 ? std::clamp((end_s - one.at_s) / one.over_s, 0.0, 1.0) : 1;
    const double value = share < 1 ? one.from + share * (one.value - one.from) : one.value;
    (void)exchange.ask(one.what, value, one.over_s > 0 ? now_s : std::max(one.at_s, now_s));
    if (share < 1)
      ++k;
    else
      waiting_[k] = waiting_[--waits_];
  }
}

void Beside::give(Exchange& exchange) noexcept {
  double* out = present_.data();
  *out++ = exchange.shown_s();
  *out++ = 1e-9 * static_cast<double>(exchange.now_ns());
  *out++ = 1e-9 * static_cast<double>(exchange.plant_utc_ns());
  for (const ValueId value : values_) *out++ = exchange.value(value);
  for (const PointId point : points_) *out++ = exchange.on(point) ? 1 : 0;
  snapshot_.publish(present_.data());
}

bool Beside::read(View& view) const noexcept {
  std::vector<double> all(present_.size());
  if (!snapshot_.read(all.data())) return false;
  view.time_s = all[0];
  view.age_s = 1e-9 * static_cast<double>(pace::system_clock().now_ns()) - all[1];
  view.utc_ns = static_cast<std::int64_t>(1e9 * all[2]);
  view.values.assign(all.begin() + 3, all.end());
  return true;
}

std::uint64_t Beside::post(const Wish& wish) noexcept {
  return queue_.post({asks_[wish.ask], wish.value, wish.at_s, wish.from, wish.over_s});
}

std::vector<Account> Beside::accounts() const {
  Account account;
  account.port = "beside." + name_;
  account.carries = "a snapshot out, questions in";
  account.received = served_.load(std::memory_order_relaxed);
  account.refused = refused_.load(std::memory_order_relaxed);
  account.lost = queue_.lost();
  return {account};
}

}  // namespace zavrek::bench
