#include <algorithm>
#include <chrono>
#include <cmath>
#include <vector>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "tool/json.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::tool {
namespace {

std::string row(std::string_view name, const std::string& value) {
  return fmt::format("  {:<22}{}\n", name, value);
}

/// Ways between the plant and devices as the case connects them; throws Error for a name that nobody knows.
/// What stands on the bench of a case: its ways, and what of its ports a trial may set.
struct OnBench {
  std::vector<bench::Path> paths;
  std::vector<std::string> settings;
  std::vector<std::string> outputs;  // of the control
};
OnBench on_bench_of(const trial::Case& all) {
  network::Network network = all.network;
  network.faults.clear();
  bench::Run run(all, network, {});
  OnBench found{run.paths(), {}, {}};
  if (const control::Controller* controller = run.controller()) found.outputs = controller->outputs();
  for (const auto& [name, unit] : run.exchange().port_settings())
    found.settings.push_back(unit.empty() ? name : name + " " + unit);
  return found;
}

/// What can be recorded and read: signals of the plant, outputs of the control.
struct Readable {
  std::string name, unit, meaning;
};
std::vector<Readable> readable_in(const trial::Case& all, const emt::Plant& plant, const OnBench& on_bench) {
  std::vector<Readable> found;
  for (const std::string& name : plant.signal_names())
    found.push_back({name, plant.unit(plant.signal(name)), network::meaning_of(all.network, name)});
  const std::vector<std::string> units = control::output_units(
      all.control, on_bench.outputs, [&](const std::string& name) { return plant.unit(plant.signal(name)); });
  const control::Description expanded = control::expand(all.control);
  for (std::size_t k = 0; k < units.size(); ++k)
    found.push_back({on_bench.outputs[k], units[k], control::meaning_of(expanded, on_bench.outputs[k])});
  return found;
}

/// What may be set while it runs, with its unit.
std::vector<std::string> settable_in(const trial::Case& all, const emt::Plant& plant,
                                     const OnBench& on_bench) {
  std::vector<std::string> found;
  for (const std::string& name : plant.knob_names()) {
    const std::string unit = plant.unit(plant.knob(name));
    found.push_back(unit.empty() ? name : name + " " + unit);
  }
  const std::vector<std::string> of_control = trial::control_knobs(all, plant);
  found.insert(found.end(), of_control.begin(), of_control.end());
  found.insert(found.end(), on_bench.settings.begin(), on_bench.settings.end());
  return found;
}

/// What a step of the plant alone takes on this computer, and one that begins with a discontinuity (it starts
/// anew, as when something is switched at once); medians, from the start of the plant, where its valves rest.
struct StepTimes {
  double plain_s = 0, discontinuous_s = 0;
  /// As many discontinuities as one step may hold.
  [[nodiscard]] double bound_s(int events) const {
    return plain_s + events * std::max(0.0, discontinuous_s - plain_s);
  }
};
StepTimes measure(const emt::Plant& of) {
  constexpr int rounds = 400, apart = 4;
  constexpr double longest_s = 0.2;
  emt::Plant plant = of.clone();
  std::vector<double> plain, discontinuous;
  const auto begun = std::chrono::steady_clock::now();
  const auto seconds_since = [](std::chrono::steady_clock::time_point then) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - then).count();
  };
  for (int k = 0; k < rounds && (k < apart || seconds_since(begun) < longest_s); ++k) {
    const bool anew = k % apart == 0;
    if (anew) plant.start_anew();
    const auto now = std::chrono::steady_clock::now();
    if (plant.step() != emt::Status::running) break;
    (anew ? discontinuous : plain).push_back(seconds_since(now));
  }
  const auto median = [](std::vector<double>& times) {
    if (times.empty()) return 0.0;
    const auto middle = times.begin() + static_cast<std::ptrdiff_t>(times.size() / 2);
    std::nth_element(times.begin(), middle, times.end());
    return *middle;
  };
  return {median(plain), median(discontinuous)};
}

void print(const std::vector<Readable>& readable) {
  std::size_t name = 0, unit = 0;
  for (const Readable& one : readable) {
    name = std::max(name, one.name.size());
    unit = std::max(unit, one.unit.size());
  }
  for (const Readable& one : readable) {
    std::string line = fmt::format("  {:<{}}  {:<{}}  {}", one.name, name, one.unit, unit, one.meaning);
    line.erase(line.find_last_not_of(' ') + 1);
    fmt::print("{}\n", line);
  }
}

