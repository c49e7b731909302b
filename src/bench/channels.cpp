#include "bench/channels.hpp"

#include <numbers>

namespace zavrek::bench::internal {

double LowPass::share_of(double corner_Hz, double step_s) {
  return corner_Hz > 0 ? -std::expm1(-2 * std::numbers::pi * corner_Hz * step_s) : 1;
}

Converter::Converter(const Conversion& conversion, double full_scale)
    : per_volt_(full_scale / conversion.range_V),
      range_V_(conversion.range_V),
      least_V_(conversion.bits == 0 ? 0 : std::ldexp(conversion.range_V, 1 - conversion.bits)) {}

/// Two's complement has one step less above than below.
double Converter::volts(double terminal) noexcept {
  double volts = terminal / per_volt_;
  if (least_V_ > 0) volts = least_V_ * std::round(volts / least_V_);
  if (volts <= range_V_ - least_V_ && volts >= -range_V_) return volts;
  ++cut_off_;
  return volts > 0 ? range_V_ - least_V_ : -range_V_;  // NaN too
}

Amplifier::Amplifier(const AnalogueOut& settings, double full_scale, const std::string& unit, double step_s,
                     std::uint64_t seed)
    : limit_(settings.limit.empty() ? full_scale : parse_quantity_as(settings.limit, unit)),
      most_change_(settings.slew.empty() ? INFINITY : step_s * parse_quantity_as(settings.slew, unit + "/s")),
      noise_(settings.noise.empty() ? 0 : parse_quantity_as(settings.noise, unit)),
      bandwidth_(settings.bandwidth_Hz, step_s),
      random_(seed + 1) {}

double Amplifier::next(double wanted) noexcept {
  if (std::abs(wanted) > limit_) {
    ++cut_off_;
    wanted = std::copysign(limit_, wanted);
  }
  state_ += std::clamp(bandwidth_.next(wanted) - state_, -most_change_, most_change_);
  if (noise_ == 0) return state_;
  // A sum of twelve is as good as Gaussian within three deviations.
  double sum = -6;
  for (int k = 0; k < 12; ++k) sum += random_.share();
  return state_ + noise_ * sum;
}

}  // namespace zavrek::bench::internal
