#pragma once

#include <string>

namespace zavrek::engine::internal {

/// The page that watches and works a run, in one piece: nothing is fetched from elsewhere.
[[nodiscard]] std::string page();

}  // namespace zavrek::engine::internal
