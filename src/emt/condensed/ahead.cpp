// The matrices that a condensed part makes before the first step: for all that the legs of its bridges are
// likely to come to, side by side, with poles as they stand, and then for each operable with its poles
// otherwise, as long as there are few enough.
#include <algorithm>
#include <bit>

#include "emt/condensed/condensed.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr std::size_t least_states = 256;

/// Conductances that are changed together, and the values that they may have.
struct Choice {
  std::vector<int> numbers;
  std::vector<std::vector<double>> values;
};

Choice choice_of(const LikelyPart& part, const ValveGroup& valves) {
  Choice choice;
  for (const int valve : part.valves)
    choice.numbers.push_back(valves.number(static_cast<std::size_t>(valve)));
  for (const std::string& conducting : part.conducting) {
    for (const bool reverse : {false, true}) {
      std::vector<double> values;
      for (std::size_t k = 0; k < part.valves.size(); ++k)
        values.push_back(
            valves.siemens_when(static_cast<std::size_t>(part.valves[k]), conducting[k] == '1', reverse));
      if (std::find(choice.values.begin(), choice.values.end(), values) == choice.values.end())
        choice.values.push_back(std::move(values));
    }
  }
  return choice;
}

/// All that the poles of an operable may come to but what they are.
Choice choice_of(const Operable& operable, const PoleGroup& poles) {
  Choice choice;
  for (const int pole : operable.poles)
    choice.numbers.push_back(poles[static_cast<std::size_t>(pole)].number);
  for (unsigned moved = 1; moved < 1U << operable.poles.size(); ++moved) {
    std::vector<double> values;
    for (std::size_t k = 0; k < operable.poles.size(); ++k) {
      const Pole& pole = poles[static_cast<std::size_t>(operable.poles[k])];
      const bool closed = pole.closed != ((moved >> k & 1U) != 0);
      values.push_back(closed ? pole.closed_S : pole.open_S);
    }
    choice.values.push_back(std::move(values));
  }
  return choice;
}

std::size_t product_of(const std::vector<Choice>& choices) {
  std::size_t product = 1;
  for (const Choice& choice : choices) product *= choice.values.size();
  return product;
}

/// Leaves out what is least likely until the product is small enough.
void trim(std::vector<Choice>& choices, std::size_t most) {
  while (product_of(choices) > most) {
    const auto longest =
        std::max_element(choices.begin(), choices.end(),
                         [](const Choice& a, const Choice& b) { return a.values.size() < b.values.size(); });
    longest->values.pop_back();
  }
}

bool all_among(const std::vector<int>& all, const std::vector<int>& numbers) {
  return std::all_of(numbers.begin(), numbers.end(),
                     [&](int number) { return std::binary_search(all.begin(), all.end(), number); });
}

/// Of the legs whose conductances are all among these, as many combinations as are made ahead.
std::vector<Choice> legs_among(const std::vector<int>& numbers, const std::vector<LikelyPart>& likely,
                               const ValveGroup& valves) {
  std::vector<Choice> legs;
  for (const LikelyPart& part : likely) {
    Choice choice = choice_of(part, valves);
    if (all_among(numbers, choice.numbers)) legs.push_back(std::move(choice));
  }
  trim(legs, Condensed::most_ahead);
  return legs;
}

void take(const Choice& choice, std::size_t which, Conductances& conductances) {
  for (std::size_t k = 0; k < choice.numbers.size(); ++k)
    conductances.adjust(choice.numbers[k], choice.values[which][k]);
}

/// Calls `visit` with the conductances set to each combination.
template <class Set, class Visit>
void for_each_combination(const std::vector<Choice>& choices, Set&& set, Visit&& visit) {
  std::vector<std::size_t> at(choices.size(), 0);
  for (std::size_t k = 0; k < choices.size(); ++k) set(choices[k], 0);
  for (;;) {
    visit();
    std::size_t k = 0;
    for (; k < choices.size(); ++k) {
      at[k] = at[k] + 1 < choices[k].values.size() ? at[k] + 1 : 0;
      set(choices[k], at[k]);
      if (at[k] != 0) break;
    }
    if (k == choices.size()) return;
  }
}

}  // namespace

void Condensed::precompute_states() {
  if (divided_) return precompute_areas();
  const long long since = made_since();
  constexpr std::size_t most_poles = 3;  // of an operable
  std::vector<Choice> legs = legs_among(numbers_, view_->likely_states, view_->valves), operables;
  const std::size_t each = product_of(legs);
  std::size_t count = each;
  for (const Operable& operable : view_->operables) {
    if (operable.poles.size() > most_poles) continue;
    Choice choice = choice_of(operable, view_->poles);
    if (!all_among(numbers_, choice.numbers) || count + each * choice.values.size() > most_ahead) continue;
    count += each * choice.values.size();
    operables.push_back(std::move(choice));
  }
  make_room(std::clamp(std::bit_ceil(4 * count), least_states, most_states));

  const bool stale = view_->conductances.stale;
  const std::vector<double> standing = view_->conductances.adjustable;
  const auto set = [&](const Choice& choice, std::size_t which) { take(choice, which, view_->conductances); };
  const auto build_legs = [&] {
    for_each_combination(legs, set, [&] {
      refactor();
      if (!met_) build_state_matrix();
    });
  };
  build_legs();
  for (const Choice& choice : operables) {
    for (std::size_t which = 0; which < choice.values.size(); ++which) {
      set(choice, which);
      build_legs();
    }
    for (const int number : choice.numbers)
      view_->conductances.adjust(number, standing[static_cast<std::size_t>(number)]);
  }
  for (const int number : numbers_)
    view_->conductances.adjust(number, standing[static_cast<std::size_t>(number)]);
  refactor();
  view_->conductances.stale = stale;
  made_ahead_ = made_ - since;
}

/// Each area by itself: what the others stand at is nothing to it.
void Condensed::precompute_areas() {
  const bool stale = view_->conductances.stale;
  const std::vector<double> standing = view_->conductances.adjustable;
  read_sources();
  long long ahead = 0;
  for (std::size_t area = 0; area < divided_->areas(); ++area) {
    const std::vector<Choice> legs = legs_among(divided_->numbers(area), view_->likely_states, view_->valves);
    divided_->make_room(area, std::clamp(std::bit_ceil(4 * product_of(legs)), least_states, most_states));
    const auto set = [&](const Choice& choice, std::size_t which) {
      take(choice, which, view_->conductances);
    };
    for_each_combination(legs, set, [&] {
      for (const DrivenCoupling& d : view_->driven)
        view_->couplings[static_cast<std::size_t>(d.coupling)].siemens =
            d.sign * view_->conductances.siemens(d.number);
      if (divided_->choose_area(area, view_->conductances.adjustable, sources_.data())) return;
      divided_->make_area(area, {view_->conductances.adjustable, view_->couplings});
      ++ahead;
    });
    for (const int number : numbers_)
      view_->conductances.adjust(number, standing[static_cast<std::size_t>(number)]);
  }
  refactor();
  view_->conductances.stale = stale;
  divided_->begin();
  made_ = made_ahead_ = ahead;
}

}  // namespace zavrek::emt::internal
