// A formula over named values, compiled to a list of operations on a stack.
//   or       and {or and}                     and      not {and not}          not   [not] comparison
//   compare  sum [< <= > >= == != sum]        sum      product {+- product}
//   product  power {* / power}                power    [-] primary [^ power]
//   primary  NUMBER  NAME  pi  t  FUNCTION(...)  (or)
// A NAME may hold dots; states are 1 and 0, on above 0.5; t is the time in seconds.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace zavrek::control {

class Formula {
 public:
  /// Throws Error (text only) that says what was expected where.
  explicit Formula(std::string_view text);
  /// Each once, in the order in which `value` wants them.
  [[nodiscard]] const std::vector<std::string>& names() const { return names_; }
  [[nodiscard]] double value(const double* inputs, double time_s) const noexcept;

 private:
  static constexpr int deepest = 32;
  enum class Op : char;
  struct Step {
    Op op;
    int input = 0;
    double number = 0;
  };
  class Parser;

  std::vector<Step> steps_;
  std::vector<std::string> names_;
};

}  // namespace zavrek::control
