// A condensed part of the network, divided where its switches stand: the nodes that valves and bent
// characteristics touch are its junction, what is left are areas that hold no such switch. To its own numbers
// of the drive d and the voltages u of the nodes of the junction that it touches, an area gives its results,
// and the currents that it brings into these nodes,
//   results = P [d; u],   j = G d - S u,
// P, G and S as long as its breakers and knobs stand as they do. The junction finds u from
//   sum(S) u + (switches) u = sum(G d) + what drives the switches,
// so that a change of switches makes its few nodes anew and nothing else: no matrix is kept per state of the
// switches, none need be foreseen, and none is missed.
//
// (Kron's tearing, with the nodes as they are: no delay comes between the areas. A. Brameller, M. N. John,
// M. R. Scott, "Practical Diakoptics for Electrical Networks", 1969.)
#pragma once

#include <array>
#include <set>
#include <utility>
#include <vector>

#include "emt/condensed/junction.hpp"
#include "emt/condensed/kept_matrices.hpp"
#include "emt/condensed/sparse_lines.hpp"
#include "emt/groups/conductances.hpp"
#include "emt/solve/partition.hpp"
#include "emt/solve/product.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

class Divided {
 public:
  static constexpr std::size_t most_areas = 8;

  /// What is to be divided. Nodes are local to the partition; columns are numbers of the drive, behind them
  /// the sources of the switches; rows are results, from `first_kept` on of values that somebody asked for.
  struct Whole {
    const Partition& partition;
    const SparseLines &injected, &read, &direct;  // by columns into nodes, by rows from nodes and columns
    int drives, first_kept;
    std::set<int> switched;  // adjustable conductances of valves and bent characteristics
    /// Currents of a coupling per unit of a column, as it stands, into a node,
    struct Coupled {
      int node, coupling, column;
    };
    std::vector<Coupled> couplings;
    /// and of a bent characteristic from p to q (-1: none of these), by its slope.
    struct Bent {
      int p, q, column;
    };
    std::vector<Bent> bents;
    std::vector<std::pair<int, int>> scaled;  // rows multiplied by an adjustable conductance: row and number
  };
  /// How the switches stand: all adjustable conductances, couplings to known nodes, slopes of the bent
  /// characteristics, sources.
  struct Standing {
    const std::vector<double>& adjustable;
    const std::vector<Coupling>& couplings;
    const double *slopes, *sources;
  };

  Divided() = default;
  explicit Divided(const Whole& whole);

  [[nodiscard]] std::size_t areas() const noexcept { return areas_.size(); }
  /// The area that gives a row; `at_junction`: none. What is asked for changes nothing about the others.
  static constexpr int at_junction = -1;
  [[nodiscard]] int area_of(int row) const { return area_of_row_[static_cast<std::size_t>(row)]; }
  /// The adjustable conductances that an area's matrices depend on, ascending.
  [[nodiscard]] const std::vector<int>& numbers(std::size_t area) const noexcept {
    return areas_[area].numbers;
  }
  [[nodiscard]] int junction_nodes() const noexcept { return junction_.nodes(); }
  /// Numbers that one solution reads: products, and factors of the junction.
  [[nodiscard]] int numbers_read() const noexcept;
  /// Numbers behind the results that a solution comes with: the voltages of the junction.
  [[nodiscard]] int beside_results() const noexcept { return junction_.places() + 1; }
  void make_room(std::size_t area, std::size_t count);

  /// Goes over to switches as they stand; how many matrices were made for it.
  int choose(const Standing& standing) noexcept;
  /// Those made so far were made ahead of the first step.
  void begin() noexcept;
  /// Of a copy: nothing that was found holds.
  void forget_found() noexcept;
  /// Results from a drive. Rows that an area gives and that follow each other are written as they come, in
  /// whole lanes from the first on; other rows of which nobody was told are left as they are. `beside`: begin
  /// of whole lanes.
  void solve(const double* drive, double* results, double* beside) noexcept;
  /// The voltages of all nodes, local to the partition, from a solution, or what lies on a line through two.
  void read_voltages(const double* drive, const double* beside, double* voltages) noexcept;

  void visit_state(StateArchive& archive);
  [[nodiscard]] std::size_t bytes() const noexcept;
  [[nodiscard]] std::size_t matrices() const noexcept;

