// What can be read of a plant and done to it, by name.
#pragma once

#include <complex>
#include <string>
#include <vector>

#include "emt/parts/parts.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

struct SignalRow {
  std::string name, unit;
  int first, count;  // terms
  std::complex<double> phasor;
  bool evaluated_each_step;
};

struct SignalTable {
  std::vector<Term> terms;  // of all signals, positions instead of node and slot numbers
  std::vector<SignalRow> rows;
  std::vector<int> watched;  // rows

  [[nodiscard]] const SignalRow& operator[](int row) const noexcept {
    return rows[static_cast<std::size_t>(row)];
  }
  [[nodiscard]] double sum_of(const SignalRow& row, const double* values) const noexcept {
    double sum = 0;
    for (int k = row.first; k < row.first + row.count; ++k) {
      const Term& term = terms[static_cast<std::size_t>(k)];
      sum += term.coefficient * values[term.index];
    }
    return sum;
  }
};

struct Controls {
  static constexpr std::size_t most_refusals = 256;
  std::vector<Operable> operables;
  std::vector<Refusal> refusals;  // room for `most_refusals`
  std::vector<Knob> knobs;
  std::vector<Gate> gates;

  void visit_state(StateArchive& archive) { archive(refusals); }
};

}  // namespace zavrek::emt::internal
