#include <csignal>

#include <fmt/format.h>

#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/wire/control_link.hpp"

namespace zavrek::tool {
namespace {

volatile bool stop_requested = false;

}  // namespace

int controller(const ControllerOptions& options) {
  const trial::Case all = casefile::read_case(options.folder);
  if (!trial::has_control(all)) {
    throw Error(Flaw{.file = (all.folder / "control.toml").string(),
                     .place = {},
                     .field = {},
                     .text = "is missing or empty; the case has no control to run"});
  }
  const std::vector<std::string> signals = emt::compile(all.network).signal_names();
  const auto make = [&] { return control::Controller(all.control, signals, bench::own_maker(all)); };
  std::signal(SIGTERM, [](int) { stop_requested = true; });
  std::signal(SIGINT, [](int) { stop_requested = true; });
  wire::ControlPort port(options.port);
  fmt::print("controller of \"{}\" at port {}\n", all.network.title, port.port());
  std::fflush(stdout);
  const wire::ControlCounts counts = wire::serve_controller(make, port, stop_requested);
  fmt::print("{} periods, {} messages malformed\n", counts.periods, counts.malformed);
  return done;
}

}  // namespace zavrek::tool
