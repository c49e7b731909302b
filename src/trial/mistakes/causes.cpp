#include "trial/mistakes/causes.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

namespace zavrek::trial::internal {
namespace {

/// Amounts are tried in steps of so much of the way, then narrowed down between those that fit and those that
/// do not.
constexpr int coarse_steps = 8;
constexpr int halvings = 7;
constexpr int coarsely_fitted = 2;        // amounts tried of each cause
constexpr std::size_t refined = 8;        // causes whose amounts are looked for closely
constexpr int fitted = 6;                 // amounts tried between the least and the greatest that fit
constexpr std::size_t most_sought = 3;    // failures whose causes are looked for
constexpr std::size_t most_failed = 40;   // that causes are held against
constexpr std::size_t most_passed = 250;  // likewise
constexpr double of_another_kind = 3;     // misfit, in tolerances, of a trip that came or not against it
constexpr double same_score = 0.05;       // of one observation: scores as good as each other
constexpr double of_closeness = 0.5;      // of the score of an observation that is explained

/// Places on the way of an amount, 0 to 1.
struct Range {
  double low = 0, high = -1;
  [[nodiscard]] bool any() const { return high >= low; }
};

/// The first range of places, from nothing on, that would explain what was measured.
template <class SideOf>
Range search(SideOf&& side_at) {
  std::array<int, coarse_steps + 1> sides{};
  for (int k = 0; k <= coarse_steps; ++k)
    sides[static_cast<std::size_t>(k)] = side_at(static_cast<double>(k) / coarse_steps);
  const auto side = [&](int k) { return sides[static_cast<std::size_t>(k)]; };
  const auto place = [](int k) { return static_cast<double>(k) / coarse_steps; };
  // Between a place that fits and one that does not: the last that fits.
  const auto edge = [&](double fits, double other) {
    for (int k = 0; k < halvings; ++k) {
      const double middle = (fits + other) / 2;
      (side_at(middle) == 0 ? fits : other) = middle;
    }
    return fits;
  };
  for (int k = 0; k <= coarse_steps; ++k) {
    if (side(k) == 0) {
      int last = k;
      while (last < coarse_steps && side(last + 1) == 0) ++last;
      return {k == 0 ? 0 : edge(place(k), place(k - 1)),
              last == coarse_steps ? 1 : edge(place(last), place(last + 1))};
    }
    if (k == coarse_steps || side(k + 1) == 0 || side(k + 1) == side(k)) continue;
    // It is passed between two places: either it fits on the way, or the time jumps over it.
    double below = place(k), above = place(k + 1);
    for (int round = 0; round < halvings; ++round) {
      const double middle = (below + above) / 2;
      const int now = side_at(middle);
      if (now == 0) return {edge(middle, below), edge(middle, above)};
      (now == side(k) ? below : above) = middle;
    }
  }
  return {};
}

class Seeker {
 public:
  Seeker(const Device& device, const std::vector<Observation>& observations) : approved_(device) {
    approved_.relay = device.approved_relay;
    std::vector<const Observation*> failed, passed;
    for (const Observation& one : observations) {
      if (!one.passed) failed.push_back(&one);
      // What even its settings do not explain as it stands tells nothing.
      else if (one.side_of(one.predict(approved_)) == 0)
        passed.push_back(&one);
    }
    // Of what a search tried, much is as it should be.
    std::vector<const Observation*> strange = failed;
    std::erase_if(strange,
                  [&](const Observation* one) { return one->side_of(one->predict(approved_)) == 0; });
    sought_ = some_of(strange, most_sought);
    failed_ = some_of(failed, most_failed);
    passed_ = some_of(passed, most_passed);
    for (const Observation* one : sought_) own_s_.push_back(one->predict(approved_));
    find_usual_delay();
  }

  struct Found {
    Explanation explanation;
    double misfit = 0;                 // mean of the squares
    double score = 0;                  // observations that it explains, those less that it only just does
    double place = 0;                  // of the best amount
    const Mistake* mistake = nullptr;  // where it has an amount
    Range places;
  };
  void look_at(const Mistake& mistake) {
    if (mistake.kind == Mistake::Kind::word) {
      const auto by = mistake.amounts.front().by;
      bool explains = false;
      for (std::size_t k = 0; k < sought_.size() && !explains; ++k) {
        const double time_s = predicted(mistake, by, *sought_[k]);
        explains = time_s != own_s_[k] && sought_[k]->side_of(time_s) == 0;
      }
      if (explains) note(mistake, {});
      return;
    }
    Range common;
    for (std::size_t k = 0; k < sought_.size(); ++k) {
      const auto at = [&](double place) { return predicted(mistake, mistake.amount_at(place), *sought_[k]); };
      // What changes nothing at all is not looked at any closer.
      if (at(1) == own_s_[k] && at(0.1) == own_s_[k] && at(0.4) == own_s_[k]) continue;
      const Range range = search([&](double place) { return sought_[k]->side_of(at(place)); });
      if (!range.any() || range.low == 0) continue;
      const Range both{std::max(common.low, range.low), std::min(common.high, range.high)};
      common = !common.any() ? range : both.any() ? both : common;
    }
    if (!common.any()) return;
    note(mistake, common);
  }

  std::vector<Explanation> take() {
    sort();
    for (std::size_t k = 0; k < std::min(found_.size(), refined); ++k) {
      if (found_[k].mistake) refine(found_[k]);
    }
    sort();
    std::vector<Explanation> all;
    for (Found& one : found_) all.push_back(std::move(one.explanation));
    return all;
  }

