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

/// Moves `bytes` from or to `place` of a file, part by part; `at_end` is why when no more is moved.
template <class Move>
void whole(std::size_t bytes, off_t place, const char* what, int at_end, Move&& move) {
  for (std::size_t done = 0; done < bytes;) {
    const ssize_t moved = move(done, bytes - done, place + static_cast<off_t>(done));
    if (moved < 0 && errno == EINTR) continue;
    if (moved <= 0) refuse("the disk", what, moved == 0 ? at_end : errno);
    done += static_cast<std::size_t>(moved);
  }
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
  whole(rows.size_bytes(), static_cast<off_t>(rows_ * width() * sizeof(double)), "kept", ENOSPC,
        [&, from = reinterpret_cast<const char*>(rows.data())](std::size_t done, std::size_t left,
                                                               off_t place) {
          return ::pwrite(file_, from + done, left, place);
        });
  if (width() > 0) rows_ += rows.size() / width();
}

std::size_t RowFile::read(std::size_t first, std::span<double> into) const {
  const std::size_t wanted = std::min(into.size() / width(), rows_ - std::min(first, rows_));
  whole(wanted * width() * sizeof(double), static_cast<off_t>(first * width() * sizeof(double)), "read back",
        EIO, [&, to = reinterpret_cast<char*>(into.data())](std::size_t done, std::size_t left, off_t place) {
          return ::pread(file_, to + done, left, place);
        });
  return wanted;
}

}  // namespace zavrek::record
