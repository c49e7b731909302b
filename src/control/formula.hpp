// A formula over named values, compiled to operations between numbered places.
//   or       and {or and}                     and      not {and not}          not   [not] comparison
//   compare  sum [< <= > >= == != sum]        sum      product {+- product}
//   product  power {* / power}                power    [-] primary [^ power]
//   primary  NUMBER  NAME  pi  t  FUNCTION(...)  (or)
// A NAME may hold dots; states are 1 and 0, on above 0.5; t is the time in seconds.
#pragma once

#include <cstdint>
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
  /// As an expression of C over INPUTS[first ...] and `time`; it calls functions of control/written/pieces.
  [[nodiscard]] std::string in_c(std::string_view inputs, std::size_t first) const;

 private:
  static constexpr std::size_t deepest = 32;            // values at once
  static constexpr std::uint16_t time_place = deepest;  // of the work, behind them
  enum class Op : char;
  /// Where a value stands: among what is being worked out, the inputs, or the numbers of the text.
  struct Place {
    enum Of : std::uint16_t { work, input, number } of = work;
    std::uint16_t index = 0;
  };
  struct Step {
    Op op;
    std::uint8_t to;  // of the work
    Place a, b, c;    // as many as it has; the others are the first again
  };
  class Parser;
  [[nodiscard]] static double apply(Op op, double a, double b, double c) noexcept;
  /// The same in C; #a, #b, #c are the operands.
  [[nodiscard]] static std::string_view applied_in_c(Op op) noexcept;

  std::vector<Step> steps_;
  Place result_;
  std::vector<double> numbers_;
  std::vector<std::string> names_;
};

}  // namespace zavrek::control
