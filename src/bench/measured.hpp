// What a stream measures: currents and voltages of its transformers in primary values.
#pragma once

#include "zavrek/bench/exchange.hpp"
#include "zavrek/protection.hpp"

namespace zavrek::bench::internal {

struct Ratio {
  double primary, secondary;
};
/// Throws Error for an element that is none.
[[nodiscard]] Ratio current_ratio(const network::Network& network, const std::string& ct);
[[nodiscard]] Ratio voltage_ratio(const network::Network& network, const std::string& vt);

/// Of the element in front of the dot of "CT1.ia", where a plant has it; 1 to 1 for any other signal.
[[nodiscard]] Ratio ratio_of(const Exchange& exchange, const std::string& signal);

/// In front of signals "CT.ia", "VT.va" as they stand in the plant; a stimulus has no transformers and is
/// taken as primary already.
class MeasuredStream {
 public:
  void wire(Exchange& exchange, const Stream& stream);
  /// What a port receives as NAME.ia to NAME.vc.
  void wire(Exchange& exchange, const std::string& received);
  /// Neutrals are the sums.
  [[nodiscard]] protection::Sample sample(const Exchange& exchange) const noexcept;
  [[nodiscard]] const std::array<ValueId, 3>& currents() const noexcept { return currents_; }
  [[nodiscard]] const std::array<ValueId, 3>& voltages() const noexcept { return voltages_; }

 private:
  std::array<ValueId, 3> currents_, voltages_;
};

}  // namespace zavrek::bench::internal
