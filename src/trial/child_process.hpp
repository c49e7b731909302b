// A program started and stopped by a run.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include <sys/types.h>

namespace zavrek::trial::internal {

class ChildProcess {
 public:
  /// Starts `program` with ordinary priority on any processor but the last, which a paced run takes.
  /// Throws Error when it cannot be started.
  ChildProcess(const std::filesystem::path& program, const std::vector<std::string>& arguments);
  ChildProcess(ChildProcess&& other) noexcept : pid_(other.pid_) { other.pid_ = -1; }
  ChildProcess& operator=(ChildProcess&&) = delete;
  /// Asks it to end, and kills it after half a second.
  ~ChildProcess();
  [[nodiscard]] bool running();
  /// How it ended, once `running` has said that it did.
  [[nodiscard]] std::string ended() const;

 private:
  pid_t pid_ = -1;
  int status_ = 0;
};

}  // namespace zavrek::trial::internal
