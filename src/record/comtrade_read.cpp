// Reader of COMTRADE records. Nothing in the files is trusted: counts are checked against what is
// there before anything is allocated for them.
#include <charconv>
#include <cmath>
#include <cstring>
#include <ctime>
#include <limits>
#include <optional>

#include <fmt/format.h>

#include "record/plain.hpp"
#include "zavrek/limits.hpp"
#include "zavrek/record.hpp"

namespace zavrek::record {
namespace {

constexpr std::size_t most_channels = 9999;

/// Lines of a text with their numbers; fields of a line between commas.
class Lines {
 public:
  Lines(std::string_view text, std::string file) : text_(text), file_(std::move(file)) {}

  bool next() {
    if (text_.empty()) return false;
    ++number_;
    const std::size_t end = text_.find('\n');
    line_ = text_.substr(0, end);
    text_.remove_prefix(end == std::string_view::npos ? text_.size() : end + 1);
    if (!line_.empty() && line_.back() == '\r') line_.remove_suffix(1);
    fields_.clear();
    for (std::string_view rest = line_;;) {
      const std::size_t comma = rest.find(',');
      fields_.push_back(trim(rest.substr(0, comma)));
      if (comma == std::string_view::npos) break;
      rest.remove_prefix(comma + 1);
    }
    return true;
  }
  void need(std::string_view what) {
    if (!next()) fail(fmt::format("ends before {}", what));
  }
  [[noreturn]] void fail(std::string text) const {
    throw Error(Flaw{.file = file_, .line = number_, .place = {}, .field = {}, .text = std::move(text)});
  }
  [[nodiscard]] std::size_t count() const { return fields_.size(); }
  [[nodiscard]] std::string text(std::size_t field) const {
    return field < fields_.size() ? internal::plain_utf8(fields_[field]) : std::string();
  }
  [[nodiscard]] bool empty_at(std::size_t field) const {
    return field >= fields_.size() || fields_[field].empty();
  }
  double number(std::size_t field, std::string_view what) const {
    if (field >= fields_.size()) fail(fmt::format("has no field {} ({})", field + 1, what));
    std::string_view raw = fields_[field];
    if (!raw.empty() && raw.front() == '+') raw.remove_prefix(1);
    double value = 0;
    const auto [end, status] = std::from_chars(raw.data(), raw.data() + raw.size(), value);
    if (status != std::errc() || end != raw.data() + raw.size() || !std::isfinite(value)) {
      fail(fmt::format("field {} ({}) is \"{}\"; a number is wanted", field + 1, what, fields_[field]));
    }
    return value;
  }
  std::size_t whole(std::size_t field, std::string_view what, double most) const {
    const double value = number(field, what);
    if (value < 0 || value > most || value != std::floor(value)) {
      fail(fmt::format("field {} ({}) is {}; a whole number from 0 to {} is wanted", field + 1, what, value,
                       most));
    }
    return static_cast<std::size_t>(value);
  }
  [[nodiscard]] int line_number() const { return number_; }

