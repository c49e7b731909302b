#pragma once

#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "report/json.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::tool {

/// As it is printed, headed by what its shape is called (docs/json.md): "zavrek check 1". Letters of paths
/// that are no UTF-8 are replaced.
[[nodiscard]] inline std::string printed(const std::string& verb, nlohmann::json value) {
  if (!value.contains("format")) value["format"] = "zavrek " + verb + " 1";
  return value.dump(2, ' ', false, nlohmann::json::error_handler_t::replace);
}

using report::causes_json;
using report::ports_json;
/// The likeliest of them; `of_what` they explain: "verdicts".
void print_causes(const std::vector<trial::Explanation>& causes, const std::string& of_what);
using report::punctuality_json;

}  // namespace zavrek::tool
