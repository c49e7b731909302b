// What an engine keeps on the disk: cases that were sent, and results, whole at any instant.
#pragma once

#include <filesystem>
#include <mutex>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

namespace zavrek::engine::internal {

/// A result stands in a folder of its own. It counts as finished once its `result.json` is there, which is
/// written last and at once.
class Store {
 public:
  /// Makes the folder. Throws Error when another engine has it, or when it cannot be written.
  explicit Store(std::filesystem::path folder);
  ~Store();
  Store(const Store&) = delete;
  Store& operator=(const Store&) = delete;

  /// Where the case of that name is, or will be.
  [[nodiscard]] std::filesystem::path case_folder(const std::string& name) const;
  /// Cases that were sent, with the folder of each within its own.
  [[nodiscard]] std::vector<std::string> cases() const;
  /// A file in a case's folder that says where within it the case is, and its sum.
  void note_case(const std::string& name, const nlohmann::json& about);
  [[nodiscard]] nlohmann::json case_note(const std::string& name) const;
  void forget_case(const std::string& name);

  /// A new one: "0007".
  [[nodiscard]] std::string begin_result();
  [[nodiscard]] std::filesystem::path result_folder(const std::string& id) const;
  void finish_result(const std::string& id, const nlohmann::json& about);
  /// Finished ones, the latest first.
  [[nodiscard]] std::vector<nlohmann::json> results() const;
  /// Null for one that is not there.
  [[nodiscard]] nlohmann::json result(const std::string& id) const;
  [[nodiscard]] bool is_result(const std::string& id) const;
  /// Beyond so many, the oldest go.
  static constexpr std::size_t most_results = 500;

 private:
  std::filesystem::path folder_;
  int lock_ = -1;
  mutable std::mutex mutex_;
  long long next_ = 1;
};

/// Beside it, then renamed: whole or not there, whatever ends the engine.
void write_whole(const std::filesystem::path& file, const std::string& content);

}  // namespace zavrek::engine::internal
