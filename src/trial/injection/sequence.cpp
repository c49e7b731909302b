// Sequences of a plan: states one after the other, and what the device did in each.
#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>

#include "trial/injection/constants.hpp"
#include "trial/injection/injector.hpp"
#include "trial/judge/time_tolerance.hpp"
#include "zavrek/trial/injection_plan.hpp"

namespace zavrek::trial::internal {

namespace {

constexpr double longest_rest_s = 5;
constexpr double rest_s = 0.3;

Injector::Until until_of(const InjectedState& state) {
  if (state.until == "start") return Injector::Until::start;
  if (state.until == "trip") return Injector::Until::trip;
  return state.until == "quiet" ? Injector::Until::quiet : Injector::Until::end;
}

double seen(const Injector::Reaction& reaction, const StateExpectation& expectation,
            const std::vector<std::string>& outputs) {
  const auto at = static_cast<std::size_t>(std::find(outputs.begin(), outputs.end(), expectation.output) -
                                           outputs.begin());
  const Injector::Reaction::Edges& edges = reaction.outputs.at(at);
  return (expectation.change == "rises" ? edges.rise_s : edges.fall_s).value_or(never_s);
}

/// All parts of a state, one after the other.
Injector::Reaction inject_state(const InjectedSequence& sequence, const InjectedState& state,
                                const protection::RelaySettings& approved, std::size_t places,
                                double nominal_Hz, Injector& injector) {
  const std::vector<Stimulus> parts = stimuli_of(sequence, state, approved, places, nominal_Hz);
  const double part_s = state.lasts_s / static_cast<double>(parts.size());
  const Injector::Until until = until_of(state);
  Injector::Reaction all;
  double at_s = 0;
  for (const Stimulus& part : parts) {
    const double begun_s = injector.injected_s();
    all.add(injector.inject(part, part_s, until), at_s);
    at_s += injector.injected_s() - begun_s;
    const bool ended = (until == Injector::Until::start && all.start_s) ||
                       (until == Injector::Until::trip && all.trip_s) ||
                       (until == Injector::Until::quiet && !injector.start() && !injector.trip());
    if (ended) break;
  }
  return all;
}

/// The device comes to rest at the first state.
void settle(const Stimulus& first, Injector& injector) {
  if (!injector.forget()) (void)injector.inject(first, longest_rest_s, Injector::Until::quiet);
  (void)injector.inject(first, rest_s);
}

}  // namespace

void inject_sequence(const InjectedSequence& sequence, const protection::RelaySettings& approved,
                     const InjectionOptions& options, std::size_t places, Injector& injector,
                     InjectionReport& report) {
  settle(stimulus_of(sequence.states.front(), approved, places, options.frequency_Hz), injector);
  std::map<std::string, Injector::Reaction> reactions;
  for (const InjectedState& state : sequence.states)
    reactions[state.name] = inject_state(sequence, state, approved, places, options.frequency_Hz, injector);
  report.failure = injector.failure();
  for (const StateExpectation& expectation : sequence.expect) {
    const auto changes =
        expected_changes(sequence, approved, places, expectation.output, options.frequency_Hz);
    std::size_t at = 0;
    while (sequence.states[at].name != expectation.state) ++at;
    InjectedPoint point;
    point.function = sequence.name;
    point.test = "state";
    point.quantity = fmt::format("{}: {} {}", expectation.state, expectation.output, expectation.change);
    const bool by_settings = expectation.time == "from settings";
    if (by_settings) point.by = changes[at].by;
    const double wanted = by_settings
                              ? (expectation.change == "rises" ? changes[at].rises_s : changes[at].falls_s)
                              : parse_quantity_as(expectation.time, "s");
    point.expected = expectation.never ? never_s : wanted;
    point.measured = seen(reactions[expectation.state], expectation, injector.outputs());
    const TimeTolerance tolerance =
        time_tolerance(expectation.tolerance.empty() ? options.tolerance : expectation.tolerance);
    point.low = point.high = point.expected;
    if (std::isfinite(point.expected)) {
      point.low = std::max(0.0, point.expected - tolerance.of(point.expected));
      point.high = point.expected + tolerance.of(point.expected);
    }
    point.passed = point.measured >= point.low && point.measured <= point.high;
    report.points.push_back(std::move(point));
  }
}

}  // namespace zavrek::trial::internal
