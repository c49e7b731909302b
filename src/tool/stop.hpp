#pragma once

#include <atomic>

namespace zavrek::tool {

/// Becomes true when the tool is interrupted or told to end: it then writes what it has and ends. A second
/// signal ends it at once.
[[nodiscard]] const std::atomic<bool>& stop_on_signal();

}  // namespace zavrek::tool
