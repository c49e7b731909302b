// How a quantity looks at the terminals of a relay.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "trial/injection/constants.hpp"
#include "zavrek/trial/injection.hpp"

namespace zavrek::trial {

using protection::End;
using protection::Measured;
using protection::Phasor;
using protection::RelaySettings;

namespace {

constexpr double well_inside = 0.6;  // of the nominal voltage, under a fault

/// Phase voltage at which nothing of the relay's voltage functions operates; 0 when it has none.
double nominal_voltage(const RelaySettings& settings) {
  if (network::is_set(settings.vt_primary_V))
    return (settings.values == "secondary" ? settings.vt_secondary_V : settings.vt_primary_V) /
           std::sqrt(3.0);
  double voltage = 0;
  for (const auto* stage : settings.all<protection::VoltageStage>()) {
    const double phase =
        stage->quantity == "phase-phase" ? stage->pickup_V / std::sqrt(3.0) : stage->pickup_V;
    if (stage->when == "under") voltage = std::max(voltage, 1.25 * phase);
    if (stage->when == "over" && stage->quantity != "residual" && stage->quantity != "negative" &&
        voltage == 0)
      voltage = 0.8 * phase;
  }
  for (const auto* zone : settings.all<protection::Zone>())
    voltage = std::max(voltage, 20 * std::max(1.0, zone->least_current_A) * zone->reach_ohm);
  return voltage > 0 ? voltage : 6350;
}

/// The farthest that any zone of a relay reaches, in either direction of the plane.
double farthest_reach(const RelaySettings& settings) {
  double most = 0;
  for (const auto* zone : settings.all<protection::Zone>()) {
    for (const double reach : {zone->reach_ohm, zone->resistive_reach_ohm, zone->earth_resistive_reach_ohm}) {
      if (network::is_set(reach)) most = std::max(most, reach);
    }
  }
  return most;
}

/// Phasors a, b, c of sequence values that stand at the angle of phase a.
std::array<Phasor, 3> of_sequence(int sequence, const Phasor& value) {
  std::array<Phasor, 3> phases;
  for (std::size_t k = 0; k < 3; ++k)
    phases[k] = value * std::polar(1.0, -sequence * third_turn_rad * static_cast<double>(k));
  return phases;
}

Stimulus healthy(const RelaySettings& settings, std::size_t places, double frequency_Hz) {
  Stimulus s;
  s.measured.ends.resize(places);
  for (End& end : s.measured.ends) {
    end.frequency_Hz = frequency_Hz;
    end.frequency_valid = true;
    const auto v = of_sequence(1, nominal_voltage(settings));
    std::copy(v.begin(), v.end(), end.voltage.begin());
    protection::Measuring::complete(end, false);
    end.v1_memory = end.v.positive;
  }
  return s;
}

/// `before` with other phasors at one place.
template <class Change>
Stimulus changed(const Stimulus& before, int place, Change&& change) {
  Stimulus s = before;
  End& end = s.measured.ends[static_cast<std::size_t>(place - 1)];
  change(end, s);
  protection::Measuring::complete(end, false);
  return s;
}

void add(std::array<Phasor, 4>& to, const std::array<Phasor, 3>& phases) {
  for (std::size_t k = 0; k < 3; ++k) to[k] += phases[k];
}

/// Most places that the functions of a relay measure.
std::size_t places_of(const RelaySettings& settings) {
  std::size_t most = 1;
  for (const auto& function : settings.functions) {
    most = std::max(most, static_cast<std::size_t>(protection::base_of(function).end));
    if (const auto* d = std::get_if<protection::Differential>(&function))
      most = std::max(most, d->rated_currents.size());
    if (const auto* s = std::get_if<protection::Synchrocheck>(&function))
      most = std::max(most, static_cast<std::size_t>(s->other_end));
    if (const auto* r = std::get_if<protection::RestrictedEarth>(&function))
      most = std::max(most, static_cast<std::size_t>(r->neutral_end));
  }
  return most;
}

struct Maker {
  const RelaySettings& settings;
  Stimulus before;
  double frequency_Hz;

