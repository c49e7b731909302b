#include "tool/data.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "zavrek/error.hpp"

namespace zavrek::tool {

namespace fs = std::filesystem;

fs::path data_folder(const std::string& name) {
  const fs::path own = fs::read_symlink("/proc/self/exe").parent_path();
  if (fs::path installed = own / ".." / "share" / "zavrek" / name; fs::exists(installed))
    return fs::canonical(installed);
  for (fs::path above = own; above != above.root_path(); above = above.parent_path()) {
    if (fs::exists(above / "starts" / "feeder") && fs::exists(above / name)) return above / name;
  }
  throw Error(fmt::format("{} is not there; install the tool with its data",
                          (own / ".." / "share" / "zavrek" / name).lexically_normal().string()));
}

std::vector<std::string> folders_in(const fs::path& folder) {
  std::vector<std::string> names;
  for (const auto& entry : fs::directory_iterator(folder)) {
    if (entry.is_directory()) names.push_back(entry.path().filename().string());
  }
  std::sort(names.begin(), names.end());
  return names;
}

}  // namespace zavrek::tool
