// Travelling-wave lines; equations in wave_matrices.hpp. Each line keeps, per end and mode, a ring of the
// waves that left it at past grid points; a delay that is no whole number of steps is interpolated.
#pragma once

#include <algorithm>
#include <complex>
#include <vector>

#include "emt/parts/parts.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

class WaveGroup {
 public:
  /// Where the numbers of a line stand in the values.
  struct Stands {
    int near_current = 0, far_current = 0;
    int leaving = 0;            // of a line of one end
    std::vector<int> arriving;  // likewise: knobs
  };
  void add(const WavePart& part, double step_s, const int* node_position, const Stands& stands);

  [[nodiscard]] std::size_t lines() const { return lines_.size(); }
  [[nodiscard]] std::size_t states() const { return modes_.size() * 2; }

  [[nodiscard]] bool empty() const noexcept { return lines_.empty(); }
  /// Whether waves come from elsewhere,
  [[nodiscard]] bool hears() const noexcept { return hears_; }
  /// ahead of each step as they were told.
  void hear(const double* now) noexcept;
  /// History currents at `ahead` steps after the newest point of the rings (1 for a whole step).
  void inject(double ahead, double* rhs) noexcept;
  /// Port currents from the node voltages in `now`.
  void update(double* now) noexcept;
  /// Appends the waves at the grid point `now` to the rings.
  void push(double* now) noexcept;
  /// Waves that jump, so many steps behind the newest: the values just before and just behind. Between grid
  /// points they are taken straight, so that the grid point ahead of a jump takes so much of it, or that
  /// behind so much less, that the area is that of the jump. Where all delays of a mode are whole steps it
  /// jumps at a grid point as it is.
  void jump(double share, const double* before, const double* behind) noexcept;
  /// The waves that the steps to come read, for those who advance them another way: the newest first, by mode
  /// and end.
  template <class Visit>
  void for_each_coming(Visit&& visit) noexcept {
    for (const Mode& mode : modes_) {
      const double age = mode.longest_steps - 1;
      const auto whole = static_cast<std::size_t>(age);
      const std::size_t count = whole + (age > static_cast<double>(whole) ? 2 : 1);
      for (std::size_t end = 0; end < 2; ++end) {
        double* ring = &rings_[mode.ring + end * mode.length];
        for (std::size_t k = 0; k < count; ++k) visit(ring[(newest_ - k) & (mode.length - 1)]);
      }
    }
  }
  /// All waves under way, for `bring_back`. Allocates the first time.
  struct Kept {
    std::vector<double> rings, less;
    std::size_t newest = 0;
  };
  void keep(Kept& into) const { into.rings = rings_, into.less = less_, into.newest = newest_; }
  void bring_back(const Kept& kept) noexcept {
    std::copy(kept.rings.begin(), kept.rings.end(), rings_.begin());
    std::copy(kept.less.begin(), kept.less.end(), less_.begin());
    newest_ = kept.newest;
  }
  void visit_state(StateArchive& archive) {
    archive(rings_);
    archive(less_);
    archive(newest_);
    archive(history_);
  }
  /// The wave that left an end (0 near, 1 far) of a line so many steps before the newest point.
  [[nodiscard]] double wave(std::size_t line, int mode, int end, double age_steps) const noexcept {
    const Mode& m = modes_[static_cast<std::size_t>(lines_[line].first_mode + mode)];
    return past(m, end, std::min(age_steps, static_cast<double>(m.length) - 2));
  }
  /// One sinusoid of all values: Re(values * exp(j omega t)).
  struct Component {
    double omega;
    std::vector<std::complex<double>> values;
  };
  /// Fills the rings with the sum of `components` at the past grid points, t = 0 being the newest.
  void fill(const std::vector<Component>& components, double step_s);

 private:
  struct Line {
    int phases;
    int ends;              // here: 2, or 1
    int first_mode;        // into modes_
    int first_terminal;    // into terminals_: near nodes, then far nodes
    int first_current[2];  // of the near end, of the far one
    int first_path, end_path;
    // phases * phases, row-major: port currents from node voltages and from what arrives in modes; waves from
    // node voltages and from port currents
    std::vector<double> conductance, arrives, from_voltages, from_currents;
    // Of a line of one end: waves in phases from those in modes; where they are told, and are said; how old
    // what is told is by its grid point, in steps.
    std::vector<double> in_phases;
    std::vector<int> arriving;
    int leaving = 0;
    std::size_t age = 0;
  };
  struct Mode {
    double longest_steps;  // of its paths
    bool whole;            // whether all of them take whole steps
    std::size_t ring;      // first entry in rings_; near waves, then far waves
    std::size_t length;    // entries per end, a power of two
  };
  struct Path {
    int from, to;  // of modes_; of the line's own
    double steps;
    double through, back;
  };

  /// out += matrix times values, n x n.
  static void add_product(const std::vector<double>& matrix, int n, const double* values,
                          double* out) noexcept;
  [[nodiscard]] double past(const Mode& mode, int end, double age) const noexcept;
  [[nodiscard]] double& newest_of(const Mode& mode, int end, std::size_t age = 0) noexcept {
    return rings_[mode.ring + static_cast<std::size_t>(end) * mode.length +
                  ((newest_ - age) & (mode.length - 1))];
  }
  void hear(const Line& line, const double* now, std::size_t age) noexcept;
  void say(const Line& line, double* now) noexcept;
  /// The node voltages of an end (0 near, 1 far), into `scratch_`.
  const double* voltages(const Line& line, int end, const double* now) noexcept;
  /// The waves that leave an end, by mode; they stand until it is asked again.
  const double* leaving(const Line& line, int end, const double* now) noexcept;

  std::vector<Line> lines_;
  std::vector<Mode> modes_;
  std::vector<int> terminals_;
  std::vector<double> rings_;
  std::vector<Path> paths_;
  std::vector<double> history_;  // per line: currents into near, then far, of the instant being solved
  std::vector<double> scratch_;  // the phases of the widest line, three times
  std::vector<double> less_;     // per mode and end: what the next wave is less by
  bool hears_ = false;
  std::size_t begun_ = 0;   // newest at the start: what is older is known
  std::size_t newest_ = 0;  // steps pushed; entry newest_ & (length - 1) is the newest
};

}  // namespace zavrek::emt::internal
