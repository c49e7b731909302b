// The nodes at which the switches of a part stand, and what joins them: a conductance g per pair of nodes and
// one to earth per node. Nodes are eliminated one by one, each a star that becomes a mesh between those it
// was joined to:
//   d = g_0 + sum(g_k),   g_ij += g_i g_j / d,   g_i0 += g_i g_0 / d;
// a current into it goes to its neighbours by g_k / d, and its voltage is theirs, weighed so, and that of the
// current: the factors of the nodal matrix, found without a difference. So a valve of a microohm costs no
// digit of what flows beside it, and neither does an earth of a hundred megohms that alone holds a bridge.
// (Star and mesh: A. Rosen, "A new network theorem", J. IEE 62 (1924). Factors without differences: J.
// Demmel, P. Koev, "Accurate SVDs of weakly diagonally dominant M-matrices", Numer. Math. 98 (2004).)
//
// Nodes that nothing drives but switches, and that touch no other such node, as those within the legs of
// bridges, go first; their currents change with the switches alone. What is left, the core, is full.
#pragma once

#include <set>
#include <vector>

#include "emt/solve/lanes.hpp"

namespace zavrek::emt::internal {

class Junction {
 public:
  /// `joined[n]`: the nodes that something joins to node n; `driven[n]`: whether currents come to it from
  /// elsewhere. Nodes are named by their places from here on.
  Junction(std::vector<std::set<int>> joined, const std::vector<bool>& driven);
  Junction() = default;

  [[nodiscard]] int nodes() const noexcept { return stars_ + cores_; }
  /// Of the nodes: whole lanes, those of the core behind the others.
  [[nodiscard]] int places() const noexcept { return star_room_ + core_room_; }
  [[nodiscard]] int core() const noexcept { return star_room_; }
  /// Factors of the core, both ways, and shares of the stars.
  [[nodiscard]] int numbers_read() const noexcept {
    return 2 * core_room_ * core_room_ + static_cast<int>(star_shares_.size());
  }
  /// The place of a node as it was named in the constructor.
  [[nodiscard]] int place(int node) const { return place_[static_cast<std::size_t>(node)]; }

  /// What stands: set it to nothing, and add to it; `a` and `b` the same: to earth.
  void clear_standing() noexcept;
  void add_standing(int a, int b, double siemens) noexcept {
    standing_[static_cast<std::size_t>(number_of(a, b))] += siemens;
  }
  /// Adjustable conductance `number`, times `sign`, is added with each refactoring.
  void add_adjustable(int a, int b, int number, double sign) {
    stamps_.push_back({number_of(a, b), number, sign});
  }
  /// From the list of all adjustable conductances.
  void refactor(const double* adjustable) noexcept { (this->*refactor_)(adjustable); }
  /// Currents into all places that act with each solution; asked anew behind `refactor`.
  void drive(const double* currents) noexcept;
  /// `numbers` at the places of the core: currents beside those; then all voltages.
  void solve(double* numbers) const noexcept { (this->*solve_)(numbers); }

 private:
  struct Stamp {
    int at, number;
    double sign;
  };
  /// A node of the core that a star is joined to.
  struct Ray {
    int core, share;  // its share stands there in star_shares_
  };
  [[nodiscard]] int number_of(int a, int b) const noexcept;
  template <int Groups>
  void refactor_groups(const double* adjustable) noexcept;
  template <int Groups>
  void fold_stars() noexcept;
  template <int Groups>
  void factor_core() noexcept;
  template <int Groups, int Block>
  void eliminate_block() noexcept;
  template <int Groups>
  void solve_groups(double* numbers) const noexcept;
  template <int Groups>
  void solve_core(double* core, const double* standing) const noexcept;

  void choose_width() noexcept;

  /// For so many groups of lanes in the core, which the compiler then knows.
  void (Junction::*refactor_)(const double*) noexcept = nullptr;
  void (Junction::*solve_)(double*) const noexcept = nullptr;

  int stars_ = 0, cores_ = 0, star_room_ = 0, core_room_ = 0;
  std::vector<int> place_;
  std::vector<Stamp> stamps_;
  Numbers standing_, numbers_;  // a row of the core per star, then the core's own, upper half; to earth
  std::vector<int> ray_start_;
  std::vector<Ray> rays_;
  std::vector<int> four_start_;  // per four stars: which nodes of the core they are joined to
  std::vector<int> four_cores_;
  Numbers star_shares_;             // of four stars, per such node
  Numbers inverse_;                 // per place: 1 / d
  Numbers shares_, shares_across_;  // of the core: by rows above the diagonal, and transposed
  Numbers standing_drive_;          // per place: voltages of stars, currents into the core
};

}  // namespace zavrek::emt::internal
