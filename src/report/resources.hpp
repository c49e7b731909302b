// Files bundled into the library when it is built; see src/CMakeLists.txt.
#pragma once

#include <string_view>

namespace zavrek::report::internal {

extern const std::string_view uplot_js;
extern const std::string_view uplot_css;
extern const std::string_view report_js;
extern const std::string_view report_css;
extern const std::string_view charts_js;

}  // namespace zavrek::report::internal