  template <class Kind>
  std::optional<Probe> operator()(const Kind&) const {
    return std::nullopt;
  }

  [[nodiscard]] Probe probe(const protection::FunctionBase& base, std::string quantity, std::string unit,
                            double threshold) const {
    Probe p;
    p.function = base.name;
    p.quantity = std::move(quantity);
    p.unit = std::move(unit);
    p.threshold = threshold;
    p.before = before;
    return p;
  }

  std::optional<Probe> operator()(const protection::Stage& stage) const {
    const int sequence = stage.quantity == "phase" ? 1 : stage.quantity == "negative" ? -1 : 0;
    // Where voltage has a say, it stands at half of what makes the pickup whole.
    constexpr double lowered = 0.5;
    const bool by_voltage = stage.voltage != "none";
    Probe p = probe(stage,
                    sequence > 0   ? "phase current"
                    : sequence < 0 ? "negative-sequence current"
                                   : "residual current",
                    "A", stage.pickup_A * (stage.voltage == "restrains" ? lowered : 1));
    p.drop_off = stage.drop_off;
    const double way = stage.direction == "reverse" ? -1 : 1;
    const bool directed = stage.direction != "none";
    p.turned = [=, b = before](double amperes, double turn_rad) {
      return changed(b, stage.end, [&](End& end, Stimulus&) {
        if (by_voltage) {
          const auto v = of_sequence(1, lowered * stage.full_voltage_V / std::sqrt(3.0));
          std::copy(v.begin(), v.end(), end.voltage.begin());
        }
        // Residual current is three times its zero sequence: no phase carries more than a third of it.
        const double size = sequence == 0 ? amperes / 3 : amperes;
        add(end.current, of_sequence(sequence, way * std::polar(size, turn_rad - stage.angle_rad)));
        // A fault this way leaves the sequence's voltage standing against its current.
        if (directed && sequence < 1)
          add(end.voltage, of_sequence(sequence, -0.2 * std::abs(end.voltage[0])));
      });
    };
    p.at = [turned = p.turned](double amperes) { return turned(amperes, 0); };
    if (!directed) p.turned = {};
    if (!by_voltage) add_singles(stage, way, p);
    return p;
  }

  /// A phase stage in one pair at a time, an earth stage in one phase.
  void add_singles(const protection::Stage& stage, double way, Probe& p) const {
    const bool directed = stage.direction != "none";
    if (stage.quantity == "phase") {
      p.singles.push_back({"B-C", [=, b = before](double amperes) {
                             return changed(b, stage.end, [&](End& end, Stimulus&) {
                               // Lags the voltage between the two.
                               const Phasor current =
                                   way * std::polar(amperes, -std::numbers::pi / 2 - stage.angle_rad);
                               end.current[1] += current;
                               end.current[2] -= current;
                             });
                           }});
    } else if (stage.quantity == "earth") {
      p.singles.push_back({"A", [=, b = before](double amperes) {
                             return changed(b, stage.end, [&](End& end, Stimulus&) {
                               end.current[0] += way * std::polar(amperes, -stage.angle_rad);
                               if (directed) end.voltage[0] *= 0.4;
                             });
                           }});
    }
  }

  std::optional<Probe> operator()(const protection::Thermal& thermal) const {
    Probe p = probe(thermal, "phase current", "A", thermal.factor * thermal.rated_A);
    p.at = [=, b = before](double amperes) {
      return changed(b, thermal.end, [&](End& end, Stimulus&) { add(end.current, of_sequence(1, amperes)); });
    };
    return p;
  }

