// Files of the page, bundled by the build.
#pragma once

#include <string_view>

namespace zavrek::engine::internal {

extern const std::string_view live_html, live_css, live_js;

}  // namespace zavrek::engine::internal
