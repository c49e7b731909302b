#include <algorithm>
#include <array>
#include <set>

#include <fmt/format.h>

#include "trial/party.hpp"
#include "zavrek/record/measure.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::trial {

using network::any;
using network::at_least;
using network::Need;
using network::TableOf;
using network::within;

const Table& table(const Stream*) {
  static const Table built =
      TableOf<Stream>(
          "stream",
          "sampled values of one merging unit (IEC 61850-9-2), 80 samples per cycle, primary values")
          .element("ct", &Stream::ct, "current transformers that it samples")
          .element("vt", &Stream::vt, "voltage transformers that it samples")
          .count("appid", &Stream::appid, within(0x4000, 0x7FFF), "application identifier of its frames")
          .build();
  return built;
}

const Table& table(const Device*) {
  static const Table built =
      TableOf<Device>("device", "a relay and how it is connected")
          .choice("place", &Device::place, {"process", "plant", "outside"},
                  "its own process, started by the run; inside the plant's process; or already there on the "
                  "interface")
          .text("settings", &Device::settings, "file with its settings, relative to the case")
          .text("approved", &Device::approved,
                "file with the settings it should have, which expectations follow; the same when left out",
                Need::optional)
          .texts("reads", &Device::reads, "streams that it reads, one for each of its places", Need::required)
          .texts("trips", &Device::trips, "breakers that its trip opens")
          .texts("opens", &Device::opens, "breakers that other outputs open: [\"QI: backup\"]")
          .texts("closes", &Device::closes, "breakers that outputs close: [\"Q1: close\"]")
          .texts("inputs", &Device::inputs,
                 "binary inputs, from outputs of other devices, from breakers and switches that are closed, "
                 "or from "
                 "contacts: [\"block: "
                 "R1.start\", \"closed: Q1\"]")
          .count("appid", &Device::appid, within(0, 0x3FFE), "application identifier of its GOOSE messages")
          .choice("current_wiring", &Device::current_wiring,
                  {"straight", "a and b swapped", "b and c swapped", "c and a swapped", "reversed"},
                  "how its current circuits are wired, to try what a mistake does; of a relay in the plant's "
                  "process")
          .quantity("current_factor", &Device::current_factor, "", network::above(0),
                    "wrong ratio in front of it, to try what that does; of a relay in the plant's process")
          .build();
  return built;
}

const Table& table(const Bench*) {
  static const Table built =
      TableOf<Bench>("bench", "what stands between plant and devices")
          .text("interface", &Bench::interface, "network interface that carries the frames")
          .choice(
              "medium", &Bench::medium, {"automatic", "raw", "datagram"},
              "raw packet socket, or the same frames in local datagrams; automatic takes raw where allowed")
          .texts("record", &Bench::record, "further signals of the plant to record")
          .texts("contacts", &Bench::contacts,
                 "that people operate: [\"close_q1\", \"remote: closed\"]; devices read bench.remote, trials "
                 "set it "
                 "to 0 or 1")
          .count("points_per_cycle", &Bench::points_per_cycle, within(80, 8000),
                 "samples of the records per cycle; a multiple of 80, the rate of the streams")
          .choice("control", &Bench::control, {"plant", "process", "outside"},
                  "where the control runs: in the plant's process, in its own, or one that is there already")
          .count("control_port", &Bench::control_port, within(0, 65535),
                 "UDP port of this computer at which it listens; 0: any, when the run starts it")
          .count("control_delay", &Bench::control_delay, within(1, 100),
                 "periods from what a control elsewhere saw to what it does")
          .build();
  return built;
}

const Table& table(const Disturbance*) {
  static const Table built = TableOf<Disturbance>("fault", "when the fault strikes and how long it lasts")
                                 .quantity("inception", &Disturbance::inception_rad, "deg", any(),
                                           "angle of the faulted voltage at inception, from its rising zero")
                                 .quantity("lasts", &Disturbance::lasts_s, "s", at_least(0),
                                           "until the fault path opens, at its next current zero")
                                 .quantity("after", &Disturbance::after_s, "ms", at_least(0),
                                           "in `evolves`: how long after the first fault this one strikes")
                                 .build();
  return built;
}

