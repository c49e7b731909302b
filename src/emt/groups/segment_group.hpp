// Characteristics of straight pieces; on piece k between x_k and x_(k+1): i = o_k + s_k x.
//   resistive   x = v                                    G = s_k,          history o_k
//   inductive   dx/dt = v; x = x' + (h/2)(v + v')        G = s_k h/2,      history o_k + s_k (x' + (h/2) v')
//               half Euler: x = x' + (h/2) v             the same G,       history o_k + s_k x'
// Leaving a piece is a discontinuity, located like a current zero.
#pragma once

#include <algorithm>
#include <vector>

#include "emt/parts/parts.hpp"
#include "emt/parts/rule.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

class SegmentGroup {
 public:
  struct Piece {
    double low, high, slope, offset;
  };
  /// Corners at -x_n ... -x_1, x_1 ... x_n; the outermost pieces run on with the last slope.
  [[nodiscard]] static std::vector<Piece> pieces_of(const network::Points& corners) {
    network::Points all;
    for (std::size_t k = corners.size(); k-- > 0;) all.push_back({-corners[k].x, -corners[k].y});
    for (const network::Point& corner : corners) all.push_back(corner);
    constexpr double far = 1e300;
    std::vector<Piece> pieces;
    for (std::size_t k = 0; k + 1 < all.size(); ++k) {
      const bool first = k == 0, last = k + 2 == all.size();
      const double slope = (all[k + 1].y - all[k].y) / (all[k + 1].x - all[k].x);
      pieces.push_back(
          {first ? -far : all[k].x, last ? far : all[k + 1].x, slope, all[k].y - slope * all[k].x});
    }
    return pieces;
  }
  /// How far beyond a corner still counts as on the piece.
  [[nodiscard]] static double slack_of(const network::Points& corners) { return 1e-9 * corners.back().x; }

  /// Starts on the piece around zero; `number` is that of its adjustable conductance.
  void add(const SegmentPart& part, double step_s, const int* node_position, int current, int state,
           int number) {
    Bent bent{node_position[part.ends.p],
              node_position[part.ends.q],
              current,
              state,
              number,
              part.inductive,
              static_cast<int>(pieces_.size()),
              0,
              0,
              step_s / 2,
              0,
              0,
              -1e300,
              0,
              false};
    const std::vector<Piece> own = pieces_of(part.corners);
    pieces_.insert(pieces_.end(), own.begin(), own.end());
    bent.count = static_cast<int>(pieces_.size()) - bent.first_piece;
    bent.piece = bent.first_piece + bent.count / 2;
    bent.slack = slack_of(part.corners);
    bents_.push_back(bent);
  }

  /// Element k belongs to a condensed part of the network (condensed.hpp), which drives it and finds its
  /// state.
  void set_in_condensed(std::size_t k) { bents_[k].in_condensed = true; }
  /// What a condensed part asks: i = offset + slope x, x = carried + reach v; the memory it carries on is
  /// x + reach v by the trapezoidal rule and x by the half Euler one; none of a resistive element.
  struct Straight {
    int p, q, state;
    double offset, slope, reach;
    bool remembers;
  };
  [[nodiscard]] Straight straight(std::size_t k) const noexcept {
    const Bent& bent = bents_[k];
    const Piece& piece = pieces_[static_cast<std::size_t>(bent.piece)];
    return {bent.p,        bent.q, bent.state, piece.offset, piece.slope, bent.inductive ? bent.half_step : 1,
            bent.inductive};
  }

  [[nodiscard]] bool empty() const { return bents_.empty(); }
  [[nodiscard]] std::size_t size() const { return bents_.size(); }
  [[nodiscard]] int number(std::size_t k) const { return bents_[k].number; }
  [[nodiscard]] double siemens(std::size_t k) const noexcept { return conductance(bents_[k]); }

