// Sequences of a plan: states one after the other, and what the device did in each.
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

double seen(const Injector::Reaction& reaction, const StateExpectation& expectation) {
  const bool rises = expectation.change == "rises";
  if (expectation.output == "start")
    return (rises ? reaction.start_s : reaction.start_fell_s).value_or(never_s);
  return (rises ? reaction.trip_s : reaction.trip_fell_s).value_or(never_s);
}

/// The device comes to rest at the first state.
void settle(const Stimulus& first, Injector& injector) {
  if (!injector.forget()) (void)injector.inject(first, longest_rest_s, Injector::Until::quiet);
  (void)injector.inject(first, rest_s);
}

}  // namespace

void inject_sequences(const InjectionPlan& plan, const protection::RelaySettings& approved,
                      const InjectionOptions& options, std::size_t places, Injector& injector,
                      InjectionReport& report) {
  for (const InjectedSequence& sequence : plan.sequences) {
    if (!report.failure.empty()) return;
    settle(stimulus_of(sequence.states.front(), approved, places, options.frequency_Hz), injector);
    std::map<std::string, Injector::Reaction> reactions;
    for (const InjectedState& state : sequence.states)
      reactions[state.name] = injector.inject(stimulus_of(state, approved, places, options.frequency_Hz),
                                              state.lasts_s, until_of(state));
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
      point.measured = seen(reactions[expectation.state], expectation);
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
}

}  // namespace zavrek::trial::internal
