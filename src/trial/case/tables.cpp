#include <algorithm>
#include <array>
#include <set>

#include <fmt/format.h>

#include "bench/names.hpp"
#include "zavrek/record/measure.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::trial {

using network::any;
using network::at_least;
using network::Need;
using network::TableOf;
using network::within;

Case::Case() = default;
Case::Case(const Case&) = default;
Case::Case(Case&&) noexcept = default;
Case& Case::operator=(const Case&) = default;
Case& Case::operator=(Case&&) noexcept = default;
Case::~Case() = default;

const Table& table(const Disturbance*) {
  static const Table built = TableOf<Disturbance>("fault", "when the fault strikes and how long it lasts")
                                 .quantity("inception", &Disturbance::inception_rad, "deg", any(),
                                           "angle of the faulted voltage at inception, from its rising zero")
                                 .quantity("lasts", &Disturbance::lasts_s, "s", within(0, limits::trial_s),
                                           "until the fault path opens, at its next current zero")
                                 .quantity("after", &Disturbance::after_s, "ms", within(0, limits::trial_s),
                                           "in `evolves`: how long after the first fault this one strikes")
                                 .build();
  return built;
}

const Table& table(const Operation*) {
  static const Table built =
      TableOf<Operation>("operate",
                         "what is done while the trial runs: open, close or set something, or break a valve")
          .quantity("at", &Operation::at_s, "s", within(-limits::trial_s, limits::trial_s),
                    "from the inception of the fault; without a fault, from the end of prefault")
          .text("open", &Operation::open, "breaker, disconnector or earthing switch", Need::optional)
          .text("close", &Operation::close, "breaker, disconnector or earthing switch", Need::optional)
          .text("set", &Operation::set,
                "knob, such as \"motor.load_torque\"; `zavrek check --knobs` lists them", Need::optional)
          .text("shorted", &Operation::shorted, "gate whose valve conducts for good from then on",
                Need::optional)
          .text("dead", &Operation::dead, "gate whose valve obeys it no more", Need::optional)
          .text("lost", &Operation::lost, "gate whose pulses do not arrive any more", Need::optional)
          .text("late", &Operation::late, "gate whose pulses arrive late", Need::optional)
          .quantity("by", &Operation::by_s, "us", at_least(0), "how late")
          .text("restored", &Operation::restored, "gate that gets its pulses again, in time", Need::optional)
          .text("to", &Operation::to, "its new value, such as \"120 N m\"", Need::optional)
          .build();
  return built;
}

const Table& table(const Expectation*) {
  static const Table built =
      TableOf<Expectation>("expect",
                           "what must hold; times count from the inception of the fault, or, without one, "
                           "from the end of prefault")
          .text("device", &Expectation::device, "whose output is judged", Need::optional)
          .text("output", &Expectation::output, "output of the device: trip, start, or one of its own")
          .text("time", &Expectation::time, "\"from settings\", or a time such as \"0.6 s\"", Need::optional)
          .texts("tolerance", &Expectation::tolerance,
                 "of the time: a share, a time, or both (the greater holds)")
          .quantity("value_tolerance", &Expectation::value_tolerance, "%", within(0, 0.5),
                    "of a time from settings: the currents may be measured wrong by this share, either way")
          .texts("window", &Expectation::window, "earliest and latest time")
          .flag("never", &Expectation::never, "the output must stay quiet")
          .text("before", &Expectation::before, "\"DEVICE.OUTPUT\" that must not rise sooner", Need::optional)
          .count("times", &Expectation::times, within(0, 1000),
                 "how often the output rises in all; 0 for any")
          .text("breaker", &Expectation::breaker, "whose position is judged instead of a device's output",
                Need::optional)
          .quantity("open_before", &Expectation::open_before_s, "s", at_least(0),
                    "latest time for all its poles to be open", Need::optional)
          .texts("closes_between", &Expectation::closes_between,
                 "earliest and latest time at which it is closed again")
          .text("signal", &Expectation::signal, "whose waveform is judged", Need::optional)
          .choice("measure", &Expectation::measure, record::measure_words(), "what of the waveform is judged")
          .quantity("frequency", &Expectation::frequency_Hz, "Hz", network::above(0),
                    "of the fundamental; that of the network when left out", Need::optional)
          .quantity("from", &Expectation::from_s, "s", any(), "start of the window")
          .quantity("until", &Expectation::until_s, "s", any(), "its end; the end of the run when left out",
                    Need::optional)
          .texts("between", &Expectation::between, "least and greatest value of the measure, with units")
          .quantity("settles_before", &Expectation::settles_before_s, "s", at_least(0),
                    "latest time at which the waveform (its rms per cycle, when that is the measure) enters "
                    "the band for good",
                    Need::optional)
          .build();
  return built;
}

