// What a page draws besides curves: the one-line diagram, phasors, spectra, what relays see in their planes.
#pragma once

#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "engine/session.hpp"

namespace zavrek::engine::internal {

/// Buses and what hangs on them or lies between them, from the field tables alone.
[[nodiscard]] nlohmann::json diagram_of(const trial::Case& all, const Session::Known& known);

/// Mean and rms of all signals over the latest cycle, and what is on.
[[nodiscard]] nlohmann::json present_values(const Session& session, const Traces& traces);

/// Devices with zones or differentials: corners of the zones in primary ohms, thresholds, signals that they
/// see.
[[nodiscard]] nlohmann::json planes_of(const trial::Case& all);

/// Each signal's fundamental over the latest cycle: rms and angle, against that of the first; of three phases
/// a, b, c named by their stem their sequence values too. Throws Error for a signal that is not kept.
[[nodiscard]] nlohmann::json phasors_of(const Traces& traces, const std::vector<std::string>& signals,
                                        double frequency_Hz);

/// Rms of the harmonics 0 to 25 over whole cycles, and the total distortion (IEC 61000-4-7, without groups).
[[nodiscard]] nlohmann::json spectrum_of(const Traces& traces, const std::string& signal, double frequency_Hz,
                                         int cycles);

/// Where the loops of a distance relay, or the phases of a differential, were in the latest seconds, four
/// times a cycle. Throws Error when the device has neither.
[[nodiscard]] nlohmann::json trajectory_of(const Traces& traces, const trial::Case& all,
                                           const std::string& device, double seconds);

}  // namespace zavrek::engine::internal
