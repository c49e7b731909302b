#include "engine/page.hpp"

#include "engine/resources.hpp"

namespace zavrek::engine::internal {

PageFile page_file(const std::string& path) {
  constexpr std::string_view folder = "/page/";
  const std::string_view name = path == "/"                ? std::string_view("index.html")
                                : path.starts_with(folder) ? std::string_view(path).substr(folder.size())
                                                           : std::string_view();
  for (const auto& [known, content] : bundled_files) {
    if (known != name) continue;
    if (name.ends_with(".html")) return {content, "text/html; charset=utf-8"};
    if (name.ends_with(".css")) return {content, "text/css; charset=utf-8"};
    return {content, "text/javascript; charset=utf-8"};
  }
  return {};
}

}  // namespace zavrek::engine::internal
