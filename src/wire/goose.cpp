// goosePdu of IEC 61850-8-1: 61 L { 80 gocbRef, 81 timeAllowedtoLive, 82 datSet, 83 goID, 84 t,
// 85 stNum, 86 sqNum, 87 simulation, 88 confRev, 89 ndsCom, 8A numDatSetEntries, AB L { data } }
// t: seconds since 1970 (4 bytes), fraction in 2^-24 s (3), quality (1; 0x0A: 10 bits of accuracy).
// Data, worked:
//   83 01 01                    boolean, true
//   84 02 06 80                 bit string of 2 bits (6 of the byte unused), 10: a position that is closed
//   84 03 03 00 00              bit string of 13 bits: a good quality
//   85 01 FB                    integer -5
//   86 02 00 C8                 unsigned 200
//   87 05 08 41 48 00 00        float (8 bits of exponent) 12.5
//   91 08 (seconds, fraction, quality)   time
//   A2 06 83 01 01 83 01 00     structure of two booleans
#include "zavrek/wire/goose.hpp"

#include <algorithm>
#include <bit>
#include <limits>

#include "wire/bytes.hpp"

namespace zavrek::wire {
namespace {

using internal::Reader;
using internal::Writer;

constexpr std::uint8_t tag_structure = 0xA2, tag_boolean = 0x83, tag_bits = 0x84, tag_integer = 0x85,
                       tag_natural = 0x86, tag_real = 0x87, tag_time = 0x91;
constexpr std::uint8_t exponent_bits = 8;
constexpr std::size_t real_bytes = 5;
constexpr int most_bits = 64;

/// Data in the order in which they stand, one after the other; a structure takes its members with it.
class Data {
 public:
  explicit Data(std::span<const Datum> data) : data_(data) {}
  [[nodiscard]] bool done() const noexcept { return at_ >= data_.size(); }
  [[nodiscard]] const Datum& next() noexcept { return data_[at_++]; }
  /// Bytes of the datum that is next, its members included; passes it.
  [[nodiscard]] std::size_t size_of_next() noexcept {
    const Datum& datum = next();
    std::size_t content = 0;
    switch (datum.kind) {
      case Datum::Kind::boolean:
        content = 1;
        break;
      case Datum::Kind::bits:
        content = 1 + (datum.size + 7U) / 8U;
        break;
      case Datum::Kind::integer:
        content = static_cast<std::size_t>(Writer::signed_size(static_cast<std::int64_t>(datum.value)));
        break;
      case Datum::Kind::natural:
        content = static_cast<std::size_t>(Writer::unsigned_size(datum.value));
        break;
      case Datum::Kind::real:
        content = real_bytes;
        break;
      case Datum::Kind::time:
        content = 8;
        break;
      case Datum::Kind::structure:
        for (int k = 0; k < datum.size && !done(); ++k) content += size_of_next();
        break;
      case Datum::Kind::other:
        break;
    }
    return Writer::field_size(content);
  }
  /// Top-level data that are left, and their bytes; structures must have all their members.
  [[nodiscard]] std::pair<std::size_t, std::size_t> measure() noexcept {
    std::size_t count = 0, bytes = 0;
    for (; !done(); ++count) bytes += size_of_next();
    return {count, bytes};
  }

