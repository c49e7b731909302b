#include "report/json.hpp"

namespace zavrek::report {

nlohmann::json ports_json(const std::vector<bench::Account>& accounts) {
  nlohmann::json ports = nlohmann::json::array();
  for (const bench::Account& a : accounts) {
    nlohmann::json port{{"port", a.port}, {"carries", a.carries}};
    for (const bench::CountOf& one : bench::counts_of_accounts())
      port[one.key] = static_cast<long long>(a.*one.count);
    if (a.delay.count() > 0)
      port["delay"] = {{"of", a.delay_of},
                       {"median_us", 1e-3 * static_cast<double>(a.delay.quantile_ns(0.5))},
                       {"most_us", 1e-3 * static_cast<double>(a.delay.max_ns())}};
    ports.push_back(std::move(port));
  }
  return ports;
}

nlohmann::json causes_json(const std::vector<trial::Explanation>& causes) {
  nlohmann::json list = nlohmann::json::array();
  for (const trial::Explanation& cause : causes)
    list.push_back({{"cause", cause.words()}, {"explained", cause.explained}, {"of", cause.of}});
  return list;
}

nlohmann::json punctuality_json(const pace::Punctuality& kept) {
  return {{"paced", kept.paced},
          {"steps", kept.steps},
          {"late_steps", kept.late_steps},
          {"late_share", kept.late_share()},
          {"longest_late_steps", kept.longest_late_steps},
          {"longest_late_s", kept.longest_late_s},
          {"worst_late_s", kept.worst_late_s},
          {"worst_at_s", kept.worst_at_s},
          {"held_back_s", kept.held_back_s}};
}

nlohmann::json verdicts_json(const std::vector<trial::Verdict>& all) {
  nlohmann::json verdicts = nlohmann::json::array();
  for (const trial::Verdict& v : all) {
    verdicts.push_back({{"expectation", v.expectation},
                        {"expected", v.expected},
                        {"measured", v.measured},
                        {"margin", v.margin},
                        {"held_back", v.held_back},
                        {"doubt", v.doubt},
                        {"uncertain", number_or_null(v.uncertain)},
                        {"at_edge", v.at_edge()},
                        {"value", number_or_null(v.value)},
                        {"spare", number_or_null(v.spare)},
                        {"left", number_or_null(v.left)},
                        {"passed", v.passed}});
  }
  return verdicts;
}

nlohmann::json result_json(const trial::TrialResult& result) {
  nlohmann::json findings = nlohmann::json::array();
  for (const trial::Explanation& e : result.findings) findings.push_back(e.words());
  return {{"name", result.name},
          {"passed", result.passed()},
          {"failure", result.failure},
          {"not_judged", result.not_judged},
          {"repeats", result.repeats},
          {"inception_s", result.inception_s},
          {"fault_current_A", result.fault_current_A},
          {"medium", result.medium},
          {"overruns", result.timing.overruns},
          {"steps", result.timing.steps * result.timing.plant_steps},
          {"verdicts", verdicts_json(result.verdicts)},
          {"real_time", punctuality_json(pace::punctuality(result.timing))},
          {"ports", ports_json(result.accounts)},
          {"findings", findings},
          {"remarks", result.remarks}};
}

}  // namespace zavrek::report
