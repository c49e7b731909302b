// Files of the page, bundled by the build: each by its name.
#pragma once

#include <string_view>
#include <utility>
#include <vector>

namespace zavrek::engine::internal {

extern const std::vector<std::pair<std::string_view, std::string_view>> bundled_files;

}  // namespace zavrek::engine::internal
