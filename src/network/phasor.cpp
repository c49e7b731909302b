#include "zavrek/network/phasor.hpp"

#include <numbers>

#include <fmt/format.h>

#include "zavrek/error.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::network {

std::vector<std::complex<double>> parse_phasors(const std::string& owner, const std::string& field,
                                                const std::vector<std::string>& texts,
                                                const std::string& unit, std::size_t count) {
  const auto refuse = [&](std::string text) {
    throw Error(Flaw{.file = {}, .place = owner, .field = field, .text = std::move(text)});
  };
  std::vector<std::complex<double>> phasors(count);
  if (texts.empty()) return phasors;
  if (texts.size() != count)
    refuse(fmt::format("{} phasors for {} phase{}", texts.size(), count, count == 1 ? "" : "s"));
  for (std::size_t k = 0; k < count; ++k) {
    const std::size_t at = texts[k].find(" at ");
    if (at == std::string::npos)
      refuse(fmt::format("\"{}\" is no phasor, such as \"5.39 k{} at -30 deg\"", texts[k], unit));
    try {
      phasors[k] = std::polar(1.0, parse_quantity_as(texts[k].substr(at + 4), "rad")) *
                   parse_quantity_as(texts[k].substr(0, at), unit);
    } catch (const Error& error) {
      refuse(error.what());
    }
  }
  return phasors;
}

std::string print_phasor(std::complex<double> phasor, const std::string& unit) {
  return fmt::format("{} {} at {} deg", std::abs(phasor), unit, std::arg(phasor) * 180 / std::numbers::pi);
}

}  // namespace zavrek::network
