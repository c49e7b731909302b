#include "zavrek/report/provenance.hpp"

#include <algorithm>
#include <fstream>

#include <sys/utsname.h>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "report/json.hpp"
#include "report/markup.hpp"
#include "zavrek/record.hpp"

namespace zavrek::report {
namespace {

std::string processor() {
  std::ifstream file("/proc/cpuinfo");
  for (std::string line; std::getline(file, line);) {
    if (line.starts_with("model name")) return line.substr(std::min(line.find(':') + 2, line.size()));
  }
  return "processor unknown";
}

std::string machine() {
  utsname name{};
  if (uname(&name) != 0) return processor();
  return fmt::format("{}, {} {}, {}", name.nodename, name.sysname, name.release, processor());
}

std::string time_source(const bench::Bench& bench) {
  if (bench.clock == "ptp") return fmt::format("PTP, {}", bench.clock_device);
  return bench.clock == "pulse" ? "a pulse at the full second" : "the computer's clock";
}

/// Empty where it cannot be read: a case from a text has no such file.
std::string digest_of(const std::filesystem::path& file) {
  try {
    return record::sha256(record::read_file(file));
  } catch (const Error&) {
    return {};
  }
}

/// "R1 trip: 5 %, 30 ms".
std::vector<std::string> allowed_in(const trial::Case& all) {
  std::vector<std::string> allowed;
  for (const trial::Trial& trial : all.trials) {
    for (const trial::Expectation& e : trial.expect) {
      if (e.tolerance.empty() || e.device.empty()) continue;
      std::string one = e.device + " " + e.output + ":";
      for (const std::string& text : e.tolerance) one += " " + text;
      if (std::find(allowed.begin(), allowed.end(), one) == allowed.end()) allowed.push_back(std::move(one));
    }
  }
  std::sort(allowed.begin(), allowed.end());
  return allowed;
}

}  // namespace

std::string place_words(const std::string& place) {
  return place == "plant" ? "in this process" : place == "process" ? "in a process of its own" : "outside";
}

Provenance provenance_of(const trial::Case& all, const std::string& place) {
  Provenance p{.place = all.place,
               .tested_by = all.tested_by,
               .when = internal::now_text(),
               .version = ZAVREK_VERSION,
               .machine = machine(),
               .time_source = time_source(all.bench),
               .tested = {},
               .allowed = allowed_in(all)};
  for (const bench::Device& device : all.bench.devices)
    p.tested.push_back({.name = device.name,
                        .model = device.model,
                        .serial = device.serial,
                        .where = place_words(place.empty() ? device.place : place),
                        .settings = device.settings,
                        .sha256 = digest_of(all.folder / device.settings),
                        .approved = device.approved == device.settings ? "" : device.approved});
  return p;
}

Provenance provenance_of(Provenance::Tested relay, const std::string& place, const std::string& tested_by,
                         std::vector<std::string> allowed) {
  relay.sha256 = digest_of(relay.settings);
  return {.place = place,
          .tested_by = tested_by,
          .when = internal::now_text(),
          .version = ZAVREK_VERSION,
          .machine = machine(),
          .time_source = {},
          .tested = {std::move(relay)},
          .allowed = std::move(allowed)};
}

std::string_view words(Change::Kind kind) {
  constexpr std::string_view all[] = {"fails now",   "passes now", "less margin",
                                      "more margin", "is new",     "is gone"};
  return all[static_cast<std::size_t>(kind)];
}

namespace {

using nlohmann::json;

struct Judged {
  std::string trial, expectation;
  const json* verdict;
};

std::vector<Judged> judged_in(const json& results) {
  std::vector<Judged> all;
  for (const json& trial : results.at("trials")) {
    for (const json& verdict : trial.at("verdicts"))
      all.push_back({trial.at("name"), verdict.at("expectation"), &verdict});
  }
  return all;
}

std::string measured_in(const json& verdict) {
  const std::string margin = verdict.value("margin", "");
  return verdict.value("measured", "") + (margin.empty() ? "" : ", margin " + margin);
}

double left_in(const json& verdict) {
  const auto left = verdict.find("left");
  return left != verdict.end() && left->is_number() ? left->get<double>() : NAN;
}

}  // namespace

std::vector<Change> changes_since(const json& earlier, const json& now) {
  constexpr double noticed = 0.1;  // of the tolerance
  if (!earlier.is_object() || earlier.value("format", "") != "zavrek results 1")
    throw Error("holds no results of trials; a results.json is wanted, or the folder that it is in");
  try {
    const std::vector<Judged> before = judged_in(earlier), after = judged_in(now);
    const auto find = [](const std::vector<Judged>& in, const Judged& one, std::size_t nth) {
      for (const Judged& other : in) {
        if (other.trial == one.trial && other.expectation == one.expectation && nth-- == 0)
          return other.verdict;
      }
      return static_cast<const json*>(nullptr);
    };
    // Expectations of one trial may be worded alike: they are told apart by their order.
    const auto order_in = [](const std::vector<Judged>& in, std::size_t k) {
      return static_cast<std::size_t>(
          std::count_if(in.begin(), in.begin() + static_cast<std::ptrdiff_t>(k), [&](const Judged& other) {
            return other.trial == in[k].trial && other.expectation == in[k].expectation;
          }));
    };
    std::vector<Change> changes;
    for (std::size_t k = 0; k < after.size(); ++k) {
      const Judged& one = after[k];
      const json* was = find(before, one, order_in(after, k));
      Change change{{}, one.trial, one.expectation, was ? measured_in(*was) : "", measured_in(*one.verdict)};
      if (!was) {
        change.kind = Change::Kind::added;
      } else if (was->at("passed") != one.verdict->at("passed")) {
        change.kind = one.verdict->at("passed") ? Change::Kind::mended : Change::Kind::failed;
      } else if (const double moved = left_in(*one.verdict) - left_in(*was); std::abs(moved) >= noticed) {
        change.kind = moved < 0 ? Change::Kind::worse : Change::Kind::better;
      } else {
        continue;
      }
      changes.push_back(std::move(change));
    }
    for (std::size_t k = 0; k < before.size(); ++k) {
      if (!find(after, before[k], order_in(before, k)))
        changes.push_back({Change::Kind::gone, before[k].trial, before[k].expectation,
                           measured_in(*before[k].verdict), ""});
    }
    std::stable_sort(changes.begin(), changes.end(),
                     [](const Change& a, const Change& b) { return a.kind < b.kind; });
    return changes;
  } catch (const json::exception& error) {
    throw Error(std::string("holds no results of trials: ") + error.what());
  }
}

json provenance_json(const Provenance& p) {
  json tested = json::array();
  for (const Provenance::Tested& one : p.tested)
    tested.push_back({{"name", one.name},
                      {"model", one.model},
                      {"serial", one.serial},
                      {"where", one.where},
                      {"settings", one.settings},
                      {"sha256", one.sha256},
                      {"approved", one.approved}});
  return {{"place", p.place},
          {"tested_by", p.tested_by},
          {"when", p.when},
          {"version", p.version},
          {"machine", p.machine},
          {"time_source", p.time_source},
          {"tested", std::move(tested)},
          {"allowed", p.allowed}};
}

json results_json(const trial::Case& all, const std::vector<trial::TrialResult>& results,
                  const std::vector<trial::Explanation>& causes, const Provenance& p) {
  json trials = json::array();
  for (std::size_t k = 0; k < results.size(); ++k) {
    json one = result_json(results[k]);
    one["number"] = k + 1;
    for (std::size_t v = 0; v < one["verdicts"].size(); ++v)
      one["verdicts"][v]["number"] = fmt::format("{}.{}", k + 1, v + 1);
    trials.push_back(std::move(one));
  }
  return {{"format", "zavrek results 1"},
          {"case", all.folder.string()},
          {"title", all.network.title},
          {"passed", std::all_of(results.begin(), results.end(), [](const auto& r) { return r.passed(); })},
          {"provenance", provenance_json(p)},
          {"trials", std::move(trials)},
          {"causes", causes_json(causes)}};
}

}  // namespace zavrek::report