const Table& table(const Operation*) {
  static const Table built =
      TableOf<Operation>("operate",
                         "what is done while the trial runs: open, close or set something, or break a valve")
          .quantity("at", &Operation::at_s, "s", any(),
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
          .count("count", &Sweep::count, within(1, 10'000'000), "trials of a random sweep")
          .count("seed", &Sweep::seed, within(0, 2'000'000'000),
                 "of a random sweep: the same seed, the same trials")
          .build();
  return built;
}

const Table& table(const CaseFiles*) {
  static const Table built =
      TableOf<CaseFiles>("case", "case.toml, optional: where the parts of a case stand, relative to it")
          .text("network", &CaseFiles::network, "the primary system")
          .text("bench", &CaseFiles::bench, "streams and devices")
          .text("trials", &CaseFiles::trials, "the experiments")
          .text("control", &CaseFiles::control, "control blocks executed beside the plant")
          .build();
  return built;
}

const Table& table(const Trial*) {
  static const Table built =
      TableOf<Trial>("trial", "one experiment: prefault, disturbance, postfault, what is expected")
          .text("name", &Trial::name, "what the report calls it")
          .quantity("prefault", &Trial::prefault_s, "s", at_least(0), "before the disturbance")
          .quantity("postfault", &Trial::postfault_s, "s", at_least(0), "after the disturbance")
          .build();
  return built;
}

namespace {

struct Checker {
  const Case& all;
  std::vector<Flaw> flaws;

  void report(std::string place, std::string field, std::string text) {
    flaws.push_back(
        {.file = {}, .place = std::move(place), .field = std::move(field), .text = std::move(text)});
  }

  template <class Kind>
  std::vector<std::string> elements_of() const {
    std::vector<std::string> names;
    for (const auto& element : all.network.elements) {
      if (std::holds_alternative<Kind>(element)) names.push_back(network::name_of(element));
    }
    return names;
  }

  void need_one_of(const std::string& place, const std::string& field, const std::string& name,
                   const std::vector<std::string>& known, std::string_view what) {
    for (const std::string& one : known) {
      if (one == name) return;
    }
    report(place, field, fmt::format("no {} \"{}\"{}", what, name, suggestion(name, known)));
  }

  void streams() {
    std::set<int> appids;
    for (const Stream& stream : all.bench.streams) {
      const std::string place = "stream." + stream.name;
      need_one_of(place, "ct", stream.ct, elements_of<network::CurrentTransformer>(), "ct");
      std::vector<std::string> vts = elements_of<network::VoltageTransformer>();
      for (const std::string& cvt : elements_of<network::CapacitiveVoltageTransformer>()) vts.push_back(cvt);
      need_one_of(place, "vt", stream.vt, vts, "vt");
      if (!appids.insert(stream.appid).second)
        report(place, "appid", "is taken by another stream; choose another");
    }
  }

  void contacts() {
    std::set<std::string> names;
    for (const std::string& text : all.bench.contacts) {
      const internal::Contact contact = internal::contact_of(text);
      if (contact.name.empty() || (contact.state != "open" && contact.state != "closed"))
        report("bench", "contacts",
               fmt::format("\"{}\" is no contact such as \"remote\" or \"remote: closed\"", text));
      if (!names.insert(contact.name).second)
        report("bench", "contacts", fmt::format("\"{}\" is there twice; choose another name", contact.name));
    }
  }

  void devices() {
    std::vector<std::string> streams;
    for (const Stream& stream : all.bench.streams) streams.push_back(stream.name);
    std::set<int> appids;
    for (const Device& device : all.bench.devices) {
      const std::string place = "device." + device.name;
      if (device.reads.empty()) report(place, "reads", "missing; at least one stream is wanted");
      for (const std::string& stream : device.reads) need_one_of(place, "reads", stream, streams, "stream");
      for (const std::string& breaker : device.trips) {
        need_one_of(place, "trips", breaker, elements_of<network::Breaker>(), "breaker");
      }
      for (const std::string& text : device.opens) commanded(place, "opens", text, device);
      for (const std::string& text : device.closes) commanded(place, "closes", text, device);
      for (const std::string& text : device.inputs) input(place, text);
      places(place, device);
      if (device.place != "plant" && (device.current_wiring != "straight" || device.current_factor != 1))
        report(place, "current_wiring", "goes with place = \"plant\" only");
      if (!appids.insert(device.appid).second)
        report(place, "appid", "is taken by another device; choose another");
    }
  }

  /// "BREAKER: OUTPUT"
  void commanded(const std::string& place, const std::string& field, const std::string& text,
                 const Device& device) {
    const auto [breaker, output] = internal::split_pair(text);
    if (breaker.empty() || output.empty())
      return report(place, field, fmt::format("\"{}\" is no pair such as \"Q1: trip\"", text));
    need_one_of(place, field, breaker, internal::switchgear_of(all.network), "breaker or switch");
    need_one_of(place, field, output, protection::outputs_of(device.relay), "output");
  }

  /// "NAME: DEVICE.OUTPUT" or "NAME: BREAKER"
  void input(const std::string& place, const std::string& text) {
    const auto [name, source] = internal::split_pair(text);
    if (name.empty() || source.empty())
      return report(place, "inputs", fmt::format("\"{}\" is no pair such as \"block: R1.start\"", text));
    if (source.find('.') == std::string::npos)
      return need_one_of(place, "inputs", source, internal::switchgear_of(all.network), "breaker or switch");
    if (source.starts_with(internal::contact_prefix))
      return need_one_of(place, "inputs", source, internal::contacts_of(all.bench), "contact");
    output_of(place, "inputs", source);
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

  /// The functions of a device measure at places that it reads.
  void places(const std::string& place, const Device& device) {
    for (const protection::FunctionSettings& function : device.relay.functions) {
      const auto& base = protection::base_of(function);
      auto most = static_cast<std::size_t>(base.end);
      if (const auto* d = std::get_if<protection::Differential>(&function)) most = d->rated_currents.size();
      if (const auto* s = std::get_if<protection::Synchrocheck>(&function))
        most = std::max(most, static_cast<std::size_t>(s->other_end));
      if (most > device.reads.size())
        report(place, "reads",
               fmt::format("{} of its settings measures at place {}, but {} {} read", base.name, most,
                           device.reads.size(), device.reads.size() == 1 ? "stream is" : "streams are"));
    }
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
      need_one_of(place, "breaker", e.breaker, elements_of<network::Breaker>(), "breaker");
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
      for (const Flaw& flaw : network::validate(struck(its, trial))) {
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
  Checker checker{all, {}};
  if (all.bench.points_per_cycle % 80 != 0)
    checker.report("bench", "points_per_cycle", "must be a multiple of 80, the rate of the streams");
  checker.streams();
  checker.contacts();
  checker.devices();
  checker.trials();
  return std::move(checker.flaws);
}

}  // namespace zavrek::trial
