#include "emt/condensed/junction.hpp"

#include <algorithm>
#include <array>
#include <type_traits>
#include <utility>

#include "emt/solve/product.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr std::size_t most_core = 64;

/// From `ones() - k` on: nothing for numbers up to k, one for those behind.
constexpr std::array<double, 2 * most_core> steps = [] {
  std::array<double, 2 * most_core> numbers{};
  for (std::size_t k = most_core; k < numbers.size(); ++k) numbers[k] = 1;
  return numbers;
}();
const double* ones() noexcept { return steps.data() + most_core - 1; }

}  // namespace

Junction::Junction(std::vector<std::set<int>> joined, const std::vector<bool>& driven)
    : place_(joined.size(), -1) {
  const auto size = joined.size();
  for (std::size_t node = 0; node < size; ++node) {
    joined[node].erase(static_cast<int>(node));
    for (const int other : joined[node])
      joined[static_cast<std::size_t>(other)].insert(static_cast<int>(node));
  }
  std::vector<int> stars;
  for (std::size_t node = 0; node < size; ++node) {
    const auto is_star = [&](int other) { return place_[static_cast<std::size_t>(other)] >= 0; };
    if (driven[node] || std::any_of(joined[node].begin(), joined[node].end(), is_star)) continue;
    place_[node] = stars_++;
    stars.push_back(static_cast<int>(node));
  }
  star_room_ = filled_up(stars_);
  for (int& place : place_) {
    if (place < 0) place = star_room_ + cores_++;
  }
  core_room_ = filled_up(cores_);

  four_start_ = {0};
  ray_start_ = {0};
  for (int first = 0; first < stars_; first += lanes) {
    std::set<int> touched;
    const int end = std::min(first + lanes, stars_);
    for (int k = first; k < end; ++k) {
      for (const int other : joined[static_cast<std::size_t>(stars[static_cast<std::size_t>(k)])])
        touched.insert(place_[static_cast<std::size_t>(other)] - star_room_);
    }
    for (int k = first; k < end; ++k) {
      std::vector<Ray> its;
      for (const int other : joined[static_cast<std::size_t>(stars[static_cast<std::size_t>(k)])]) {
        const int core = place_[static_cast<std::size_t>(other)] - star_room_;
        const auto at = static_cast<int>(std::distance(touched.begin(), touched.find(core)));
        its.push_back({core, (four_start_.back() + at) * lanes + k - first});
      }
      rays_.insert(rays_.end(), its.begin(), its.end());
      ray_start_.push_back(static_cast<int>(rays_.size()));
    }
    four_cores_.insert(four_cores_.end(), touched.begin(), touched.end());
    four_start_.push_back(static_cast<int>(four_cores_.size()));
  }
  star_shares_.assign(four_cores_.size() * lanes, 0.0);
  const auto room = static_cast<std::size_t>(core_room_);
  standing_.assign(static_cast<std::size_t>(stars_ + cores_) * room + static_cast<std::size_t>(places()),
                   0.0);
  numbers_ = standing_;
  inverse_.assign(static_cast<std::size_t>(places()), 0.0);
  standing_drive_ = inverse_;
  shares_.assign(room * room, 0.0);
  shares_across_ = shares_;
  choose_width();
}

/// A pair of stars has none.
int Junction::number_of(int a, int b) const noexcept {
  if (a == b) return (stars_ + cores_) * core_room_ + a;
  const auto [low, high] = std::minmax(a, b);
  const int row = low < star_room_ ? low : stars_ + low - star_room_;
  return row * core_room_ + high - star_room_;
}

void Junction::clear_standing() noexcept { std::fill(standing_.begin(), standing_.end(), 0.0); }

template <int Groups>
void Junction::refactor_groups(const double* adjustable) noexcept {
  copy_lanes(standing_.data(), static_cast<int>(standing_.size()), numbers_.data());
  for (const auto& [at, number, sign] : stamps_)
    numbers_[static_cast<std::size_t>(at)] += sign * adjustable[number];
  fold_stars<Groups>();
  factor_core<Groups>();
}

