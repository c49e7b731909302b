#pragma once

#include <string>

#include <CLI/CLI.hpp>

namespace zavrek::tool {

/// Section 1 of the manual, as roff.
[[nodiscard]] std::string man_page(const CLI::App& app, const std::string& version);
/// All kinds, verbs and calls as one HTML page, with an index and search.
[[nodiscard]] std::string reference_page(const CLI::App& app);
/// A script that bash sources.
[[nodiscard]] std::string bash_completion(const CLI::App& app);

}  // namespace zavrek::tool
