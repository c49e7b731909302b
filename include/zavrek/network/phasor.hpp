#pragma once

#include <complex>
#include <string>
#include <vector>

namespace zavrek::network {

/// "5.39 kV at -30 deg", one for each of `count` phases: peak and angle, as a cosine, in `unit`; zeros when
/// there are no texts. Throws Error, in the name of a field of `owner`.
[[nodiscard]] std::vector<std::complex<double>> parse_phasors(const std::string& owner,
                                                              const std::string& field,
                                                              const std::vector<std::string>& texts,
                                                              const std::string& unit, std::size_t count);
/// The other way, to the last digit.
[[nodiscard]] std::string print_phasor(std::complex<double> phasor, const std::string& unit);

}  // namespace zavrek::network
