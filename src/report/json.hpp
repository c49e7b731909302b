// Results as JSON: what the tool prints with --json, and what an engine answers.
#pragma once

#include <cmath>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "zavrek/bench/account.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::report {

/// JSON has no other numbers.
[[nodiscard]] inline nlohmann::json number_or_null(double value) {
  return std::isfinite(value) ? nlohmann::json(value) : nlohmann::json();
}
[[nodiscard]] nlohmann::json ports_json(const std::vector<bench::Account>& accounts);
[[nodiscard]] nlohmann::json causes_json(const std::vector<trial::Explanation>& causes);
[[nodiscard]] nlohmann::json punctuality_json(const pace::Punctuality& kept);
[[nodiscard]] nlohmann::json verdicts_json(const std::vector<trial::Verdict>& verdicts);
[[nodiscard]] nlohmann::json result_json(const trial::TrialResult& result);

}  // namespace zavrek::report
