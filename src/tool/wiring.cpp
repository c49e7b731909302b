#include "zavrek/bench/wiring.hpp"

#include <filesystem>

#include <fmt/format.h>

#include "tool/json.hpp"
#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/record.hpp"
#include "zavrek/report.hpp"

namespace zavrek::tool {
namespace {

nlohmann::json to_json(const bench::Wire& wire) {
  return {{"device", wire.device},        {"port", wire.port},     {"card", wire.card},
          {"channel", wire.channel},      {"signal", wire.signal}, {"input", wire.input},
          {"terminal", wire.terminal},    {"ratio", wire.ratio},   {"rated", wire.rated},
          {"full_scale", wire.full_scale}};
}

const char* word_of(bench::Proof::Verdict verdict) {
  switch (verdict) {
    case bench::Proof::Verdict::passed:
      return "passed";
    case bench::Proof::Verdict::failed:
      return "failed";
    case bench::Proof::Verdict::not_proven:
      break;
  }
  return "not proven";
}

trial::Case case_with_terminals(const std::string& folder) {
  trial::Case all = casefile::read_case(folder);
  if (bench::wires_of(all).empty())
    throw Error(fmt::format(
        "{}: its bench has no terminals; `zavrek describe analogue_out` says how they are written", folder));
  return all;
}

}  // namespace

int wiring(const WiringOptions& options) {
  const trial::Case all = case_with_terminals(options.folder);
  const std::vector<bench::Wire> wires = bench::wires_of(all);
  const std::vector<std::string> flaws = bench::wiring_flaws(all);
  if (!options.compare.empty()) {
    const auto found = bench::differences(wires, record::read_file(options.compare), options.compare);
    for (const std::string& one : found) fmt::print("{}\n", one);
    if (found.empty()) fmt::print("{} agrees with the bench: {} channels\n", options.compare, wires.size());
    return found.empty() ? done : failed_verdict;
  }
  if (!options.page.empty())
    record::write_file(options.page, report::wiring_page(all.network.title, wires, flaws));
  if (options.json) {
    nlohmann::json out{{"wires", nlohmann::json::array()}, {"flaws", flaws}};
    for (const bench::Wire& wire : wires) out["wires"].push_back(to_json(wire));
    fmt::print("{}\n", printed("wiring", out));
  } else if (options.csv) {
    fmt::print("{}", bench::to_csv(wires));
  } else {
    fmt::print("{}", bench::to_string(wires));
    for (const std::string& flaw : flaws) fmt::print("FAULT {}\n", flaw);
    if (!options.page.empty()) fmt::print("page: {}\n", options.page);
  }
  return flaws.empty() ? done : failed_verdict;
}

int prove(const ProveOptions& options) {
  const trial::Case all = case_with_terminals(options.folder);
  bench::ProofOptions how;
  how.program = std::filesystem::read_symlink("/proc/self/exe");
  how.tolerance = share("--tolerance", options.tolerance);
  how.each_s = parse_quantity_as(options.each, "s");
  how.stop = &stop_on_signal();
  const std::vector<bench::Proof> proofs = bench::prove(all, how);
  int passed = 0, failed = 0;
  nlohmann::json out = nlohmann::json::array();
  for (const bench::Proof& proof : proofs) {
    passed += proof.verdict == bench::Proof::Verdict::passed ? 1 : 0;
    failed += proof.verdict == bench::Proof::Verdict::failed ? 1 : 0;
    nlohmann::json one = to_json(proof.wire);
    one["applied"] = proof.applied;
    one["found"] = proof.found;
    one["verdict"] = word_of(proof.verdict);
    one["remark"] = proof.remark;
    out.push_back(std::move(one));
  }
  if (options.json)
    fmt::print("{}\n", printed("prove", out));
  else
    fmt::print("{}{} of {} proven, {} wrong\n", bench::to_string(proofs), passed, proofs.size(), failed);
  return failed > 0 ? failed_verdict : done;
}

}  // namespace zavrek::tool
