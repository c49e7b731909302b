// An engine: loaded cases and a running one, behind an HTTP interface. What looks at it comes and goes.
#pragma once

#include <atomic>
#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "zavrek/error.hpp"
#include "zavrek/network/field.hpp"

namespace zavrek::engine {

struct EngineOptions {
  std::vector<std::filesystem::path> cases;
  std::string listen = "127.0.0.1";  ///< address; another than the loopback's wants a certificate and tokens
  int port = 0;                      ///< 0: any that is free
  std::vector<std::string> names{};  ///< host names beside `listen` under which it may be asked for
  /// Who has the first may look, who has the second may act too; anybody on this computer where both are
  /// empty.
  std::string viewer_token, operator_token;
  std::filesystem::path certificate, key;  ///< PEM files: then it speaks TLS
  std::filesystem::path program;           ///< that has the verbs `relay` and `controller`
  std::filesystem::path store;             ///< folder of cases that were sent and of results
  bool own_libraries = false;  ///< cases that were sent may run libraries and open devices of this computer
};

class Engine {
 public:
  /// Loads the cases and takes the port. Throws Error.
  explicit Engine(const EngineOptions& options);
  ~Engine();
  Engine(const Engine&) = delete;
  Engine& operator=(const Engine&) = delete;
  /// "http://127.0.0.1:41234"
  [[nodiscard]] std::string address() const;
  /// Serves until `stop` is set; ends what runs.
  void serve(const std::atomic<bool>& stop);

 private:
  class Served;
  std::unique_ptr<Served> served_;
};

/// The calls of the interface as an OpenAPI 3 description (JSON text), from the table that makes its routes.
[[nodiscard]] std::string openapi();

/// The same for people: a line for each call, and one for each of its fields.
[[nodiscard]] std::string calls_manual();
/// Field tables of page.toml.
[[nodiscard]] std::vector<const network::Table*> page_tables();

/// The case of a folder in one file, and its SHA-256 over names and contents of all its files.
struct Bundle {
  std::string bytes, name, sha256;
};
[[nodiscard]] Bundle bundle_of(const std::filesystem::path& folder);

}  // namespace zavrek::engine
