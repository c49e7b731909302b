// A condensed part in areas that meet at few nodes only, as two bridges meet at the link between them. With
// the voltages u of those nodes as numbers of its drive besides, each area answers for itself: to its own
// drive d and u it gives its results, and the currents that it brings into these nodes,
//   results = P [d; u] + p,   j = G d - S u + g,
// P, G and S by the state of its own switches alone. The nodes between find sum(S) u = sum(G d + g). So two
// bridges of a hundred states each need two hundred matrices, not ten thousand, and smaller ones.
//
// (Kron's tearing, with the nodes as they are: no delay comes between the areas. A. Brameller, M. N. John,
// M. R. Scott, "Practical Diakoptics for Electrical Networks", 1969.)
#pragma once

#include <array>
#include <optional>
#include <set>
#include <utility>
#include <vector>

#include "emt/condensed/response.hpp"
#include "emt/condensed/switch_states.hpp"
#include "emt/groups/conductances.hpp"
#include "emt/solve/partition.hpp"
#include "emt/solve/product.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

/// Of groups that touch each other and switches between two of them (-1: none), the group whose absence
/// leaves the switches in several areas; -1 where there is none.
[[nodiscard]] int group_between(const std::vector<std::set<int>>& neighbours,
                                const std::vector<std::array<int, 2>>& switches);

class Divided {
 public:
  /// What is to be divided: the part's maps, whose columns are numbers of the drive, then sources.
  struct Whole {
    const Partition& partition;
    const Response::Maps& maps;
    int drives = 0;
    /// Currents into local nodes that vary with the conductances: which coupling, and its column.
    struct Varying {
      int node, coupling, column;
    };
    std::vector<Varying> varying;
    /// Rows that are multiplied by an adjustable conductance: row and number.
    std::vector<std::pair<int, int>> scaled;
  };
  /// Conductances as they stand: the adjustable ones, and those of couplings to known nodes.
  struct Standing {
    const std::vector<double>& adjustable;
    const std::vector<Coupling>& couplings;
  };

  /// None where nothing divides it well.
  [[nodiscard]] static std::optional<Divided> find(const Whole& whole);

  /// The areas, and the adjustable conductances that an area's matrices depend on, ascending.
  [[nodiscard]] std::size_t areas() const noexcept { return areas_.size(); }
  [[nodiscard]] const std::vector<int>& numbers(std::size_t area) const noexcept {
    return areas_[area].numbers;
  }
  void make_room(std::size_t area, std::size_t count);

  /// Goes over to the conductances as they stand. Whether every area has its matrix.
  bool choose(const std::vector<double>& adjustable, const double* sources) noexcept;
  /// One area alone, for what is made ahead of the first step.
  [[nodiscard]] bool choose_area(std::size_t area, const std::vector<double>& adjustable,
                                 const double* sources) noexcept;
  /// Makes the matrices that are missing; how many.
  int make(const Standing& standing) noexcept;
  void make_area(std::size_t area, const Standing& standing) noexcept;
  /// Those made so far were made ahead of the first step.
  void begin() noexcept;
  /// Of a copy: nothing that was found holds.
  void forget_found() noexcept;
  /// Results from a drive; all areas have their matrices.
  void solve(const double* drive, double* results) noexcept;

  void visit_state(StateArchive& archive);
  [[nodiscard]] std::size_t bytes() const noexcept;
  [[nodiscard]] std::size_t states() const noexcept;

 private:
  static constexpr int most_between = 6;
  struct Place {
    int row, column;
    double number;
  };
  struct Area {
    int nodes = 0;
    std::vector<int> numbers;
    std::vector<int> drives, sources;  // columns of the whole
    std::vector<int> rows;             // of the whole
    // Places are nodes of the area, behind them those between; columns are its drives, those between, its
    // sources.
    std::vector<Place> standing, injected;
    struct Varying {
      int node, coupling, column;
    };
    std::vector<Varying> varying;
    std::vector<Partition::Adjustable> adjustables;
    SparseLines read, direct;  // by rows of the area
    std::vector<std::pair<int, int>> scaled;

    int columns = 0, between = 0, result_row = 0;  // first row behind those of G and S
    Rows currents, results;
    SwitchStates states;
    SwitchStates::State state{};
    bool met = false;
    long long made = 0, ahead = 0;
    Numbers conductances, source;    // as they stand
    Numbers x, out;                  // of a solution
    Numbers matrix, response, line;  // room to make a state
  };

  void find_columns(const Whole& whole);
  void sum_constants(Area& area) noexcept;
  void factor_between() noexcept;
  bool read_numbers(Area& area, const std::vector<double>& adjustable, const double* sources) noexcept;

  std::vector<int> area_of_;   // per local node; -1: between
  std::vector<int> place_of_;  // within its area, or among those between
  int between_ = 0, first_source_ = 0;
  std::vector<Area> areas_;
  std::array<double, most_between * most_between> factors_{};  // of sum(S): l below the diagonal, 1/d on it
};

}  // namespace zavrek::emt::internal
