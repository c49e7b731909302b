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
      present_(2 + value_names_.size() + point_names_.size()),
      snapshot_(present_.size()) {}

void Beside::wire(Exchange& exchange) {
  for (const std::string& name : value_names_) values_.push_back(exchange.value_of(name));
  for (const std::string& name : point_names_) points_.push_back(exchange.point_of(name));
  for (const std::string& name : ask_names_) asks_.push_back(exchange.ask_of(name));
}

void Beside::take(Exchange& exchange) noexcept {
  queue_.serve(most_asks_per_step, [&](const AskQueue::Asked& asked) {
    const bool done = exchange.ask(asked.what, asked.value);
    (done ? served_ : refused_).fetch_add(1, std::memory_order_relaxed);
    return done;
  });
}

void Beside::give(Exchange& exchange) noexcept {
  double* out = present_.data();
  *out++ = exchange.shown_s();
  *out++ = 1e-9 * static_cast<double>(exchange.now_ns());
  for (const ValueId value : values_) *out++ = exchange.value(value);
  for (const PointId point : points_) *out++ = exchange.on(point) ? 1 : 0;
  snapshot_.publish(present_.data());
}

bool Beside::read(View& view) const noexcept {
  std::vector<double> all(present_.size());
  if (!snapshot_.read(all.data())) return false;
  view.time_s = all[0];
  view.age_s = 1e-9 * static_cast<double>(pace::system_clock().now_ns()) - all[1];
  view.values.assign(all.begin() + 2, all.end());
  return true;
}

std::uint64_t Beside::post(std::size_t ask, double value) noexcept { return queue_.post(asks_[ask], value); }

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
