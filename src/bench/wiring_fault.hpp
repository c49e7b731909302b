// Mistakes in the circuits of a device, made on purpose or looked for.
#pragma once

#include <string>

#include "zavrek/bench/description.hpp"

namespace zavrek::bench::internal {

/// One of Device::wirings, and a ratio that is wrong by `factor`.
void miswire_currents(protection::Sample& sample, const std::string& wiring, double factor) noexcept;
void miswire_voltages(protection::Sample& sample, const std::string& wiring, double factor) noexcept;
/// A sample as a device sees it that is wired as `device` says.
[[nodiscard]] protection::Sample as_wired(const Device& device, const protection::Sample& sample) noexcept;

}  // namespace zavrek::bench::internal
