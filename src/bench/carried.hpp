// What a stream carries, in the order of its data set.
#pragma once

#include <array>
#include <cstddef>
#include <vector>

#include "zavrek/bench/exchange.hpp"
#include "zavrek/wire/sampled_values.hpp"

namespace zavrek::bench::internal {

/// A current or a voltage, or the sum of three.
struct Carried {
  std::array<ValueId, 3> terms;
  std::size_t size = 1;
  double lsb = wire::current_lsb_A;

  [[nodiscard]] wire::MeasuredValue value(const Exchange& exchange, std::uint32_t quality) const noexcept {
    double sum = 0;
    for (std::size_t k = 0; k < size; ++k) sum += exchange.value(terms[k]);
    return wire::measured(sum, lsb, quality);
  }
};
/// Its fields as a list: those that it names, or ia ib ic in va vb vc vn of its transformers.
[[nodiscard]] std::vector<std::string> names_carried(const Stream& stream);
/// Throws Error for a name that nobody knows, or that is neither a current nor a voltage.
[[nodiscard]] std::vector<Carried> carried_by(const Stream& stream, Exchange& exchange);
/// Where ia ib ic in va vb vc vn of its transformers stand among what it carries; empty when one is missing.
[[nodiscard]] std::vector<std::size_t> standard_places(const Stream& stream);
[[nodiscard]] std::vector<std::size_t> standard_places(const StreamIn& stream);

}  // namespace zavrek::bench::internal
