#include <algorithm>
#include <array>

#include "wire/field/little_endian.hpp"
#include "zavrek/wire/field/dnp3.hpp"

namespace zavrek::wire {
namespace {

// A frame (clause 9.2): 05 64, length of what follows without sums, control, destination, source, sum; then
// data in blocks of 16 with a sum each. By example, a reset of the link from master 1 to outstation 1024:
//   05 64 05 C0 00 04 01 00 | sum of these eight
constexpr std::uint8_t first_octet = 0x05, second_octet = 0x64;
constexpr std::size_t link_header = 10, block = 16, most_data = 250, most_segment = 249;
constexpr std::size_t most_fragment = 8192;  // that is put together
constexpr std::uint8_t direction = 0x80, primary = 0x40, count_bit = 0x20, count_valid = 0x10;
constexpr int first_broadcast = 0xFFFD;

enum Primary : std::uint8_t {
  reset_link = 0,
  test_link = 2,
  confirmed_data = 3,
  unconfirmed_data = 4,
  ask_status = 9
};
enum Secondary : std::uint8_t {
  acknowledged = 0,
  not_acknowledged = 1,
  link_status = 11,
  not_supported = 15
};

/// x^16 + x^13 + x^12 + x^11 + x^10 + x^8 + x^6 + x^5 + x^2 + 1, inverted (clause 9.2.4.5).
std::uint16_t sum_of(Bytes bytes) {
  unsigned sum = 0;
  for (const std::uint8_t byte : bytes) {
    sum ^= byte;
    for (int bit = 0; bit < 8; ++bit) sum = (sum & 1U) != 0 ? sum >> 1U ^ 0xA6BCU : sum >> 1U;
  }
  return static_cast<std::uint16_t>(~sum);
}
bool sum_fits(Bytes bytes, Bytes sum) { return sum_of(bytes) == internal::low_first(sum.data(), 2); }

std::size_t whole_size(std::size_t data) { return link_header + data + 2 * ((data + block - 1) / block); }

}  // namespace

const std::vector<std::string>& dnp3_analogue_names() {
  static const std::vector<std::string> names{"int32", "int16", "float32"};
  return names;
}

Dnp3Link::Dnp3Link(int own, std::vector<int> others, bool master, Traffic& traffic)
    : own_(own),
      other_(others.size() == 1 ? others.front() : -1),
      others_(std::move(others)),
      master_(master),
      traffic_(traffic) {}

void Dnp3Link::receive(Bytes bytes, Now now) {
  in_.insert(in_.end(), bytes.begin(), bytes.end());
  std::size_t at = 0;
  while (at < in_.size() && over().empty()) {
    const std::size_t taken = take_frame(Bytes(in_).subspan(at), now);
    if (taken == 0) break;
    at += taken;
  }
  in_.erase(in_.begin(), in_.begin() + static_cast<std::ptrdiff_t>(at));
}

/// What it took of them; 0 where a frame is not whole yet. What is no frame is passed over, octet by octet.
std::size_t Dnp3Link::take_frame(Bytes bytes, Now now) {
  if (bytes[0] != first_octet || (bytes.size() > 1 && bytes[1] != second_octet)) return 1;
  if (bytes.size() < link_header) return 0;
  if (bytes[2] < 5 || !sum_fits(bytes.first(8), bytes.subspan(8, 2))) {
    ++traffic_.malformed;
    return 2;
  }
  const std::size_t size = bytes[2] - 5U, whole = whole_size(size);
  if (bytes.size() < whole) return 0;
  std::vector<std::uint8_t> data;
  data.reserve(size);
  for (std::size_t at = link_header; data.size() < size;) {
    const std::size_t part = std::min(block, size - data.size());
    if (!sum_fits(bytes.subspan(at, part), bytes.subspan(at + part, 2))) {
      ++traffic_.malformed;
      return whole;
    }
    data.insert(data.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at),
                bytes.begin() + static_cast<std::ptrdiff_t>(at + part));
    at += part + 2;
  }
  const int destination = static_cast<int>(internal::low_first(&bytes[4], 2));
  const int source = static_cast<int>(internal::low_first(&bytes[6], 2));
  const bool broadcast = !master_ && destination >= first_broadcast;
  if (destination == own_ || broadcast) take_link(bytes[3], source, data, broadcast, now);
  return whole;
}

