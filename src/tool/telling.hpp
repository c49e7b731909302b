// What long work says while it goes on.
#pragma once

#include <chrono>
#include <string>

namespace zavrek::tool {

/// On a terminal one line that is written over, else a line now and then: nothing of work that takes less
/// than ten seconds. Who reads JSON is told on a terminal only.
class Telling {
 public:
  explicit Telling(bool json);
  Telling(const Telling&) = delete;
  Telling& operator=(const Telling&) = delete;
  ~Telling() { clear(); }

  /// How far the work is.
  void tell(const std::string& how_far);
  /// Something that shall stand.
  void say(const std::string& line);

 private:
  using Clock = std::chrono::steady_clock;
  void clear();

  bool live_, silent_, told_ = false;
  Clock::time_point last_ = Clock::now();
};

/// "3 min 20 s".
[[nodiscard]] std::string duration(double seconds);

}  // namespace zavrek::tool
