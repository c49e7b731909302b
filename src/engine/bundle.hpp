// A case in one file: a compressed archive of its files, each with its SHA-256, read back bit for bit.
#pragma once

#include <filesystem>
#include <map>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace zavrek::engine::internal {

/// What a bundle says of itself.
struct BundleHead {
  std::string name;    ///< of the case
  std::string folder;  ///< of the case within the bundle
  std::string sha256;  ///< over all names and sums: the same files give the same
  std::size_t files = 0, bytes = 0;
};

/// The files of a case, and of the case that is its base. Without folders called "out", and what is hidden.
/// Throws Error for a folder that is no case, a link, or more than a bundle holds.
[[nodiscard]] std::string pack(const std::filesystem::path& case_folder, BundleHead* head = nullptr);

/// Its files by name, each as its sum says. Names with "..", absolute ones, links and everything but plain
/// files are refused, as is more than a bundle holds. Throws Error.
struct Unpacked {
  BundleHead head;
  std::map<std::string, std::string> files;
};
[[nodiscard]] Unpacked read_bundle(std::string_view bundle);
/// Writes them below `into`, which must not be there yet; nothing of a refused bundle is written. Throws
/// Error.
BundleHead unpack(std::string_view bundle, const std::filesystem::path& into);

inline constexpr std::size_t most_bundle_bytes = 64U << 20U, most_bundle_files = 2000,
                             most_unpacked_bytes = 256U << 20U;

}  // namespace zavrek::engine::internal
