#pragma once

#include <string>

#include <nlohmann/json.hpp>

namespace zavrek::tool {

/// As it is printed; letters of paths that are no UTF-8 are replaced.
[[nodiscard]] inline std::string printed(const nlohmann::json& json) {
  return json.dump(2, ' ', false, nlohmann::json::error_handler_t::replace);
}

}  // namespace zavrek::tool