  std::optional<Probe> operator()(const protection::VoltageStage& stage) const {
    const bool sequence = stage.quantity == "negative" || stage.quantity == "residual";
    Probe p = probe(stage, stage.quantity + " voltage", "V", stage.pickup_V);
    p.operates_above = stage.when == "over";
    p.drop_off = p.operates_above ? stage.drop_off : 1 / stage.drop_off;
    p.at = [=, b = before](double volts) {
      return changed(b, stage.end, [&](End& end, Stimulus&) {
        if (sequence) {
          add(end.voltage, of_sequence(stage.quantity == "negative" ? -1 : 0,
                                       stage.quantity == "negative" ? volts : volts / 3));
          return;
        }
        const double phase = stage.quantity == "phase-phase" ? volts / std::sqrt(3.0) : volts;
        const auto v = of_sequence(1, phase);
        std::copy(v.begin(), v.end(), end.voltage.begin());
      });
    };
    if (!sequence && stage.quantity != "positive")
      p.singles.push_back({stage.quantity == "phase" ? "A" : "B-C", [=, b = before](double volts) {
                             return changed(b, stage.end, [&](End& end, Stimulus&) {
                               if (stage.quantity == "phase") {
                                 end.voltage[0] = volts;
                                 return;
                               }
                               const Phasor middle = (end.voltage[1] + end.voltage[2]) / 2.0;
                               const Phasor half = Phasor(0, -0.5) * volts;
                               end.voltage[1] = middle + half;
                               end.voltage[2] = middle - half;
                             });
                           }});
    return p;
  }

  std::optional<Probe> operator()(const protection::Unbalance& function) const {
    Probe p = probe(function, "negative over positive sequence", "", function.pickup);
    p.drop_off = function.drop_off;
    p.at = [=, b = before](double share) {
      return changed(b, function.end, [&](End& end, Stimulus&) {
        const double positive = 1.2 * function.least_current_A;
        add(end.current, of_sequence(1, positive));
        add(end.current, of_sequence(-1, share * positive));
      });
    };
    return p;
  }

  std::optional<Probe> operator()(const protection::EarthPower& function) const {
    const bool active = function.quantity == "active";
    Probe p = probe(function, std::string(active ? "active" : "reactive") + " residual current", "A",
                    function.pickup_A);
    p.drop_off = function.drop_off;
    const double way = function.direction == "reverse" ? -1 : 1;
    p.turned = [=, b = before](double amperes, double turn_rad) {
      return changed(b, function.end, [&](End& end, Stimulus&) {
        // All of it in line with (across) minus the residual voltage, well above its threshold.
        const Phasor minus_residual = 1.5 * function.voltage_V;
        const Phasor along = way * (active ? Phasor(1) : Phasor(0, 1)) * std::polar(amperes, turn_rad);
        add(end.voltage, of_sequence(0, -minus_residual / 3.0));
        add(end.current, of_sequence(0, along / 3.0));
      });
    };
    p.at = [turned = p.turned](double amperes) { return turned(amperes, 0); };
    return p;
  }

  std::optional<Probe> operator()(const protection::RestrictedEarth& function) const {
    Probe p = probe(function, "current of the neutral", "A",
                    function.slope < 2 ? function.pickup_A / (1 - function.slope / 2) : function.pickup_A);
    // The threshold that falls to its share holds the current of the neutral too.
    p.drop_off = function.drop_off * (1 - function.slope / 2) / (1 - function.drop_off * function.slope / 2);
    p.at = [=, b = before](double amperes) {
      return changed(b, function.neutral_end,
                     [&](End& end, Stimulus&) { add(end.current, of_sequence(0, amperes / 3)); });
    };
    return p;
  }

  std::optional<Probe> operator()(const protection::Overfluxing& function) const {
    Probe p = probe(function, "flux", "", function.pickup);
    p.drop_off = function.drop_off;
    p.measuring_s = 0.13;
    p.at = [=, b = before](double flux) {
      return changed(b, function.end, [&](End& end, Stimulus&) {
        const auto v = of_sequence(1, flux * function.rated_voltage_V / std::sqrt(3.0));
        std::copy(v.begin(), v.end(), end.voltage.begin());
      });
    };
    return p;
  }

  std::optional<Probe> operator()(const protection::FieldLoss& function) const {
    Probe p =
        probe(function, "reactance below the origin", "ohm", function.offset_ohm + function.diameter_ohm);
    p.operates_above = false;
    p.drop_off = 1.02;
    const double way = function.current == "out" ? -1 : 1;
    p.at = [=, b = before](double ohm) {
      return changed(b, function.end, [&](End& end, Stimulus&) {
        add(end.current, of_sequence(1, way * end.voltage[0] / Phasor(0, -ohm)));
      });
    };
    return p;
  }