 private:
  /// Registers of eight numbers read whole lines of memory.
  [[nodiscard]] static constexpr int in_lines(int count) { return (count + 7) / 8 * 8; }
  struct Place {
    int row, column;
    double number;
  };
  struct Area {
    int nodes = 0;
    std::vector<int> ends;     // places in the junction, ascending
    std::vector<int> numbers;  // of adjustable conductances
    // Columns of the whole: some that follow each other, then others.
    int first_drive = 0, drives = 0;
    std::vector<int> other_drives;
    std::vector<int> rows;  // of the whole; -1: none, to fill up lanes
    // Places are nodes of the area, behind them its ends; columns are its drives, behind them its ends.
    std::vector<Place> standing, injected;
    std::vector<Whole::Coupled> couplings;
    std::vector<Partition::Adjustable> adjustables;
    SparseLines read, direct;  // by rows of the area
    std::vector<std::pair<int, int>> scaled;

    int result_row = 0;       // the first behind those of j
    Rows currents, voltages;  // of its nodes: a matrix of their own, behind the other
    std::vector<int> at;      // per node: in the partition
    /// Rows that follow each other in the whole, the first of them, and in the area.
    struct Run {
      Rows rows;
      int first, own;
    };
    std::vector<Run> runs;
    KeptMatrices kept;
    KeptMatrices::Kept now{};
    bool met = false;
    long long made = 0, ahead = 0;
    /// Rows of the matrix, and its columns.
    [[nodiscard]] int height() const { return in_lines(result_row + static_cast<int>(rows.size())); }
    [[nodiscard]] int width() const { return all_drives() + static_cast<int>(ends.size()); }
    [[nodiscard]] std::size_t numbers_of_results() const {
      return static_cast<std::size_t>(height() * width());
    }
    [[nodiscard]] std::size_t numbers_of_voltages() const {
      return static_cast<std::size_t>(voltages.count() * width());
    }
    [[nodiscard]] int all_drives() const { return drives + static_cast<int>(other_drives.size()); }
    Numbers conductances;            // as they stand
    Numbers x, out;                  // of a solution: drives, then ends; currents into the ends
    Numbers matrix, response, line;  // room to make a matrix
  };
  /// A current into a node of the junction per unit of a column of the drive.
  struct Drive {
    int node, column;
    double number;
  };
  /// How it is shared out (divide.cpp).
  class Plan;

  static bool goes_on(Area& area, const Whole& whole, int row);
  static void add_empty_row(Area& area);
  static void take_drive(Area& area, const double* drive) noexcept;
  static void take_ends(Area& area, const double* u) noexcept;
  void fill_area(const Whole& whole, const Plan& plan, int which);
  void fill_junction(const Whole& whole, const Plan& plan);
  void read_direct(const Whole& whole, const Plan& plan);
  [[nodiscard]] bool find_matrix(Area& area, const std::vector<double>& adjustable) noexcept;
  void make_matrix(Area& area, const Standing& standing) noexcept;
  void add_standing() noexcept;

  std::vector<Area> areas_;
  std::vector<int> area_of_row_;
  Junction junction_;
  bool stands_ = false;       // what the areas are between their ends is in it
  std::vector<Place> given_;  // in the junction: its own conductances; row and column the same: to earth
  std::vector<Drive> drives_;
  struct Source {
    int p, q, source;  // current from q to p; -1: none of these nodes
  };
  std::vector<Source> sources_;
  std::vector<Whole::Coupled> couplings_;
  std::vector<Whole::Bent> bents_;
  std::vector<double> coupled_, slopes_;  // as they stand
  Numbers standing_currents_;             // of the sources
  // Results read off the junction: differences of voltages, and what is not just that.
  struct Difference {
    int row, p, q;
  };
  struct Differences {
    int row;
    std::array<int, lanes> p, q;
  };
  std::vector<Difference> differences_;
  std::vector<Differences> fours_;
  struct Term {
    int row, from;
    double number;
  };
  std::vector<int> other_rows_;
  std::vector<Term> read_, direct_;               // of them
  std::vector<std::pair<int, int>> scaled_;       // rows, numbers
  std::vector<double> scales_;                    // as they stand
  std::vector<std::pair<int, int>> junction_at_;  // node of the partition, place
  Numbers nothing_;
};

}  // namespace zavrek::emt::internal
