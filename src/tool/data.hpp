// Where the tool's own data lie: demos, cases to start from, examples of the manual.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

namespace zavrek::tool {

/// Installed beside the tool, or in the tree that it was built in. Throws Error when it is in neither.
[[nodiscard]] std::filesystem::path data_folder(const std::string& name);
/// Their names, sorted.
[[nodiscard]] std::vector<std::string> folders_in(const std::filesystem::path& folder);

}  // namespace zavrek::tool
