#include "record/file_beside.hpp"

#include <cerrno>
#include <cstring>
#include <system_error>
#include <utility>

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include "zavrek/error.hpp"

namespace zavrek::record::internal {

FileBeside::FileBeside(std::filesystem::path place) : place_(std::move(place)), path_(place_) {
  std::error_code trouble;
  if (place_.has_parent_path()) std::filesystem::create_directories(place_.parent_path(), trouble);
  if (trouble) refuse(trouble.value());
  const auto there = std::filesystem::symlink_status(place_, trouble);
  if (std::filesystem::is_directory(there)) refuse(EISDIR);
  as_it_is_ = std::filesystem::is_other(std::filesystem::status(place_, trouble));
  if (as_it_is_) return;
  path_.replace_filename(
      fmt::format(".{}.{}{}", place_.stem().string(), ::getpid(), place_.extension().string()));
  std::filesystem::remove(path_, trouble);
}

FileBeside::~FileBeside() {
  if (file_ >= 0) ::close(file_);
  std::error_code ignored;
  if (!as_it_is_ && !moved_) std::filesystem::remove(path_, ignored);
}

void FileBeside::refuse(int why) const {
  throw Error(Flaw{.file = place_.string(),
                   .place = {},
                   .field = {},
                   .text = fmt::format("cannot be written ({})", std::strerror(why))});
}

void FileBeside::write(std::string_view content) {
  const int fresh = as_it_is_ ? 0 : O_CREAT | O_EXCL | O_NOFOLLOW;
  if (file_ < 0) file_ = ::open(path_.c_str(), O_WRONLY | O_CLOEXEC | fresh, 0666);
  if (file_ < 0) refuse(errno);
  while (!content.empty()) {
    const ssize_t taken = ::write(file_, content.data(), content.size());
    if (taken < 0 && errno == EINTR) continue;
    if (taken <= 0) refuse(taken == 0 ? ENOSPC : errno);
    content.remove_prefix(static_cast<std::size_t>(taken));
  }
}

void FileBeside::move_in() {
  if (file_ >= 0 && ::close(std::exchange(file_, -1)) != 0) refuse(errno);
  if (as_it_is_) return;
  const int file = ::open(path_.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
  if (file < 0) refuse(errno);
  const int synced = ::fsync(file) == 0 ? 0 : errno;
  ::close(file);
  if (synced != 0) refuse(synced);
  if (::rename(path_.c_str(), place_.c_str()) != 0) refuse(errno);
  moved_ = true;
}

}  // namespace zavrek::record::internal
