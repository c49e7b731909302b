#pragma once

#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "zavrek/bench/account.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::tool {

/// As it is printed; letters of paths that are no UTF-8 are replaced.
[[nodiscard]] inline std::string printed(const nlohmann::json& json) {
  return json.dump(2, ' ', false, nlohmann::json::error_handler_t::replace);
}

[[nodiscard]] nlohmann::json ports_json(const std::vector<bench::Account>& accounts);
[[nodiscard]] nlohmann::json causes_json(const std::vector<trial::Explanation>& causes);
/// The likeliest of them; `of_what` they explain: "verdicts".
void print_causes(const std::vector<trial::Explanation>& causes, const std::string& of_what);
[[nodiscard]] nlohmann::json punctuality_json(const pace::Punctuality& kept);

}  // namespace zavrek::tool
