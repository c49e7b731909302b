#pragma once

#include <filesystem>
#include <string_view>

namespace zavrek::record::internal {

/// A file that appears whole or not at all: it is written beside its place under a name of its own, and moved
/// there once it stands on the disk. What stood there before stays until then; a symbolic link is replaced,
/// not followed. A place that is no ordinary file (/dev/stdout, a pipe) is written to as it is.
class FileBeside {
 public:
  /// Makes the folders above it. Throws Error that names the file and says why.
  explicit FileBeside(std::filesystem::path place);
  FileBeside(const FileBeside&) = delete;
  FileBeside& operator=(const FileBeside&) = delete;
  /// Without `move_in` nothing is left of it.
  ~FileBeside();

  /// Where to write, with the ending of its place.
  [[nodiscard]] const std::filesystem::path& path() const noexcept { return path_; }
  /// The next piece of its content. Throws Error.
  void write(std::string_view content);
  /// Once all is written, by whomever. Throws Error.
  void move_in();

 private:
  [[noreturn]] void refuse(int why) const;
  std::filesystem::path place_, path_;
  bool as_it_is_ = false, moved_ = false;
  int file_ = -1;  // while it is written here
};

}  // namespace zavrek::record::internal
