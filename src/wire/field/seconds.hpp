#pragma once

#include <cstdint>

namespace zavrek::wire::internal {

[[nodiscard]] inline std::int64_t ns_of(double seconds) { return static_cast<std::int64_t>(1e9 * seconds); }

}  // namespace zavrek::wire::internal
