#include "zavrek/record/row_file.hpp"

#include <cerrno>
#include <cmath>
#include <cstdlib>
#include <cstring>

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

namespace zavrek::record {
namespace {

[[noreturn]] void refuse(const std::filesystem::path& folder, const char* what, int why) {
  throw Error(Flaw{
      .file = folder.string(),
      .place = {},
      .field = {},
      .text = fmt::format("the rows of a long record cannot be {} there ({})", what, std::strerror(why))});
}

int open_nameless(const std::filesystem::path& folder) {
  const int file = ::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
  if (file >= 0 || (errno != EOPNOTSUPP && errno != EISDIR && errno != EINVAL)) return file;
  std::string name = (folder / ".rows.XXXXXX").string();  // where the file system has no files without names
  const int named = ::mkostemp(name.data(), O_CLOEXEC);
  if (named >= 0) ::unlink(name.c_str());
  return named;
}

}  // namespace

RowFile::RowFile(const std::filesystem::path& folder, std::size_t analogs, std::size_t binaries,
                 double rate_Hz)
    : analogs_(analogs), binaries_(binaries), rate_Hz_(rate_Hz), peaks_(analogs, 0.0) {
  const std::filesystem::path place = folder.empty() ? "." : folder;
  std::error_code ignored;
  std::filesystem::create_directories(place, ignored);
  file_ = open_nameless(place);
  if (file_ < 0) refuse(place, "kept", errno);
}

RowFile::~RowFile() {
  if (file_ >= 0) ::close(file_);
}

void RowFile::append(std::span<const double> rows) {
  for (std::size_t k = 0; k + width() <= rows.size(); k += width()) {
    for (std::size_t c = 0; c < analogs_; ++c) {
      const double magnitude = std::abs(rows[k + c]);
      if (std::isfinite(magnitude) && magnitude > peaks_[c]) peaks_[c] = magnitude;
    }
  }
  const auto* at = reinterpret_cast<const char*>(rows.data());
  std::size_t left = rows.size_bytes();
  auto place = static_cast<off_t>(rows_ * width() * sizeof(double));
  while (left > 0) {
    const ssize_t taken = ::pwrite(file_, at, left, place);
    if (taken < 0 && errno == EINTR) continue;
    if (taken <= 0) refuse("the disk", "kept", taken == 0 ? ENOSPC : errno);
    at += taken;
    place += taken;
    left -= static_cast<std::size_t>(taken);
  }
  if (width() > 0) rows_ += rows.size() / width();
}

std::size_t RowFile::read(std::size_t first, std::span<double> into) const {
  const std::size_t wanted = std::min(into.size() / width(), rows_ - std::min(first, rows_));
  auto* at = reinterpret_cast<char*>(into.data());
  std::size_t left = wanted * width() * sizeof(double);
  auto place = static_cast<off_t>(first * width() * sizeof(double));
  while (left > 0) {
    const ssize_t got = ::pread(file_, at, left, place);
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0) refuse("the disk", "read back", got == 0 ? EIO : errno);
    at += got;
    place += got;
    left -= static_cast<std::size_t>(got);
  }
  return wanted;
}

}  // namespace zavrek::record