 private:
  [[nodiscard]] double predicted(const Mistake& mistake, double by, const Observation& one) const {
    Device wrong = approved_;
    return mistake.make(wrong, by) ? one.predict(wrong) : std::numeric_limits<double>::quiet_NaN();
  }

  /// What measuring usually takes, by those that passed.
  void find_usual_delay() {
    std::vector<double> late_s;
    for (const Observation* one : passed_) {
      const double time_s = one->predict(approved_);
      if (one->measured_s && std::isfinite(time_s)) late_s.push_back(*one->measured_s - time_s);
    }
    if (late_s.empty()) return;
    const auto middle = late_s.begin() + static_cast<std::ptrdiff_t>(late_s.size() / 2);
    std::nth_element(late_s.begin(), middle, late_s.end());
    usual_delay_s_ = std::max(0.0, *middle);
  }

  /// How many observations it explains with an amount, and how well.
  [[nodiscard]] Found held_against_all(const Mistake& mistake, double by) const {
    Found now;
    Explanation& e = now.explanation;
    e.text = (mistake.device.empty() ? "it" : mistake.device) + " behaves as if " + mistake.behaves;
    e.of = static_cast<int>(failed_.size() + passed_.size());
    for (const auto* list : {&failed_, &passed_}) {
      for (const Observation* one : *list) {
        const double time_s = predicted(mistake, by, *one);
        const double square = std::pow(one->misfit(time_s, usual_delay_s_), 2);
        now.misfit += square / e.of;
        if (one->side_of(time_s) != 0) continue;
        ++e.explained;
        now.score += 1 - of_closeness * std::min(1.0, square);
      }
    }
    e.low = e.high = e.best = std::abs(by);
    return now;
  }
  /// At that of the amounts which explains most and fits best; those that explain as much bound it.
  [[nodiscard]] Found best_of(const Mistake& mistake, Range places, int steps) const {
    Found best;
    for (int k = 0; k <= steps; ++k) {
      const double place = places.low + (places.high - places.low) * k / steps;
      Found now = held_against_all(mistake, mistake.amount_at(place));
      now.place = place;
      const int more = now.explanation.explained - best.explanation.explained;
      if (k > 0 && more < 0) continue;
      const Explanation& e = now.explanation;
      double low = e.low, high = e.high;
      if (k > 0 && more == 0) {
        low = std::min(best.explanation.low, low);
        high = std::max(best.explanation.high, high);
      }
      if (k == 0 || more > 0 || now.misfit < best.misfit) best = std::move(now);
      best.explanation.low = low;
      best.explanation.high = high;
    }
    return best;
  }
  void note(const Mistake& mistake, Range places) {
    if (mistake.kind == Mistake::Kind::word) {
      Found found = held_against_all(mistake, 0);
      found.explanation.low = found.explanation.high = found.explanation.best = 0;
      found_.push_back(std::move(found));
      return;
    }
    found_.push_back(best_of(mistake, places, coarsely_fitted));
    found_.back().mistake = &mistake;
    found_.back().places = places;
  }
  /// A closer look at the amount of one that was found coarsely.
  void refine(Found& found) const {
    const Range places = found.places;
    const Mistake& mistake = *found.mistake;
    const auto take = [&](Found other) {
      const int more = other.explanation.explained - found.explanation.explained;
      if (more < 0 || (more == 0 && other.misfit >= found.misfit)) return;
      if (more == 0) {
        other.explanation.low = std::min(other.explanation.low, found.explanation.low);
        other.explanation.high = std::max(other.explanation.high, found.explanation.high);
      }
      found = std::move(other);
    };
    take(best_of(mistake, places, fitted));
    const double around = (places.high - places.low) / fitted;
    take(best_of(mistake,
                 {std::max(places.low, found.place - around), std::min(places.high, found.place + around)},
                 fitted));
  }
  void sort() {
    std::stable_sort(found_.begin(), found_.end(), [](const Found& a, const Found& b) {
      return std::llround(a.score / same_score) > std::llround(b.score / same_score);
    });
  }

  Device approved_;
  std::vector<const Observation*> sought_, failed_, passed_;
  std::vector<double> own_s_;  // of those sought, as approved
  double usual_delay_s_ = 0;
  std::vector<Found> found_;
};

}  // namespace

int Observation::side_of(double time_s) const {
  if (std::isnan(time_s)) return 1;
  const bool comes = std::isfinite(time_s);
  const auto tolerance = [&](double at_s) { return std::max(tolerance_s, tolerance_share * at_s); };
  if (!measured_s) return !comes || time_s + tolerance(time_s) >= watched_s ? 0 : -1;
  if (!comes) return 1;
  const double measured = std::max(0.0, *measured_s);
  if (measured < time_s - tolerance(time_s)) return 1;
  return measured > time_s + tolerance(time_s) + measuring_s ? -1 : 0;
}

double Observation::misfit(double time_s, double usual_delay_s) const {
  const bool comes = std::isfinite(time_s) && time_s < watched_s;
  if (comes != measured_s.has_value()) return side_of(time_s) == 0 ? 0 : of_another_kind;
  if (!comes) return 0;
  const double tolerance = std::max(tolerance_s, tolerance_share * time_s);
  return std::min(of_another_kind, std::abs(std::max(0.0, *measured_s) - time_s - usual_delay_s) / tolerance);
}

std::vector<Explanation> causes_of(const Device& device, const std::vector<Mistake>& mistakes,
                                   const std::vector<Observation>& observations) {
  Seeker seeker(device, observations);
  for (const Mistake& mistake : mistakes) seeker.look_at(mistake);
  return seeker.take();
}

}  // namespace zavrek::trial::internal
