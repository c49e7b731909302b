// savPdu of IEC 61850-9-2. Worked bytes of the APDU of one ASDU with svID "S1", smpCnt 5, all values 1:
//   60 5A                       savPdu, 90 bytes
//      80 01 01                   noASDU 1
//      A2 55                      sequence of ASDU
//         30 53                     ASDU
//            80 02 53 31              svID "S1"
//            82 02 00 05              smpCnt 5
//            83 04 00 00 00 01        confRev 1
//            85 01 02                 smpSynch 2 (global)
//            87 40 (00 00 00 01 00 00 00 00) x 8   value, quality
// What need not be there, in its place: 81 datSet (text), 84 08 refrTm (seconds, fraction, quality),
// 86 02 smpRate, 88 02 smpMod.
#include "zavrek/wire/sampled_values.hpp"

#include <cmath>

#include "wire/bytes.hpp"

namespace zavrek::wire {
namespace {

using internal::Reader;
using internal::Writer;

constexpr std::size_t value_bytes = 8;

std::size_t asdu_size(const Asdu& asdu) noexcept {
  std::size_t size = Writer::field_size(asdu.id.size()) + Writer::field_size(2) + Writer::field_size(4) +
                     Writer::field_size(1) + Writer::field_size(value_bytes * asdu.values.size());
  if (!asdu.data_set.empty()) size += Writer::field_size(asdu.data_set.size());
  if (asdu.refresh) size += Writer::field_size(8);
  if (asdu.rate) size += Writer::field_size(2);
  if (asdu.mode) size += Writer::field_size(2);
  return size;
}

void write_asdu(Writer& w, const Asdu& asdu) noexcept {
  w.header(0x30, asdu_size(asdu));
  w.field(0x80, asdu.id);
  if (!asdu.data_set.empty()) w.field(0x81, asdu.data_set);
  w.field(0x82, asdu.count, 2);
  w.field(0x83, asdu.revision, 4);
  if (asdu.refresh) w.field(0x84, internal::bytes_of(*asdu.refresh), 8);
  w.field(0x85, asdu.synchronised, 1);
  if (asdu.rate) w.field(0x86, *asdu.rate, 2);
  w.header(0x87, value_bytes * asdu.values.size());
  for (const MeasuredValue& measured : asdu.values) {
    w.number(static_cast<std::uint32_t>(measured.value), 4);
    w.number(measured.quality, 4);
  }
  if (asdu.mode) w.field(0x88, *asdu.mode, 2);
}

bool read_values(Bytes content, std::vector<MeasuredValue>& into) {
  if (content.empty() || content.size() % value_bytes != 0 || content.size() > most_sampled * value_bytes)
    return false;
  Reader in(content);
  into.resize(content.size() / value_bytes);
  for (MeasuredValue& measured : into) {
    measured.value = static_cast<std::int32_t>(static_cast<std::uint32_t>(in.number(4)));
    measured.quality = static_cast<std::uint32_t>(in.number(4));
  }
  return true;
}

bool decode_asdu(Bytes content, Asdu& into) {
  into.data_set.clear();
  into.refresh.reset();
  into.rate.reset();
  into.mode.reset();
  Reader in(content);
  unsigned seen = 0;
  bool good = true;
  while (in.good() && !in.done() && good) {
    const auto element = in.element();
    if (!in.good()) return false;
    const auto number = [&](std::size_t bytes) {
      good = element.content.size() == bytes;
      return good ? Reader(element.content).number(bytes) : 0;
    };
    switch (element.tag) {
      case 0x80:
        good = internal::read_text(element.content, into.id);
        break;
      case 0x81:
        good = internal::read_text(element.content, into.data_set);
        break;
      case 0x82:
        into.count = static_cast<std::uint16_t>(number(2));
        break;
      case 0x83:
        into.revision = static_cast<std::uint32_t>(number(4));
        break;
      case 0x84:
        into.refresh = internal::stamp_of(number(8));
        break;
      case 0x85:
        into.synchronised = static_cast<std::uint8_t>(number(1));
        break;
      case 0x86:
        into.rate = static_cast<std::uint16_t>(number(2));
        break;
      case 0x87:
        good = read_values(element.content, into.values);
        break;
      case 0x88:
        into.mode = static_cast<std::uint16_t>(number(2));
        break;
      default:
        continue;  // of a later edition
    }
    seen |= 1U << (element.tag - 0x80U);
  }
  constexpr unsigned needed = 1U << 0U | 1U << 2U | 1U << 3U | 1U << 5U | 1U << 7U;
  return good && in.good() && (seen & needed) == needed;
}

}  // namespace

MeasuredValue measured(double value, double lsb, std::uint32_t quality) noexcept {
  const double units = std::round(value / lsb);
  const bool fits = std::abs(units) <= 2147483647.0;  // false for NaN too
  return {fits ? static_cast<std::int32_t>(units) : (units > 0 ? 2147483647 : -2147483647),
          fits ? quality : quality | Quality::invalid};
}

void put_sample(const protection::Sample& sample, Asdu& into, std::uint32_t quality) noexcept {
  for (std::size_t k = 0; k < 4; ++k) {
    into.values[k] = measured(sample.current_A[k], current_lsb_A, quality);
    into.values[4 + k] = measured(sample.voltage_V[k], voltage_lsb_V, quality);
  }
}

protection::Sample sample_of(const Asdu& asdu) noexcept {
  protection::Sample sample;
  for (std::size_t k = 0; k < 4; ++k) {
    sample.current_A[k] = asdu.values[k].value * current_lsb_A;
    sample.voltage_V[k] = asdu.values[4 + k].value * voltage_lsb_V;
  }
  return sample;
}

std::size_t encode(const SampledValues& message, std::span<std::uint8_t> out) noexcept {
  std::size_t sequence_content = 0;
  for (const Asdu& asdu : message.all()) {
    if (asdu.id.size() > internal::longest_text || asdu.data_set.size() > internal::longest_text) return 0;
    if (asdu.values.size() > most_sampled) return 0;
    sequence_content += Writer::field_size(asdu_size(asdu));
  }
  const std::size_t pdu = Writer::field_size(1) + Writer::field_size(sequence_content);
  Writer w(out);
  internal::write_header(w, message.address, ethertype_sampled_values, Writer::field_size(pdu));
  w.header(0x60, pdu);
  w.field(0x80, message.size, 1);
  w.header(0xA2, sequence_content);
  for (const Asdu& asdu : message.all()) write_asdu(w, asdu);
  return w.size();
}

bool decode(Bytes frame, SampledValues& into) {
  Reader outer(internal::read_header(frame, ethertype_sampled_values, into.address));
  const auto pdu = outer.element();
  if (!outer.good() || pdu.tag != 0x60) return false;
  Reader in(pdu.content);
  const auto number = in.element();
  if (!in.good() || number.tag != 0x80 || number.content.size() != 1) return false;
  into.size = number.content[0];
  if (into.size == 0 || into.size > most_asdus) return false;
  auto sequence = in.element();
  if (in.good() && sequence.tag == 0x81) sequence = in.element();  // optional security field
  if (!in.good() || sequence.tag != 0xA2) return false;
  Reader list(sequence.content);
  for (Asdu& asdu : into.all()) {
    const auto element = list.element();
    if (!list.good() || element.tag != 0x30 || !decode_asdu(element.content, asdu)) return false;
  }
  return list.good() && list.done();
}

}  // namespace zavrek::wire
