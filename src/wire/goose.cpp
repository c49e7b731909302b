// goosePdu of IEC 61850-8-1: 61 L { 80 gocbRef, 81 timeAllowedtoLive, 82 datSet, 83 goID, 84 t,
// 85 stNum, 86 sqNum, 87 simulation, 88 confRev, 89 ndsCom, 8A numDatSetEntries, AB L { 83 01 xx ... } }
// t: seconds since 1970 (4 bytes), fraction in 2^-24 s (3), quality (1; 0x0A: 10 bits of accuracy).
#include <algorithm>

#include "wire/bytes.hpp"

namespace zavrek::wire {
namespace {

using internal::Reader;
using internal::Writer;

constexpr std::uint64_t second_ns = 1'000'000'000;

/// A publisher that is an ordinary process may be kept from running for tens of milliseconds; a shorter
/// promise than this would call it dead.
constexpr int least_allowed_ms = 200;

/// Within this time of a change a redundant network may deliver a message of the state before again.
constexpr std::int64_t again_ns = 100'000'000;

std::uint64_t to_utc(std::uint64_t time_ns) {
  const std::uint64_t fraction =
      std::min<std::uint64_t>((((time_ns % second_ns) << 24) + second_ns / 2) / second_ns, 0xFFFFFF);
  return (time_ns / second_ns) << 32 | fraction << 8 | 0x0A;
}

std::uint64_t from_utc(std::uint64_t utc) {
  const std::uint64_t fraction = utc >> 8 & 0xFFFFFF;
  return (utc >> 32) * second_ns + (fraction * second_ns >> 24);
}

bool read_entries(Bytes content, std::vector<bool>& entries) {
  Reader in(content);
  entries.clear();
  while (in.good() && !in.done()) {
    const auto element = in.element();
    if (!in.good() || element.tag != 0x83 || element.content.size() != 1) return false;
    if (entries.size() == most_goose_entries) return false;
    entries.push_back(element.content[0] != 0);
  }
  return in.good();
}

}  // namespace

std::size_t encode(const Goose& message, std::span<std::uint8_t> out) noexcept {
  if (message.entries.size() > most_goose_entries) return 0;
  for (const std::string* text : {&message.control_block, &message.data_set, &message.id}) {
    if (text->size() > internal::longest_text) return 0;
  }
  const auto number_size = [](std::uint64_t value) {
    return Writer::field_size(static_cast<std::size_t>(Writer::unsigned_size(value)));
  };
  const std::size_t entries = message.entries.size() * 3;
  const std::size_t pdu = Writer::field_size(message.control_block.size()) + number_size(message.allowed_ms) +
                          Writer::field_size(message.data_set.size()) +
                          Writer::field_size(message.id.size()) + Writer::field_size(8) +
                          number_size(message.state) + number_size(message.sequence) + Writer::field_size(1) +
                          number_size(message.revision) + Writer::field_size(1) +
                          number_size(message.entries.size()) + Writer::field_size(entries);
  Writer w(out);
  internal::write_header(w, message.address, ethertype_goose, Writer::field_size(pdu));
  w.header(0x61, pdu);
  w.field(0x80, message.control_block);
  w.unsigned_field(0x81, message.allowed_ms);
  w.field(0x82, message.data_set);
  w.field(0x83, message.id);
  w.field(0x84, to_utc(message.time_ns), 8);
  w.unsigned_field(0x85, message.state);
  w.unsigned_field(0x86, message.sequence);
  w.field(0x87, message.simulation ? 1 : 0, 1);
  w.unsigned_field(0x88, message.revision);
  w.field(0x89, message.needs_commissioning ? 1 : 0, 1);
  w.unsigned_field(0x8A, message.entries.size());
  w.header(0xAB, entries);
  for (const bool entry : message.entries) w.field(0x83, entry ? 1 : 0, 1);
  return w.size();
}

bool decode(Bytes frame, Goose& into) {
  Reader outer(internal::read_header(frame, ethertype_goose, into.address));
  const auto pdu = outer.element();
  if (!outer.good() || pdu.tag != 0x61) return false;
  Reader in(pdu.content);
  unsigned seen = 0;
  std::uint64_t declared = 0;
  bool good = true;
  while (in.good() && !in.done() && good) {
    const auto element = in.element();
    if (!in.good()) return false;
    const auto number = [&] {
      return static_cast<std::uint32_t>(internal::unsigned_of(element.content, good));
    };
    const auto flag = [&] {
      good = element.content.size() == 1;
      return good && element.content[0] != 0;
    };
    switch (element.tag) {
      case 0x80:
        good = internal::read_text(element.content, into.control_block);
        break;
      case 0x81:
        into.allowed_ms = number();
        break;
      case 0x82:
        good = internal::read_text(element.content, into.data_set);
        break;
      case 0x83:
        good = internal::read_text(element.content, into.id);
        break;
      case 0x84:
        good = element.content.size() == 8;
        if (good) into.time_ns = from_utc(Reader(element.content).number(8));
        break;
      case 0x85:
        into.state = number();
        break;
      case 0x86:
        into.sequence = number();
        break;
      case 0x87:
        into.simulation = flag();
        break;
      case 0x88:
        into.revision = number();
        break;
      case 0x89:
        into.needs_commissioning = flag();
        break;
      case 0x8A:
        declared = number();
        break;
      case 0xAB:
        good = read_entries(element.content, into.entries);
        break;
      default:
        continue;
    }
    seen |= 1U << (element.tag == 0xAB ? 11 : element.tag - 0x80);
  }
  constexpr unsigned needed =
      0xFFF & ~(1U << 3) & ~(1U << 7) & ~(1U << 9);  // goID, simulation, ndsCom are optional
  return good && in.good() && (seen & needed) == needed && declared == into.entries.size();
}

GoosePublisher::GoosePublisher(Goose message, int slowest_ms)
    : message_(std::move(message)), slowest_ms_(slowest_ms) {}

void GoosePublisher::poll(Now now, const std::vector<bool>& entries, Link& link) {
  const bool changed = sent_ && entries != message_.entries;
  if (sent_ && !changed && now.steady_ns < due_ns_) return;
  if (changed) {
    ++message_.state;
    message_.sequence = 0;
    interval_ms_ = 2;
  } else if (sent_) {
    ++message_.sequence;
    if (message_.sequence == 0) message_.sequence = 1;
    interval_ms_ = std::min(2 * interval_ms_, slowest_ms_);
  }
  if (changed || !sent_) message_.time_ns = static_cast<std::uint64_t>(now.utc_ns);
  message_.entries = entries;
  message_.allowed_ms = static_cast<std::uint32_t>(std::max(2 * interval_ms_, least_allowed_ms));
  std::array<std::uint8_t, longest_frame> frame;
  ++(link.send(Bytes(frame).first(encode(message_, frame))) ? frames_sent_ : frames_unsent_);
  due_ns_ = now.steady_ns + interval_ms_ * 1'000'000LL;
  sent_ = true;
}

GooseSubscriber::GooseSubscriber(std::uint16_t appid, std::string id, std::optional<MacAddress> source)
    : appid_(appid), id_(std::move(id)), said_source_(source) {}

bool GooseSubscriber::take(Bytes frame, std::int64_t now_ns) {
  const auto kind = kind_of(frame);
  if (!kind || kind->ethertype != ethertype_goose || kind->appid != appid_) return false;
  if (!decode(frame, incoming_)) {
    ++counts_.malformed;
    return false;
  }
  if (incoming_.id != id_) {
    ++counts_.foreign;
    return false;
  }
  if (incoming_.simulation) {
    ++counts_.refused;
    return false;
  }
  const bool other_source = said_source_
                                ? incoming_.address.source != *said_source_
                                : alive(now_ns) && incoming_.address.source != message_.address.source;
  if (other_source) {
    ++counts_.conflicting;
    rival_ = incoming_.address.source;
    return false;
  }
  const Order order = order_of_incoming(now_ns);
  if (order == Order::repeated) return false;
  const bool changes = !heard_ || incoming_.state != message_.state;
  if (order == Order::older) {
    ++counts_.regressed;
    doubtful_ = doubtful_ || (changes && now_ns - changed_ns_ > again_ns);
    return false;
  }
  if (order == Order::newer && heard_) {
    if (!changes && incoming_.entries != message_.entries) {
      ++counts_.regressed;
      doubtful_ = true;
      return false;
    }
    count_missing();
    if (!alive(now_ns)) ++counts_.late;
  }
  if (order == Order::restarted) ++counts_.restarts;
  std::swap(message_, incoming_);
  heard_ = true;
  last_ns_ = now_ns;
  if (changes) changed_ns_ = now_ns;
  good_until_ns_ = now_ns + static_cast<std::int64_t>(message_.allowed_ms) * 1'000'000;
  return true;
}

/// Numbers wrap, so that the nearer way tells which is ahead (RFC 1982).
GooseSubscriber::Order GooseSubscriber::order_of_incoming(std::int64_t now_ns) const {
  if (!heard_) return Order::newer;
  const auto states = static_cast<std::int32_t>(incoming_.state - message_.state);
  const auto sequences = static_cast<std::int32_t>(incoming_.sequence - message_.sequence);
  if (states == 0 && sequences == 0) return Order::repeated;
  if (states > 0 || (states == 0 && sequences > 0)) return Order::newer;
  const bool begins = incoming_.state == 1 && incoming_.sequence <= 1 && incoming_.time_ns > message_.time_ns;
  return begins || !alive(now_ns) ? Order::restarted : Order::older;
}

void GooseSubscriber::count_missing() {
  const std::uint32_t states = incoming_.state - message_.state;
  if (states > 0) {
    counts_.lost += states - 1 + incoming_.sequence;  // a state begins with sequence 0
    return;
  }
  const bool wrapped = incoming_.sequence < message_.sequence;  // 0 is left out then
  counts_.lost += incoming_.sequence - message_.sequence - (wrapped ? 2U : 1U);
}

}  // namespace zavrek::wire
