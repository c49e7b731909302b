// Shared libraries with controllers of a user's own (zavrek/controller.h).
#pragma once

#include <filesystem>
#include <memory>

#include "bench/co_simulation_unit.hpp"
#include "zavrek/control.hpp"

namespace zavrek::bench::internal {

/// What such code may take: of memory, of a file that it writes, of time to be loaded and started, of time
/// for a step.
inline constexpr std::size_t most_library_bytes = std::size_t{4} << 30U;
inline constexpr std::size_t most_written_bytes = std::size_t{1} << 30U;
inline constexpr double most_loading_s = 5, most_step_s = 1;

/// Loads the library (or co-simulation unit, whose files go into `folder`, made when there is none) into this
/// process: what it does to that cannot be undone. Throws Error.
[[nodiscard]] std::unique_ptr<control::Own> load_library(const std::filesystem::path& path,
                                                         std::shared_ptr<const UnitFolder> folder = nullptr);

/// Loads it into a process of its own, within the limits above. However that ends (a signal, `exit`,
/// silence), it is an error that says how, and this process goes on. Throws Error.
[[nodiscard]] std::unique_ptr<control::Own> house_library(const std::filesystem::path& path);

}  // namespace zavrek::bench::internal
