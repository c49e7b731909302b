#include "zavrek/record.hpp"

#include "record/file_beside.hpp"
#include "record/plain.hpp"
#include "record/rows.hpp"
#include "zavrek/limits.hpp"

#include <array>
#include <cmath>
#include <complex>
#include <fstream>
#include <numbers>
#include <sstream>

#include <fmt/format.h>
#include <openssl/evp.h>

namespace zavrek::record {

std::string Record::fact(std::string_view name) const {
  for (const auto& [known, value] : facts) {
    if (known == name) return value;
  }
  return {};
}

const Analog* Record::find_analog(std::string_view name) const {
  for (const Analog& analog : analogs) {
    if (analog.name == name) return &analog;
  }
  return nullptr;
}

const Binary* Record::find_binary(std::string_view name) const {
  for (const Binary& binary : binaries) {
    if (binary.name == name) return &binary;
  }
  return nullptr;
}

namespace {

void put_csv(const Record& head, internal::Rows& rows, const internal::Sink& sink) {
  std::string text = "time_s";
  for (const Analog& analog : head.analogs)
    text += fmt::format(",{} {}", internal::plain(analog.name), internal::plain(analog.unit));
  for (const Binary& binary : head.binaries) text += "," + internal::plain(binary.name);
  text += "\n";
  constexpr std::size_t piece = 1U << 16U;
  const bool is_long = rows.count() > 0 && rows.time_s(rows.count() - 1) > 1000;
  for (std::size_t k = 0; k < rows.count(); ++k) {
    text += is_long ? fmt::format("{:.12g}", rows.time_s(k)) : fmt::format("{:.9g}", rows.time_s(k));
    const double* values = rows.row(k);
    for (std::size_t c = 0; c < head.analogs.size(); ++c) text += fmt::format(",{:.7g}", *values++);
    for (std::size_t c = 0; c < head.binaries.size(); ++c) text += *values++ != 0 ? ",1" : ",0";
    text += "\n";
    if (text.size() < piece) continue;
    sink(text);
    text.clear();
  }
  sink(text);
}

}  // namespace

std::string to_csv(const Record& record) {
  internal::RowsInMemory rows(record);
  std::string text;
  put_csv(record, rows, [&](std::string_view piece) { text += piece; });
  return text;
}

void write_csv(const Record& head, const RowFile& file, const std::filesystem::path& path) {
  internal::RowsOnDisk rows(file);
  internal::FileBeside place(path);
  put_csv(head, rows, [&](std::string_view piece) { place.write(piece); });
  place.move_in();
}

bool begin_at_zero(Record& record) {
  const double first_s = record.time_s.empty() ? 0 : record.time_s.front();
  if (first_s == 0) return false;
  for (double& time_s : record.time_s) time_s -= first_s;
  for (Event& event : record.events) event.time_s -= first_s;
  record.trigger_s -= first_s;
  record.start_utc_ns += std::llround(1e9 * first_s);
  return true;
}

Record part_of(const Record& record, double from_s, double until_s) {
  const auto begin = std::lower_bound(record.time_s.begin(), record.time_s.end(), from_s);
  const auto end = std::upper_bound(begin, record.time_s.end(), until_s);
  if (begin == end)
    throw Error(fmt::format("the record has no sample from {:.6g} s to {:.6g} s", from_s, until_s));
  const auto first = begin - record.time_s.begin(), last = end - record.time_s.begin();
  const auto cut = [&](auto& samples, const auto& from) {
    samples.assign(from.begin() + first, from.begin() + last);
  };
  Record part;
  part.station = record.station;
  part.device = record.device;
  part.frequency_Hz = record.frequency_Hz;
  part.rate_Hz = record.rate_Hz;
  part.start_utc_ns = record.start_utc_ns;
  part.trigger_s = record.trigger_s;
  part.facts = record.facts;
  cut(part.time_s, record.time_s);
  for (const Analog& analog : record.analogs) {
    Analog& kept = part.analogs.emplace_back(
        Analog{analog.name, analog.phase, analog.unit, analog.primary, analog.secondary, {}});
    cut(kept.samples, analog.samples);
  }
  for (const Binary& binary : record.binaries)
    cut(part.binaries.emplace_back(Binary{binary.name, binary.normal, {}}).samples, binary.samples);
  for (const Event& event : record.events) {
    if (event.time_s >= from_s && event.time_s <= until_s) part.events.push_back(event);
  }
  return part;
}

std::vector<double> fundamental_rms(const Record& record, const std::vector<const Analog*>& sum_of) {
  const auto cycle = static_cast<std::size_t>(std::lround(record.rate_Hz / record.frequency_Hz));
  std::vector<double> rms(record.time_s.size(), 0.0);
  if (cycle < 4) return rms;
  std::complex<double> sum = 0;
  const auto value = [&](std::size_t k) {
    double total = 0;
    for (const Analog* analog : sum_of) total += analog->samples[k];
    return total;
  };
  // The sum over one cycle slides: one term in, one out; both turn by the same whole cycle.
  for (std::size_t k = 0; k < rms.size(); ++k) {
    const auto turn =
        std::polar(1.0, -2 * std::numbers::pi * static_cast<double>(k % cycle) / static_cast<double>(cycle));
    sum += value(k) * turn;
    if (k >= cycle) sum -= value(k - cycle) * turn;
    if (k + 1 >= cycle) rms[k] = std::abs(sum) * std::numbers::sqrt2 / static_cast<double>(cycle);
  }
  return rms;
}

std::string read_file(const std::filesystem::path& path) {
  const auto refuse = [&](const char* text) {
    throw Error(Flaw{.file = path.string(), .place = {}, .field = {}, .text = text});
  };
  std::error_code trouble;
  const auto status = std::filesystem::status(path, trouble);
  // A pipe or a device need not come to an end.
  if (std::filesystem::is_other(status)) refuse("is no ordinary file");
  std::ifstream in(path, std::ios::binary);
  if (!in || std::filesystem::is_directory(status)) refuse("cannot be read");
  if (std::filesystem::file_size(path, trouble) > limits::file_bytes) refuse("is larger than 2 GiB");
  std::ostringstream content;
  content << in.rdbuf();
  return std::move(content).str();
}

void write_file(const std::filesystem::path& path, std::string_view content) {
  internal::FileBeside file(path);
  file.write(content);
  file.move_in();
}

std::string sha256(std::string_view bytes) {
  std::array<unsigned char, EVP_MAX_MD_SIZE> sum{};
  unsigned int size = 0;
  if (EVP_Digest(bytes.data(), bytes.size(), sum.data(), &size, EVP_sha256(), nullptr) != 1)
    throw Error("SHA-256 is not available");
  std::string text;
  for (unsigned int k = 0; k < size; ++k) text += fmt::format("{:02x}", sum[k]);
  return text;
}

}  // namespace zavrek::record
