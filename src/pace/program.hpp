// The one way to start another process: a program by its words (not a command line, so that nothing in them
// is expanded), or a function of this program that others' code runs in.
#pragma once

#include <cstddef>
#include <filesystem>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include <sys/types.h>

namespace zavrek::pace::internal {

/// A process started by this one, in a process group of its own: what a terminal sends to this one (Ctrl-C)
/// does not reach it. It ends when this one does.
class Program {
 public:
  struct Options {
    bool fed = false;           ///< has an input that `feed` writes; else it reads nothing
    bool heard = false;         ///< what it says is kept for `end`, some lines at most; else it goes nowhere
    bool errors_shown = false;  ///< what it says on its standard error goes where this one's does
  };
  /// Starts `words[0]`, looked up as a shell would, with the others as arguments, on any processor but the
  /// last, which a paced run takes. Throws Error when it cannot be started.
  Program(const std::vector<std::string>& words, const Options& options);
  /// Runs `body` in a copy of this process, at ordinary priority, with no files open but its errors and a
  /// channel of messages to `send` and `receive`. It ends with 0 when `body` returns, whatever that
  /// registered. Once asked to end it is killed, since the code in it may not listen.
  explicit Program(const std::function<void(int channel)>& body);
  Program(Program&& other) noexcept;
  Program& operator=(Program&&) = delete;
  /// Asks it to end, and kills its group after half a second.
  ~Program();

  /// Writes to its input and closes that; false when it would not take all of it within `timeout_s`.
  [[nodiscard]] bool feed(std::string_view text, double timeout_s);
  /// One message to the body's channel; false when that does not take it.
  [[nodiscard]] bool send(std::span<const std::byte> message) noexcept;
  enum class Heard { message, silence, end };
  /// One message from it into `message`, of which `size` bytes are then filled; waits `timeout_s` at most.
  [[nodiscard]] Heard receive(std::span<std::byte> message, std::size_t& size, double timeout_s) noexcept;

  /// The same on the body's side, of its channel, without an end of waiting.
  [[nodiscard]] static Heard await(int channel, std::span<std::byte> message, std::size_t& size) noexcept;

  /// Waits until it has ended, at most `timeout_s`; whether it has.
  [[nodiscard]] bool wait(double timeout_s);
  [[nodiscard]] bool running();
  /// Of one that has ended by itself; empty while it runs and when a signal ended it.
  [[nodiscard]] std::optional<int> exit_status() const;
  /// Asks it to end, kills its group where it does not within half a second, and returns what it said.
  std::string end();
  /// How it ended, once `running` or `wait` has said that it did.
  [[nodiscard]] std::string ended() const;

 private:
  void close_input() noexcept;
  void stop();
  pid_t pid_ = -1;
  int input_ = -1;
  int output_ = -1;
  int status_ = 0;
  double grace_s_ = 0.5;  // from the request to end to the order
};

}  // namespace zavrek::pace::internal
