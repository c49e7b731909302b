#include <cmath>

#include <fmt/format.h>

#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/report.hpp"

namespace zavrek::tool {
namespace {

/// What is recorded besides the streams: as told, or all voltages and currents where nothing would be.
void record_signals(trial::Case& all, const std::vector<std::string>& signals) {
  const std::vector<std::string> more =
      signals.empty() && all.bench.all<bench::Stream>().empty() && all.bench.record.empty()
          ? emt::voltages_and_currents(emt::compile(all.network))
          : signals;
  all.bench.record.insert(all.bench.record.end(), more.begin(), more.end());
}

}  // namespace

double positive_time(const std::string& option, const std::string& text) {
  const double seconds = parse_quantity_as(text, "s");
  if (!(seconds > 0)) throw Error(fmt::format("{}: \"{}\" is no time above zero", option, text));
  return seconds;
}

int run(const RunOptions& options) {
  trial::Case all = casefile::read_case(options.folder);
  if (!options.record.empty() || !options.figure.empty()) record_signals(all, options.signals);
  trial::Trial quiet{.name = "run",
                     .prefault_s = positive_time("--for", options.duration),
                     .postfault_s = 0,
                     .fault = {},
                     .expect = {}};
  trial::RunOptions how{options.place,
                        {},
                        options.pace == "free",
                        std::filesystem::read_symlink("/proc/self/exe"),
                        options.cores};
  how.stop = &stop_on_signal();
  const trial::TrialResult result =
      options.until_stopped ? trial::run_until_stopped(all, positive_time("--keep", options.keep), how)
                            : trial::run_trial(all, quiet, how);
  if (!result.medium.empty()) fmt::print("wire: {}\n", result.medium);
  fmt::print("{}\n", to_string(result.timing));
  if (!result.accounts.empty()) fmt::print("{}\n", bench::to_string(result.accounts, result.step_s));
  for (const auto* list : {&result.notes, &result.remarks}) {
    for (const std::string& note : *list) fmt::print("  note: {}\n", note);
  }
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
  if (result.interrupted) return interrupted;
  return failed_verdict;
}

int plot(const PlotOptions& options) {
  const record::Record read = record::read_record(options.record);
  report::draw_record(read, options.title.empty() ? read.station : options.title, options.figure,
                      options.panels);
  fmt::print("{}\n", options.figure);
  return done;
}

int fitness(const FitnessOptions& options) {
  const double step = parse_quantity_as(options.step, "s");
  if (!(step >= 1e-6)) throw Error("a step of at least 1 us can be measured");
  const pace::Timing timing =
      pace::measure_fitness(std::llround(step * 1e9), positive_time("--for", options.duration));
  fmt::print("{}\n{}\n", to_string(timing),
             timing.overruns == 0
                 ? fmt::format("idle steps of {} are held", options.step)
                 : fmt::format("idle steps of {} are missed {} times", options.step, timing.overruns));
  return done;
}

}  // namespace zavrek::tool