template <int Groups>
void Junction::fold_stars() noexcept {
  const int room = Groups > 0 ? Groups * lanes : core_room_;
  double* const own = numbers_.data();
  double* const core = own + stars_ * room;
  double* const earth = core + cores_ * room;
  double* const core_earth = earth + star_room_;
  for (int k = 0; k < stars_; ++k) {
    const double* row = own + k * room;
    const Ray* const begin = rays_.data() + ray_start_[static_cast<std::size_t>(k)];
    const Ray* const end = rays_.data() + ray_start_[static_cast<std::size_t>(k) + 1];
    double sum = earth[k];
    for (const Ray* ray = begin; ray < end; ++ray) sum += row[ray->core];
    const double inverse = 1 / sum;
    inverse_[static_cast<std::size_t>(k)] = inverse;
    for (const Ray* ray = begin; ray < end; ++ray) {
      const double share = row[ray->core] * inverse;
      star_shares_[static_cast<std::size_t>(ray->share)] = share;
      core_earth[ray->core] += share * earth[k];
      double* const of = core + ray->core * room;
      for (int c = 0; c < room; c += lanes) store(of + c, load(of + c) + share * load(row + c));
    }
  }
}

/// Nodes [4 Block, 4 Block + 4) of the core, whose rows have no meaning up to their diagonals: all that is
/// behind takes its part of each.
template <int Groups, int Block>
void Junction::eliminate_block() noexcept {
  constexpr int room = Groups * lanes, begin = Block * lanes;
  double* const core = numbers_.data() + stars_ * room;
  double* const earth = core + cores_ * room + star_room_;
  const int end = std::min(begin + lanes, cores_);
  for (int k = begin; k < end; ++k) {
    double* const row = core + k * room;
    double* const shares = &shares_[static_cast<std::size_t>(k * room)];
    Lanes own[Groups];
    own[Block] = load(ones() - k + begin) * load(row + begin);
    for (int g = Block + 1; g < Groups; ++g) own[g] = load(row + g * lanes);
    Lanes sums = own[Block];
    for (int g = Block + 1; g < Groups; ++g) sums += own[g];
    const double to_earth = earth[k];
    const double inverse = 1 / (to_earth + ((sums[0] + sums[1]) + (sums[2] + sums[3])));
    inverse_[static_cast<std::size_t>(star_room_ + k)] = inverse;
    for (int g = Block; g < Groups; ++g) {
      const Lanes share = inverse * own[g];
      store(shares + g * lanes, share);
      store(earth + g * lanes, load(earth + g * lanes) + share * to_earth);
    }
    // Targets in groups of lanes, too.
    const auto take = [&]<int Target>(std::integral_constant<int, Target> /*group*/) {
      const int last = std::min((Target + 1) * lanes, cores_);
      for (int i = std::max(k + 1, Target * lanes); i < last; ++i) {
        const double share = shares[i];
        shares_across_[static_cast<std::size_t>(i * room + k)] = share;
        double* const of = core + i * room;
        for (int g = Target; g < Groups; ++g) store(of + g * lanes, load(of + g * lanes) + share * own[g]);
      }
    };
    [&]<int... Further>(std::integer_sequence<int, Further...> /*groups*/) {
      (take(std::integral_constant<int, Block + Further>{}), ...);
    }
    (std::make_integer_sequence<int, Groups - Block>{});
  }
}

template <int Groups>
void Junction::factor_core() noexcept {
  if constexpr (Groups > 0) {
    [&]<int... Blocks>(std::integer_sequence<int, Blocks...> /*groups*/) {
      (eliminate_block<Groups, Blocks>(), ...);
    }
    (std::make_integer_sequence<int, Groups>{});
    return;
  }
  const int room = core_room_;
  double* row = numbers_.data() + stars_ * room;
  double* const earth = row + cores_ * room + star_room_;
  double* shares = shares_.data();
  for (int k = 0; k < cores_; ++k, row += room, shares += room) {
    const int begin = k / lanes * lanes;
    store(row + begin, load(ones() - k + begin) * load(row + begin));
    Lanes sums{};
    for (int c = begin; c < room; c += lanes) sums += load(row + c);
    const double to_earth = earth[k];
    const double inverse = 1 / (to_earth + ((sums[0] + sums[1]) + (sums[2] + sums[3])));
    inverse_[static_cast<std::size_t>(star_room_ + k)] = inverse;
    for (int c = begin; c < room; c += lanes) {
      const Lanes share = inverse * load(row + c);
      store(shares + c, share);
      store(earth + c, load(earth + c) + share * to_earth);
    }
    double* of = row + room;
    for (int i = k + 1; i < cores_; ++i, of += room) {
      const double share = shares[i];
      shares_across_[static_cast<std::size_t>(i * room + k)] = share;
      for (int c = i / lanes * lanes; c < room; c += lanes)
        store(of + c, load(of + c) + share * load(row + c));
    }
  }
}

