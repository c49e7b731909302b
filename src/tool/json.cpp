#include "tool/json.hpp"

#include <fmt/format.h>

namespace zavrek::tool {

nlohmann::json ports_json(const std::vector<bench::Account>& accounts) {
  nlohmann::json ports = nlohmann::json::array();
  for (const bench::Account& a : accounts) {
    nlohmann::json port{{"port", a.port}, {"carries", a.carries}};
    for (const bench::CountOf& one : bench::counts_of_accounts()) port[one.key] = a.*one.count;
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

void print_causes(const std::vector<trial::Explanation>& causes, const std::string& of_what) {
  constexpr std::size_t likeliest = 3;
  for (std::size_t k = 0; k < causes.size() && k < likeliest; ++k)
    fmt::print("{}{}: explains {} of {} {}\n", k == 0 ? "\n" : "", causes[k].words(), causes[k].explained,
               causes[k].of, of_what);
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

}  // namespace zavrek::tool
