// The calls of the engine: one table, from which routes, checks and the description come.
#pragma once

#include <atomic>
#include <map>
#include <mutex>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "engine/session.hpp"

namespace zavrek::engine::internal {

/// Why a call is not followed: HTTP status, the field that is wrong, and what is.
struct Refusal {
  int status = 400;
  std::string field, text;
};

struct Call {
  std::string method;  ///< "GET", "POST"
  std::string path;    ///< "/api/v1/cases/{case}/start"
  bool acts = false;   ///< needs an operator's token
  std::string says;
  struct Field {
    std::string name, type, says;  ///< type: "string", "number", "boolean", "integer"
    bool required = false;
  };
  std::vector<Field> fields;  ///< of its query, or of its body
};

/// What came with a call: parts of its path, and fields, all checked against the table.
struct Asked {
  std::map<std::string, std::string> parts;
  nlohmann::json fields = nlohmann::json::object();
};

/// By any number of threads.
class Calls {
 public:
  explicit Calls(std::vector<std::unique_ptr<Session>>& sessions) : sessions_(sessions) {}
  /// Of all calls, but for the stream, which the server itself gives.
  [[nodiscard]] static const std::vector<Call>& table();
  /// The one for a method and a path, and the parts of it; null where there is none, 405 where there is
  /// another method.
  [[nodiscard]] static const Call* find(const std::string& method, const std::string& path,
                                        std::map<std::string, std::string>& parts, bool& other_method);
  /// Fields by the table: unknown, missing, of another type. Throws Refusal.
  static void check(const Call& call, const nlohmann::json& fields);
  /// Ends what runs.
  void stop_all();
  /// Throws Refusal.
  [[nodiscard]] nlohmann::json answer(const Call& call, const Asked& asked);

  [[nodiscard]] Session& session(const std::string& name) const;
  /// The one that runs, or ran last; throws Refusal where none did.
  [[nodiscard]] Session& current() const;
  [[nodiscard]] nlohmann::json status() const;
  /// Of signals by their names: least and greatest per pixel.
  [[nodiscard]] nlohmann::json traces(const std::string& signals, double from_s, double until_s,
                                      int pixels) const;

 private:
  [[nodiscard]] nlohmann::json describe(const Session& session) const;
  [[nodiscard]] nlohmann::json ask(const nlohmann::json& fields);
  [[nodiscard]] nlohmann::json start(Session& wanted, const nlohmann::json& fields);
  std::vector<std::unique_ptr<Session>>& sessions_;
  std::atomic<Session*> current_ = nullptr;
  std::mutex starting_;  // or stopping: one at a time; nobody else waits for it
};

}  // namespace zavrek::engine::internal
