// Files of the page, bundled by the build.
#pragma once

#include <string_view>

namespace zavrek::engine::internal {

extern const std::string_view live_html, live_css, live_js, live_uplot_js, live_uplot_css;

}  // namespace zavrek::engine::internal