void print(const trial::Case& all, const emt::Plant& plant, const std::vector<std::string>& notes,
           const OnBench& on_bench, const CheckOptions& options) {
  const emt::Summary& s = plant.summary();
  fmt::print("{}\n", all.network.title.empty() ? all.folder.string() : all.network.title);
  std::string text = row("step", print_rounded(plant.step_s(), "s"));
  text += row("largest step", s.largest_step_s > 1e100 ? "no line sets a bound"
                                                       : print_rounded(s.largest_step_s, "s") +
                                                             " (travel time of the shortest line)");
  text += row("buses", fmt::format("{}", s.buses));
  text += row("nodes", fmt::format("{} unknown, {} imposed by sources", s.nodes, s.known_nodes));
  text += row("partitions", fmt::format("{} (shards for cores: {}), the largest of {} nodes", s.partitions,
                                        s.shards, s.largest_partition));
  if (s.condensed > 0)
    text += row(
        "condensed",
        fmt::format("{} of them, valves at {} nodes between {} areas; matrices: {} made ready, up to {} kept "
                    "in {:.1f} MiB",
                    s.condensed, s.junction_nodes, s.areas, s.made_ahead, s.kept_matrices,
                    static_cast<double>(s.kept_bytes) / (1 << 20)));
  text += row("states", fmt::format("{}", s.states));
  text += row("bound on step work",
              fmt::format("{} numbers read by a solve; {} nodes in switched blocks; {} events in one step",
                          s.factor_entries, s.switch_nodes, s.events_per_step));
  const StepTimes times = measure(plant);
  text += row("a step here",
              fmt::format("{}, {} with a discontinuity (medians, of the plant alone); {} with {}",
                          print_rounded(times.plain_s, "s", 3), print_rounded(times.discontinuous_s, "s", 3),
                          print_rounded(times.bound_s(s.events_per_step), "s", 3), s.events_per_step));
  const std::vector<Readable> readable = readable_in(all, plant, on_bench);
  const std::vector<std::string> settable = settable_in(all, plant, on_bench);
  text += row("signals, knobs",
              fmt::format("{}, {} (--signals and --knobs list them)", readable.size(), settable.size()));
  text += row("streams, devices",
              fmt::format("{}, {}", all.bench.all<bench::Stream>().size(), all.bench.devices.size()));
  text += row("trials", fmt::format("{}", all.trials.size()));
  fmt::print("{}", text);
  if (!on_bench.paths.empty())
    fmt::print("  wiring, and the delay that the bench brings\n{}\n",
               bench::to_string(on_bench.paths, plant.step_s()));
  for (const std::string& note : notes) fmt::print("  note: {}\n", note);
  if (options.signals) print(readable);
  if (options.knobs) {
    for (const std::string& name : settable) fmt::print("  {}\n", name);
  }
}

nlohmann::json to_json(const trial::Case& all, const emt::Plant& plant, const std::vector<std::string>& notes,
                       const OnBench& on_bench) {
  const emt::Summary& s = plant.summary();
  const StepTimes times = measure(plant);
  nlohmann::json out{{"title", all.network.title},
                     {"step_s", plant.step_s()},
                     {"buses", s.buses},
                     {"nodes", s.nodes},
                     {"known_nodes", s.known_nodes},
                     {"partitions", s.partitions},
                     {"shards", s.shards},
                     {"largest_partition", s.largest_partition},
                     {"states", s.states},
                     {"condensed", s.condensed},
                     {"areas", s.areas},
                     {"junction_nodes", s.junction_nodes},
                     {"made_ahead", s.made_ahead},
                     {"kept_matrices", s.kept_matrices},
                     {"kept_bytes", s.kept_bytes},
                     {"switch_nodes", s.switch_nodes},
                     {"factor_entries", s.factor_entries},
                     {"events_per_step", s.events_per_step},
                     {"measured_step_s", times.plain_s},
                     {"measured_discontinuous_step_s", times.discontinuous_s},
                     {"measured_bound_s", times.bound_s(s.events_per_step)},
                     {"signals", plant.signal_names()},
                     {"knobs", plant.knob_names()},
                     {"control_knobs", trial::control_knobs(all, plant)},
                     {"bench_knobs", on_bench.settings},
                     {"streams", all.bench.all<bench::Stream>().size()},
                     {"devices", all.bench.devices.size()},
                     {"trials", all.trials.size()},
                     {"notes", notes}};
  for (const Readable& one : readable_in(all, plant, on_bench))
    out["readable"].push_back({{"name", one.name}, {"unit", one.unit}, {"meaning", one.meaning}});
  for (const bench::Path& path : on_bench.paths)
    out["wiring"].push_back({{"from", path.from},
                             {"by", path.by},
                             {"to", path.to},
                             {"most_steps", path.most_steps},
                             {"further", path.further}});
  out["largest_step_s"] = s.largest_step_s > 1e100 ? nlohmann::json() : nlohmann::json(s.largest_step_s);
  return out;
}

}  // namespace

int check(const CheckOptions& options) {
  trial::Case all = casefile::read_case(options.folder);
  std::vector<std::string> unasked;
  if (options.execute)
    bench::open_laws(all);
  else
    unasked = casefile::assume_libraries(all);
  const emt::Plant plant = emt::compile(all.network);
  trial::check_control(all, plant);
  std::vector<std::string> notes = plant.summary().notes;
  notes.insert(notes.end(), unasked.begin(), unasked.end());
  if (const double late = trial::control_lateness_s(all, plant); late > 0)
    notes.push_back(fmt::format("the control's period is no multiple of the step: it runs up to {} late",
                                print_rounded(late, "s")));
  std::exception_ptr wrong;  // what is asked for is listed all the same
  if (std::string note = trial::rows_between_steps(all, plant.step_s()); !note.empty())
    notes.push_back(std::move(note));
  try {
    for (std::string& note : trial::check_trials(all, plant.summary().notes))
      notes.push_back(std::move(note));
  } catch (const Error&) {
    if (!options.signals && !options.knobs) throw;
    wrong = std::current_exception();
  }
  for (const bench::PowerCut* cut : all.bench.all<bench::PowerCut>())
    notes.push_back(fmt::format("power_cut.{}: {}", cut->name, bench::judge_cut(all, *cut).words));
  const OnBench on_bench = on_bench_of(all);
  if (options.json) {
    fmt::print("{}\n", printed("check", to_json(all, plant, notes, on_bench)));
  } else {
    print(all, plant, notes, on_bench, options);
  }
  std::fflush(stdout);
  if (wrong) std::rethrow_exception(wrong);
  return done;
}

}  // namespace zavrek::tool
