#include <memory>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/report.hpp"

namespace zavrek::tool {
namespace {

struct Options {
  std::string folder;
  std::string duration = "1 s";
  std::string pace = "wall";
  std::string place;
  std::string record;
  std::string figure;
};

int run(const Options& options) {
  const trial::Case all = casefile::read_case(options.folder);
  trial::Trial quiet{.name = "run",
                     .prefault_s = parse_quantity_as(options.duration, "s"),
                     .postfault_s = 0,
                     .fault = {},
                     .expect = {}};
  const trial::RunOptions how{
      options.place, {}, options.pace == "free", std::filesystem::read_symlink("/proc/self/exe")};
  const trial::TrialResult result = trial::run_trial(all, quiet, how);
  if (!result.medium.empty()) fmt::print("wire: {}\n", result.medium);
  fmt::print("{}\n", to_string(result.timing));
  for (const auto& event : result.record.events) fmt::print("  {:.4f} s  {}\n", event.time_s, event.text);
  if (!options.record.empty()) {
    if (options.record.ends_with(".csv")) {
      record::write_file(options.record, record::to_csv(result.record));
    } else {
      record::write_comtrade(result.record, options.record, record::Encoding::binary);
    }
  }
  if (!options.figure.empty()) report::draw_record(result.record, all.network.title, options.figure);
  if (result.failure.empty()) return done;
  fmt::print(stderr, "{}\n", result.failure);
  return failed_verdict;
}

}  // namespace

void add_run(CLI::App& app, int& exit_code) {
  auto options = std::make_shared<Options>();
  CLI::App* verb = app.add_subcommand("run", "run a case undisturbed, with its timing table");
  verb->add_option("case", options->folder, "folder of the case")->required();
  verb->add_option("--for", options->duration, "simulated time, such as \"2 s\"");
  verb->add_option("--pace", options->pace, "wall: locked to the clock; free: as fast as it goes")
      ->check(CLI::IsMember({"wall", "free"}));
  verb->add_option("--place", options->place, "where all devices run, whatever the bench says")
      ->check(CLI::IsMember({"plant", "process", "outside"}));
  verb->add_option("--record", options->record, "write the record: NAME.cfg (COMTRADE) or NAME.csv");
  verb->add_option("--figure", options->figure, "draw the record: NAME.png or NAME.svg");
  verb->callback([options, &exit_code] { exit_code = run(*options); });
}

void add_plot(CLI::App& app, int& exit_code) {
  struct PlotOptions {
    std::string record, figure, title;
    std::size_t panels = 4;
  };
  auto options = std::make_shared<PlotOptions>();
  CLI::App* verb = app.add_subcommand("plot", "draw a COMTRADE record as PNG or SVG");
  verb->add_option("record", options->record, "its .cfg or .dat file")->required();
  verb->add_option("figure", options->figure, "NAME.png or NAME.svg")->required();
  verb->add_option("--title", options->title, "the station of the record when left out");
  verb->add_option("--panels", options->panels, "at most this many groups of signals")
      ->check(CLI::Range(1, 20));
  verb->callback([options, &exit_code] {
    const record::Record read = record::read_comtrade(options->record);
    report::draw_record(read, options->title.empty() ? read.station : options->title, options->figure,
                        options->panels);
    fmt::print("{}\n", options->figure);
    exit_code = done;
  });
}

void add_fitness(CLI::App& app, int& exit_code) {
  struct FitnessOptions {
    std::string step = "50 us", duration = "3 s";
  };
  auto options = std::make_shared<FitnessOptions>();
  CLI::App* verb = app.add_subcommand("fitness", "measure whether this computer can hold a step");
  verb->add_option("--step", options->step, "the step, such as \"50 us\"");
  verb->add_option("--for", options->duration, "how long to measure");
  verb->callback([options, &exit_code] {
    const double step = parse_quantity_as(options->step, "s");
    if (!(step >= 1e-6)) throw Error("a step of at least 1 us can be measured");
    const pace::Timing timing = pace::measure_fitness(static_cast<std::int64_t>(step * 1e9 + 0.5),
                                                      parse_quantity_as(options->duration, "s"));
    fmt::print("{}\n{}\n", to_string(timing),
               timing.overruns == 0
                   ? fmt::format("idle steps of {} are held", options->step)
                   : fmt::format("idle steps of {} are missed {} times", options->step, timing.overruns));
    exit_code = done;
  });
}

}  // namespace zavrek::tool
