// Pieces of HTML and CSV that all reports share.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "record/csv_field.hpp"
#include "zavrek/report/provenance.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::report::internal {

[[nodiscard]] std::string escaped(std::string_view text);
using record::internal::csv_field;
[[nodiscard]] std::string badge(bool passed);
[[nodiscard]] std::string now_text();
/// To the opened body.
[[nodiscard]] std::string page_head(const std::string& title);
/// A drawing (SVG as a file) as it may stand inside a page.
[[nodiscard]] std::string figure_block(const std::string& svg);
/// Who, what, when and with what, and room for signatures; empty where that is not known.
[[nodiscard]] std::string provenance_block(const std::optional<Provenance>& provenance);
[[nodiscard]] std::string signatures(const std::optional<Provenance>& provenance);
/// What would explain what failed, the likeliest first; `of_what` it explains: "verdicts".
[[nodiscard]] std::string causes_list(const std::vector<trial::Explanation>& causes,
                                      const std::string& of_what);
/// The scripts that make a page's charts and drawings (charts.js), which read `data` when it is not empty: a
/// JSON text under the name `programme`; and the end of the page.
[[nodiscard]] std::string page_end(const std::string& data = "");
/// A JSON text that may stand inside a script element.
[[nodiscard]] std::string for_script(std::string json);

}  // namespace zavrek::report::internal
