// The one way to start another program: words, not a command line, so that nothing in them is expanded.
#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <sys/types.h>

namespace zavrek::pace::internal {

/// A program started by this one, in a process group of its own: what a terminal sends to this one (Ctrl-C)
/// does not reach it. It ends when this one does.
class Program {
 public:
  struct Options {
    bool fed = false;           ///< has an input that `feed` writes; else it reads nothing
    bool errors_shown = false;  ///< what it says on its standard error goes where this one's does
  };
  /// Starts `words[0]`, looked up as a shell would, with the others as arguments, on any processor but the
  /// last, which a paced run takes. Its output goes nowhere. Throws Error when it cannot be started.
  Program(const std::vector<std::string>& words, const Options& options);
  Program(Program&& other) noexcept;
  Program& operator=(Program&&) = delete;
  /// Asks it to end, and kills its group after half a second.
  ~Program();

  /// Writes to its input and closes that; false when it would not take all of it within `timeout_s`.
  [[nodiscard]] bool feed(std::string_view text, double timeout_s);
  /// Waits until it has ended, at most `timeout_s`; whether it has.
  [[nodiscard]] bool wait(double timeout_s);
  [[nodiscard]] bool running();
  /// Of one that has ended by itself; empty while it runs and when a signal ended it.
  [[nodiscard]] std::optional<int> exit_status() const;
  /// How it ended, once `running` or `wait` has said that it did.
  [[nodiscard]] std::string ended() const;

 private:
  void close_input() noexcept;
  pid_t pid_ = -1;
  int input_ = -1;
  int status_ = 0;
};

}  // namespace zavrek::pace::internal
