// The calls of the engine: one table, from which routes, checks and the description come. What each does
// stands in calls_cases.cpp, calls_run.cpp, calls_show.cpp and calls_results.cpp.
#pragma once

#include <map>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "engine/house.hpp"

namespace zavrek::engine::internal {

/// What came with a call: parts of its path, and fields, all checked against the table.
struct Asked {
  std::map<std::string, std::string> parts;
  nlohmann::json fields = nlohmann::json::object();
  std::string body;  ///< of a call that takes bytes
  std::string who;   ///< asks
};

/// JSON, or a file.
struct Reply {
  nlohmann::json content;
  std::string bytes, type, file;
  Reply(nlohmann::json json) : content(std::move(json)) {}  // NOLINT(google-explicit-constructor)
  Reply(std::string what, std::string media_type, std::string name)
      : bytes(std::move(what)), type(std::move(media_type)), file(std::move(name)) {}
};

struct Call {
  std::string method;  ///< "GET", "POST"
  std::string path;    ///< "/api/v1/cases/{case}/start"
  std::string says;
  struct Field {
    std::string name, type,
        says;  ///< "string", "number", "boolean", "integer", "texts", "value" (number or text)
    bool required = false;
  };
  std::vector<Field> fields;                        ///< of its query, or of its body
  Reply (*answer)(House&, const Asked&) = nullptr;  ///< null: the server itself streams it
  bool takes_bytes = false;                         ///< its body is a file, and its fields stand in the query
  /// Needs an operator's token.
  [[nodiscard]] bool acts() const { return method == "POST"; }
};

class Calls {
 public:
  [[nodiscard]] static const std::vector<Call>& table();
  /// The one for a method and a path, and the parts of it; null where there is none, and then whether there
  /// is one by another method.
  [[nodiscard]] static const Call* find(const std::string& method, const std::string& path,
                                        std::map<std::string, std::string>& parts, bool& other_method);
  /// Throws Refusal for a field that is unknown, missing or of another type.
  static void check(const Call& call, const nlohmann::json& fields);
  /// Throws Refusal.
  [[nodiscard]] static Reply answer(House& house, const Call& call, const Asked& asked);
};

// --- of the files above, by subject ----------------------------------------------------------------------
[[nodiscard]] std::vector<Call> calls_of_cases();
[[nodiscard]] std::vector<Call> calls_of_run();
[[nodiscard]] std::vector<Call> calls_of_show();
[[nodiscard]] std::vector<Call> calls_of_results();

// --- what they share -------------------------------------------------------------------------------------
[[nodiscard]] std::vector<std::string> split(const std::string& text, char by);
/// A text with a unit, "10 ms"; `otherwise` where the field is left out. Throws Refusal.
[[nodiscard]] double quantity_of(const nlohmann::json& fields, const char* name, const char* unit,
                                 double otherwise);
[[nodiscard]] std::vector<std::string> texts_of(const nlohmann::json& fields, const char* name);
/// State of the run: what `GET /api/v1/run` and the stream say.
[[nodiscard]] nlohmann::json status_of(const House& house);
/// Least and greatest of signals per pixel. Throws Refusal.
[[nodiscard]] nlohmann::json curves_of(const Traces& traces, const std::vector<std::string>& signals,
                                       double from_s, double until_s, int pixels);

}  // namespace zavrek::engine::internal
