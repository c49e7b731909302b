// What each kind of block is in C: the piece that runs it and what that is given.
#pragma once

#include <string>
#include <vector>

#include "zavrek/control/blocks.hpp"

namespace zavrek::control::internal {

/// A number of a block; one that is a field of it may be changeable.
struct WrittenNumber {
  double value = 0;
  const double* field = nullptr;
};

struct WrittenBlock {
  std::string runs;                    ///< pieces/run_NAME.c; empty: its output is the one expression
  std::string gives{};                 ///< ahead of all others, what shows outputs: a call with #p, #s, #out
  std::vector<WrittenNumber> numbers;  ///< p of the pieces
  std::vector<double> state;           ///< s
  std::vector<int> counts;             ///< behind them, one by one
  bool time = false;                   ///< wants the instant
  bool fires = false;                  ///< wants the model and the first of its gates too
  std::vector<std::string> expressions;  ///< of in[], which the piece gets in its place
};

/// `period_s` is the block's. Throws Error for what cannot be written.
[[nodiscard]] WrittenBlock written(const Block& block, double period_s);

}  // namespace zavrek::control::internal
