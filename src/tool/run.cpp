#include <cmath>

#include <fmt/format.h>

#include "tool/json.hpp"
#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/limits.hpp"
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

/// A record that is longer goes to disk as it grows.
constexpr double most_in_memory_s = 60;

void write_record(const trial::TrialResult& result, const std::filesystem::path& path) {
  constexpr auto encoding = record::Encoding::binary;
  if (result.rows)
    record::write_record(result.record, *result.rows, path, encoding);
  else
    record::write_record(result.record, path, encoding);
}

}  // namespace

double positive_time(const std::string& option, const std::string& text) {
  const double seconds = parse_quantity_as(text, "s");
  if (!(seconds > 0)) throw Error(fmt::format("{}: \"{}\" is no time above zero", option, text));
  return seconds;
}

double share(const std::string& option, const std::string& text, double least, double most) {
  const double value = parse_quantity_as(text, "");
  if (value >= 1 && text.find('%') == std::string::npos)
    throw Error(fmt::format("{}: \"{}\" may be a hundredth or the whole; write \"{} %\" or a number below 1",
                            option, text, text));
  if (!(value >= least && value <= most))
    throw Error(fmt::format("{}: a share from {:g} % to {:g} % is wanted, not {}", option, 100 * least,
                            100 * most, text));
  return value;
}

int run(const RunOptions& options) {
  trial::Case all = casefile::read_case(options.folder);
  bench::open_laws(all);
  const bool recorded = !options.record.empty(), drawn = !options.figure.empty();
  if (recorded || drawn) record_signals(all, options.signals);
  const double duration_s = options.until_stopped ? 0 : positive_time("--for", options.duration);
  const double kept_s = options.until_stopped ? positive_time("--keep", options.keep)
                        : recorded || drawn   ? duration_s
                                              : 0;
  trial::RunOptions how{options.place,
                        {},
                        options.pace == "free",
                        std::filesystem::read_symlink("/proc/self/exe"),
                        options.cores};
  how.stop = &stop_on_signal();
  if (!options.captures.empty()) how.captures_in = options.captures;
  if (kept_s > most_in_memory_s && drawn)
    throw Error(
        fmt::format("--figure: {:.0f} s are drawn at most; record them, and draw a part with "
                    "\"zavrek plot\"",
                    most_in_memory_s));
  if (kept_s > most_in_memory_s && !options.until_stopped)
    how.rows_in = std::filesystem::absolute(options.record).parent_path();
  std::vector<trial::Operation> operations;
  for (const std::string& one : options.at) operations.push_back(trial::operation_of(one));
  const trial::TrialResult result = trial::run_undisturbed(all, duration_s, kept_s, how, operations);
  if (recorded) write_record(result, options.record);
  if (drawn) report::draw_record(result.record, all.network.title, options.figure);
  if (options.json) {
    nlohmann::json out = report::result_json(result);
    for (const char* of_trials : {"name", "passed", "verdicts", "findings", "not_judged", "inception_s",
                                  "fault_current_A", "repeats"})
      out.erase(of_trials);
    out["case"] = all.folder.string();
    out["notes"] = result.notes;
    out["events"] = nlohmann::json::array();
    for (const auto& event : result.record.events)
      out["events"].push_back({{"time_s", event.time_s}, {"text", event.text}});
    fmt::print("{}\n", printed("run", std::move(out)));
    return result.failure.empty() ? done : result.interrupted ? interrupted : failed_verdict;
  }
  if (!result.medium.empty()) fmt::print("wire: {}\n", result.medium);
  fmt::print("{}\n", to_string(result.timing));
  if (!result.accounts.empty()) fmt::print("{}\n", bench::to_string(result.accounts, result.step_s));
  for (const auto* list : {&result.notes, &result.remarks}) {
    for (const std::string& note : *list) fmt::print("  note: {}\n", note);
  }
  for (const auto& event : result.record.events) fmt::print("  {:.4f} s  {}\n", event.time_s, event.text);
  if (result.failure.empty()) return done;
  fmt::print(stderr, "{}\n", result.failure);
  if (result.interrupted) return interrupted;
  return failed_verdict;
}

int plot(const PlotOptions& options) {
  record::Record read = record::read_record(options.record);
  if (!options.from.empty() || !options.until.empty()) {
    const double from_s = options.from.empty() ? -limits::record_s : parse_quantity_as(options.from, "s");
    const double until_s = options.until.empty() ? limits::record_s : parse_quantity_as(options.until, "s");
    read = record::part_of(read, from_s, until_s);
  }
  const std::string figure = !options.figure.empty()
                                 ? options.figure
                                 : std::filesystem::path(options.record).replace_extension(".png").string();
  report::draw_record(read, options.title.empty() ? read.station : options.title, figure, options.panels);
  fmt::print("{}\n", figure);
  return done;
}

}  // namespace zavrek::tool