void Junction::drive(const double* currents) noexcept {
  double* const into = standing_drive_.data();
  copy_lanes(currents, places(), into);
  double* const core = into + star_room_;
  for (int k = 0; k < stars_; ++k) {
    const double current = currents[k];
    into[k] = current * inverse_[static_cast<std::size_t>(k)];
    if (current == 0) continue;
    for (int r = ray_start_[static_cast<std::size_t>(k)]; r < ray_start_[static_cast<std::size_t>(k) + 1];
         ++r) {
      const auto& [at, share] = rays_[static_cast<std::size_t>(r)];
      core[at] += current * star_shares_[static_cast<std::size_t>(share)];
    }
  }
}

template <int Groups>
void Junction::solve_groups(double* numbers) const noexcept {
  double* const core = numbers + star_room_;
  const double* const standing = standing_drive_.data();
  solve_core<Groups>(core, standing + star_room_);
  const int* touched = four_cores_.data();
  const double* share = star_shares_.data();
  const int* end = four_start_.data() + 1;
  for (int k = 0; k < stars_; k += lanes, ++end) {
    Lanes sum = load(standing + k);
    for (const int* const last = four_cores_.data() + *end; touched < last; share += lanes)
      sum += core[*touched++] * load(share);
    store(numbers + k, sum);
  }
}

/// The numbers of a core that is small enough stay in registers.
template <int Groups>
void Junction::solve_core(double* core, const double* standing) const noexcept {
  const double* shares = shares_.data();
  const double* const inverse = &inverse_[static_cast<std::size_t>(star_room_)];
  if constexpr (Groups > 0) {
    constexpr int room = Groups * lanes;
    Lanes x[Groups];
    for (int g = 0; g < Groups; ++g) x[g] = load(core + g * lanes) + load(standing + g * lanes);
#pragma GCC unroll 16
    for (int k = 0; k < room; ++k, shares += room) {
      const double current = x[k / lanes][k % lanes];
      for (int g = k / lanes; g < Groups; ++g) x[g] += current * load(shares + g * lanes);
    }
    for (int g = 0; g < Groups; ++g) x[g] *= load(inverse + g * lanes);
    shares = shares_across_.data() + (room - 1) * room;
#pragma GCC unroll 16
    for (int k = room - 1; k > 0; --k, shares -= room) {
      const double voltage = x[k / lanes][k % lanes];
      for (int g = 0; g <= k / lanes; ++g) x[g] += voltage * load(shares + g * lanes);
    }
    for (int g = 0; g < Groups; ++g) store(core + g * lanes, x[g]);
    return;
  }
  for (int c = 0; c < core_room_; c += lanes) store(core + c, load(core + c) + load(standing + c));
  for (int k = 0; k + 1 < cores_; ++k, shares += core_room_) {
    const double current = core[k];
    for (int c = k / lanes * lanes; c < core_room_; c += lanes)
      store(core + c, load(core + c) + current * load(shares + c));
  }
  for (int c = 0; c < core_room_; c += lanes) store(core + c, load(core + c) * load(inverse + c));
  shares = shares_across_.data() + (cores_ - 1) * core_room_;
  for (int k = cores_ - 1; k > 0; --k, shares -= core_room_) {
    const double voltage = core[k];
    for (int c = 0; c < k; c += lanes) store(core + c, load(core + c) + voltage * load(shares + c));
  }
}

void Junction::choose_width() noexcept {
  const auto choose = [&]<int Groups>(std::integral_constant<int, Groups> /*width*/) {
    refactor_ = &Junction::refactor_groups<Groups>;
    solve_ = &Junction::solve_groups<Groups>;
  };
  switch (core_room_ / lanes) {
    case 1:
      return choose(std::integral_constant<int, 1>{});
    case 2:
      return choose(std::integral_constant<int, 2>{});
    case 3:
      return choose(std::integral_constant<int, 3>{});
    case 4:
      return choose(std::integral_constant<int, 4>{});
    default:
      return choose(std::integral_constant<int, 0>{});
  }
}

}  // namespace zavrek::emt::internal
