// What may be given at most. Beyond it stands an error that says so, not hours or all memory: no case or
// record of an engineer comes near. docs/guide.md lists them.
#pragma once

#include <cstddef>

namespace zavrek::limits {

inline constexpr std::size_t case_file_bytes = 8U << 20U;         ///< of a TOML file
inline constexpr std::size_t file_bytes = std::size_t{2} << 30U;  ///< of a record
inline constexpr std::size_t key_parts = 16;                      ///< "a.b.c" has three
inline constexpr std::size_t key_letters = 400;                   ///< of all parts
inline constexpr std::size_t text_letters = 10'000;               ///< of a field
inline constexpr std::size_t name_letters = 200;                  ///< of a trial, a sweep, a channel
inline constexpr std::size_t formula_letters = 4'000;
inline constexpr std::size_t suggested_letters = 64;  ///< longer names get no "did you mean"
inline constexpr double line_m = 1e7;                 ///< of a line or a cable
inline constexpr double trial_s = 86'400;             ///< before, during and after a disturbance
inline constexpr std::size_t elements = 10'000;       ///< of a network, its buses among them
inline constexpr std::size_t sweep_trials = 10'000'000;
inline constexpr double record_s = 1e9;                                     ///< of the time of a sample
inline constexpr double least_frequency_Hz = 1, most_frequency_Hz = 1'000;  ///< nominal

}  // namespace zavrek::limits