void Dnp3Link::take_link(std::uint8_t control, int source, Bytes data, bool broadcast, Now now) {
  const bool from_master = (control & direction) != 0;
  if (other_ < 0 && from_master != master_ &&
      std::find(others_.begin(), others_.end(), source) != others_.end())
    other_ = source;
  if (source != other_ || from_master == master_) {
    ++traffic_.refused;
    return;
  }
  if ((control & primary) == 0) return;  // nothing here waits for an answer of the link
  const std::uint8_t function = control & 0x0F;
  const bool counted = (control & count_valid) != 0, bit = (control & count_bit) != 0;
  switch (function) {
    case unconfirmed_data:
      return take_segment(data, broadcast, now);
    case confirmed_data:
      if (broadcast) return;
      if (!reset_ || !counted) return put_frame(not_acknowledged, {});
      put_frame(acknowledged, {});
      // The same again: its acknowledgement was lost on the way.
      if (bit != next_count_bit_) return;
      next_count_bit_ = !next_count_bit_;
      return take_segment(data, broadcast, now);
    case reset_link:
      reset_ = next_count_bit_ = true;
      return broadcast ? void() : put_frame(acknowledged, {});
    case test_link:
      return put_frame(reset_ ? acknowledged : not_acknowledged, {});
    case ask_status:
      return put_frame(link_status, {});
    default:
      return put_frame(not_supported, {});
  }
}

/// A segment begins with FIN, FIR and its number (clause 8.2); a fragment that breaks off is dropped.
void Dnp3Link::take_segment(Bytes segment, bool broadcast, Now now) {
  if (segment.empty()) {
    ++traffic_.malformed;
    return;
  }
  const bool last = (segment[0] & 0x80) != 0, first = (segment[0] & 0x40) != 0;
  const unsigned number = segment[0] & 0x3FU;
  if (first) fragment_.clear();
  const bool follows = first || (gathers_ && number == next_segment_);
  gathers_ = follows && !last;
  if (!follows || fragment_.size() + segment.size() > most_fragment) {
    ++traffic_.malformed;
    gathers_ = false;
    return;
  }
  next_segment_ = (number + 1) & 0x3FU;
  fragment_.insert(fragment_.end(), segment.begin() + 1, segment.end());
  if (!last) return;
  if (fragment_.size() < 2) {
    ++traffic_.malformed;
    return;
  }
  ++traffic_.received;
  const std::vector<std::uint8_t> whole = std::move(fragment_);
  fragment_.clear();
  take(whole, broadcast, now);
}

void Dnp3Link::put(Bytes fragment) {
  ++traffic_.sent;
  for (std::size_t at = 0; at < fragment.size(); at += most_segment) {
    const std::size_t part = std::min(most_segment, fragment.size() - at);
    std::array<std::uint8_t, most_data> segment{};
    segment[0] = static_cast<std::uint8_t>((at + part == fragment.size() ? 0x80U : 0U) |
                                           (at == 0 ? 0x40U : 0U) | (sent_segment_++ & 0x3FU));
    std::copy_n(fragment.begin() + static_cast<std::ptrdiff_t>(at), part, segment.begin() + 1);
    put_frame(primary | unconfirmed_data, Bytes(segment).first(part + 1));
  }
}

void Dnp3Link::put_frame(std::uint8_t control, Bytes data) {
  std::vector<std::uint8_t> frame{first_octet, second_octet, static_cast<std::uint8_t>(5 + data.size()),
                                  static_cast<std::uint8_t>(control | (master_ ? direction : 0))};
  internal::put_low_first(frame, static_cast<std::uint64_t>(other_), 2);
  internal::put_low_first(frame, static_cast<std::uint64_t>(own_), 2);
  internal::put_low_first(frame, sum_of(frame), 2);
  for (std::size_t at = 0; at < data.size(); at += block) {
    const Bytes part = data.subspan(at, std::min(block, data.size() - at));
    frame.insert(frame.end(), part.begin(), part.end());
    internal::put_low_first(frame, sum_of(part), 2);
  }
  send(frame);
}

}  // namespace zavrek::wire
