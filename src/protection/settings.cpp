#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "zavrek/protection.hpp"

namespace zavrek::protection {

using network::above;
using network::at_least;
using network::is_set;
using network::Need;
using network::within;

const Table& table(const Stage*) {
  static const Table built = [] {
    std::vector<std::string> characteristics{"definite"};
    for (const Curve& curve : curves()) characteristics.push_back(curve.name);
    return TableOf<Stage>("stage", "one overcurrent stage")
        .choice("quantity", &Stage::quantity, {"phase", "earth"},
                "largest phase current, or residual current")
        .choice("characteristic", &Stage::characteristic, characteristics,
                "definite time, or an inverse curve of IEC 60255-151 or IEEE C37.112")
        .quantity("pickup", &Stage::pickup_A, "A", above(0), "rms current above which the stage starts")
        .quantity("delay", &Stage::delay_s, "s", at_least(0), "operating time of a definite stage",
                  Need::optional)
        .quantity("time_multiplier", &Stage::time_multiplier, "", above(0), "of a curve")
        .quantity("drop_off", &Stage::drop_off, "", within(0.5, 1),
                  "fraction of pickup below which it resets")
        .quantity("flat_above", &Stage::flat_above, "", above(1),
                  "multiple beyond which a curve gets no faster")
        .build();
  }();
  return built;
}

const Table& table(const RelaySettings*) {
  static const Table built =
      TableOf<RelaySettings>("relay", "overcurrent relay")
          .choice("amperes", &RelaySettings::amperes, {"primary", "secondary"},
                  "in which the pickups are given")
          .quantity("ct_primary", &RelaySettings::ct_primary_A, "A", above(0),
                    "rated primary current of the current transformers; needed for secondary amperes",
                    Need::optional)
          .quantity("ct_secondary", &RelaySettings::ct_secondary_A, "A", above(0), "rated secondary current")
          .choice("earth", &RelaySettings::earth, {"sum", "neutral"}, "where the residual current comes from")
          .build();
  return built;
}

double Stage::operate_time_s(double current_A) const {
  const double multiple = current_A / pickup_A;
  if (!(multiple > 1)) return std::numeric_limits<double>::infinity();
  const Curve* curve = find_curve(characteristic);
  return curve ? curve->time_s(std::min(multiple, flat_above), time_multiplier) : delay_s;
}

std::vector<Flaw> validate(const RelaySettings& settings) {
  std::vector<Flaw> flaws;
  const auto report = [&](std::string place, std::string field, std::string text) {
    flaws.push_back(
        {.file = {}, .place = std::move(place), .field = std::move(field), .text = std::move(text)});
  };
  if (settings.stages.empty())
    report("relay", "", "has no stage; write at least one, such as [stage.phase1]");
  if (settings.amperes == "secondary" && !is_set(settings.ct_primary_A)) {
    report("relay", "ct_primary", "missing; settings in secondary amperes need the CT ratio");
  }
  for (const Stage& stage : settings.stages) {
    const std::string place = "stage." + stage.name;
    if (!is_set(stage.pickup_A)) report(place, "pickup", "missing; a current in A is wanted");
    if (stage.characteristic == "definite" && !is_set(stage.delay_s)) {
      report(place, "delay", "missing; a definite stage needs its operating time, such as \"0.1 s\"");
    }
    for (const Stage& other : settings.stages) {
      if (&other == &stage || other.quantity != stage.quantity || !is_set(other.pickup_A)) continue;
      if (stage.characteristic == "definite" && other.characteristic == "definite" &&
          other.pickup_A <= stage.pickup_A && other.delay_s < stage.delay_s) {
        report(place, "pickup",
               fmt::format("can never operate first: stage {} picks up at {} and trips after {}", other.name,
                           print_quantity(other.pickup_A, "A"), print_quantity(other.delay_s, "s")));
      }
    }
  }
  return flaws;
}

ExpectedOperation expected_operation(const RelaySettings& settings, std::span<const double> phase_rms_A,
                                     std::span<const double> earth_rms_A, double interval_s) {
  ExpectedOperation first;
  for (const Stage& stage : settings.stages) {
    const std::span<const double> course = stage.quantity == "earth" ? earth_rms_A : phase_rms_A;
    double progress = 0;
    for (std::size_t k = 0; k < course.size(); ++k) {
      const double time = stage.operate_time_s(course[k] * settings.scale());
      if (!std::isfinite(time)) {
        progress = 0;
        continue;
      }
      const double rate = time > 0 ? interval_s / time : 1;
      if (progress + rate >= 1) {
        const double at = (static_cast<double>(k) + (rate > 0 ? (1 - progress) / rate : 0)) * interval_s;
        if (at < first.time_s) first = {at, stage.name};
        break;
      }
      progress += rate;
    }
  }
  return first;
}

}  // namespace zavrek::protection
