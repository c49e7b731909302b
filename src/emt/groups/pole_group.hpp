// Switch poles: conductances with two values. A closed pole opens where its current passes zero (or falls to
// the level at which it chops) behind the parting of its contacts, an open one closes at its instant, or
// where the voltage across the gap exceeds what that withstands by then.
#pragma once

#include <algorithm>
#include <cassert>
#include <cmath>
#include <utility>
#include <vector>

#include "emt/parts/parts.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

/// A pole as the step sees it.
struct Pole {
  int p, q;               // positions of its node voltages
  int current, position;  // positions of its slots
  double closed_S, open_S;
  int number;              // of its adjustable conductance
  double chop_A = 0;       // interrupts at once when it carries less
  double late_open_s = 0;  // beyond the operable's own times
  double late_close_s = 0;
  network::Points strength{};  // withstand voltage over the time since then; empty: it never restrikes
  bool in_condensed = false;   // a condensed part finds its current

  bool closed = false;
  double close_at = never_s;  // pending instants, plant time
  double part_at = never_s;
  double ceased_at = -never_s;  // when it last interrupted
  double closed_at = -never_s;  // when it last closed

  [[nodiscard]] bool waits() const noexcept {
    return close_at < never_s || part_at < never_s || (!closed && !strength.empty());
  }
  [[nodiscard]] double siemens() const noexcept { return closed ? closed_S : open_S; }
  [[nodiscard]] double siemens_otherwise() const noexcept { return closed ? open_S : closed_S; }
  /// Voltage that the open gap withstands at an instant.
  [[nodiscard]] double withstands(double time) const noexcept {
    const network::Points& s = strength;
    const double since = time - ceased_at;
    std::size_t k = 0;
    while (k + 1 < s.size() && s[k + 1].x <= since) ++k;
    if (since <= s[k].x || k + 1 == s.size()) return s[k].y;
    return s[k].y + (s[k + 1].y - s[k].y) * (since - s[k].x) / (s[k + 1].x - s[k].x);
  }
  /// A command to be where it already is, with nothing pending that would move it, is void.
  void command(bool close, double at_s) noexcept {
    (close ? close_at : part_at) = at_s + (close ? late_close_s : late_open_s);
    if (close && closed && part_at == never_s) close_at = never_s;
    if (!close && !closed && close_at == never_s) part_at = never_s;
  }
};

class PoleGroup {
 public:
  void add(Pole pole) {
    poles_.push_back(std::move(pole));
    flows_.emplace_back();
    make_room();
  }
  void make_room() { pending_.reserve(poles_.size()); }
  [[nodiscard]] bool empty() const noexcept { return poles_.empty(); }
  [[nodiscard]] std::size_t size() const noexcept { return poles_.size(); }
  [[nodiscard]] Pole& operator[](std::size_t k) noexcept { return poles_[k]; }
  [[nodiscard]] const Pole& operator[](std::size_t k) const noexcept { return poles_[k]; }
  [[nodiscard]] auto begin() const noexcept { return poles_.begin(); }
  [[nodiscard]] auto end() const noexcept { return poles_.end(); }
  [[nodiscard]] std::size_t place_of(const Pole& pole) const noexcept {
    return static_cast<std::size_t>(&pole - poles_.data());
  }

  /// Those that wait for something, and the instant before which none of them changes over.
  [[nodiscard]] const std::vector<int>& pending() const noexcept { return pending_; }
  [[nodiscard]] double alarm_s() const noexcept { return alarm_s_; }
  void set_alarm() noexcept {
    alarm_s_ = never_s;
    pending_.clear();
    for (std::size_t k = 0; k < poles_.size(); ++k) {
      const Pole& pole = poles_[k];
      if (!pole.waits()) continue;
      pending_.push_back(static_cast<int>(k));
      const double asleep_until = pole.closed             ? pole.part_at
                                  : pole.strength.empty() ? pole.close_at
                                                          : -never_s;  // it may restrike at any time
      alarm_s_ = std::min(alarm_s_, asleep_until);
    }
  }
  /// Whether one may change over within the step at hand: all values are found then, not only those kept up.
  [[nodiscard]] bool awake() const noexcept { return awake_; }
  /// Whether they woke just now.
  bool wake(double until) noexcept {
    const bool before = std::exchange(awake_, alarm_s_ < until);
    return awake_ && !before;
  }

