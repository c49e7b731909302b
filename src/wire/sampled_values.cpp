// savPdu of IEC 61850-9-2, one ASDU. Worked bytes of the APDU for svID "S1", smpCnt 5, all values 1:
//   60 5A                       savPdu, 90 bytes
//      80 01 01                   noASDU 1
//      A2 55                      sequence of ASDU
//         30 53                     ASDU
//            80 02 53 31              svID "S1"
//            82 02 00 05              smpCnt 5
//            83 04 00 00 00 01        confRev 1
//            85 01 02                 smpSynch 2 (global)
//            87 40 (00 00 00 01 00 00 00 00) x 8   value, quality
#include <algorithm>
#include <cmath>

#include "wire/bytes.hpp"

namespace zavrek::wire {
namespace {

constexpr std::size_t data_bytes = 64;

void put(double value, double lsb, MeasuredValue& into) noexcept {
  const double units = std::round(value / lsb);
  const bool fits = std::abs(units) <= 2147483647.0;  // false for NaN too
  into.value = fits ? static_cast<std::int32_t>(units) : (units > 0 ? 2147483647 : -2147483647);
  into.quality = fits ? 0 : 1;
}

bool decode_asdu(Bytes content, SampledValues& into) {
  internal::Reader in(content);
  unsigned seen = 0;
  bool good = true;
  while (in.good() && !in.done() && good) {
    const auto element = in.element();
    if (!in.good()) return false;
    internal::Reader value(element.content);
    switch (element.tag) {
      case 0x80:
        good = internal::read_text(element.content, into.id);
        seen |= 1;
        break;
      case 0x82:
        good = element.content.size() == 2;
        into.count = static_cast<std::uint16_t>(value.number(2));
        seen |= 2;
        break;
      case 0x83:
        good = element.content.size() == 4;
        into.revision = static_cast<std::uint32_t>(value.number(4));
        seen |= 4;
        break;
      case 0x85:
        good = element.content.size() == 1;
        into.synchronised = static_cast<std::uint8_t>(value.number(1));
        seen |= 8;
        break;
      case 0x87:
        good = element.content.size() == data_bytes;
        for (MeasuredValue& measured : into.values) {
          measured.value = static_cast<std::int32_t>(static_cast<std::uint32_t>(value.number(4)));
          measured.quality = static_cast<std::uint32_t>(value.number(4));
        }
        seen |= 16;
        break;
      default:
        break;  // optional fields: datSet, refrTm, smpRate, smpMod
    }
  }
  return good && in.good() && seen == 31;
}

}  // namespace

void put_sample(const protection::Sample& sample, SampledValues& into) noexcept {
  for (std::size_t k = 0; k < 4; ++k) {
    put(sample.current_A[k], current_lsb_A, into.values[k]);
    put(sample.voltage_V[k], voltage_lsb_V, into.values[4 + k]);
  }
}

protection::Sample sample_of(const SampledValues& values) noexcept {
  protection::Sample sample;
  for (std::size_t k = 0; k < 4; ++k) {
    sample.current_A[k] = values.values[k].value * current_lsb_A;
    sample.voltage_V[k] = values.values[4 + k].value * voltage_lsb_V;
  }
  return sample;
}

bool usable(const SampledValues& values) noexcept {
  return std::all_of(values.values.begin(), values.values.end(),
                     [](const MeasuredValue& v) { return v.usable(); });
}

std::size_t encode(const SampledValues& message, std::span<std::uint8_t> out) noexcept {
  using internal::Writer;
  if (message.id.size() > internal::longest_text) return 0;
  const std::size_t asdu = Writer::field_size(message.id.size()) + Writer::field_size(2) +
                           Writer::field_size(4) + Writer::field_size(1) + Writer::field_size(data_bytes);
  const std::size_t sequence = Writer::field_size(asdu);
  const std::size_t pdu = Writer::field_size(1) + Writer::field_size(sequence);
  Writer w(out);
  internal::write_header(w, message.address, ethertype_sampled_values, Writer::field_size(pdu));
  w.header(0x60, pdu);
  w.field(0x80, 1, 1);
  w.header(0xA2, sequence);
  w.header(0x30, asdu);
  w.field(0x80, message.id);
  w.field(0x82, message.count, 2);
  w.field(0x83, message.revision, 4);
  w.field(0x85, message.synchronised, 1);
  w.header(0x87, data_bytes);
  for (const MeasuredValue& measured : message.values) {
    w.number(static_cast<std::uint32_t>(measured.value), 4);
    w.number(measured.quality, 4);
  }
  return w.size();
}

bool decode(Bytes frame, SampledValues& into) {
  internal::Reader outer(internal::read_header(frame, ethertype_sampled_values, into.address));
  const auto pdu = outer.element();
  if (!outer.good() || pdu.tag != 0x60) return false;
  internal::Reader in(pdu.content);
  const auto number = in.element();
  if (!in.good() || number.tag != 0x80 || number.content.size() != 1 || number.content[0] != 1) return false;
  auto sequence = in.element();
  if (in.good() && sequence.tag == 0x81) sequence = in.element();  // optional security field
  if (!in.good() || sequence.tag != 0xA2) return false;
  internal::Reader list(sequence.content);
  const auto asdu = list.element();
  return list.good() && list.done() && asdu.tag == 0x30 && decode_asdu(asdu.content, into);
}

}  // namespace zavrek::wire