  /// Chooses the piece on which the state in `values` lies; true when that is not the one around zero.
  bool place(std::size_t k, const double* values) noexcept {
    Bent& bent = bents_[k];
    bent.piece = bent.first_piece;
    while (bent.piece + 1 < bent.first_piece + bent.count &&
           values[bent.state] > pieces_[static_cast<std::size_t>(bent.piece)].high) {
      ++bent.piece;
    }
    return bent.piece != bent.first_piece + bent.count / 2;
  }

  /// What slopes follow from stands in `slopes`, all else in `old`.
  void inject(Rule rule, const double* old, const double* slopes, double* rhs) noexcept {
    for (Bent& bent : bents_) {
      if (bent.in_condensed) continue;
      const Piece& piece = pieces_[static_cast<std::size_t>(bent.piece)];
      double carried = 0;
      if (bent.inductive) {
        carried = old[bent.state];
        if (rule == Rule::trapezoidal) carried += bent.half_step * (slopes[bent.p] - slopes[bent.q]);
      }
      bent.carried = carried;
      bent.history = piece.offset + (bent.inductive ? piece.slope * carried : 0);
      rhs[bent.p] -= bent.history;
      rhs[bent.q] += bent.history;
    }
  }

  /// Adds h/2 of the weighed slopes to the states in `into`.
  void bend(Sloped first, Sloped second, double* into) const noexcept {
    for (const Bent& bent : bents_) {
      if (!bent.inductive || bent.in_condensed) continue;
      for (const Sloped& s : {first, second})
        into[bent.state] += s.weight * bent.half_step * (s.values[bent.p] - s.values[bent.q]);
    }
  }

  void update(double* now) noexcept {
    for (const Bent& bent : bents_) {
      if (bent.in_condensed) {
        const Piece& piece = pieces_[static_cast<std::size_t>(bent.piece)];
        now[bent.current] = piece.offset + piece.slope * now[bent.state];
        continue;
      }
      const double v = now[bent.p] - now[bent.q];
      now[bent.current] = bent.history + conductance(bent) * v;
      now[bent.state] = bent.inductive ? bent.carried + bent.half_step * v : v;
    }
  }

  void visit_state(StateArchive& archive) { archive(bents_); }

  /// When it last moved: going back at the very instant would go on for ever.
  [[nodiscard]] double moved_at(std::size_t k) const noexcept { return bents_[k].moved_at; }

  /// Share of the way from `before` to `after` at which element k leaves its piece; above 1 when it does not.
  [[nodiscard]] double leaves_at(std::size_t k, const double* before, const double* after) const noexcept {
    const Bent& bent = bents_[k];
    const Piece& piece = pieces_[static_cast<std::size_t>(bent.piece)];
    const double x = after[bent.state];
    if (x <= piece.high + bent.slack && x >= piece.low - bent.slack) return 2;
    const double from = before[bent.state];
    const double bound = x > piece.high ? piece.high : piece.low;
    if (x == from) return 0;
    return std::clamp((bound - from) / (x - from), 0.0, 1.0);
  }

  /// Moves to the neighbouring piece in the direction of `after`.
  void move(std::size_t k, const double* after, double time_s) noexcept {
    Bent& bent = bents_[k];
    bent.moved_at = time_s;
    const Piece& piece = pieces_[static_cast<std::size_t>(bent.piece)];
    const int next = bent.piece + (after[bent.state] > piece.high ? 1 : -1);
    bent.piece = std::clamp(next, bent.first_piece, bent.first_piece + bent.count - 1);
  }

 private:
  struct Bent {
    int p, q, current, state, number;
    bool inductive;
    int first_piece, count, piece;
    double half_step;
    double carried, history;  // of the instant being solved
    double moved_at = -1e300;
    double slack = 0;  // how far beyond a corner still counts as on the piece
    bool in_condensed = false;
  };
  [[nodiscard]] double conductance(const Bent& bent) const noexcept {
    const double slope = pieces_[static_cast<std::size_t>(bent.piece)].slope;
    return bent.inductive ? slope * bent.half_step : slope;
  }

  std::vector<Bent> bents_;
  std::vector<Piece> pieces_;
};

}  // namespace zavrek::emt::internal
