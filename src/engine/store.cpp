#include "engine/store.hpp"

#include <algorithm>
#include <charconv>

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <fmt/format.h>

#include "zavrek/error.hpp"
#include "zavrek/record.hpp"

namespace zavrek::engine::internal {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

constexpr const char* note_name = "result.json";
constexpr const char* case_note_name = "case.json";
constexpr std::size_t id_length = 6;

bool is_number(const std::string& text) {
  return text.size() == id_length && text.find_first_not_of("0123456789") == std::string::npos;
}

json read_json(const fs::path& file) {
  if (!fs::exists(file)) return {};
  const json content = json::parse(record::read_file(file), nullptr, false);
  return content.is_discarded() ? json() : content;
}

}  // namespace

void write_whole(const fs::path& file, const std::string& content) {
  const fs::path beside = file.string() + ".part";
  const int descriptor = ::open(beside.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
  if (descriptor < 0) throw Error(beside.string() + " cannot be written");
  bool well = true;
  for (std::size_t done = 0; well && done < content.size();) {
    const ssize_t wrote = ::write(descriptor, content.data() + done, content.size() - done);
    well = wrote > 0;
    done += well ? static_cast<std::size_t>(wrote) : 0;
  }
  well = ::fsync(descriptor) == 0 && well;
  ::close(descriptor);
  std::error_code error;
  if (well) fs::rename(beside, file, error);
  if (!well || error) throw Error(file.string() + " cannot be written; is the disk full?");
}

Store::Store(fs::path folder) : folder_(std::move(folder)) {
  std::error_code error;
  fs::create_directories(folder_ / "cases", error);
  if (!error) fs::create_directories(folder_ / "results", error);
  if (error) throw Error(fmt::format("--store: {} cannot be made ({})", folder_.string(), error.message()));
  lock_ = ::open((folder_ / "engine.lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600);
  if (lock_ < 0 || ::flock(lock_, LOCK_EX | LOCK_NB) != 0)
    throw Error(fmt::format("--store: {} is another engine's; name another folder", folder_.string()));
  for (const auto& entry : fs::directory_iterator(folder_ / "cases")) {  // begun, and never whole
    if (entry.path().filename().string().front() == '.') fs::remove_all(entry.path(), error);
  }
  for (const auto& entry : fs::directory_iterator(folder_ / "results")) {
    const std::string name = entry.path().filename().string();
    long long number = 0;
    if (is_number(name)) std::from_chars(name.data(), name.data() + name.size(), number);
    next_ = std::max(next_, number + 1);
  }
}

Store::~Store() {
  if (lock_ >= 0) ::close(lock_);
}

fs::path Store::case_folder(const std::string& name) const { return folder_ / "cases" / name; }

std::vector<std::string> Store::cases() const {
  std::vector<std::string> names;
  for (const auto& entry : fs::directory_iterator(folder_ / "cases")) {
    const std::string name = entry.path().filename().string();
    if (name.front() != '.' && fs::exists(entry.path() / case_note_name)) names.push_back(name);
  }
  std::sort(names.begin(), names.end());
  return names;
}

void Store::note_case(const std::string& name, const json& about) {
  write_whole(case_folder(name) / case_note_name, about.dump(1));
}
json Store::case_note(const std::string& name) const { return read_json(case_folder(name) / case_note_name); }
void Store::forget_case(const std::string& name) {
  std::error_code ignored;
  fs::remove_all(case_folder(name), ignored);
}

std::string Store::begin_result() {
  const std::lock_guard lock(mutex_);
  std::string id = fmt::format("{:0{}}", next_++, id_length);
  fs::create_directories(result_folder(id));
  return id;
}
fs::path Store::result_folder(const std::string& id) const { return folder_ / "results" / id; }

void Store::finish_result(const std::string& id, const json& about) {
  write_whole(result_folder(id) / note_name, about.dump(1, ' ', false, json::error_handler_t::replace));
  const std::lock_guard lock(mutex_);
  std::vector<std::string> ids;
  for (const auto& entry : fs::directory_iterator(folder_ / "results")) {
    if (is_number(entry.path().filename().string())) ids.push_back(entry.path().filename().string());
  }
  if (ids.size() <= most_results) return;
  std::sort(ids.begin(), ids.end());
  std::error_code ignored;
  for (std::size_t k = 0; k + most_results < ids.size(); ++k) fs::remove_all(result_folder(ids[k]), ignored);
}

std::vector<json> Store::results() const {
  std::vector<json> all;
  for (const auto& entry : fs::directory_iterator(folder_ / "results")) {
    const std::string id = entry.path().filename().string();
    if (json one = result(id); !one.is_null()) all.push_back(std::move(one));
  }
  std::sort(all.begin(), all.end(), [](const json& a, const json& b) { return a["id"] > b["id"]; });
  return all;
}

json Store::result(const std::string& id) const {
  if (!is_number(id)) return {};
  json about = read_json(result_folder(id) / note_name);
  if (about.is_object()) about["id"] = id;
  return about.is_object() ? about : json();
}
bool Store::is_result(const std::string& id) const {
  return is_number(id) && fs::exists(result_folder(id) / note_name);
}

}  // namespace zavrek::engine::internal
