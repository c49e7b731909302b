#pragma once

#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "report/json.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::tool {

/// As it is printed; letters of paths that are no UTF-8 are replaced.
[[nodiscard]] inline std::string printed(const nlohmann::json& value) {
  return value.dump(2, ' ', false, nlohmann::json::error_handler_t::replace);
}

using report::causes_json;
using report::ports_json;
/// The likeliest of them; `of_what` they explain: "verdicts".
void print_causes(const std::vector<trial::Explanation>& causes, const std::string& of_what);
using report::punctuality_json;

}  // namespace zavrek::tool
