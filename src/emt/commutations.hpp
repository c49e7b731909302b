// Where valves ended up behind gate edges. What commutates with what is the same each time that the same
// gates change in the same state, but it takes a round of solutions per commutation to find out. So the
// outcome is kept, and tried first the next time, and behind it the one before: when all valves fit it
// stands, else they are asked round by round.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

namespace zavrek::emt::internal {

/// Pieces (two bits each) and gates of the first 32 valves.
struct ValveStates {
  static constexpr std::size_t most = 32;
  static constexpr std::uint64_t low_bits = 0x5555555555555555U;  // of the pieces
  std::uint64_t pieces = 0;
  std::uint32_t gates = 0;
  void enter(std::size_t valve, unsigned piece, bool gate) noexcept {
    if (valve >= most) return;
    pieces = (pieces & ~(std::uint64_t{3} << 2 * valve)) | std::uint64_t{piece} << 2 * valve;
    gates = (gates & ~(std::uint32_t{1} << valve)) | std::uint32_t{gate} << valve;
  }
  [[nodiscard]] unsigned piece(std::size_t valve) const noexcept {
    return static_cast<unsigned>(pieces >> 2 * valve & 3U);
  }
  [[nodiscard]] bool gate(std::size_t valve) const noexcept { return (gates >> valve & 1U) != 0; }
  friend bool operator==(const ValveStates&, const ValveStates&) = default;
};

class Commutations {
 public:
  /// The pieces that these ended on the last time, and the last time that it was others; their own when
  /// nothing is known.
  [[nodiscard]] std::array<std::uint64_t, 2> outcomes(const ValveStates& begun) const noexcept {
    const Entry& entry = entries_[place(begun)];
    if (entry.begun == begun) return entry.ended;
    return {begun.pieces, begun.pieces};
  }
  void keep(const ValveStates& begun, std::uint64_t ended) noexcept {
    Entry& entry = entries_[place(begun)];
    if (entry.begun == begun) {
      if (entry.ended[0] != ended) entry.ended = {ended, entry.ended[0]};
    } else {
      entry = {begun, {ended, ended}};
    }
  }
  void forget() noexcept { entries_.fill({}); }

 private:
  struct Entry {
    ValveStates begun;
    std::array<std::uint64_t, 2> ended{};
  };
  /// A three-level bridge under a carrier meets some 400.
  static constexpr std::size_t size_bits = 12;
  [[nodiscard]] static std::size_t place(const ValveStates& states) noexcept {
    const std::uint64_t mixed = states.pieces * 0x9E3779B97F4A7C15U ^ states.gates * 0xC2B2AE3D27D4EB4FU;
    return mixed * 0x9E3779B97F4A7C15U >> (64 - size_bits);
  }
  std::array<Entry, std::size_t{1} << size_bits> entries_{};
};

}  // namespace zavrek::emt::internal
