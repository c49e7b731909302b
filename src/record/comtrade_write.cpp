// COMTRADE, IEC 60255-24:2013 (IEEE C37.111-2013), clauses 7 (configuration) and 8 (data).
#include <algorithm>
#include <cmath>
#include <cstring>
#include <ctime>
#include <limits>

#include <fmt/format.h>

#include "record/plain.hpp"
#include "zavrek/record.hpp"

namespace zavrek::record {
namespace {

using internal::plain;

struct Scale {
  double a = 1;
  double b = 0;
  double least = 0;
  double greatest = 0;
};

double full_range(Encoding encoding) {
  switch (encoding) {
    case Encoding::ascii:
      return 99999;
    case Encoding::binary:
      return 32767;
    default:
      return 2147483647;
  }
}

Scale scale_of(const Analog& analog, Encoding encoding) {
  double peak = 0;
  for (const double sample : analog.samples) {
    if (std::isfinite(sample)) peak = std::max(peak, std::abs(sample));
  }
  if (encoding == Encoding::float32) {
    // Beyond what four bytes hold, in shares of the peak.
    const bool fits = peak == 0 || (peak >= 1e-30 && peak <= 1e38);
    return {fits ? 1 : peak, 0, -std::numeric_limits<float>::max(), std::numeric_limits<float>::max()};
  }
  const double range = full_range(encoding) - 1;
  return {peak > 0 ? std::max(peak / range, std::numeric_limits<double>::min()) : 1, 0, -range - 1,
          range + 1};
}

std::string date(std::int64_t utc_ns) {
  const std::time_t seconds = utc_ns / 1'000'000'000;
  std::tm parts{};
  gmtime_r(&seconds, &parts);
  return fmt::format("{:02}/{:02}/{:04},{:02}:{:02}:{:02}.{:06}", parts.tm_mday, parts.tm_mon + 1,
                     parts.tm_year + 1900, parts.tm_hour, parts.tm_min, parts.tm_sec,
                     utc_ns % 1'000'000'000 / 1000);
}

const char* word_for(Encoding encoding) {
  switch (encoding) {
    case Encoding::ascii:
      return "ASCII";
    case Encoding::binary:
      return "BINARY";
    case Encoding::binary32:
      return "BINARY32";
    case Encoding::float32:
      return "FLOAT32";
  }
  return "";
}

template <class T>
void put(std::string& out, T value) {
  char bytes[sizeof value];
  std::memcpy(bytes, &value, sizeof value);  // little-endian, as the standard and this machine have it
  out.append(bytes, sizeof value);
}

/// In units of the factor, within what the scale was made for whatever rounding does.
double units_of(double sample, const Scale& scale) {
  return std::clamp(std::round(sample / scale.a), scale.least + 1, scale.greatest - 1);
}

void put_analog(std::string& out, double sample, const Scale& scale, Encoding encoding) {
  if (encoding == Encoding::float32) return put(out, static_cast<float>(sample / scale.a));
  const bool missing = !std::isfinite(sample);
  const double units = missing ? 0 : units_of(sample, scale);
  if (encoding == Encoding::binary) {
    return put(out, missing ? std::numeric_limits<std::int16_t>::min() : static_cast<std::int16_t>(units));
  }
  put(out, missing ? std::numeric_limits<std::int32_t>::min() : static_cast<std::int32_t>(units));
}

std::string ascii_row(const Record& record, const std::vector<Scale>& scales, std::size_t k,
                      long long stamp) {
  std::string row = fmt::format("{},{}", k + 1, stamp);
  for (std::size_t c = 0; c < record.analogs.size(); ++c) {
    const double sample = record.analogs[c].samples[k];
    row += std::isfinite(sample) ? fmt::format(",{:.0f}", units_of(sample, scales[c])) : std::string(",");
  }
  for (const Binary& binary : record.binaries) row += binary.samples[k] ? ",1" : ",0";
  return row + "\r\n";
}

std::string binary_row(const Record& record, const std::vector<Scale>& scales, std::size_t k, long long stamp,
                       Encoding encoding) {
  std::string row;
  put(row, static_cast<std::uint32_t>(k + 1));
  put(row, static_cast<std::uint32_t>(stamp));
  for (std::size_t c = 0; c < record.analogs.size(); ++c)
    put_analog(row, record.analogs[c].samples[k], scales[c], encoding);
  for (std::size_t first = 0; first < record.binaries.size(); first += 16) {
    std::uint16_t word = 0;
    for (std::size_t bit = 0; bit < 16 && first + bit < record.binaries.size(); ++bit) {
      if (record.binaries[first + bit].samples[k]) word = static_cast<std::uint16_t>(word | 1U << bit);
    }
    put(row, word);
  }
  return row;
}

std::string configuration(const Record& record, const std::vector<Scale>& scales, Encoding encoding,
                          long long stamp_us) {
  const std::string end = "\r\n";
  std::string cfg = fmt::format("{},{},2013{}", plain(record.station), plain(record.device), end);
  cfg += fmt::format("{},{}A,{}D{}", record.analogs.size() + record.binaries.size(), record.analogs.size(),
                     record.binaries.size(), end);
  for (std::size_t c = 0; c < record.analogs.size(); ++c) {
    const Analog& analog = record.analogs[c];
    cfg += fmt::format("{},{},{},,{},{},{},0,{:.9g},{:.9g},{:.9g},{:.9g},P{}", c + 1, plain(analog.name),
                       plain(analog.phase), plain(analog.unit), scales[c].a, scales[c].b, scales[c].least,
                       scales[c].greatest, analog.primary, analog.secondary, end);
  }
  for (std::size_t c = 0; c < record.binaries.size(); ++c) {
    cfg += fmt::format("{},{},,,{}{}", c + 1, plain(record.binaries[c].name),
                       record.binaries[c].normal ? 1 : 0, end);
  }
  cfg += fmt::format("{:.9g}{}", record.frequency_Hz, end);
  if (record.rate_Hz > 0) {
    cfg += fmt::format("1{}{:.9g},{}{}", end, record.rate_Hz, record.time_s.size(), end);
  } else {
    cfg += fmt::format("0{}0,{}{}", end, record.time_s.size(), end);
  }
  const double first = record.time_s.empty() ? 0 : record.time_s.front();
  const auto at = [&](double time_s) { return record.start_utc_ns + std::llround(time_s * 1e9); };
  cfg += date(at(first)) + end + date(at(record.trigger_s)) + end + word_for(encoding) + end +
         std::to_string(stamp_us) + end;
  return cfg + "0,0" + end + "0,0" + end;
}

}  // namespace

Comtrade to_comtrade(const Record& record, Encoding encoding) {
  std::vector<Scale> scales;
  for (const Analog& analog : record.analogs) scales.push_back(scale_of(analog, encoding));
  const double first = record.time_s.empty() ? 0 : record.time_s.front();
  const auto after_us = [&](double time_s) { return std::llround((time_s - first) * 1e6); };
  // Time stamps are four bytes of microseconds, or of a multiple of them in a record of more than an hour.
  constexpr long long most_stamp = 4'000'000'000;
  const long long stamp_us = record.time_s.empty() ? 1 : after_us(record.time_s.back()) / most_stamp + 1;
  Comtrade files{configuration(record, scales, encoding, stamp_us), {}};
  for (std::size_t k = 0; k < record.time_s.size(); ++k) {
    const long long stamp = after_us(record.time_s[k]) / stamp_us;
    files.data += encoding == Encoding::ascii ? ascii_row(record, scales, k, stamp)
                                              : binary_row(record, scales, k, stamp, encoding);
  }
  return files;
}

void write_comtrade(const Record& record, const std::filesystem::path& path, Encoding encoding) {
  const Comtrade files = to_comtrade(record, encoding);
  std::filesystem::path target = path;
  write_file(target.replace_extension(".dat"), files.data);  // first: without it the other says nothing
  write_file(target.replace_extension(".cfg"), files.configuration);
  if (!record.events.empty() || !record.facts.empty())
    write_file(target.replace_extension(".inf"), to_information(record));
}

}  // namespace zavrek::record