 private:
  std::span<const Datum> data_;
  std::size_t at_ = 0;
};

void write_bits(Writer& w, const Datum& datum) noexcept {
  const unsigned bytes = (datum.size + 7U) / 8U;
  w.header(tag_bits, 1 + bytes);
  w.byte(static_cast<std::uint8_t>(8 * bytes - datum.size));
  // The first bit of the string is the highest of the first byte.
  const std::uint64_t aligned = bytes == 0 ? 0 : datum.value << (8 * bytes - datum.size);
  w.number(aligned, static_cast<int>(bytes));
}

void write_entries(Writer& w, std::span<const Datum> entries) noexcept {
  for (std::size_t k = 0; k < entries.size(); ++k) {
    const Datum& datum = entries[k];
    switch (datum.kind) {
      case Datum::Kind::boolean:
        w.field(tag_boolean, datum.value, 1);
        break;
      case Datum::Kind::bits:
        write_bits(w, datum);
        break;
      case Datum::Kind::integer:
        w.signed_field(tag_integer, static_cast<std::int64_t>(datum.value));
        break;
      case Datum::Kind::natural:
        w.unsigned_field(tag_natural, datum.value);
        break;
      case Datum::Kind::real:
        w.header(tag_real, real_bytes);
        w.byte(exponent_bits);
        w.number(datum.value, 4);
        break;
      case Datum::Kind::time:
        w.field(tag_time, internal::bytes_of(datum.at), 8);
        break;
      case Datum::Kind::structure: {
        // Its members follow as they stand; only their length is wanted here.
        Data members(entries.subspan(k + 1));
        std::size_t content = 0;
        for (int member = 0; member < datum.size && !members.done(); ++member)
          content += members.size_of_next();
        w.header(tag_structure, content);
        break;
      }
      case Datum::Kind::other:
        w.header(datum.size, 0);
        break;
    }
  }
}

bool read_bits(Bytes content, Datum& datum) {
  if (content.empty() || content[0] > 7 || content.size() > 1 + most_bits / 8) return false;
  if (content.size() == 1 && content[0] != 0) return false;
  const unsigned bytes = static_cast<unsigned>(content.size() - 1);
  datum.kind = Datum::Kind::bits;
  datum.size = static_cast<std::uint8_t>(8 * bytes - content[0]);
  datum.value = Reader(content.subspan(1)).number(bytes) >> content[0];
  return true;
}

bool read_integer(Bytes content, Datum& datum) {
  if (content.empty() || content.size() > 8) return false;
  const auto shift = static_cast<unsigned>(64 - 8 * content.size());
  const std::uint64_t raw = Reader(content).number(content.size());
  datum = Datum::integer(static_cast<std::int64_t>(raw << shift) >> shift);
  return true;
}

bool read_natural(Bytes content, Datum& datum) {
  bool good = true;
  datum = Datum::natural(internal::unsigned_of(content, good));
  return good && datum.value <= 0xFFFFFFFF;  // INT32U; five bytes where the first keeps the sign clear
}

bool read_entries(Bytes content, std::vector<Datum>& entries, int depth, std::size_t& count) {
  Reader in(content);
  for (count = 0; in.good() && !in.done(); ++count) {
    const auto element = in.element();
    if (!in.good() || entries.size() == most_goose_entries) return false;
    const std::size_t size = element.content.size();
    Datum& datum = entries.emplace_back();
    bool good = true;
    switch (element.tag) {
      case tag_boolean:
        good = size == 1;
        if (good) datum = Datum::boolean(element.content[0] != 0);
        break;
      case tag_bits:
        good = read_bits(element.content, datum);
        break;
      case tag_integer:
        good = read_integer(element.content, datum);
        break;
      case tag_natural:
        good = read_natural(element.content, datum);
        break;
      case tag_real:
        good = size == real_bytes && element.content[0] == exponent_bits;
        if (good) datum = {Datum::Kind::real, 0, Reader(element.content.subspan(1)).number(4)};
        break;
      case tag_time:
        good = size == 8;
        if (good) datum = Datum::time(internal::stamp_of(Reader(element.content).number(8)));
        break;
      case tag_structure: {
        const std::size_t place = entries.size() - 1;
        std::size_t members = 0;
        if (depth == 0 || !read_entries(element.content, entries, depth - 1, members)) return false;
        entries[place] = Datum::structure(static_cast<int>(members));
        break;
      }
      default:
        // A text, an array, what MMS has besides (ISO 9506-2, Data).
        good = (element.tag & 0xC0U) == 0x80U && (element.tag & 0x1FU) != 0x1FU;
        datum = {Datum::Kind::other, element.tag, 0};
        break;
    }
    if (!good) return false;
  }
  return in.good();
}

}  // namespace

Datum Datum::real(float value) { return {Kind::real, 0, std::bit_cast<std::uint32_t>(value)}; }

Datum Datum::quality(std::uint32_t quality) {
  // Validity stands with its higher bit first.
  Datum datum = bits(0, Quality::bits_of_entry);
  const unsigned validity = quality & 3U;
  std::uint32_t ordered = (quality & ~3U) | validity >> 1U | (validity & 1U) << 1U;
  for (int k = 0; k < Quality::bits_of_entry; ++k, ordered >>= 1U)
    datum.value |= static_cast<std::uint64_t>(ordered & 1U) << (Quality::bits_of_entry - 1 - k);
  return datum;
}

bool Datum::on() const noexcept {
  if (kind == Kind::bits) return size == 2 ? value == 2 : value != 0;
  return number() > 0.5;
}

double Datum::number() const noexcept {
  switch (kind) {
    case Kind::boolean:
    case Kind::natural:
    case Kind::bits:
      return static_cast<double>(value);
    case Kind::integer:
      return static_cast<double>(static_cast<std::int64_t>(value));
    case Kind::real:
      return std::bit_cast<float>(static_cast<std::uint32_t>(value));
    case Kind::time:
    case Kind::structure:
    case Kind::other:
      break;
  }
  return std::numeric_limits<double>::quiet_NaN();
}

std::uint32_t Datum::as_quality() const noexcept {
  if (kind != Kind::bits || size < Quality::bits_of_entry) return 0;
  std::uint32_t quality = 0;
  for (int k = 0; k < Quality::bits_of_entry; ++k)
    quality |= static_cast<std::uint32_t>(value >> (size - 1 - k) & 1U) << k;
  const unsigned validity = quality & 3U;
  return (quality & ~3U) | validity >> 1U | (validity & 1U) << 1U;
}

void Goose::set(const std::vector<bool>& booleans) {
  entries.resize(booleans.size());
  for (std::size_t k = 0; k < booleans.size(); ++k) entries[k] = Datum::boolean(booleans[k]);
}

std::size_t encode(const Goose& message, std::span<std::uint8_t> out) noexcept {
  if (message.entries.size() > most_goose_entries) return 0;
  for (const std::string* text : {&message.control_block, &message.data_set, &message.id}) {
    if (text->size() > internal::longest_text) return 0;
  }
  const auto number_size = [](std::uint64_t value) {
    return Writer::field_size(static_cast<std::size_t>(Writer::unsigned_size(value)));
  };
  const auto [count, entries] = Data(message.entries).measure();
  const std::size_t pdu = Writer::field_size(message.control_block.size()) + number_size(message.allowed_ms) +
                          Writer::field_size(message.data_set.size()) +
                          Writer::field_size(message.id.size()) + Writer::field_size(8) +
                          number_size(message.state) + number_size(message.sequence) + Writer::field_size(1) +
                          number_size(message.revision) + Writer::field_size(1) + number_size(count) +
                          Writer::field_size(entries);
  Writer w(out);
  internal::write_header(w, message.address, ethertype_goose, Writer::field_size(pdu));
  w.header(0x61, pdu);
  w.field(0x80, message.control_block);
  w.unsigned_field(0x81, message.allowed_ms);
  w.field(0x82, message.data_set);
  w.field(0x83, message.id);
  w.field(0x84, internal::bytes_of(message.changed), 8);
  w.unsigned_field(0x85, message.state);
  w.unsigned_field(0x86, message.sequence);
  w.field(0x87, message.simulation ? 1 : 0, 1);
  w.unsigned_field(0x88, message.revision);
  w.field(0x89, message.needs_commissioning ? 1 : 0, 1);
  w.unsigned_field(0x8A, count);
  w.header(0xAB, entries);
  write_entries(w, message.entries);
  return w.size();
}

bool decode(Bytes frame, Goose& into) {
  Reader outer(internal::read_header(frame, ethertype_goose, into.address));
  const auto pdu = outer.element();
  if (!outer.good() || pdu.tag != 0x61) return false;
  Reader in(pdu.content);
  unsigned seen = 0;
  std::uint64_t declared = 0;
  std::size_t found = 0;
  bool good = true;
  into.simulation = into.needs_commissioning = false;
  into.id.clear();
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
        if (good) into.changed = internal::stamp_of(Reader(element.content).number(8));
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
        into.entries.clear();
        good = read_entries(element.content, into.entries, deepest_structure, found);
        break;
      default:
        continue;
    }
    seen |= 1U << (element.tag == 0xAB ? 11 : element.tag - 0x80);
  }
  constexpr unsigned needed =
      0xFFF & ~(1U << 3) & ~(1U << 7) & ~(1U << 9);  // goID, simulation, ndsCom are optional
  return good && in.good() && (seen & needed) == needed && declared == found;
}

}  // namespace zavrek::wire
