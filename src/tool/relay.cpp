#include <csignal>

#include <fmt/format.h>

#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::tool {
namespace {

volatile bool stop_requested = false;

}  // namespace

int relay(const RelayOptions& options) {
  const protection::RelaySettings settings = casefile::read_relay_settings(options.settings);
  wire::StandInPorts ports = options.ports;
  ports.frequency_Hz = parse_quantity_as(options.frequency, "Hz");
  ports.rate_Hz = 80 * ports.frequency_Hz;
  std::signal(SIGTERM, [](int) { stop_requested = true; });
  std::signal(SIGINT, [](int) { stop_requested = true; });
  const wire::Medium medium = options.medium == "raw"        ? wire::Medium::raw
                              : options.medium == "datagram" ? wire::Medium::datagram
                                                             : wire::Medium::automatic;
  const auto counts = wire::run_stand_in(settings, ports, options.interface, medium, stop_requested);
  fmt::print("{}: {} samples over {}; {} lost, {} frames malformed\n", ports.name, counts.samples,
             counts.medium, counts.lost, counts.malformed);
  return done;
}

}  // namespace zavrek::tool
