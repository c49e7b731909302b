#include <set>

#include <fmt/format.h>

#include "zavrek/trial.hpp"

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
          .text("reads", &Device::reads, "stream that it reads")
          .texts("trips", &Device::trips, "breakers that its trip opens")
          .count("appid", &Device::appid, within(0, 0x3FFF), "application identifier of its GOOSE messages")
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

const Table& table(const Expectation*) {
  static const Table built =
      TableOf<Expectation>("expect", "what must hold; times count from the inception of the fault")
          .text("device", &Expectation::device, "whose output is judged", Need::optional)
          .choice("output", &Expectation::output, {"trip", "start"}, "output of the device")
          .text("time", &Expectation::time, "\"from settings\", or a time such as \"0.6 s\"", Need::optional)
          .texts("tolerance", &Expectation::tolerance,
                 "of the time: a share, a time, or both (the greater holds)")
          .texts("window", &Expectation::window, "earliest and latest time")
          .flag("never", &Expectation::never, "the output must stay quiet")
          .text("breaker", &Expectation::breaker, "whose position is judged instead of a device's output",
                Need::optional)
          .quantity("open_before", &Expectation::open_before_s, "s", at_least(0),
                    "latest time for all its poles to be open", Need::optional)
          .build();
  return built;
}

const Table& table(const CaseFiles*) {
  static const Table built =
      TableOf<CaseFiles>("case", "case.toml, optional: where the parts of a case stand, relative to it")
          .text("network", &CaseFiles::network, "the primary system")
          .text("bench", &CaseFiles::bench, "streams and devices")
          .text("trials", &CaseFiles::trials, "the experiments")
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

  void devices() {
    std::vector<std::string> streams;
    for (const Stream& stream : all.bench.streams) streams.push_back(stream.name);
    std::set<int> appids;
    for (const Device& device : all.bench.devices) {
      const std::string place = "device." + device.name;
      need_one_of(place, "reads", device.reads, streams, "stream");
      for (const std::string& breaker : device.trips) {
        need_one_of(place, "trips", breaker, elements_of<network::Breaker>(), "breaker");
      }
      if (!appids.insert(device.appid).second)
        report(place, "appid", "is taken by another device; choose another");
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

  void expectation(const std::string& place, const Expectation& e) {
    std::vector<std::string> devices;
    for (const Device& device : all.bench.devices) devices.push_back(device.name);
    const bool of_breaker = !e.breaker.empty();
    if (of_breaker == !e.device.empty()) {
      report(place, "expect", "names a device or a breaker, exactly one of the two");
      return;
    }
    if (of_breaker) {
      need_one_of(place, "breaker", e.breaker, elements_of<network::Breaker>(), "breaker");
      if (!network::is_set(e.open_before_s))
        report(place, "open_before", "missing; a time is wanted, such as \"0.5 s\"");
      return;
    }
    need_one_of(place, "device", e.device, devices, "device");
    if ((e.time.empty() ? 0 : 1) + (e.window.empty() ? 0 : 1) + (e.never ? 1 : 0) != 1) {
      report(place, "expect", "says exactly one of time, window and never");
    }
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
      if (trial.fault) {
        for (const Flaw& flaw : network::validate(struck(all, trial))) {
          if (!flaw.place.starts_with("fault")) continue;
          report(place, (flaw.place == "fault" ? "fault." : "evolves, ") + flaw.field, flaw.text);
        }
      }
      for (const Expectation& e : trial.expect) expectation(place, e);
    }
  }
};

}  // namespace

std::vector<Flaw> validate(const Case& all) {
  Checker checker{all, {}};
  checker.streams();
  checker.devices();
  checker.trials();
  return std::move(checker.flaws);
}

}  // namespace zavrek::trial
