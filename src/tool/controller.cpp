#include <cmath>
#include <iostream>
#include <memory>
#include <optional>
#include <string>

#include <fmt/format.h>

#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/record.hpp"

namespace zavrek::tool {
namespace {

std::optional<wire::ControlKey> key_in(const std::string& file) {
  if (file.empty()) return std::nullopt;
  if (file != "-") return wire::parse_key(record::read_file(file));
  std::string text;
  std::getline(std::cin, text);
  return wire::parse_key(text);
}

/// By the clock it looks for the next question from shortly before that is due; where the kernel stops
/// threads that never sleep, it sleeps until then.
std::unique_ptr<wire::ControlWay> way_of(const ControllerOptions& options, const trial::Case& all) {
  if (options.memory.empty()) {
    auto port = std::make_unique<wire::ControlPort>(options.port);
    if (!options.counts) fmt::print("controller of \"{}\" at port {}\n", all.network.title, port->port());
    return port;
  }
  auto memory = std::make_unique<wire::ControlMemory>(wire::ControlMemory::open(options.memory));
  if (options.paced) {
    const pace::RealtimeGrants grants = pace::acquire_realtime_beside();
    if (!grants.may_spin) memory->rest_between(std::llround(all.control.period_s * 1e9));
  }
  return memory;
}

}  // namespace

int controller(const ControllerOptions& options) {
  trial::Case all = casefile::read_case(options.folder);
  // This process is the control's own, and whoever started it watches how it ends.
  all.bench.libraries = "trusted";
  if (!trial::has_control(all)) {
    throw Error(Flaw{.file = (all.folder / "control.toml").string(),
                     .place = {},
                     .field = {},
                     .text = "is missing or empty; the case has no control to run"});
  }
  const std::vector<std::string> signals = emt::compile(all.network).signal_names();
  const auto make = [&] { return control::Controller(all.control, signals, bench::own_maker(all)); };
  const std::optional<wire::ControlKey> key = key_in(options.key);
  const std::unique_ptr<wire::ControlWay> way = way_of(options, all);
  std::fflush(stdout);
  const bench::Account account = bench::serve_controller(make, *way, stop_on_signal(), key);
  if (options.counts)
    fmt::print("{}", bench::to_lines(account));
  else
    fmt::print("{}\n", bench::to_string(account, all.control.period_s));
  return done;
}

}  // namespace zavrek::tool