  std::optional<Probe> operator()(const protection::MotorStart& function) const {
    Probe p = probe(function, "phase current", "A", function.starting * function.rated_A);
    p.drop_off = 1;
    p.at = [=, b = before](double amperes) {
      return changed(b, function.end,
                     [&](End& end, Stimulus&) { add(end.current, of_sequence(1, amperes)); });
    };
    return p;
  }

  std::optional<Probe> operator()(const protection::FrequencyStage& stage) const {
    const bool of_rate = stage.when == "rising" || stage.when == "falling";
    Probe p = of_rate ? probe(stage, "rate of change of frequency", "Hz/s", stage.rate_Hz_per_s)
                      : probe(stage, "frequency", "Hz", stage.pickup_Hz);
    p.operates_above = stage.when != "under";
    if (of_rate) {
      p.drop_off = 0.9;
    } else {
      p.drop_off = 1 + (stage.when == "under" ? 1 : -1) * stage.drop_off_Hz / stage.pickup_Hz;
    }
    p.measuring_s = of_rate ? 0.25 : 0.13;
    p.at = [=, b = before](double value) {
      return changed(b, stage.end, [&](End& end, Stimulus&) {
        (of_rate ? end.frequency_rate : end.frequency_Hz) =
            of_rate && stage.when == "falling" ? -value : value;
      });
    };
    return p;
  }

  std::optional<Probe> operator()(const protection::PowerStage& stage) const {
    Probe p = probe(stage, (stage.direction + " " + stage.quantity) + " power", "W", stage.pickup_W);
    p.drop_off = stage.drop_off;
    const double angle = (stage.quantity == "reactive" ? -std::numbers::pi / 2 : 0) +
                         (stage.direction == "reverse" ? std::numbers::pi : 0);
    p.at = [=, b = before](double watts) {
      return changed(b, stage.end, [&](End& end, Stimulus&) {
        add(end.current, of_sequence(1, watts / (3 * std::abs(end.voltage[0])) * std::polar(1.0, angle)));
      });
    };
    return p;
  }

  std::optional<Probe> operator()(const protection::Zone& zone) const {
    const bool earth = zone.loops != "phase";
    Probe p = probe(zone, std::string(earth ? "A-E" : "B-C") + " impedance", "ohm", zone.reach_ohm);
    p.operates_above = false;
    p.drop_off = 1.05;
    const double way = zone.direction == "reverse" ? -1 : 1;
    p.at = [=, s = settings, f = frequency_Hz](double ohm) {
      return impedance_stimulus(s, zone, earth, way * std::polar(ohm, zone.angle_rad), f);
    };
    for (const bool to_earth : {true, false}) {
      if (zone.loops == (to_earth ? "phase" : "earth")) continue;
      p.singles.push_back({to_earth ? "A-E" : "B-C", [=, s = settings, f = frequency_Hz](double ohm) {
                             return impedance_stimulus(s, zone, to_earth,
                                                       way * std::polar(ohm, zone.angle_rad), f);
                           }});
    }
    return p;
  }

