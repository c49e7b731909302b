// The tool as a client of an engine; and the engines that it knows by name.
#pragma once

#include <filesystem>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

namespace zavrek::tool {

/// An engine, here or elsewhere.
struct KnownTarget {
  std::string name, address;
  std::string token;      ///< file
  std::string authority;  ///< PEM file with the certificate, or whose authority signed it
};
/// In $XDG_CONFIG_HOME/zavrek/targets.toml, or ~/.config/zavrek/targets.toml. Throws Error.
[[nodiscard]] std::vector<KnownTarget> known_targets();
/// Adds it, in place of another of its name.
void remember(const KnownTarget& target);
/// By an address or a known name. Throws Error with the nearest.
[[nodiscard]] KnownTarget target_called(const std::string& name_or_address);

class EngineClient {
 public:
  explicit EngineClient(const KnownTarget& target);
  ~EngineClient();
  EngineClient(const EngineClient&) = delete;
  EngineClient& operator=(const EngineClient&) = delete;
  /// With a body: POST. Throws Error with what the engine says.
  nlohmann::json call(const std::string& path, const nlohmann::json* body = nullptr);
  /// A file that it gives.
  std::string fetch(const std::string& path);
  /// A file that it takes.
  nlohmann::json send(const std::string& path, const std::string& bytes);
  /// Events of the stream until it ends, `take` says so, or the tool is interrupted.
  void watch(const std::string& signals,
             const std::function<bool(const std::string& kind, const nlohmann::json& data)>& take);

 private:
  struct Http;
  std::unique_ptr<Http> http_;
  std::string address_;
};

/// RFC 3986, 2.1
[[nodiscard]] std::string in_a_path(const std::string& text);
/// Of a folder, under a name ("" for its own): sent where the engine does not have the same already. Its name
/// there.
std::string send_case(EngineClient& client, const std::filesystem::path& folder, const std::string& name);
/// "veskar: running, 1.234 s", and its timing once it has ended.
void print_run_state(const nlohmann::json& run);

}  // namespace zavrek::tool