  /// What a solution shows of a pole follows it.
  void show(std::size_t k) noexcept {
    const Pole& pole = poles_[k];
    flows_[k] = {pole.p,        pole.q,         pole.in_condensed ? -1 : pole.current,
                 pole.position, pole.siemens(), pole.closed ? 1.0 : 0.0};
  }
  void show_all() noexcept {
    for (std::size_t k = 0; k < poles_.size(); ++k) show(k);
  }
  /// Currents and positions from the node voltages in `now`.
  void update(double* now) const noexcept {
    for (const Flow& flow : flows_) {
      if (flow.current >= 0) now[flow.current] = flow.siemens * (now[flow.p] - now[flow.q]);
      now[flow.position] = flow.shown;
    }
  }

  void update_currents(double* now) const noexcept {
    for (const Pole& pole : poles_) now[pole.current] = pole.siemens() * (now[pole.p] - now[pole.q]);
  }

  /// Instant within (from, until] at which pole k changes over, never_s when it does not; `before` holds the
  /// values at `from`, `after` those at `until`.
  [[nodiscard]] double event_time(std::size_t k, double from, double until, const double* before,
                                  const double* after) const noexcept {
    assert(k < poles_.size() && from <= until);
    const Pole& pole = poles_[k];
    if (!pole.closed) {
      const double closes = pole.close_at < until ? std::max(pole.close_at, from) : never_s;
      return pole.strength.empty() ? closes
                                   : std::min(closes, restrike_time(pole, from, until, before, after));
    }
    if (pole.part_at >= until) return never_s;
    const double current_before = before[pole.current], current_after = after[pole.current];
    const double earliest = std::max(pole.part_at, from);
    if (std::abs(current_before) < no_current_A && std::abs(current_after) < no_current_A) return earliest;
    if (from <= pole.closed_at) return never_s;  // `before` does not know its current yet
    const double at_parting =
        current_before + (current_after - current_before) * (earliest - from) / (until - from);
    if (std::abs(at_parting) < pole.chop_A) return earliest;
    // From above the level, the pole interrupts where the falling current meets it.
    const double level = std::copysign(pole.chop_A, at_parting);
    if ((at_parting - level) * (current_after - level) > 0) return never_s;
    const double zero = from + (until - from) * (current_before - level) / (current_before - current_after);
    return zero >= pole.part_at && zero < until ? std::max(zero, from) : never_s;
  }
  /// Pole k changes over at an instant; `slack_s`: how far a pending one may lie behind it.
  void change_over(std::size_t k, double event, double slack_s) noexcept {
    Pole& pole = poles_[k];
    const bool restrikes = !pole.closed && pole.close_at > event + slack_s;
    pole.closed = !pole.closed;
    (pole.closed ? pole.closed_at : pole.ceased_at) = event;
    if (restrikes) {
      pole.part_at = event;  // the contacts stay apart: the arc goes out at a coming current zero
    } else {
      (pole.closed ? pole.close_at : pole.part_at) = never_s;
    }
    show(k);
  }

  void visit_state(StateArchive& archive) {
    for (Pole& pole : poles_) {
      archive(pole.closed);
      archive(pole.closed_S);
      for (double* instant : {&pole.close_at, &pole.part_at, &pole.ceased_at, &pole.closed_at})
        archive(*instant);
    }
    archive(awake_);
    if (!archive.restores()) return;
    set_alarm();
    show_all();
  }

 private:
  /// Below this a pole carries nothing and opens as soon as its contacts part.
  static constexpr double no_current_A = 1e-6;
  /// What every solution asks of a pole.
  struct Flow {
    int p, q;
    int current, position;  // current: -1 when a condensed part finds it
    double siemens, shown;  // position
  };

  /// Instant at which the voltage across an open pole exceeds what the gap withstands by then.
  [[nodiscard]] static double restrike_time(const Pole& pole, double from, double until, const double* before,
                                            const double* after) noexcept {
    const auto across = [&](const double* values) { return std::abs(values[pole.p] - values[pole.q]); };
    const double excess_after = across(after) - pole.withstands(until);
    if (excess_after <= 0) return never_s;
    const double excess_before = across(before) - pole.withstands(from);
    if (excess_before >= 0) return from;
    return from + (until - from) * excess_before / (excess_before - excess_after);
  }

  std::vector<Pole> poles_;
  std::vector<Flow> flows_;   // of each
  std::vector<int> pending_;  // room for all
  double alarm_s_ = never_s;
  bool awake_ = false;
};

}  // namespace zavrek::emt::internal
