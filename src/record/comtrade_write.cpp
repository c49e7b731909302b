// COMTRADE, IEC 60255-24:2013 (IEEE C37.111-2013), clauses 7 (configuration) and 8 (data).
#include <cmath>
#include <cstring>
#include <ctime>
#include <limits>

#include <fmt/format.h>

#include "zavrek/record.hpp"

namespace zavrek::record {
namespace {

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
  if (encoding == Encoding::float32)
    return {1, 0, -std::numeric_limits<float>::max(), std::numeric_limits<float>::max()};
  const double range = full_range(encoding) - 1;
  return {peak > 0 ? peak / range : 1, 0, -range - 1, range + 1};
}

std::string date(std::int64_t utc_ns) {
  const std::time_t seconds = utc_ns / 1'000'000'000;
  std::tm parts{};
  gmtime_r(&seconds, &parts);
  return fmt::format("{:02}/{:02}/{:04},{:02}:{:02}:{:02}.{:06}", parts.tm_mday, parts.tm_mon + 1,
                     parts.tm_year + 1900, parts.tm_hour, parts.tm_min, parts.tm_sec,
                     utc_ns % 1'000'000'000 / 1000);
}

/// A comma or a line end inside a name would break the line.
std::string plain(std::string text) {
  for (char& c : text) {
    if (c == ',' || c == '\r' || c == '\n') c = ' ';
  }
  return text;
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

void put_analog(std::string& out, double sample, const Scale& scale, Encoding encoding) {
  if (encoding == Encoding::float32) return put(out, static_cast<float>(sample));
  const bool missing = !std::isfinite(sample);
  const double units = missing ? 0 : std::round((sample - scale.b) / scale.a);
  if (encoding == Encoding::binary) {
    return put(out, missing ? std::numeric_limits<std::int16_t>::min() : static_cast<std::int16_t>(units));
  }
  put(out, missing ? std::numeric_limits<std::int32_t>::min() : static_cast<std::int32_t>(units));
}

std::string ascii_row(const Record& record, const std::vector<Scale>& scales, std::size_t k,
                      long long microseconds) {
  std::string row = fmt::format("{},{}", k + 1, microseconds);
  for (std::size_t c = 0; c < record.analogs.size(); ++c) {
    const double sample = record.analogs[c].samples[k];
    row += std::isfinite(sample) ? fmt::format(",{:.0f}", (sample - scales[c].b) / scales[c].a)
                                 : std::string(",");
  }
  for (const Binary& binary : record.binaries) row += binary.samples[k] ? ",1" : ",0";
  return row + "\r\n";
}

std::string binary_row(const Record& record, const std::vector<Scale>& scales, std::size_t k,
                       long long microseconds, Encoding encoding) {
  std::string row;
  put(row, static_cast<std::uint32_t>(k + 1));
  put(row, static_cast<std::uint32_t>(microseconds));
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

std::string configuration(const Record& record, const std::vector<Scale>& scales, Encoding encoding) {
  const std::string end = "\r\n";
  std::string cfg = fmt::format("{},{},2013{}", plain(record.station), plain(record.device), end);
  cfg += fmt::format("{},{}A,{}D{}", record.analogs.size() + record.binaries.size(), record.analogs.size(),
                     record.binaries.size(), end);
  for (std::size_t c = 0; c < record.analogs.size(); ++c) {
    const Analog& analog = record.analogs[c];
    cfg += fmt::format("{},{},{},,{},{:.9g},{:.9g},0,{:.9g},{:.9g},{:.9g},{:.9g},P{}", c + 1,
                       plain(analog.name), plain(analog.phase), plain(analog.unit), scales[c].a, scales[c].b,
                       scales[c].least, scales[c].greatest, analog.primary, analog.secondary, end);
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
  cfg += date(at(first)) + end + date(at(record.trigger_s)) + end + word_for(encoding) + end + "1" + end;
  return cfg + "0,0" + end + "0,0" + end;
}

}  // namespace

Comtrade to_comtrade(const Record& record, Encoding encoding) {
  std::vector<Scale> scales;
  for (const Analog& analog : record.analogs) {
    scales.push_back(scale_of(analog, encoding));
    // The reader sees the factor as printed; use that one, so that rounding stays below half a unit.
    scales.back().a = std::stod(fmt::format("{:.9g}", scales.back().a));
  }
  Comtrade files{configuration(record, scales, encoding), {}};
  const double first = record.time_s.empty() ? 0 : record.time_s.front();
  for (std::size_t k = 0; k < record.time_s.size(); ++k) {
    const long long microseconds = std::llround((record.time_s[k] - first) * 1e6);
    files.data += encoding == Encoding::ascii ? ascii_row(record, scales, k, microseconds)
                                              : binary_row(record, scales, k, microseconds, encoding);
  }
  return files;
}

void write_comtrade(const Record& record, const std::filesystem::path& path, Encoding encoding) {
  const Comtrade files = to_comtrade(record, encoding);
  std::filesystem::path target = path;
  write_file(target.replace_extension(".cfg"), files.configuration);
  write_file(target.replace_extension(".dat"), files.data);
  if (!record.events.empty() || !record.facts.empty())
    write_file(target.replace_extension(".inf"), to_information(record));
}

}  // namespace zavrek::record
