// COMTRADE, IEC 60255-24:2013 (IEEE C37.111-2013), clauses 7 (configuration) and 8 (data).
#include <algorithm>
#include <cmath>
#include <cstring>
#include <ctime>
#include <limits>

#include <fmt/format.h>

#include "record/file_beside.hpp"
#include "record/plain.hpp"
#include "record/rows.hpp"
#include "zavrek/limits.hpp"
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

Scale scale_of(double peak, Encoding encoding) {
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
  constexpr std::int64_t second_ns = 1'000'000'000;
  const std::int64_t within_ns = (utc_ns % second_ns + second_ns) % second_ns;  // also before 1970
  const std::time_t seconds = (utc_ns - within_ns) / second_ns;
  std::tm parts{};
  gmtime_r(&seconds, &parts);
  return fmt::format("{:02}/{:02}/{:04},{:02}:{:02}:{:02}.{:06}", parts.tm_mday, parts.tm_mon + 1,
                     parts.tm_year + 1900, parts.tm_hour, parts.tm_min, parts.tm_sec, within_ns / 1000);
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

void put_ascii_row(std::string& out, const Record& head, const std::vector<Scale>& scales, std::size_t k,
                   long long stamp, const double* values) {
  out += fmt::format("{},{}", k + 1, stamp);
  for (const Scale& scale : scales) {
    const double sample = *values++;
    out += std::isfinite(sample) ? fmt::format(",{:.0f}", units_of(sample, scale)) : std::string(",");
  }
  for (std::size_t c = 0; c < head.binaries.size(); ++c) out += *values++ != 0 ? ",1" : ",0";
  out += "\r\n";
}

void put_binary_row(std::string& out, const Record& head, const std::vector<Scale>& scales, std::size_t k,
                    long long stamp, const double* values, Encoding encoding) {
  put(out, static_cast<std::uint32_t>(k + 1));
  put(out, static_cast<std::uint32_t>(stamp));
  for (const Scale& scale : scales) put_analog(out, *values++, scale, encoding);
  for (std::size_t first = 0; first < head.binaries.size(); first += 16) {
    std::uint16_t word = 0;
    for (std::size_t bit = 0; bit < 16 && first + bit < head.binaries.size(); ++bit) {
      if (values[first + bit] != 0) word = static_cast<std::uint16_t>(word | 1U << bit);
    }
    put(out, word);
  }
}

std::string configuration(const Record& record, const internal::Rows& rows, const std::vector<Scale>& scales,
                          Encoding encoding, long long stamp_us) {
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
    cfg += fmt::format("1{}{:.9g},{}{}", end, record.rate_Hz, rows.count(), end);
  } else {
    cfg += fmt::format("0{}0,{}{}", end, rows.count(), end);
  }
  const double first = rows.count() == 0 ? 0 : rows.time_s(0);
  const auto at = [&](double time_s) { return record.start_utc_ns + std::llround(time_s * 1e9); };
  cfg += date(at(first)) + end + date(at(record.trigger_s)) + end + word_for(encoding) + end +
         std::to_string(stamp_us) + end;
  return cfg + "0,0" + end + "0,0" + end;
}

/// The data goes to `sink` piece by piece; the configuration is returned.
std::string put_comtrade(const Record& head, internal::Rows& rows, Encoding encoding,
                         const internal::Sink& sink) {
  std::vector<Scale> scales;
  for (std::size_t c = 0; c < head.analogs.size(); ++c) scales.push_back(scale_of(rows.peak(c), encoding));
  const double first = rows.count() == 0 ? 0 : rows.time_s(0);
  const double last = rows.count() == 0 ? 0 : rows.time_s(rows.count() - 1);
  for (const double time_s : {first, last, head.trigger_s}) {
    if (!(std::abs(time_s) <= limits::record_s))
      throw Error("a record whose times lie beyond 30 years cannot be written as COMTRADE");
  }
  const auto after_us = [&](double time_s) { return std::llround((time_s - first) * 1e6); };
  // Time stamps are four bytes of microseconds, or of a multiple of them in a record of more than an hour.
  constexpr long long most_stamp = 4'000'000'000;
  const long long stamp_us = after_us(last) / most_stamp + 1;
  constexpr std::size_t piece = 1U << 16U;
  std::string data;
  for (std::size_t k = 0; k < rows.count(); ++k) {
    const long long stamp = after_us(rows.time_s(k)) / stamp_us;
    const double* values = rows.row(k);
    encoding == Encoding::ascii ? put_ascii_row(data, head, scales, k, stamp, values)
                                : put_binary_row(data, head, scales, k, stamp, values, encoding);
    if (data.size() < piece) continue;
    sink(data);
    data.clear();
  }
  sink(data);
  return configuration(head, rows, scales, encoding, stamp_us);
}

void write_rows(const Record& head, internal::Rows& rows, const std::filesystem::path& path,
                Encoding encoding) {
  std::filesystem::path target = path;
  internal::FileBeside data(target.replace_extension(".dat"));
  const std::string configuration =
      put_comtrade(head, rows, encoding, [&](std::string_view piece) { data.write(piece); });
  data.move_in();  // first: without it the other says nothing
  write_file(target.replace_extension(".cfg"), configuration);
  if (!head.events.empty() || !head.facts.empty())
    write_file(target.replace_extension(".inf"), to_information(head));
}

}  // namespace

Comtrade to_comtrade(const Record& record, Encoding encoding) {
  internal::RowsInMemory rows(record);
  Comtrade files;
  files.configuration =
      put_comtrade(record, rows, encoding, [&](std::string_view piece) { files.data += piece; });
  return files;
}

void write_comtrade(const Record& record, const std::filesystem::path& path, Encoding encoding) {
  internal::RowsInMemory rows(record);
  write_rows(record, rows, path, encoding);
}

void write_comtrade(const Record& head, const RowFile& file, const std::filesystem::path& path,
                    Encoding encoding) {
  internal::RowsOnDisk rows(file);
  write_rows(head, rows, path, encoding);
}

}  // namespace zavrek::record
