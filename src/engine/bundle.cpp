#include "engine/bundle.hpp"

#include <algorithm>
#include <array>
#include <memory>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "record/archive_file.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/record.hpp"

namespace zavrek::engine::internal {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

constexpr const char* contents_name = "bundle.json";
constexpr const char* format_name = "zavrek bundle 1";
using record::internal::Packing;
using record::internal::printable;
using record::internal::stays_inside;

[[noreturn]] void reject(const std::string& text) { throw Error("the bundle: " + text); }

/// Plain files below a folder, by their names from `root` on.
void collect(const fs::path& folder, const fs::path& root, std::map<std::string, std::string>& files) {
  for (auto at = fs::recursive_directory_iterator(folder); at != fs::recursive_directory_iterator(); ++at) {
    const std::string name = at->path().filename().string();
    if (at->is_directory() && !at->is_symlink()) {
      if (name == "out" || name.starts_with('.')) at.disable_recursion_pending();
      continue;
    }
    if (name.starts_with('.')) continue;
    if (!at->is_regular_file() || at->is_symlink())
      throw Error(Flaw{.file = at->path().string(),
                       .place = {},
                       .field = {},
                       .text = "is no plain file, which a bundle alone can hold"});
    if (files.size() >= most_bundle_files)
      throw Error(fmt::format("{} has more than {} files", folder.string(), most_bundle_files));
    files[at->path().lexically_relative(root).generic_string()] = record::read_file(at->path());
  }
}

/// Of the names and sums of its files.
std::string sum_of(const json& files) {
  std::string all;
  for (const json& one : files)
    all += one["sha256"].get<std::string>() + " " + one["path"].get<std::string>() + "\n";
  return record::sha256(all);
}

/// Takes back what was begun.
struct Begun {
  fs::path folder;
  bool done = false;
  ~Begun() {
    std::error_code ignored;
    if (!done) fs::remove_all(folder, ignored);
  }
};

}  // namespace

std::string pack(const fs::path& case_folder, BundleHead* head) {
  const fs::path own = fs::canonical(case_folder);
  const fs::path base = casefile::base_of(own);
  fs::path root = own.parent_path();
  if (!base.empty()) {
    while (base.lexically_relative(root).begin()->string() == ".." && root != root.root_path())
      root = root.parent_path();
  }
  std::map<std::string, std::string> files;
  collect(own, root, files);
  if (!base.empty()) collect(base, root, files);
  std::size_t bytes = 0;
  json list = json::array();
  for (const auto& [name, content] : files) {
    bytes += content.size();
    list.push_back({{"path", name}, {"bytes", content.size()}, {"sha256", record::sha256(content)}});
  }
  const json contents{{"format", format_name},
                      {"name", own.filename().string()},
                      {"folder", own.lexically_relative(root).generic_string()},
                      {"sha256", sum_of(list)},
                      {"files", list}};
  if (bytes > most_unpacked_bytes) throw Error(own.string() + " is larger than 256 MiB");
  std::vector<std::pair<std::string, std::string>> all{{contents_name, contents.dump(1)}};
  for (auto& [name, content] : files) all.emplace_back(name, std::move(content));
  std::string out = record::internal::packed(all, Packing::tar_gzip);
  if (out.size() > most_bundle_bytes) throw Error(own.string() + " makes a bundle of more than 64 MiB");
  if (head) *head = {own.filename().string(), contents["folder"], contents["sha256"], files.size(), bytes};
  return out;
}

Unpacked read_bundle(std::string_view bundle) {
  if (bundle.size() > most_bundle_bytes) reject("larger than 64 MiB");
  std::map<std::string, std::string> files = record::internal::unpacked(
      bundle, Packing::tar_gzip, "the bundle", {most_bundle_files, most_unpacked_bytes});
  const auto found = files.find(contents_name);
  if (found == files.end()) reject(fmt::format("no {} in it", contents_name));
  const json contents = json::parse(found->second, nullptr, false);
  files.erase(found);
  BundleHead head;
  try {
    if (contents.at("format").get<std::string>() != format_name) reject("of another format");
    head.name = contents.at("name").get<std::string>();
    head.folder = contents.at("folder").get<std::string>();
    head.sha256 = contents.at("sha256").get<std::string>();
    if (contents.at("files").size() != files.size()) reject("it has other files than it says");
    for (const json& one : contents.at("files")) {
      const auto file = files.find(one.at("path").get<std::string>());
      if (file == files.end() || record::sha256(file->second) != one.at("sha256").get<std::string>())
        reject(fmt::format("\"{}\" is not what it says", printable(one.at("path").get<std::string>())));
      head.bytes += file->second.size();
    }
    if (sum_of(contents.at("files")) != head.sha256) reject("its sum is wrong");
  } catch (const json::exception&) {
    reject(fmt::format("{} is not understood", contents_name));
  }
  head.files = files.size();
  if (!stays_inside(head.folder) || !stays_inside(head.name) || head.name.find('/') != std::string::npos)
    reject("its folder leads out of it");
  return {std::move(head), std::move(files)};
}

BundleHead unpack(std::string_view bundle, const fs::path& into) {
  const Unpacked read = read_bundle(bundle);
  if (fs::exists(into)) throw Error(into.string() + " is there already");
  Begun begun{into};
  for (const auto& [name, content] : read.files) {
    fs::create_directories((into / name).parent_path());
    record::write_file(into / name, content);
  }
  begun.done = true;
  return read.head;
}

}  // namespace zavrek::engine::internal
