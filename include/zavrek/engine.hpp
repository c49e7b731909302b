// An engine: loaded cases and a running one, behind an HTTP interface. What looks at it comes and goes.
#pragma once

#include <atomic>
#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "zavrek/error.hpp"

namespace zavrek::engine {

struct EngineOptions {
  std::vector<std::filesystem::path> cases;
  int port = 0;  ///< of this computer's loopback; 0: any that is free
  /// Who has the first may look, who has the second may act too; anybody on this computer where both are
  /// empty.
  std::string viewer_token, operator_token;
  std::filesystem::path program;  ///< that has the verbs `relay` and `controller`
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

}  // namespace zavrek::engine