  std::optional<Probe> operator()(const protection::Differential& function) const {
    Probe p = probe(function, "differential current", "", std::max(function.pickup, 0.0));
    p.drop_off = 0.95;
    p.at = [=, s = settings, f = frequency_Hz](double differential) {
      return differential_stimulus(s, function, differential, differential / function.most_at(1), f);
    };
    p.singles.push_back({"A", [=, s = settings, f = frequency_Hz](double differential) {
                           Stimulus one = differential_stimulus(s, function, differential,
                                                                differential / function.most_at(1), f);
                           for (End& end : one.measured.ends) {
                             end.current[1] = end.current[2] = 0;
                             protection::Measuring::complete(end, false);
                           }
                           return one;
                         }});
    return p;
  }
};

}  // namespace

Stimulus Stimulus::with_harmonics(double second, double fifth) const {
  Stimulus made = *this;
  for (End& end : made.measured.ends) {
    for (std::size_t k = 0; k < 3; ++k) {
      end.second[k] = second * end.current[k];
      end.fifth[k] = fifth * end.current[k];
    }
  }
  return made;
}

Stimulus Stimulus::in_next_phase(int times) const {
  Stimulus made = *this;
  // Turned back, so that phases which are as before stay where they were.
  const Phasor turn = std::polar(1.0, -third_turn_rad * times);
  const auto shift = [&](auto& phases) {
    const auto before = phases;
    for (std::size_t k = 0; k < 3; ++k) phases[(k + static_cast<std::size_t>(times)) % 3] = turn * before[k];
  };
  for (End& end : made.measured.ends) {
    shift(end.current);
    shift(end.voltage);
    shift(end.second);
    shift(end.fifth);
    end.current[3] *= turn;
    protection::Measuring::complete(end, true);
  }
  return made;
}

std::optional<Probe> probe_of(const RelaySettings& settings, const protection::FunctionSettings& function,
                              double frequency_Hz) {
  const Maker maker{settings, healthy(settings, places_of(settings), frequency_Hz), frequency_Hz};
  std::optional<Probe> probe = std::visit(maker, function);
  if (probe && settings.decisions > 0) probe->measuring_s += 1 / (settings.decisions * frequency_Hz);
  return probe;
}

Stimulus impedance_stimulus(const RelaySettings& settings, const protection::Zone& zone, bool earth,
                            Phasor ohm, double frequency_Hz) {
  const double nominal = nominal_voltage(settings);
  const auto [factor, compensated_rad] = protection::compensation_of(settings, zone);
  const Phasor k0 = std::polar(factor, compensated_rad);
  // Not more through the loop than leaves the loops of healthy phases outside every zone.
  const double most = well_inside * nominal / farthest_reach(settings);
  return changed(healthy(settings, places_of(settings), frequency_Hz), zone.end, [&](End& end, Stimulus&) {
    if (earth) {
      const double through = std::min(most, well_inside * nominal / std::max(std::abs(ohm), 1e-6));
      end.voltage[0] = std::abs(ohm) * through;
      const Phasor turn = std::abs(ohm) > 0 ? std::polar(1.0, -std::arg(ohm)) : Phasor(1);
      end.current[0] = through * turn / (1.0 + k0);
    } else {
      const double across = std::sqrt(3.0) * nominal;
      const double through = std::min(most, well_inside * across / std::max(std::abs(ohm), 1e-6));
      const Phasor vbc = Phasor(0, -1) * (std::abs(ohm) * through);
      end.voltage[1] = -end.voltage[0] / 2.0 + vbc / 2.0;
      end.voltage[2] = -end.voltage[0] / 2.0 - vbc / 2.0;
      const Phasor loop =
          Phasor(0, -1) * through * (std::abs(ohm) > 0 ? std::polar(1.0, -std::arg(ohm)) : 1.0);
      end.current[1] = loop / 2.0;
      end.current[2] = -loop / 2.0;
    }
  });
}

Stimulus differential_stimulus(const RelaySettings& settings, const protection::Differential& function,
                               double differential, double restraint, double frequency_Hz) {
  Stimulus s = healthy(settings, places_of(settings), frequency_Hz);
  // What flows in at the first place and out at the second gives both.
  const double in = function.restraint == "mean"  ? restraint + differential / 2
                    : function.restraint == "sum" ? (restraint + differential) / 2
                                                  : restraint;
  const double flows[] = {in, differential - in};
  for (std::size_t e = 0; e < 2; ++e) {
    End& end = s.measured.ends[e];
    const int hour = e < function.hours.size() ? std::stoi(function.hours[e]) : 0;
    const double rated = parse_quantity_as(function.rated_currents[e], "A") * settings.current_scale();
    add(end.current, of_sequence(1, std::polar(1.0, -hour * std::numbers::pi / 6) * flows[e] * rated));
    protection::Measuring::complete(end, false);
  }
  return s;
}

}  // namespace zavrek::trial
