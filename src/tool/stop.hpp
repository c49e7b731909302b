#pragma once

#include <atomic>

namespace zavrek::tool {

/// Becomes true when the tool is interrupted or told to end; signals end nothing else from then on.
[[nodiscard]] const std::atomic<bool>& stop_on_signal();

}  // namespace zavrek::tool
