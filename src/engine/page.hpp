// The page: plain files, which a browser asks for one by one.
#pragma once

#include <string>
#include <string_view>

namespace zavrek::engine::internal {

struct PageFile {
  std::string_view content;  ///< empty where there is none of that name
  const char* type = "";
};
/// "/" or "/page/NAME".
[[nodiscard]] PageFile page_file(const std::string& path);

}  // namespace zavrek::engine::internal
