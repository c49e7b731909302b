#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <limits>
#include <numbers>

#include "zavrek/wire/field/synchrophasor.hpp"

namespace zavrek::wire {
namespace {

// A frame: AA and its kind, size, identity, second, fraction with the quality of time, then what its kind
// has, then a sum (CRC-CCITT, from FFFF). By example, "data on" to unit 7:
//   AA 41 | 00 12 | 00 07 | second (4) | quality, fraction (4) | 00 02 | sum (2)
constexpr std::uint8_t sync = 0xAA;
constexpr std::size_t head_size = 14, sum_size = 2, name_size = 16;
constexpr std::size_t most_channels = 512;

unsigned ccitt(Bytes bytes) {
  unsigned sum = 0xFFFF;
  for (const std::uint8_t byte : bytes) {
    sum ^= static_cast<unsigned>(byte) << 8U;
    for (int bit = 0; bit < 8; ++bit)
      sum = ((sum & 0x8000U) != 0 ? sum << 1U ^ 0x1021U : sum << 1U) & 0xFFFFU;
  }
  return sum;
}

class FrameWriter {
 public:
  FrameWriter(SynchrophasorFrame kind, int id, std::int64_t utc_ns, std::uint32_t time_base,
              std::uint8_t quality) {
    const bool later = kind == SynchrophasorFrame::configuration3;  // of 2011
    number(sync, 1);
    number(static_cast<std::uint64_t>(static_cast<unsigned>(kind) << 4U | (later ? 2U : 1U)), 1);
    number(0, 2);
    number(static_cast<std::uint64_t>(id), 2);
    // To the nearest tick of the time base; rounding may reach the next second.
    std::int64_t second = utc_ns / 1'000'000'000;
    auto ticks = static_cast<std::uint64_t>(
        std::llround(1e-9 * static_cast<double>(utc_ns % 1'000'000'000) * time_base));
    if (ticks >= time_base) {
      ticks = 0;
      ++second;
    }
    number(static_cast<std::uint64_t>(second), 4);
    number(quality, 1);
    number(ticks, 3);
  }
  void number(std::uint64_t value, int bytes) {
    for (int k = bytes - 1; k >= 0; --k) out_.push_back(static_cast<std::uint8_t>(value >> (8 * k)));
  }
  void real(double value) { number(std::bit_cast<std::uint32_t>(static_cast<float>(value)), 4); }
  void name(const std::string& text) {
    for (std::size_t k = 0; k < name_size; ++k)
      number(k < text.size() ? static_cast<std::uint8_t>(text[k]) : ' ', 1);
  }
  void long_name(const std::string& text) {
    const std::size_t size = std::min<std::size_t>(255, text.size());
    number(size, 1);
    for (std::size_t k = 0; k < size; ++k) number(static_cast<std::uint8_t>(text[k]), 1);
  }
  void whole(double value, Count& saturated) {
    constexpr double high = 32767, low = -32767;
    const double rounded = std::nearbyint(value);
    const double kept = std::isnan(rounded) ? -32768 : std::clamp(rounded, low, high);
    if (kept != rounded) ++saturated;
    number(static_cast<std::uint16_t>(static_cast<std::int16_t>(kept)), 2);
  }
  [[nodiscard]] std::vector<std::uint8_t> take() {
    const std::size_t size = out_.size() + sum_size;
    out_[2] = static_cast<std::uint8_t>(size >> 8U);
    out_[3] = static_cast<std::uint8_t>(size);
    number(ccitt(out_), 2);
    return std::move(out_);
  }

 private:
  std::vector<std::uint8_t> out_;
};

class FrameReader {
 public:
  explicit FrameReader(Bytes bytes) : rest_(bytes) {}
  [[nodiscard]] std::uint64_t number(std::size_t bytes) {
    std::uint64_t value = 0;
    for (std::size_t k = 0; k < bytes; ++k) value = value << 8U | octet(k);
    skip(bytes);
    return value;
  }
  [[nodiscard]] double real() {
    return static_cast<double>(std::bit_cast<float>(static_cast<std::uint32_t>(number(4))));
  }
  [[nodiscard]] double whole() { return static_cast<std::int16_t>(number(2)); }
  [[nodiscard]] std::string name() {
    std::string text;
    for (std::size_t k = 0; k < name_size; ++k) text += static_cast<char>(octet(k));
    skip(name_size);
    text.erase(text.find_last_not_of(std::string_view(" \0", 2)) + 1);
    return text;
  }
  void skip(std::size_t bytes) {
    good_ = good_ && bytes <= rest_.size();
    rest_ = rest_.subspan(std::min(bytes, rest_.size()));
  }
  [[nodiscard]] bool good() const noexcept { return good_; }
  [[nodiscard]] bool ended() const noexcept { return good_ && rest_.empty(); }

 private:
  [[nodiscard]] std::uint8_t octet(std::size_t k) const {
    return k < rest_.size() ? rest_[k] : std::uint8_t{0};
  }
  Bytes rest_;
  bool good_ = true;
};

/// What one count of an integer phasor is, in steps of 1e-5.
std::uint64_t unit_of(const SynchrophasorChannel& channel) {
  constexpr double most = (1 << 24) - 1;
  return static_cast<std::uint64_t>(std::clamp(std::ceil(1e5 * channel.full_scale / 32767), 1.0, most));
}

unsigned format_of(const SynchrophasorConfiguration& configuration) {
  return (configuration.polar ? 1U : 0U) | (configuration.integers ? 0U : 2U) | 4U |
         (configuration.integers ? 0U : 8U);
}

void put_units(FrameWriter& out, const SynchrophasorConfiguration& configuration) {
  for (std::size_t word = 0; word < configuration.digital_words(); ++word) {
    const std::size_t here = std::min<std::size_t>(16, configuration.digitals.size() - 16 * word);
    out.number(0, 2);
    out.number((1U << here) - 1U, 2);
  }
}

void put_later(FrameWriter& out, const SynchrophasorConfiguration& configuration) {
  out.long_name(configuration.station);
  out.number(static_cast<std::uint64_t>(configuration.id), 2);
  out.number(0, 8);
  out.number(0, 8);  // no global identity
  out.number(format_of(configuration), 2);
  out.number(configuration.phasors.size(), 2);
  out.number(configuration.analogues.size(), 2);
  out.number(configuration.digital_words(), 2);
  for (const SynchrophasorChannel& channel : configuration.phasors) out.long_name(channel.name);
  for (const std::string& name : configuration.analogues) out.long_name(name);
  for (std::size_t k = 0; k < 16 * configuration.digital_words(); ++k)
    out.long_name(k < configuration.digitals.size() ? configuration.digitals[k] : "");
  for (const SynchrophasorChannel& channel : configuration.phasors) {
    out.number(0, 2);
    out.number(static_cast<std::uint64_t>((channel.current ? 8 : 0) | channel.component), 1);
    out.number(0, 1);
    out.real(configuration.integers ? 1e-5 * static_cast<double>(unit_of(channel)) : 1);
    out.real(0);
  }
  for (std::size_t k = 0; k < configuration.analogues.size(); ++k) {
    out.real(1);
    out.real(0);
  }
  put_units(out, configuration);
  for (int k = 0; k < 3; ++k)
    out.real(std::numeric_limits<double>::infinity());  // where it stands is not told
  out.number(static_cast<std::uint8_t>(configuration.performance), 1);
  out.number(static_cast<std::uint64_t>(1e6 * configuration.window_s), 4);
  out.number(static_cast<std::uint64_t>(1e6 * configuration.delay_s), 4);
}

void put_earlier(FrameWriter& out, const SynchrophasorConfiguration& configuration) {
  out.name(configuration.station);
  out.number(static_cast<std::uint64_t>(configuration.id), 2);
  out.number(format_of(configuration), 2);
  out.number(configuration.phasors.size(), 2);
  out.number(configuration.analogues.size(), 2);
  out.number(configuration.digital_words(), 2);
  for (const SynchrophasorChannel& channel : configuration.phasors) out.name(channel.name);
  for (const std::string& name : configuration.analogues) out.name(name);
  for (std::size_t k = 0; k < 16 * configuration.digital_words(); ++k)
    out.name(k < configuration.digitals.size() ? configuration.digitals[k] : "");
  for (const SynchrophasorChannel& channel : configuration.phasors) {
    out.number(channel.current ? 1 : 0, 1);
    out.number(configuration.integers ? unit_of(channel) : 0, 3);
  }
  for (std::size_t k = 0; k < configuration.analogues.size(); ++k)
    out.number(1, 4);  // instants, scaled by nothing
  put_units(out, configuration);
}

}  // namespace

std::vector<std::uint8_t> encode(const SynchrophasorConfiguration& configuration, SynchrophasorFrame kind,
                                 std::int64_t utc_ns) {
  const bool later = kind == SynchrophasorFrame::configuration3;
  FrameWriter out(kind, configuration.id, utc_ns, configuration.time_base, 0);
  if (later) out.number(0, 2);  // the only part
  out.number(configuration.time_base, 4);
  out.number(1, 2);
  if (later)
    put_later(out, configuration);
  else
    put_earlier(out, configuration);
  out.number(configuration.nominal_Hz == 50 ? 1 : 0, 2);
  out.number(static_cast<std::uint64_t>(configuration.changes), 2);
  out.number(static_cast<std::uint16_t>(static_cast<std::int16_t>(configuration.reports_per_s)), 2);
  return out.take();
}

std::vector<std::uint8_t> encode(const SynchrophasorConfiguration& configuration,
                                 const SynchrophasorData& data, Count& saturated) {
  FrameWriter out(SynchrophasorFrame::data, configuration.id, data.utc_ns, configuration.time_base,
                  data.time_quality);
  out.number(data.status, 2);
  for (std::size_t k = 0; k < configuration.phasors.size(); ++k) {
    const std::complex<double> phasor = data.phasors[k];
    if (!configuration.integers) {
      out.real(configuration.polar ? std::abs(phasor) : phasor.real());
      out.real(configuration.polar ? std::arg(phasor) : phasor.imag());
      continue;
    }
    const double per_count = 1e-5 * static_cast<double>(unit_of(configuration.phasors[k]));
    if (configuration.polar) {
      const double counts = std::nearbyint(std::abs(phasor) / per_count);  // of 16 bits without a sign
      if (!(counts <= 65535)) ++saturated;
      out.number(static_cast<std::uint64_t>(counts <= 65535 ? counts : 65535), 2);
      out.whole(1e4 * std::arg(phasor), saturated);
    } else {
      out.whole(phasor.real() / per_count, saturated);
      out.whole(phasor.imag() / per_count, saturated);
    }
  }
  if (configuration.integers) {
    out.whole(1e3 * (data.frequency_Hz - configuration.nominal_Hz), saturated);
    out.whole(1e2 * data.rate_Hz_per_s, saturated);
  } else {
    out.real(data.frequency_Hz);
    out.real(data.rate_Hz_per_s);
  }
  for (std::size_t k = 0; k < configuration.analogues.size(); ++k) out.real(data.analogues[k]);
  for (std::size_t word = 0; word < configuration.digital_words(); ++word) {
    unsigned bits = 0;
    for (std::size_t k = 16 * word; k < std::min(16 * word + 16, configuration.digitals.size()); ++k)
      bits |= (data.digitals[k] ? 1U : 0U) << (k - 16 * word);
    out.number(bits, 2);
  }
  return out.take();
}

std::vector<std::uint8_t> encode_header(int id, const std::string& text, std::int64_t utc_ns) {
  FrameWriter out(SynchrophasorFrame::header, id, utc_ns, 1'000'000, 0);
  for (const char c : text) out.number(static_cast<std::uint8_t>(c), 1);
  return out.take();
}

std::vector<std::uint8_t> encode_command(int id, SynchrophasorCommand command, std::int64_t utc_ns) {
  FrameWriter out(SynchrophasorFrame::command, id, utc_ns, 1'000'000, 0);
  out.number(static_cast<std::uint64_t>(command), 2);
  return out.take();
}

std::size_t synchrophasor_size(Bytes head) {
  if (head[0] != sync || (head[1] & 0x80) != 0) return 0;
  const std::size_t size = static_cast<std::size_t>(head[2]) << 8U | head[3];
  return size >= head_size + sum_size ? size : 0;
}

bool is_whole_synchrophasor(Bytes frame) {
  if (frame.size() < head_size + sum_size || synchrophasor_size(frame) != frame.size()) return false;
  const unsigned sum = static_cast<unsigned>(frame[frame.size() - 2]) << 8U | frame.back();
  return ccitt(frame.first(frame.size() - sum_size)) == sum;
}

std::optional<SynchrophasorConfiguration> take_configuration(Bytes frame) {
  const int kind = frame[1] >> 4;
  if (kind != static_cast<int>(SynchrophasorFrame::configuration1) &&
      kind != static_cast<int>(SynchrophasorFrame::configuration2))
    return std::nullopt;
  FrameReader in(frame.first(frame.size() - sum_size));
  in.skip(head_size);
  SynchrophasorConfiguration taken;
  taken.time_base = static_cast<std::uint32_t>(in.number(4) & 0xFFFFFFU);
  const std::uint64_t units = in.number(2);
  taken.station = in.name();
  taken.id = static_cast<int>(in.number(2));
  const std::uint64_t format = in.number(2);
  taken.polar = (format & 1) != 0;
  taken.integers = (format & 2) == 0;
  const bool frequency_fits = ((format & 8) != 0) != taken.integers;
  const std::uint64_t phasors = in.number(2), analogues = in.number(2), words = in.number(2);
  const bool reasonable = units == 1 && taken.time_base > 0 && phasors + analogues + words <= most_channels;
  if (!in.good() || !reasonable || !frequency_fits || (analogues > 0 && (format & 4) == 0))
    return std::nullopt;
  for (std::uint64_t k = 0; k < phasors; ++k) taken.phasors.push_back({in.name()});
  for (std::uint64_t k = 0; k < analogues; ++k) taken.analogues.push_back(in.name());
  for (std::uint64_t k = 0; k < 16 * words; ++k) taken.digitals.push_back(in.name());
  for (SynchrophasorChannel& channel : taken.phasors) {
    channel.current = in.number(1) == 1;
    channel.full_scale = 1e-5 * static_cast<double>(in.number(3)) * 32767;
  }
  in.skip(4 * analogues + 4 * words);
  taken.nominal_Hz = (in.number(2) & 1) != 0 ? 50 : 60;
  taken.changes = static_cast<int>(in.number(2));
  taken.reports_per_s = static_cast<std::int16_t>(in.number(2));
  if (!in.ended()) return std::nullopt;
  return taken;
}

bool take_data(Bytes frame, const SynchrophasorConfiguration& configuration, SynchrophasorData& data) {
  if (frame[1] >> 4 != static_cast<int>(SynchrophasorFrame::data)) return false;
  FrameReader in(frame.first(frame.size() - sum_size));
  in.skip(6);
  const auto second = static_cast<std::int64_t>(in.number(4));
  data.time_quality = static_cast<std::uint8_t>(in.number(1) & 0x0F);
  const double ticks = static_cast<double>(in.number(3));
  data.utc_ns = second * 1'000'000'000 + std::llround(1e9 * ticks / configuration.time_base);
  data.status = static_cast<std::uint16_t>(in.number(2));
  data.phasors.clear();
  for (const SynchrophasorChannel& channel : configuration.phasors) {
    const double per_count = channel.full_scale / 32767;
    double first = 0, second_part = 0;
    if (!configuration.integers) {
      first = in.real();
      second_part = in.real();
    } else if (configuration.polar) {
      first = per_count * static_cast<double>(in.number(2));
      second_part = 1e-4 * in.whole();
    } else {
      first = per_count * in.whole();
      second_part = per_count * in.whole();
    }
    if (!std::isfinite(first) || !std::isfinite(second_part)) first = second_part = 0;
    data.phasors.push_back(configuration.polar ? std::complex<double>(first * std::cos(second_part),
                                                                      first * std::sin(second_part))
                                               : std::complex<double>(first, second_part));
  }
  data.frequency_Hz = configuration.integers ? configuration.nominal_Hz + 1e-3 * in.whole() : in.real();
  data.rate_Hz_per_s = configuration.integers ? 1e-2 * in.whole() : in.real();
  data.analogues.clear();
  for (std::size_t k = 0; k < configuration.analogues.size(); ++k) data.analogues.push_back(in.real());
  data.digitals.clear();
  for (std::size_t word = 0; word < configuration.digital_words(); ++word) {
    const std::uint64_t bits = in.number(2);
    for (unsigned k = 0; k < 16; ++k) data.digitals.push_back((bits >> k & 1U) != 0);
  }
  return in.ended();
}

}  // namespace zavrek::wire
