// What this computer is as a place for real time: measured, and advised.
#include <cmath>

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <nlohmann/json.hpp>

#include "tool/json.hpp"
#include "tool/verbs.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/pace/machine.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/record.hpp"

namespace zavrek::tool {
namespace {

constexpr double each_processor_s = 1;
constexpr std::size_t most_measured = 16;  // processors

struct Found {
  pace::Timing timing;
  pace::Machine machine;
  std::vector<pace::HeldUp> held;
  std::vector<pace::Advice> advice;
};

/// The last processors are those that runs take.
std::vector<pace::HeldUp> measure_processors() {
  std::vector<int> numbers = pace::processors_allowed();
  if (numbers.size() > most_measured)
    numbers.erase(numbers.begin(), numbers.end() - static_cast<std::ptrdiff_t>(most_measured));
  std::vector<pace::HeldUp> held;
  for (const int number : numbers) held.push_back(pace::measure_processor(number, each_processor_s));
  return held;
}

std::string shown(double seconds) { return print_rounded(seconds, "s", 3); }
std::string percent(double share) { return fmt::format("{:.3g} %", 100 * share); }
double in_s(std::int64_t ns) { return 1e-9 * static_cast<double>(ns); }

std::string describe(const pace::Machine& machine, int number) {
  std::vector<std::string> words;
  for (const pace::Processor& one : machine.processors) {
    if (one.number != number) continue;
    if (!one.siblings.empty())
      words.push_back(fmt::format("shares its core with {}", fmt::join(one.siblings, ", ")));
    if (!one.governor.empty()) words.push_back(one.governor);
    if (one.isolated) words.emplace_back("isolated");
    if (one.tickless) words.emplace_back("tickless");
    if (one.throttled > 0) words.push_back(fmt::format("throttled {} times", one.throttled));
    if (one.stolen_share > 0) words.push_back(percent(one.stolen_share) + " stolen since the start");
  }
  return fmt::format("{}", fmt::join(words, ", "));
}

void print_processors(const Found& found) {
  fmt::print("\n{:<12}{:>12}{:>14}{:>12}{:>20}\n", "processor", "held up /s", "of the time", "longest",
             "half-loaded from");
  for (const pace::HeldUp& held : found.held) {
    const std::int64_t least = pace::least_step_held_ns(held);
    fmt::print("{:<12}{:>12.0f}{:>14}{:>12}{:>20}  {}\n", held.processor, held.per_second(),
               percent(held.share()), shown(in_s(held.longest_ns())),
               least == 0 ? "no step" : shown(in_s(least)), describe(found.machine, held.processor));
  }
  const pace::HeldUp& best = pace::quietest(found.held);
  fmt::print("\non processor {}, {}: steps that end late by hold-ups alone\n{:<12}{:>14}{:>20}\n",
             best.processor, best.realtime ? "at real-time priority" : "at ordinary priority", "step", "idle",
             "half of it work");
  for (const double us : {5.0, 10.0, 20.0, 50.0, 100.0, 250.0, 1000.0}) {
    const auto step_ns = static_cast<std::int64_t>(1000 * us);
    fmt::print("{:<12}{:>14}{:>20}\n", shown(1e-6 * us), percent(best.late_share(step_ns, 0)),
               percent(best.late_share(step_ns, step_ns / 2)));
  }
}

void print_advice(const std::vector<pace::Advice>& advice) {
  if (!advice.empty()) fmt::print("\nwhat could be set\n");
  for (const pace::Advice& one : advice) {
    fmt::print("  {}\n", one.why);
    for (const std::string& line : one.now) fmt::print("      {}\n", line);
    if (!one.command_line.empty()) fmt::print("      kernel command line: {}\n", one.command_line);
  }
}

nlohmann::json to_json(const Found& found) {
  nlohmann::json processors = nlohmann::json::array(), advice = nlohmann::json::array(), causes;
  for (const pace::HeldUp& held : found.held)
    processors.push_back({{"processor", held.processor},
                          {"realtime", held.realtime},
                          {"held_up_per_s", held.per_second()},
                          {"held_up_share", held.share()},
                          {"longest_s", in_s(held.longest_ns())},
                          {"stolen_s", in_s(held.stolen_ns)},
                          {"least_step_s", in_s(pace::least_step_held_ns(held))}});
  for (const pace::Advice& one : found.advice)
    advice.push_back({{"why", one.why}, {"now", one.now}, {"command_line", one.command_line}});
  const pace::Timing& timing = found.timing;
  for (std::size_t k = 0; k < timing.causes.size(); ++k)
    causes[pace::to_string(static_cast<pace::Cause>(k))] = timing.causes[k];
  return {{"step_s", in_s(timing.step_ns)},
          {"steps", timing.steps},
          {"overruns", timing.overruns},
          {"why", causes},
          {"stolen_s", in_s(timing.stolen_ns)},
          {"lateness_999_s", in_s(timing.lateness.quantile_ns(0.999))},
          {"lateness_9999_s", in_s(timing.lateness.quantile_ns(0.9999))},
          {"lateness_worst_s", in_s(timing.lateness.max_ns())},
          {"virtual", found.machine.is_virtual},
          {"processors", processors},
          {"advice", advice}};
}

}  // namespace

int fitness(const FitnessOptions& options) {
  const double step = parse_quantity_as(options.step, "s");
  if (!(step >= 1e-6)) throw Error("a step of at least 1 us can be measured");
  Found found;
  found.timing = pace::measure_fitness(std::llround(step * 1e9), positive_time("--for", options.duration));
  found.machine = pace::read_machine();
  found.held = measure_processors();
  found.advice = pace::advise(found.machine, found.held);
  if (!options.write.empty()) record::write_file(options.write, pace::script_of(found.advice));
  if (options.json) {
    fmt::print("{}\n", printed("fitness", to_json(found)));
    return found.timing.overruns == 0 ? done : failed_verdict;
  }
  const pace::Timing& timing = found.timing;
  fmt::print("{}\n{}\n", to_string(timing),
             timing.overruns == 0
                 ? fmt::format("idle steps of {} are held", options.step)
                 : fmt::format("idle steps of {} are missed {} times", options.step, timing.overruns));
  if (!found.held.empty()) print_processors(found);
  print_advice(found.advice);
  if (!options.write.empty()) fmt::print("\n{}: read it, then run it as root\n", options.write);
  return timing.overruns == 0 ? done : failed_verdict;
}

}  // namespace zavrek::tool
