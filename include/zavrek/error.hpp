#pragma once

#include <exception>
#include <string>
#include <string_view>
#include <vector>

namespace zavrek {

/// One thing wrong with an input: what, where, and what would be right.
struct Flaw {
  std::string file;   ///< file name, empty when the input was not a file
  int line = 0;       ///< 1-based line in `file`, 0 when unknown
  std::string place;  ///< "cable.cable1", "trial 3", an element or a bus; may be empty
  std::string field;  ///< field of `place`; may be empty
  std::string text;   ///< what is wrong and what would be right, without a full stop
};

/// "network.toml:12: cable.cable1, length: ..." on one line.
[[nodiscard]] std::string to_string(const Flaw& flaw);

/// Every flaw of one input at once. `what()` holds one line per flaw.
class Error : public std::exception {
 public:
  explicit Error(std::string text);
  explicit Error(Flaw flaw);
  explicit Error(std::vector<Flaw> flaws);

  [[nodiscard]] const std::vector<Flaw>& flaws() const noexcept { return flaws_; }
  [[nodiscard]] const char* what() const noexcept override { return what_.c_str(); }

 private:
  std::vector<Flaw> flaws_;
  std::string what_;
};

}  // namespace zavrek
