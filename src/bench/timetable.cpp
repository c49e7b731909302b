#include "zavrek/bench/timetable.hpp"

#include <algorithm>
#include <limits>

namespace zavrek::bench {

Timetable::Timetable(const std::vector<Deed>& deeds, Exchange& exchange) {
  for (const Deed& deed : deeds) {
    const AskId what = exchange.ask_of(deed.what);
    const bool others =
        exchange.is_contact(what) || exchange.is_of_control(what) || exchange.is_of_port(what);
    const double value = deed.kind == Deed::Kind::open ? 0 : deed.kind == Deed::Kind::close ? 1 : deed.value;
    entries_.push_back({deed.at_s, others ? Whom::others : Whom::plant, what, value,
                        deed.kind == Deed::Kind::fail, deed.how});
  }
  std::stable_sort(entries_.begin(), entries_.end(),
                   [](const Entry& a, const Entry& b) { return a.at_s < b.at_s; });
  for (const Whom whom : {Whom::plant, Whom::others}) {
    std::size_t& first = whom == Whom::plant ? next_plant_ : next_other_;
    while (first < entries_.size() && entries_[first].whom != whom) ++first;
  }
}

double Timetable::next(Whom whom) const noexcept {
  const std::size_t at = whom == Whom::plant ? next_plant_ : next_other_;
  return at < entries_.size() ? entries_[at].at_s : std::numeric_limits<double>::infinity();
}

void Timetable::pass(Whom whom) noexcept {
  std::size_t& at = whom == Whom::plant ? next_plant_ : next_other_;
  do ++at;
  while (at < entries_.size() && entries_[at].whom != whom);
}

void Timetable::carry_out(const Entry& entry, Exchange& exchange) noexcept {
  if (entry.fails)
    exchange.fail(entry.what, entry.how, entry.value);
  else
    (void)exchange.ask(entry.what, entry.value, entry.at_s);  // the plant keeps what it refused
}

void Timetable::tell_others(Exchange& exchange, double until_s) noexcept {
  for (; next(Whom::others) <= until_s; pass(Whom::others)) carry_out(entries_[next_other_], exchange);
}

void Timetable::operate_plant(Exchange& exchange) noexcept {
  const double until = exchange.time_s() + exchange.step_s() * (1 - 1e-9);
  for (; next(Whom::plant) < until; pass(Whom::plant)) carry_out(entries_[next_plant_], exchange);
}

}  // namespace zavrek::bench
