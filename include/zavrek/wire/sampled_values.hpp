#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "zavrek/protection.hpp"
#include "zavrek/wire/ethernet.hpp"

namespace zavrek::wire {

/// One instantaneous value of a sampled-value stream with its quality.
struct MeasuredValue {
  std::int32_t value = 0;     ///< currents in mA, voltages in 10 mV (IEC 61869-9)
  std::uint32_t quality = 0;  ///< see Quality
  [[nodiscard]] bool usable() const { return is_usable(quality); }
};

/// One ASDU of IEC 61850-9-2: the values of a data set at an instant.
struct Asdu {
  std::string id;                 ///< svID
  std::string data_set;           ///< datSet; left out when empty
  std::uint16_t count = 0;        ///< smpCnt: 0 at the start of each second
  std::uint32_t revision = 1;     ///< confRev
  std::optional<Stamp> refresh;   ///< refrTm
  std::uint8_t synchronised = 2;  ///< smpSynch: 0 no, 1 to a local clock, 2 to a global one
  std::optional<std::uint16_t> rate;
  std::optional<std::uint16_t> mode;  ///< what `rate` counts: 0 samples a period, 1 a second, 2 s a sample
  std::vector<MeasuredValue> values = std::vector<MeasuredValue>(8);

  [[nodiscard]] bool usable() const noexcept {
    return std::all_of(values.begin(), values.end(), [](const MeasuredValue& v) { return v.usable(); });
  }
};
inline constexpr std::size_t most_asdus = 16;
inline constexpr std::size_t most_sampled = 64;  ///< values in an ASDU

/// A frame of IEC 61850-9-2.
struct SampledValues {
  Address address;
  std::size_t size = 1;  ///< ASDUs that it holds
  std::array<Asdu, most_asdus> asdus{};
  [[nodiscard]] std::span<Asdu> all() noexcept { return std::span(asdus).first(size); }
  [[nodiscard]] std::span<const Asdu> all() const noexcept { return std::span(asdus).first(size); }
  [[nodiscard]] Asdu& first() noexcept { return asdus.front(); }
  [[nodiscard]] const Asdu& first() const noexcept { return asdus.front(); }
};

inline constexpr double current_lsb_A = 1e-3;
inline constexpr double voltage_lsb_V = 1e-2;
/// Saturates at the range of the 32-bit value and is marked invalid there; `quality` stands otherwise.
[[nodiscard]] MeasuredValue measured(double value, double lsb, std::uint32_t quality = 0) noexcept;
/// The data set ia ib ic in va vb vc vn. Of eight values.
void put_sample(const protection::Sample& sample, Asdu& into, std::uint32_t quality = 0) noexcept;
/// Of at least eight.
[[nodiscard]] protection::Sample sample_of(const Asdu& asdu) noexcept;

/// Writes the frame into `out`; returns its length, 0 when it does not fit.
[[nodiscard]] std::size_t encode(const SampledValues& message, std::span<std::uint8_t> out) noexcept;
/// Reads a frame; false when it is anything else, truncated or malformed. `into` then holds nothing of use.
/// `into` may be reused: no allocation once its texts and values have their length.
[[nodiscard]] bool decode(Bytes frame, SampledValues& into);

}  // namespace zavrek::wire
