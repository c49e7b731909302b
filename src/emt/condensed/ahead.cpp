// The matrices that the areas of a condensed part make before the first step: with poles as they stand, and
// then for each operable with its poles otherwise, as long as there are few enough.
#include <algorithm>
#include <bit>

#include "emt/condensed/condensed.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr std::size_t least_matrices = 16;
constexpr std::size_t most_poles = 3;  // of an operable

bool all_among(const std::vector<int>& all, const Operable& operable, const PoleGroup& poles) {
  return std::all_of(operable.poles.begin(), operable.poles.end(), [&](int pole) {
    return std::binary_search(all.begin(), all.end(), poles[static_cast<std::size_t>(pole)].number);
  });
}

}  // namespace

void Condensed::make_ahead() {
  std::vector<const Operable*> operables;
  for (std::size_t area = 0; area < divided_.areas(); ++area) {
    std::size_t count = 1;
    for (const Operable& operable : view_->operables) {
      if (operable.poles.empty() || operable.poles.size() > most_poles ||
          !all_among(divided_.numbers(area), operable, view_->poles))
        continue;
      const std::size_t more = (std::size_t{1} << operable.poles.size()) - 1;
      if (count + more > most_ahead) continue;
      count += more;
      operables.push_back(&operable);
    }
    divided_.make_room(area, divided_.numbers(area).empty()
                                 ? KeptMatrices::ways
                                 : std::clamp(std::bit_ceil(4 * count), least_matrices, most_matrices));
  }
  made_ = 0;
  const bool stale = view_->conductances.stale;
  refactor();
  for (const Operable* operable : operables) {
    for (unsigned moved = 1; moved < 1U << operable->poles.size(); ++moved) {
      const auto set = [&](bool otherwise) {
        for (std::size_t k = 0; k < operable->poles.size(); ++k) {
          const Pole& pole = view_->poles[static_cast<std::size_t>(operable->poles[k])];
          const bool closed = pole.closed != (otherwise && (moved >> k & 1U) != 0);
          view_->conductances.adjust(pole.number, closed ? pole.closed_S : pole.open_S);
        }
      };
      set(true);
      refactor();
      set(false);
    }
  }
  refactor();
  view_->conductances.stale = stale;
  divided_.begin();
  made_ahead_ = made_;
}

}  // namespace zavrek::emt::internal
