#include "record/archive_file.hpp"

#include <algorithm>
#include <array>
#include <filesystem>
#include <memory>

#include <archive.h>
#include <archive_entry.h>
#include <fmt/format.h>

#include "zavrek/error.hpp"

namespace zavrek::record::internal {
namespace {

constexpr std::size_t piece_bytes = 64U << 10U;

struct ArchiveClosed {
  void operator()(archive* a) const noexcept { archive_free(a); }
};
using Archive = std::unique_ptr<archive, ArchiveClosed>;

[[noreturn]] void reject(const std::string& what, const std::string& why) { throw Error(what + ": " + why); }

void check(archive* a, int outcome, const std::string& what) {
  if (outcome < ARCHIVE_WARN)
    reject(what, archive_error_string(a) ? archive_error_string(a) : "it cannot be read");
}

void add(archive* a, const std::string& name, const std::string& content) {
  const std::unique_ptr<archive_entry, void (*)(archive_entry*)> entry(archive_entry_new(),
                                                                       archive_entry_free);
  archive_entry_set_pathname(entry.get(), name.c_str());
  archive_entry_set_size(entry.get(), static_cast<la_int64_t>(content.size()));
  archive_entry_set_filetype(entry.get(), AE_IFREG);
  archive_entry_set_perm(entry.get(), name.ends_with(".so") ? 0755 : 0644);
  archive_entry_set_mtime(entry.get(), 0, 0);
  check(a, archive_write_header(a, entry.get()), name);
  if (archive_write_data(a, content.data(), content.size()) != static_cast<la_ssize_t>(content.size()))
    reject(name, archive_error_string(a));
}

la_ssize_t append_bytes(archive*, void* into, const void* data, std::size_t size) {
  static_cast<std::string*>(into)->append(static_cast<const char*>(data), size);
  return static_cast<la_ssize_t>(size);
}

}  // namespace

std::string printable(std::string text) {
  if (text.size() > 100) text.resize(100);
  std::replace_if(
      text.begin(), text.end(), [](unsigned char c) { return c < 0x20 || c >= 0x7F; }, '?');
  return text;
}

bool stays_inside(const std::string& name) {
  if (name.empty() || name.size() > 400 || name.front() == '/') return false;
  if (std::any_of(name.begin(), name.end(),
                  [](unsigned char c) { return c < 0x20 || c == '\\' || c == 0x7F; }))
    return false;
  const std::filesystem::path path(name);
  return std::none_of(path.begin(), path.end(), [](const std::filesystem::path& part) {
    return part.empty() || part == "." || part.string().starts_with("..");
  });
}

std::string packed(const std::vector<std::pair<std::string, std::string>>& files, Packing packing) {
  std::string out;
  const Archive a(archive_write_new());
  if (packing == Packing::zip) {
    archive_write_set_format_zip(a.get());
  } else {
    archive_write_add_filter_gzip(a.get());
    archive_write_set_filter_option(a.get(), "gzip", "timestamp", nullptr);
    archive_write_set_format_pax_restricted(a.get());
  }
  archive_write_set_bytes_in_last_block(a.get(), 1);
  check(a.get(), archive_write_open(a.get(), &out, nullptr, append_bytes, nullptr), "the archive");
  for (const auto& [name, content] : files) add(a.get(), name, content);
  check(a.get(), archive_write_close(a.get()), "the archive");
  return out;
}

std::map<std::string, std::string> unpacked(std::string_view bytes, Packing packing, const std::string& what,
                                            const UnpackLimits& limits) {
  const Archive a(archive_read_new());
  if (packing == Packing::zip) {
    archive_read_support_format_zip(a.get());
  } else {
    archive_read_support_filter_gzip(a.get());
    archive_read_support_format_tar(a.get());
  }
  check(a.get(), archive_read_open_memory(a.get(), bytes.data(), bytes.size()), what);
  std::map<std::string, std::string> files;
  std::size_t size = 0;
  for (archive_entry* entry = nullptr;;) {
    const int outcome = archive_read_next_header(a.get(), &entry);
    if (outcome == ARCHIVE_EOF) break;
    check(a.get(), outcome, what);
    const char* path = archive_entry_pathname(entry);
    const std::string name = path ? path : "";
    if (packing == Packing::zip && archive_entry_filetype(entry) == AE_IFDIR) continue;
    if (!stays_inside(name)) reject(what, fmt::format("\"{}\" leads out of it", printable(name)));
    if (archive_entry_filetype(entry) != AE_IFREG || archive_entry_hardlink(entry) ||
        archive_entry_symlink(entry))
      reject(what, fmt::format("\"{}\" is no plain file", printable(name)));
    if (files.contains(name)) reject(what, fmt::format("\"{}\" is there twice", printable(name)));
    if (files.size() > limits.files) reject(what, fmt::format("more than {} files", limits.files));
    std::string& content = files[name];
    std::array<char, piece_bytes> buffer;
    for (la_ssize_t got = 0; (got = archive_read_data(a.get(), buffer.data(), buffer.size())) != 0;) {
      if (got < 0)
        reject(what, archive_error_string(a.get()) ? archive_error_string(a.get()) : "it is damaged");
      size += static_cast<std::size_t>(got);
      if (size > limits.bytes) reject(what, fmt::format("more than {} MiB unpacked", limits.bytes >> 20U));
      content.append(buffer.data(), static_cast<std::size_t>(got));
    }
  }
  return files;
}

}  // namespace zavrek::record::internal
