// page.toml of a case: which panels its page has, and where buses stand in the diagram.
#pragma once

#include <filesystem>

#include <nlohmann/json.hpp>

#include "engine/session.hpp"

namespace zavrek::engine::internal {

/// {"title", "panels": [{"kind", "name", ...}], "at": {"BUS": [x, y]}}; without the file an empty list.
/// Throws Error with all that is wrong: unknown kinds and fields, signals and points that are not there.
[[nodiscard]] nlohmann::json read_page_file(const std::filesystem::path& folder, const trial::Case& all,
                                            const Session::Known& known);

}  // namespace zavrek::engine::internal