 private:
  static std::string_view trim(std::string_view s) {
    while (!s.empty() && (s.front() == ' ' || s.front() == '\t')) s.remove_prefix(1);
    while (!s.empty() && (s.back() == ' ' || s.back() == '\t')) s.remove_suffix(1);
    return s;
  }
  std::string_view text_;
  std::string file_;
  std::string_view line_;
  std::vector<std::string_view> fields_;
  int number_ = 0;
};

struct Configuration {
  Record record;
  std::vector<double> a, b;
  std::size_t samples = 0;
  struct Rate {
    double hz;
    std::size_t last;
  };
  std::vector<Rate> rates;
  Encoding encoding = Encoding::ascii;
  double time_factor = 1e-6;
};

std::int64_t parse_date(const Lines& lines, bool year_last) {
  int first = 0, second = 0, year = 0, hour = 0, minute = 0;
  double seconds = 0;
  const std::string day = lines.text(0);
  const std::string time = lines.text(1);
  if (std::sscanf(day.c_str(), "%2d/%2d/%4d", &first, &second, &year) != 3 ||
      std::sscanf(time.c_str(), "%2d:%2d:%12lf", &hour, &minute, &seconds) != 3 ||
      !(seconds >= 0 && seconds < 61)) {
    lines.fail(fmt::format("\"{},{}\" is no date and time; dd/mm/yyyy,hh:mm:ss.ssssss is wanted", day, time));
  }
  std::tm parts{};
  parts.tm_mday = year_last ? first : second;
  parts.tm_mon = (year_last ? second : first) - 1;
  parts.tm_year = (year < 100 ? year + 1900 : year) - 1900;
  parts.tm_hour = hour;
  parts.tm_min = minute;
  if (parts.tm_mon < 0 || parts.tm_mon > 11 || parts.tm_year < 0 || parts.tm_year > 300 ||
      parts.tm_mday < 1 || parts.tm_mday > 31 || hour < 0 || hour > 23 || minute < 0 || minute > 59) {
    lines.fail(fmt::format("\"{},{}\" is no date and time that exists", day, time));
  }
  return static_cast<std::int64_t>(timegm(&parts)) * 1'000'000'000 + std::llround(seconds * 1e9);
}

std::size_t channel_count(const Lines& lines, std::size_t field, char letter) {
  const std::string text = lines.text(field);
  std::size_t value = 0;
  const auto [end, status] = std::from_chars(text.data(), text.data() + text.size(), value);
  const bool fits = status == std::errc() && end == text.data() + text.size() - 1 &&
                    (*end == letter || *end == letter + 32) && value <= most_channels;
  if (text.empty() || !fits) {
    lines.fail(fmt::format("field {} is \"{}\"; a channel count such as \"4{}\" is wanted", field + 1, text,
                           letter));
  }
  return value;
}

void read_channels(Lines& lines, Configuration& c) {
  lines.need("the channel counts");
  const std::size_t analogs = channel_count(lines, 1, 'A');
  const std::size_t binaries = channel_count(lines, 2, 'D');
  for (std::size_t k = 0; k < analogs; ++k) {
    lines.need("its analogue channels");
    Analog analog;
    analog.name = lines.text(1);
    analog.phase = lines.text(2);
    analog.unit = lines.text(4);
    c.a.push_back(lines.number(5, "factor a"));
    c.b.push_back(lines.number(6, "offset b"));
    if (lines.count() >= 12) {
      analog.primary = lines.number(10, "primary");
      analog.secondary = lines.number(11, "secondary");
    }
    c.record.analogs.push_back(std::move(analog));
  }
  for (std::size_t k = 0; k < binaries; ++k) {
    lines.need("its status channels");
    Binary binary;
    binary.name = lines.text(1);
    binary.normal = lines.count() > 2 && lines.text(lines.count() - 1) == "1";
    c.record.binaries.push_back(std::move(binary));
  }
}

Configuration read_configuration(const Comtrade& files, const std::string& name) {
  Lines lines(files.configuration, name);
  Configuration c;
  lines.need("the station");
  c.record.station = lines.text(0);
  c.record.device = lines.text(1);
  const std::string revision = lines.text(2);
  if (!revision.empty() && revision != "1991" && revision != "1999" && revision != "2013") {
    lines.fail(fmt::format("revision year \"{}\" is unknown; 1991, 1999 or 2013 is wanted", revision));
  }
  read_channels(lines, c);
  lines.need("the line frequency");
  c.record.frequency_Hz = lines.empty_at(0) ? 50 : lines.number(0, "line frequency");
  lines.need("the number of sampling rates");
  const std::size_t rates = lines.whole(0, "number of sampling rates", 999);
  for (std::size_t k = 0; k < std::max<std::size_t>(rates, 1); ++k) {
    lines.need("its sampling rates");
    const double hz = lines.number(0, "sampling rate");
    const std::size_t last = lines.whole(1, "last sample", 4e9);
    if (hz < 0 || last < c.samples)
      lines.fail("sampling rates must not be negative, last samples must ascend");
    c.rates.push_back({hz, last});
    c.samples = last;
  }
  lines.need("the time of the first sample");
  const bool year_last = !revision.empty() && revision != "1991";
  const std::int64_t first = parse_date(lines, year_last);
  lines.need("the time of the trigger");
  std::int64_t after = 0;
  if (__builtin_sub_overflow(parse_date(lines, year_last), first, &after))
    lines.fail("lies centuries from the first sample");
  c.record.trigger_s = static_cast<double>(after) * 1e-9;
  c.record.start_utc_ns = first;
  lines.need("the type of the data file");
  std::string type = lines.text(0);
  for (char& letter : type) letter = static_cast<char>(std::toupper(static_cast<unsigned char>(letter)));
  if (type == "ASCII")
    c.encoding = Encoding::ascii;
  else if (type == "BINARY")
    c.encoding = Encoding::binary;
  else if (type == "BINARY32")
    c.encoding = Encoding::binary32;
  else if (type == "FLOAT32")
    c.encoding = Encoding::float32;
  else
    lines.fail(
        fmt::format("data type \"{}\" is unknown; ASCII, BINARY, BINARY32 or FLOAT32 is wanted", type));
  if (lines.next() && !lines.empty_at(0)) c.time_factor = 1e-6 * lines.number(0, "time multiplier");
  if (rates == 1 && c.rates[0].hz > 0) c.record.rate_Hz = c.rates[0].hz;
  return c;
}

/// Time of sample `index` from the sampling rates; empty when they do not say.
std::optional<double> time_by_rate(const Configuration& c, std::size_t index) {
  double time = 0;
  std::size_t done = 0;
  for (const auto& rate : c.rates) {
    if (rate.hz <= 0) return std::nullopt;
    if (index < rate.last) return time + static_cast<double>(index - done) / rate.hz;
    time += static_cast<double>(rate.last - done) / rate.hz;
    done = rate.last;
  }
  return std::nullopt;
}

void put_time(Configuration& c, std::size_t index, double stamp) {
  c.record.time_s.push_back(time_by_rate(c, index).value_or(stamp * c.time_factor));
}

constexpr double no_value = std::numeric_limits<double>::quiet_NaN();

/// What is no number counts as missing.
double finite(double value) { return std::isfinite(value) ? value : no_value; }

void read_ascii(const Comtrade& files, const std::string& name, Configuration& c) {
  Lines lines(files.data, name);
  const std::size_t analogs = c.record.analogs.size();
  const std::size_t columns = 2 + analogs + c.record.binaries.size();
  for (std::size_t k = 0; k < c.samples; ++k) {
    lines.need(fmt::format("sample {} of {}", k + 1, c.samples));
    if (lines.count() == 1 && lines.text(0) == "\x1A") lines.fail("ends before its last sample");
    if (lines.count() != columns)
      lines.fail(fmt::format("has {} fields; {} are wanted", lines.count(), columns));
    put_time(c, k, lines.empty_at(1) ? 0 : lines.number(1, "time stamp"));
    for (std::size_t j = 0; j < analogs; ++j) {
      c.record.analogs[j].samples.push_back(
          lines.empty_at(2 + j) ? no_value : finite(c.a[j] * lines.number(2 + j, "sample") + c.b[j]));
    }
    for (std::size_t j = 0; j < c.record.binaries.size(); ++j) {
      c.record.binaries[j].samples.push_back(lines.text(2 + analogs + j) == "1" ? 1 : 0);
    }
  }
}

template <class T>
T take(const char*& at) {
  T value;
  std::memcpy(&value, at, sizeof value);
  at += sizeof value;
  return value;
}

double take_analog(const char*& at, Encoding encoding, double a, double b) {
  if (encoding == Encoding::float32) return finite(a * static_cast<double>(take<float>(at)) + b);
  if (encoding == Encoding::binary) {
    const auto units = take<std::int16_t>(at);
    return units == std::numeric_limits<std::int16_t>::min() ? no_value : finite(a * units + b);
  }
  const auto units = take<std::int32_t>(at);
  return units == std::numeric_limits<std::int32_t>::min() ? no_value : finite(a * units + b);
}

void read_binary(const Comtrade& files, const std::string& name, Configuration& c) {
  const std::size_t words = (c.record.binaries.size() + 15) / 16;
  const std::size_t row = 8 + c.record.analogs.size() * (c.encoding == Encoding::binary ? 2 : 4) + 2 * words;
  if (files.data.size() / row < c.samples) {
    throw Error(Flaw{.file = name,
                     .place = {},
                     .field = {},
                     .text = fmt::format("holds {} whole samples of {} bytes; the configuration speaks of {}",
                                         files.data.size() / row, row, c.samples)});
  }
  const char* at = files.data.data();
  for (std::size_t k = 0; k < c.samples; ++k) {
    (void)take<std::uint32_t>(at);
    put_time(c, k, take<std::uint32_t>(at));
    for (std::size_t j = 0; j < c.record.analogs.size(); ++j) {
      c.record.analogs[j].samples.push_back(take_analog(at, c.encoding, c.a[j], c.b[j]));
    }
    for (std::size_t w = 0; w < words; ++w) {
      const auto word = take<std::uint16_t>(at);
      for (std::size_t bit = 0; bit < 16 && 16 * w + bit < c.record.binaries.size(); ++bit) {
        c.record.binaries[16 * w + bit].samples.push_back(word >> bit & 1U);
      }
    }
  }
}

}  // namespace

Record from_comtrade(const Comtrade& files, const std::string& name) {
  const std::string stem = std::filesystem::path(name).replace_extension().string();
  Configuration c = read_configuration(files, stem + ".cfg");
  if (c.encoding == Encoding::ascii) {
    read_ascii(files, stem + ".dat", c);
  } else {
    read_binary(files, stem + ".dat", c);
  }
  for (const double time_s : c.record.time_s) {
    if (!(std::abs(time_s) <= limits::record_s))
      throw Error(Flaw{.file = stem + ".cfg",
                       .place = {},
                       .field = {},
                       .text = "its sampling rates or time stamps lead beyond 30 years"});
  }
  return std::move(c.record);
}

Record read_comtrade(const std::filesystem::path& path) {
  std::filesystem::path stem = path;
  const std::string configuration = read_file(stem.replace_extension(".cfg"));
  Record record = from_comtrade({configuration, read_file(stem.replace_extension(".dat"))}, path.string());
  if (std::filesystem::exists(stem.replace_extension(".inf")))
    take_information(read_file(stem), stem.string(), record);
  return record;
}

}  // namespace zavrek::record
