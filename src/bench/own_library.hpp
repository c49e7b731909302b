// Shared libraries with controllers of a user's own (zavrek/controller.h).
#pragma once

#include <filesystem>

#include "zavrek/control.hpp"

namespace zavrek::bench::internal {

/// Loads the library after a forked process has loaded it, started it and taken ten steps of zeros, so that
/// one that crashes at once is an error and not the end of this process. Throws Error.
[[nodiscard]] std::unique_ptr<control::Own> load_library(const std::filesystem::path& path);

}  // namespace zavrek::bench::internal
