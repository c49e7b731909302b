// Several files in one: what bundles, exported units and their like are packed in.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace zavrek::record::internal {

enum class Packing { tar_gzip, zip };

/// In their order, each readable for all; names that end in ".so" may be run. The same files give the same
/// bytes.
[[nodiscard]] std::string packed(const std::vector<std::pair<std::string, std::string>>& files,
                                 Packing packing);

struct UnpackLimits {
  std::size_t files = 2000, bytes = 256U << 20U;
};
/// By name. Names with "..", absolute ones, links, and everything but plain files and folders are refused, as
/// is more than the limits. Throws Error: `what`, then why.
[[nodiscard]] std::map<std::string, std::string> unpacked(std::string_view bytes, Packing packing,
                                                          const std::string& what,
                                                          const UnpackLimits& limits = {});
/// Whether a path of an archive leads to nowhere but below it.
[[nodiscard]] bool stays_inside(const std::string& name);
/// Of a name that somebody else gave.
[[nodiscard]] std::string printable(std::string text);

}  // namespace zavrek::record::internal
