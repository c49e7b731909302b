#include <fmt/format.h>

#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::tool {
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
  wire::ControlPort port(options.port);
  fmt::print("controller of \"{}\" at port {}\n", all.network.title, port.port());
  std::fflush(stdout);
  const bench::ControlCounts counts = bench::serve_controller(make, port, stop_on_signal());
  fmt::print("{} periods, {} messages malformed\n", counts.periods, counts.malformed);
  return done;
}

}  // namespace zavrek::tool
