// Where valves ended up behind gate edges. (Which valves conduct is a linear complementarity problem of the
// network at that instant, one solution of which is sought by changing over what does not fit: R. Cottle,
// J.-S. Pang, R. Stone, "The Linear Complementarity Problem", ch. 4.) What commutates with what is the same
// each time that the same gates change in the same state, but it takes a round of solutions per commutation
// to find out. So the outcome is kept, and tried first the next time, and behind it the one before: when all
// valves fit it stands, else they are asked round by round. For a state that was not met, what each leg for
// itself came to from what it is in, or another leg like it, is put together.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <vector>

#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

/// The pieces of the first 64 valves, two bits each.
struct Pieces {
  static constexpr std::size_t in_word = 32;
  static constexpr std::uint64_t low_bits = 0x5555555555555555U;
  std::array<std::uint64_t, 2> words{};
  [[nodiscard]] unsigned of(std::size_t valve) const noexcept {
    return static_cast<unsigned>(words[valve / in_word] >> 2 * (valve % in_word) & 3U);
  }
  void set(std::size_t valve, std::uint64_t piece) noexcept {
    std::uint64_t& word = words[valve / in_word];
    const std::size_t at = 2 * (valve % in_word);
    word = (word & ~(std::uint64_t{3} << at)) | piece << at;
  }
  friend bool operator==(const Pieces&, const Pieces&) = default;
};

/// These, and the gates of as many.
struct ValveStates {
  static constexpr std::size_t most = 2 * Pieces::in_word;
  Pieces pieces;
  std::uint64_t gates = 0;
  void enter(std::size_t valve, unsigned piece, bool gate) noexcept {
    if (valve >= most) return;
    pieces.set(valve, piece);
    gates = (gates & ~(std::uint64_t{1} << valve)) | std::uint64_t{gate} << valve;
  }
  [[nodiscard]] bool gate(std::size_t valve) const noexcept { return (gates >> valve & 1U) != 0; }
  friend bool operator==(const ValveStates&, const ValveStates&) = default;
};

class Commutations {
 public:
  /// Valves that stand next to each other and share a current, which their gates rule: diodes and thyristors
  /// commutate with those of other legs.
  /// Legs of the same `kind` are alike.
  void add_leg(std::size_t first, std::size_t count, std::uint64_t kind) {
    if (count <= most_in_leg && first + count <= ValveStates::most) legs_.push_back({first, count, kind});
  }

  /// The pieces that these ended on the last time, and the last time that it was others; their own when
  /// nothing is known.
  [[nodiscard]] std::array<Pieces, 2> outcomes(const ValveStates& begun) const noexcept {
    for (const Entry& entry : sets_[place(begun)].entries) {
      if (entry.begun == begun) return entry.ended;
    }
    Pieces put_together = begun.pieces;
    for (const Leg& leg : legs_) {
      const OfLeg& known = of_legs_[place(leg.key(begun))];
      if (known.begun == leg.key(begun)) leg.write(known.ended, put_together);
    }
    return {put_together, begun.pieces};
  }
  void keep(const ValveStates& begun, const Pieces& ended) noexcept {
    Set& set = sets_[place(begun)];
    for (Entry& entry : set.entries) {
      if (!(entry.begun == begun)) continue;
      if (entry.ended[0] != ended) entry.ended = {ended, entry.ended[0]};
      return;
    }
    set.entries[set.oldest] = {begun, {ended, ended}};
    set.oldest = (set.oldest + 1) % set.entries.size();
    for (const Leg& leg : legs_) of_legs_[place(leg.key(begun))] = {leg.key(begun), leg.pieces(ended)};
  }
  void visit_state(StateArchive& archive) {
    archive(sets_);
    archive(of_legs_);
  }
  void forget() noexcept {
    sets_.fill({});
    of_legs_.fill({});
  }

 private:
  static constexpr std::size_t most_in_leg = 8;
  struct Leg {
    std::size_t first, count;
    std::uint64_t kind;
    [[nodiscard]] std::uint64_t pieces(const Pieces& all) const noexcept {
      std::uint64_t own = 0;
      for (std::size_t k = 0; k < count; ++k) own |= std::uint64_t{all.of(first + k)} << 2 * k;
      return own;
    }
    void write(std::uint64_t own, Pieces& all) const noexcept {
      for (std::size_t k = 0; k < count; ++k) all.set(first + k, own >> 2 * k & 3U);
    }
    /// Its pieces, gates, how many valves and of which kind; never 0.
    [[nodiscard]] std::uint64_t key(const ValveStates& all) const noexcept {
      const std::uint64_t gates = all.gates >> first & ((1U << count) - 1);
      return pieces(all.pieces) | gates << 2 * most_in_leg | std::uint64_t{count} << 3 * most_in_leg |
             kind << 4 * most_in_leg;
    }
  };
  struct OfLeg {
    std::uint64_t begun = 0, ended = 0;
  };
  struct Entry {
    ValveStates begun;
    std::array<Pieces, 2> ended{};
  };
  struct Set {
    std::array<Entry, 4> entries;
    std::size_t oldest = 0;  // the one to give up next
  };
  /// A three-level bridge under a carrier meets some 400 states, its legs far fewer each.
  static constexpr std::size_t size_bits = 10, leg_bits = 9;
  [[nodiscard]] static std::size_t place(const ValveStates& states) noexcept {
    const std::uint64_t mixed = states.pieces.words[0] * 0x9E3779B97F4A7C15U ^
                                states.pieces.words[1] * 0xD6E8FEB86659FD93U ^
                                states.gates * 0xC2B2AE3D27D4EB4FU;
    return (mixed ^ mixed >> 32U) * 0x9E3779B97F4A7C15U >> (64 - size_bits);
  }
  [[nodiscard]] static std::size_t place(std::uint64_t leg) noexcept {
    return leg * 0x9E3779B97F4A7C15U >> (64 - leg_bits);
  }
  std::array<Set, std::size_t{1} << size_bits> sets_{};
  std::array<OfLeg, std::size_t{1} << leg_bits> of_legs_{};
  std::vector<Leg> legs_;
};

}  // namespace zavrek::emt::internal
