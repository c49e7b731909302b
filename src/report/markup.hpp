// Pieces of HTML and CSV that all reports share.
#pragma once

#include <string>
#include <string_view>

namespace zavrek::report::internal {

[[nodiscard]] std::string escaped(std::string_view text);
/// A field of a CSV file, in quotes where it needs them.
[[nodiscard]] std::string csv_field(const std::string& text);
[[nodiscard]] std::string badge(bool passed);
[[nodiscard]] std::string now_text();
/// To the opened body.
[[nodiscard]] std::string page_head(const std::string& title);

}  // namespace zavrek::report::internal
