#include "zavrek/record.hpp"

#include "record/file_beside.hpp"
#include "record/plain.hpp"
#include "zavrek/limits.hpp"

#include <cmath>
#include <complex>
#include <fstream>
#include <numbers>
#include <sstream>

#include <fmt/format.h>

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

std::string to_csv(const Record& record) {
  std::string text = "time_s";
  for (const Analog& analog : record.analogs)
    text += fmt::format(",{} {}", internal::plain(analog.name), internal::plain(analog.unit));
  for (const Binary& binary : record.binaries) text += "," + internal::plain(binary.name);
  text += "\n";
  for (std::size_t k = 0; k < record.time_s.size(); ++k) {
    text += fmt::format("{:.9g}", record.time_s[k]);
    for (const Analog& analog : record.analogs) text += fmt::format(",{:.7g}", analog.samples[k]);
    for (const Binary& binary : record.binaries) text += binary.samples[k] ? ",1" : ",0";
    text += "\n";
  }
  return text;
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

}  // namespace zavrek::record