const Table& table(const Vary*) {
  static const Table built =
      TableOf<Vary>("vary", "a field of a sweep and the values that it takes")
          .text("field", &Vary::field,
                "fault.FIELD, trial.FIELD, network.FIELD, or ELEMENT.FIELD such as \"grid.short_circuit\"")
          .texts("values", &Vary::values, "its values, as they would stand in a file")
          .text("from", &Vary::from, "first value of a range", Need::optional)
          .text("to", &Vary::to, "last value of a range", Need::optional)
          .count("steps", &Vary::steps, within(2, 100000), "values of a range")
          .text("together", &Vary::together, "fields with the same word change together", Need::optional)
          .build();
  return built;
}

const Table& table(const Sweep*) {
  static const Table built =
      TableOf<Sweep>("sweep",
                     "a trial repeated with other values in some fields; it takes the fields of a trial too")
          .text("name", &Sweep::name, "what the report calls it")
          .choice("combine", &Sweep::combine, {"full", "paired", "random"},
                  "every value with every other; all fields together; or drawn at random")
          .count("count", &Sweep::count, within(1, 10'000'000), "trials of a random sweep, or of a search")
          .count("seed", &Sweep::seed, within(0, 2'000'000'000),
                 "of a random sweep or a search: the same seed, the same trials")
          .choice(
              "search", &Sweep::search, {"none", "least margin"},
              "instead of a grid: `count` trials that look for the values at which a verdict has least left "
              "of its tolerance")
          .build();
  return built;
}

const Table& table(const CaseFiles*) {
  static const Table built =
      TableOf<CaseFiles>("case", "case.toml, optional: where the parts of a case stand, relative to it")
          .text("base", &CaseFiles::base, "folder of the case from which everything but the trials is taken",
                Need::optional)
          .text("network", &CaseFiles::network, "the primary system")
          .text("bench", &CaseFiles::bench, "streams and devices")
          .texts("trials", &CaseFiles::trials, "the experiments, in one file or several")
          .texts("control", &CaseFiles::control,
                 "control blocks executed beside the plant, in one file or several, each with its own period")
          .quantity("step", &CaseFiles::step_s, "us", network::above(0),
                    "in place of that in the network's file", Need::optional)
          .quantity("least_coverage", &CaseFiles::least_coverage, "%", within(0, 1),
                    "share of mistakes in relays and wires that its trials shall find: programme --coverage")
          .text("place", &CaseFiles::place, "what is tested where, for reports: \"Veskar quay, bay 2\"",
                Need::optional)
          .text("tested_by", &CaseFiles::tested_by, "who, for reports", Need::optional)
          .build();
  return built;
}

const Table& table(const Trial*) {
  static const Table built =
      TableOf<Trial>("trial", "one experiment: prefault, disturbance, postfault, what is expected")
          .text("name", &Trial::name, "what the report calls it")
          .quantity("prefault", &Trial::prefault_s, "s", within(0, limits::trial_s), "before the disturbance")
          .quantity("postfault", &Trial::postfault_s, "s", within(0, limits::trial_s),
                    "after the disturbance")
          .quantity(
              "held_back", &Trial::held_back_s, "s", network::above(0),
              "how far the computer may hold the run, or a relay that it started, back for the trial to be "
              "judged; half of its least tolerance when left out",
              Need::optional)
          .build();
  return built;
}

namespace {

struct Checker {
  const Case& all;
  std::vector<Flaw> flaws{};

  void report(std::string place, std::string field, std::string text) {
    flaws.push_back(
        {.file = {}, .place = std::move(place), .field = std::move(field), .text = std::move(text)});
  }

  void need_one_of(const std::string& place, const std::string& field, const std::string& name,
                   const std::vector<std::string>& known, std::string_view what) {
    for (const std::string& one : known) {
      if (one == name) return;
    }
    report(place, field, fmt::format("no {} \"{}\"{}", what, name, suggestion(name, known)));
  }

  /// "DEVICE.OUTPUT"
  void output_of(const std::string& place, const std::string& field, const std::string& source) {
    const std::size_t dot = source.find('.');
    std::vector<std::string> names;
    for (const Device& other : all.bench.devices) {
      names.push_back(other.name);
      if (other.name == source.substr(0, dot))
        return need_one_of(place, field, dot == std::string::npos ? "" : source.substr(dot + 1),
                           protection::outputs_of(other.relay), "output");
    }
    need_one_of(place, field, source.substr(0, dot), names, "device");
  }

  void quantity(const std::string& place, const std::string& field, const std::string& text,
                bool share_allowed) {
    try {
      const Quantity value = parse_quantity(text);
      const bool fits =
          value.dimension == parse_unit("s").dimension || (share_allowed && value.dimension == Dimension{});
      if (!fits || value.value < 0) {
        report(place, field, fmt::format("\"{}\" is no {}", text, share_allowed ? "share or time" : "time"));
      }
    } catch (const Error& error) {
      report(place, field, error.flaws()[0].text);
    }
  }

  void waveform(const std::string& place, const Expectation& e) {
    if (e.between.size() != 2)
      report(place, "between",
             "two values are wanted, least and greatest, such as [\"10.5 kV\", \"11.5 kV\"]");
    for (const std::string& edge : e.between) {
      try {
        (void)parse_quantity(edge);
      } catch (const Error& error) {
        report(place, "between", error.flaws()[0].text);
      }
    }
    const bool settles = network::is_set(e.settles_before_s);
    if (settles && e.measure != "rms" && e.measure != "mean")
      report(place, "settles_before",
             "goes with the measures rms and mean (which then means the value itself)");
    if (network::is_set(e.until_s) && e.until_s <= e.from_s)
      report(place, "until", "must be later than from");
  }

  void operation(const std::string& place, const Operation& o) {
    const auto kinds = std::ranges::count_if(
        std::array{&o.open, &o.close, &o.set, &o.shorted, &o.dead, &o.lost, &o.late, &o.restored},
        [](const auto* text) { return !text->empty(); });
    if (kinds != 1)
      report(place, "operate", "says exactly one of open, close, set, shorted, dead, lost, late, restored");
    if (o.set.empty() != o.to.empty()) report(place, "to", "goes with set: set = \"KNOB\", to = \"VALUE\"");
    if (o.to.empty()) return;
    try {
      (void)parse_quantity(o.to);
    } catch (const Error& error) {
      report(place, "to", error.flaws()[0].text);
    }
  }

  void expectation(const std::string& place, const Expectation& e) {
    std::vector<std::string> devices;
    for (const Device& device : all.bench.devices) devices.push_back(device.name);
    const bool of_breaker = !e.breaker.empty();
    if ((of_breaker ? 1 : 0) + (e.device.empty() ? 0 : 1) + (e.signal.empty() ? 0 : 1) != 1) {
      report(place, "expect", "names a device, a breaker or a signal, exactly one of them");
      return;
    }
    if (!e.signal.empty()) return waveform(place, e);
    if (of_breaker) {
      // With a dot it is an output, a contact or a signal, which shows when the trial is tried on its plant.
      if (e.breaker.find('.') == std::string::npos)
        need_one_of(place, "breaker", e.breaker, bench::internal::switchgear_of(all.network),
                    "breaker, switch or contactor");
      if (network::is_set(e.open_before_s) == !e.closes_between.empty())
        report(place, "open_before", "missing; a time is wanted, such as \"0.5 s\", or closes_between");
      for (const std::string& edge : e.closes_between) quantity(place, "closes_between", edge, false);
      if (!e.closes_between.empty() && e.closes_between.size() != 2)
        report(place, "closes_between", "two times are wanted, earliest and latest");
      return;
    }
    need_one_of(place, "device", e.device, devices, "device");
    for (const Device& device : all.bench.devices) {
      if (device.name == e.device)
        need_one_of(place, "output", e.output, protection::outputs_of(device.relay), "output");
    }
    const auto kinds = (e.time.empty() ? 0 : 1) + (e.window.empty() ? 0 : 1) + (e.never ? 1 : 0) +
                       (e.before.empty() ? 0 : 1) + (e.times > 0 ? 1 : 0);
    if (kinds != 1) report(place, "expect", "says exactly one of time, window, never, before and times");
    if (!e.before.empty()) output_of(place, "before", e.before);
    if (!e.time.empty() && e.time != "from settings") quantity(place, "time", e.time, false);
    if (e.time == "from settings" && e.output != "trip") {
      report(place, "time", "\"from settings\" speaks of the trip; give a time or a window for the start");
    }
    for (const std::string& tolerance : e.tolerance) quantity(place, "tolerance", tolerance, true);
    for (const std::string& edge : e.window) quantity(place, "window", edge, false);
    if (!e.window.empty() && e.window.size() != 2)
      report(place, "window", "two times are wanted, earliest and latest");
  }

  void trials() {
    std::set<std::string> names;
    for (std::size_t k = 0; k < all.trials.size(); ++k) {
      const Trial& trial = all.trials[k];
      const std::string place = fmt::format("trial {}", k + 1);
      if (trial.name.empty()) report(place, "name", "missing; say what the report shall call it");
      if (!names.insert(trial.name).second)
        report(place, "name", fmt::format("\"{}\" is taken by another trial", trial.name));
      experiment(place, all, trial);
    }
    for (std::size_t k = 0; k < all.sweeps.size(); ++k) sweep(fmt::format("sweep {}", k + 1), all.sweeps[k]);
  }

  void experiment(const std::string& place, const Case& its, const Trial& trial) {
    if (trial.fault) {
      for (const Flaw& flaw : network::validate(network_with_faults(its, trial))) {
        if (!flaw.place.starts_with("fault")) continue;
        report(place, (flaw.place == "fault" ? "fault." : "evolves, ") + flaw.field, flaw.text);
      }
    }
    for (const Operation& o : trial.operate) operation(place, o);
    for (const Expectation& e : trial.expect) expectation(place, e);
  }

  /// Each value of each field once, with the first of all others: names, dimensions, places.
  void sweep(const std::string& place, const Sweep& sweep) {
    if (sweep.name.empty()) report(place, "name", "missing; say what the report shall call it");
    if (sweep.vary.empty()) return report(place, "vary", "missing; a sweep varies at least one field");
    Sweep alone = sweep;
    alone.combine = "full";
    try {
      const SweptTrial first = swept_trial(all, sweep, 0);
      const std::size_t before = flaws.size();
      experiment(place, first.all, first.trial);
      if (flaws.size() > before) return;
      for (const Vary& vary : sweep.vary) {
        alone.vary = {vary};
        alone.trial = first.trial;
        for (std::size_t k = 0; k < size_of(alone); ++k) {
          const SweptTrial one = swept_trial(first.all, alone, k);
          if (vary.together.empty() && sweep.combine != "paired") experiment(place, one.all, one.trial);
          if (flaws.size() > before) return;
        }
      }
    } catch (const Error& error) {
      report(place, "vary", error.flaws()[0].text);
    }
  }
};

}  // namespace

std::vector<Flaw> validate(const Case& all) {
  Checker checker{all, bench::validate(all)};
  checker.trials();
  return std::move(checker.flaws);
}

}  // namespace zavrek::trial
