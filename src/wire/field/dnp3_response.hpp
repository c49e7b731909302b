// The fragments of a response: objects in order, cut where one is full.
#pragma once

#include <cstdint>
#include <vector>

#include "wire/field/little_endian.hpp"

namespace zavrek::wire::internal {

class Dnp3Objects {
 public:
  explicit Dnp3Objects(std::size_t most_octets) : most_(most_octets) {}
  /// An object with its index in front (qualifier 28).
  void add_indexed(std::uint8_t group, std::uint8_t variation, int index, Bytes value) {
    if (value.size() + 9 > room()) next_fragment();
    if (!open_ || !indexed_ || group_ != group || variation_ != variation)
      begin(group, variation, true, index);
    put_low_first(out(), static_cast<std::uint64_t>(index), 2);
    append(value);
    set(count_at_, ++count_);
  }
  /// An object of a run of indices (qualifier 01).
  void add_run(std::uint8_t group, std::uint8_t variation, int index, Bytes value) {
    if (value.size() + 7 > room()) next_fragment();
    if (!open_ || indexed_ || group_ != group || variation_ != variation || index != last_index_ + 1)
      begin(group, variation, false, index);
    append(value);
    last_index_ = index;
    set(count_at_ + 2, static_cast<unsigned>(index));
  }
  /// A bit of a run, packed.
  void add_bit(std::uint8_t group, std::uint8_t variation, int index, bool on) {
    if (room() < 8) next_fragment();
    if (!open_ || indexed_ || group_ != group || variation_ != variation || index != last_index_ + 1)
      begin(group, variation, false, index);
    if (count_ % 8 == 0) out().push_back(0);
    if (on) out().back() = static_cast<std::uint8_t>(out().back() | 1U << (count_ % 8));
    ++count_;
    last_index_ = index;
    set(count_at_ + 2, static_cast<unsigned>(index));
  }
  void append_raw(Bytes octets) {
    append(octets);
    open_ = false;
  }
  /// Octets of those so far in the latest fragment.
  [[nodiscard]] std::size_t room() const {
    return fragments_.empty() ? most_ : most_ - fragments_.back().size();
  }
  [[nodiscard]] std::size_t fragments() const { return fragments_.size(); }
  [[nodiscard]] std::vector<std::vector<std::uint8_t>> take() {
    if (fragments_.empty()) fragments_.emplace_back();
    return std::move(fragments_);
  }

 private:
  std::vector<std::uint8_t>& out() {
    if (fragments_.empty()) fragments_.emplace_back();
    return fragments_.back();
  }
  void next_fragment() {
    fragments_.emplace_back();
    open_ = false;
  }
  void begin(std::uint8_t group, std::uint8_t variation, bool indexed, int index) {
    std::vector<std::uint8_t>& into = out();
    into.insert(into.end(), {group, variation, static_cast<std::uint8_t>(indexed ? 0x28 : 0x01)});
    count_at_ = into.size();
    put_low_first(into, indexed ? 0 : static_cast<std::uint64_t>(index), 2);
    if (!indexed) put_low_first(into, static_cast<std::uint64_t>(index), 2);
    open_ = true;
    indexed_ = indexed;
    group_ = group;
    variation_ = variation;
    count_ = 0;
  }
  void append(Bytes value) {
    std::vector<std::uint8_t>& into = out();
    into.insert(into.end(), value.begin(), value.end());
  }
  void set(std::size_t at, unsigned value) {
    out()[at] = static_cast<std::uint8_t>(value);
    out()[at + 1] = static_cast<std::uint8_t>(value >> 8U);
  }

  std::size_t most_;
  std::vector<std::vector<std::uint8_t>> fragments_;
  bool open_ = false, indexed_ = false;
  std::uint8_t group_ = 0, variation_ = 0;
  std::size_t count_at_ = 0;
  unsigned count_ = 0;
  int last_index_ = 0;
};

}  // namespace zavrek::wire::internal
