#include "engine/bundle.hpp"

#include <algorithm>
#include <array>
#include <memory>

#include <archive.h>
#include <archive_entry.h>
#include <fmt/format.h>
#include <openssl/evp.h>
#include <nlohmann/json.hpp>

#include "zavrek/casefile.hpp"
#include "zavrek/record.hpp"

namespace zavrek::engine::internal {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

constexpr const char* contents_name = "bundle.json";
constexpr const char* format_name = "zavrek bundle 1";
constexpr std::size_t piece = 64U << 10U;

struct Closed {
  void operator()(archive* a) const noexcept { archive_free(a); }
};
using Archive = std::unique_ptr<archive, Closed>;

/// Of a name that somebody else gave.
std::string printable(std::string text) {
  if (text.size() > 100) text.resize(100);
  std::replace_if(
      text.begin(), text.end(), [](unsigned char c) { return c < 0x20 || c >= 0x7F; }, '?');
  return text;
}

[[noreturn]] void reject(const std::string& text) { throw Error("the bundle: " + text); }

void check(archive* a, int outcome) {
  if (outcome < ARCHIVE_WARN) reject(archive_error_string(a) ? archive_error_string(a) : "it cannot be read");
}

void add(archive* a, const std::string& name, const std::string& content) {
  const std::unique_ptr<archive_entry, void (*)(archive_entry*)> entry(archive_entry_new(),
                                                                       archive_entry_free);
  archive_entry_set_pathname(entry.get(), name.c_str());
  archive_entry_set_size(entry.get(), static_cast<la_int64_t>(content.size()));
  archive_entry_set_filetype(entry.get(), AE_IFREG);
  archive_entry_set_perm(entry.get(), 0644);
  archive_entry_set_mtime(entry.get(), 0, 0);  // the same files give the same bundle
  check(a, archive_write_header(a, entry.get()));
  if (archive_write_data(a, content.data(), content.size()) != static_cast<la_ssize_t>(content.size()))
    reject(archive_error_string(a));
}

la_ssize_t append(archive*, void* into, const void* data, std::size_t size) {
  static_cast<std::string*>(into)->append(static_cast<const char*>(data), size);
  return static_cast<la_ssize_t>(size);
}

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

bool stays_inside(const std::string& name) {
  if (name.empty() || name.size() > 400 || name.front() == '/') return false;
  if (std::any_of(name.begin(), name.end(),
                  [](unsigned char c) { return c < 0x20 || c == '\\' || c == 0x7F; }))
    return false;
  const fs::path path(name);
  return std::none_of(path.begin(), path.end(), [](const fs::path& part) {
    return part.empty() || part == "." || part.string().starts_with("..");
  });
}

/// Of the names and sums of its files.
std::string sum_of(const json& files) {
  std::string all;
  for (const json& one : files)
    all += one["sha256"].get<std::string>() + " " + one["path"].get<std::string>() + "\n";
  return sha256(all);
}

std::map<std::string, std::string> read_all(std::string_view bundle) {
  const Archive a(archive_read_new());
  archive_read_support_filter_gzip(a.get());
  archive_read_support_format_tar(a.get());
  check(a.get(), archive_read_open_memory(a.get(), bundle.data(), bundle.size()));
  std::map<std::string, std::string> files;
  std::size_t bytes = 0;
  for (archive_entry* entry = nullptr;;) {
    const int outcome = archive_read_next_header(a.get(), &entry);
    if (outcome == ARCHIVE_EOF) break;
    check(a.get(), outcome);
    const char* path = archive_entry_pathname(entry);
    const std::string name = path ? path : "";
    if (!stays_inside(name)) reject(fmt::format("\"{}\" leads out of it", printable(name)));
    if (archive_entry_filetype(entry) != AE_IFREG || archive_entry_hardlink(entry) ||
        archive_entry_symlink(entry))
      reject(fmt::format("\"{}\" is no plain file", printable(name)));
    if (files.contains(name)) reject(fmt::format("\"{}\" is there twice", printable(name)));
    if (files.size() > most_bundle_files) reject(fmt::format("more than {} files", most_bundle_files));
    std::string& content = files[name];
    std::array<char, piece> buffer;
    for (la_ssize_t got = 0; (got = archive_read_data(a.get(), buffer.data(), buffer.size())) != 0;) {
      if (got < 0) reject(archive_error_string(a.get()) ? archive_error_string(a.get()) : "it is damaged");
      bytes += static_cast<std::size_t>(got);
      if (bytes > most_unpacked_bytes) reject("more than 256 MiB unpacked");
      content.append(buffer.data(), static_cast<std::size_t>(got));
    }
  }
  return files;
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

std::string sha256(std::string_view bytes) {
  std::array<unsigned char, EVP_MAX_MD_SIZE> sum{};
  unsigned int size = 0;
  if (EVP_Digest(bytes.data(), bytes.size(), sum.data(), &size, EVP_sha256(), nullptr) != 1)
    throw Error("SHA-256 is not available");
  std::string text;
  for (unsigned int k = 0; k < size; ++k) text += fmt::format("{:02x}", sum[k]);
  return text;
}

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
    list.push_back({{"path", name}, {"bytes", content.size()}, {"sha256", sha256(content)}});
  }
  const json contents{{"format", format_name},
                      {"name", own.filename().string()},
                      {"folder", own.lexically_relative(root).generic_string()},
                      {"sha256", sum_of(list)},
                      {"files", list}};
  if (bytes > most_unpacked_bytes) throw Error(own.string() + " is larger than 256 MiB");
  std::string out;
  const Archive a(archive_write_new());
  archive_write_add_filter_gzip(a.get());
  archive_write_set_filter_option(a.get(), "gzip", "timestamp", nullptr);
  archive_write_set_format_pax_restricted(a.get());
  archive_write_set_bytes_in_last_block(a.get(), 1);
  check(a.get(), archive_write_open(a.get(), &out, nullptr, append, nullptr));
  add(a.get(), contents_name, contents.dump(1));
  for (const auto& [name, content] : files) add(a.get(), name, content);
  check(a.get(), archive_write_close(a.get()));
  if (out.size() > most_bundle_bytes) throw Error(own.string() + " makes a bundle of more than 64 MiB");
  if (head) *head = {own.filename().string(), contents["folder"], contents["sha256"], files.size(), bytes};
  return out;
}

Unpacked read_bundle(std::string_view bundle) {
  if (bundle.size() > most_bundle_bytes) reject("larger than 64 MiB");
  std::map<std::string, std::string> files = read_all(bundle);
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
      if (file == files.end() || sha256(file->second) != one.at("sha256").get<std::string>())
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

std::string zipped(const std::vector<std::pair<std::string, std::string>>& files) {
  std::string out;
  const Archive a(archive_write_new());
  archive_write_set_format_zip(a.get());
  archive_write_set_bytes_in_last_block(a.get(), 1);
  check(a.get(), archive_write_open(a.get(), &out, nullptr, append, nullptr));
  for (const auto& [name, content] : files) add(a.get(), name, content);
  check(a.get(), archive_write_close(a.get()));
  return out;
}

}  // namespace zavrek::engine::internal
