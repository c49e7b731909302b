#include <csignal>
#include <memory>

#include <fmt/format.h>

#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::tool {
namespace {

volatile bool stop_requested = false;

struct Options {
  std::string settings;
  std::string interface = "lo";
  std::string medium = "automatic";
  std::string frequency = "50 Hz";
  wire::StandInPorts ports;
};

}  // namespace

void add_relay(CLI::App& app, int& exit_code) {
  auto options = std::make_shared<Options>();
  CLI::App* verb = app.add_subcommand(
      "relay", "an overcurrent relay as a process of its own: sampled values in, GOOSE out");
  verb->add_option("settings", options->settings, "its settings file")->required();
  verb->add_option("--name", options->ports.name, "its name, and the identifier of its GOOSE");
  verb->add_option("--interface", options->interface, "network interface");
  verb->add_option("--medium", options->medium)->check(CLI::IsMember({"automatic", "raw", "datagram"}));
  verb->add_option("--stream", options->ports.stream_id, "identifier of the stream that it reads");
  verb->add_option("--stream-appid", options->ports.stream_appid, "application identifier of that stream");
  verb->add_option("--goose-appid", options->ports.goose_appid, "application identifier of its GOOSE");
  verb->add_option("--frequency", options->frequency,
                   "nominal frequency; the stream has 80 samples per cycle");
  verb->callback([options, &exit_code] {
    const protection::RelaySettings settings = casefile::read_relay_settings(options->settings);
    options->ports.frequency_Hz = parse_quantity_as(options->frequency, "Hz");
    options->ports.rate_Hz = 80 * options->ports.frequency_Hz;
    std::signal(SIGTERM, [](int) { stop_requested = true; });
    std::signal(SIGINT, [](int) { stop_requested = true; });
    const wire::Medium medium = options->medium == "raw"        ? wire::Medium::raw
                                : options->medium == "datagram" ? wire::Medium::datagram
                                                                : wire::Medium::automatic;
    const auto counts =
        wire::run_stand_in(settings, options->ports, options->interface, medium, stop_requested);
    fmt::print("{}: {} samples over {}; {} lost, {} frames malformed\n", options->ports.name, counts.samples,
               counts.medium, counts.lost, counts.malformed);
    exit_code = done;
  });
}

}  // namespace zavrek::tool
