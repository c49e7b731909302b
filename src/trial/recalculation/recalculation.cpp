#include "trial/recalculation/recalculation.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <memory>
#include <numbers>
#include <optional>
#include <sstream>

#include "trial/recalculation/phasor_fit.hpp"

namespace zavrek::trial::internal {
namespace {

using protection::RecordedInputs;
using protection::RelaySettings;

constexpr std::size_t looks_per_cycle = 8;
constexpr double longest_look_s = 50e-3;  // once all stands still
constexpr double turn_rad = 2 * std::numbers::pi / 3;

using Three = std::array<Complex, 3>;

/// What is seen at a place over one cycle, rms, in the values of the settings.
struct Place {
  Three i{}, v{}, second{}, fifth{};
  Three v_before{};  ///< as it would be had nothing happened
};

struct Instant {
  double time_s = 0;  ///< from the inception
  double lasts_s = 0;
  std::vector<Place> places;
  std::string faulted;  ///< phases; empty: none
};

/// Of three phasors: zero, positive and negative sequence.
Three sequences(const Three& x) {
  const Complex a = std::polar(1.0, turn_rad);
  return {(x[0] + x[1] + x[2]) / 3.0, (x[0] + a * x[1] + a * a * x[2]) / 3.0,
          (x[0] + a * a * x[1] + a * x[2]) / 3.0};
}

double largest_of(const Three& x) { return std::max({std::abs(x[0]), std::abs(x[1]), std::abs(x[2])}); }
double least_of(const Three& x) { return std::min({std::abs(x[0]), std::abs(x[1]), std::abs(x[2])}); }

/// Whether a function trips within an instant.
using Trips = std::function<bool(const Instant&)>;

/// A condition that must hold for so long.
class Lasting {
 public:
  bool add(bool holds, double for_s, double wanted_s) {
    total_s_ = holds ? total_s_ + for_s : 0;
    return holds && total_s_ > wanted_s;
  }

 private:
  double total_s_ = 0;
};

// --- overcurrent -------------------------------------------------------------------------------------

/// t = k (a / (M^p - 1) + b), IEC 60255-151 and IEEE C37.112; resetting k r / (1 - M^2).
struct Inverse {
  const char* name;
  double a, p, b, r;
};
constexpr Inverse inverse_curves[] = {{"IEC normal inverse", 0.14, 0.02, 0, 13.5},
                                      {"IEC very inverse", 13.5, 1, 0, 47.3},
                                      {"IEC extremely inverse", 80, 2, 0, 80},
                                      {"IEC long time inverse", 120, 1, 0, 120},
                                      {"IEEE moderately inverse", 0.0515, 0.02, 0.114, 4.85},
                                      {"IEEE very inverse", 19.61, 2, 0.491, 21.6},
                                      {"IEEE extremely inverse", 28.2, 2, 0.1217, 29.1}};

/// Seconds at so many times the pickup, by the words of the settings.
double seconds_at(const protection::Stage& stage, double multiple) {
  multiple = std::min(multiple, stage.flat_above);
  for (const Inverse& curve : inverse_curves) {
    if (stage.characteristic == curve.name)
      return stage.time_multiplier * (curve.a / (std::pow(multiple, curve.p) - 1) + curve.b);
  }
  if (stage.characteristic != "points") return stage.delay_s;
  const auto above = std::find_if(stage.points.begin(), stage.points.end(),
                                  [&](const auto& point) { return point.x >= multiple; });
  if (above == stage.points.end()) return stage.points.back().y;
  if (above == stage.points.begin())
    return above->x > multiple ? std::numeric_limits<double>::infinity() : above->y;
  const auto below = above - 1;
  return std::exp(std::lerp(std::log(below->y), std::log(above->y),
                            std::log(multiple / below->x) / std::log(above->x / below->x)));
}

/// Whether a current flows the way a stage looks, against what polarises it.
bool flows(const protection::Stage& stage, const Complex& current, const Complex& voltage) {
  const double angle = std::arg(voltage) - std::arg(current) - stage.angle_rad;
  return (std::cos(angle) > 0) != (stage.direction == "reverse");
}

double counted(const protection::Stage& stage, const Place& place) {
  const Three i = sequences(place.i), v = sequences(place.v);
  const bool any_way = stage.direction == "none";
  if (stage.quantity == "earth" || stage.quantity == "negative") {
    const std::size_t which = stage.quantity == "earth" ? 0 : 2;
    const double size = std::abs(i[which]) * (which == 0 ? 3 : 1);
    const double least = stage.least_voltage_V / (which == 0 ? 3 : 1);
    if (any_way) return size;
    return std::abs(v[which]) > 0 && std::abs(v[which]) >= least && flows(stage, i[which], -v[which]) ? size
                                                                                                      : 0;
  }
  double largest = 0;
  for (std::size_t k = 0; k < 3; ++k) {
    // What stands across the other two phases, a quarter turn on, lies along the phase's own voltage.
    const auto across = [&](const Three& x) { return Complex(0, 1) * (x[(k + 1) % 3] - x[(k + 2) % 3]); };
    Complex polarising = across(place.v);
    if (std::abs(polarising) < std::sqrt(3.0) * stage.least_voltage_V) polarising = across(place.v_before);
    if (any_way || flows(stage, place.i[k], polarising)) largest = std::max(largest, std::abs(place.i[k]));
  }
  return largest;
}

Trips reckon(const protection::Stage& stage) {
  double share = 0, fallen_s = 0;
  bool started = false;
  return [=](const Instant& now) mutable {
    const Place& place = now.places[static_cast<std::size_t>(stage.end - 1)];
    double current = counted(stage, place);
    if (network::is_set(stage.second_harmonic) &&
        largest_of(place.second) > stage.second_harmonic * largest_of(place.i))
      current = 0;
    started = current > stage.pickup_A * (started ? stage.drop_off : 1);
    if (started) {
      fallen_s = 0;
      if (current > stage.pickup_A) share += now.lasts_s / seconds_at(stage, current / stage.pickup_A);
      return share >= 1 || seconds_at(stage, current / stage.pickup_A) == 0;
    }
    fallen_s += now.lasts_s;
    if (stage.reset == "instant" || (stage.reset == "definite" && fallen_s > stage.reset_delay_s)) share = 0;
    if (stage.reset == "inverse") {
      const double multiple = current / stage.pickup_A;
      for (const Inverse& curve : inverse_curves) {
        if (stage.characteristic == curve.name)
          share = std::max(
              0.0, share - now.lasts_s * (1 - multiple * multiple) / (stage.time_multiplier * curve.r));
      }
    }
    return false;
  };
}

// --- voltage, power ----------------------------------------------------------------------------------

Trips reckon(const protection::VoltageStage& stage) {
  double share = 0;
  bool started = false;
  return [=](const Instant& now) mutable {
    const Place& place = now.places[static_cast<std::size_t>(stage.end - 1)];
    const Three sequence = sequences(place.v);
    Three of = place.v;
    if (stage.quantity == "phase-phase")
      of = {place.v[0] - place.v[1], place.v[1] - place.v[2], place.v[2] - place.v[0]};
    if (stage.quantity == "positive") of = {sequence[1], sequence[1], sequence[1]};
    if (stage.quantity == "negative") of = {sequence[2], sequence[2], sequence[2]};
    if (stage.quantity == "residual") of = {3.0 * sequence[0], 3.0 * sequence[0], 3.0 * sequence[0]};
    const bool over = stage.when == "over";
    const double volts = over == (stage.of == "any") ? largest_of(of) : least_of(of);
    const double edge = stage.pickup_V * (!started ? 1 : over ? stage.drop_off : 1 / stage.drop_off);
    started = over ? volts > edge : volts < edge && volts >= stage.block_below_V;
    if (!started) share = 0;
    const double multiple = volts / stage.pickup_V;
    const bool beyond = over ? multiple > 1 : multiple < 1;
    if (!started || !beyond) return false;
    const double seconds =
        stage.characteristic == "definite" ? stage.delay_s : stage.time_multiplier / std::abs(multiple - 1);
    share += seconds > 0 ? now.lasts_s / seconds : 1;
    return share >= 1;
  };
}

Trips reckon(const protection::PowerStage& stage) {
  Lasting lasting;
  bool started = false;
  return [=](const Instant& now) mutable {
    const Place& place = now.places[static_cast<std::size_t>(stage.end - 1)];
    Complex power{};
    for (std::size_t k = 0; k < 3; ++k) power += place.v[k] * std::conj(place.i[k]);
    const double part =
        (stage.quantity == "active" ? power.real() : power.imag()) * (stage.direction == "reverse" ? -1 : 1);
    started = part > stage.pickup_W * (started ? stage.drop_off : 1);
    return lasting.add(started, now.lasts_s, stage.delay_s);
  };
}

// --- distance ----------------------------------------------------------------------------------------

struct Loop {
  bool earth;
  std::size_t first, second;  // phases
};

/// The loops in which the impedance to a fault between such phases is right.
std::vector<Loop> loops_of(const std::string& phases) {
  std::vector<std::size_t> lines;
  for (const char phase : {'A', 'B', 'C'}) {
    if (phases.find(phase) != std::string::npos) lines.push_back(static_cast<std::size_t>(phase - 'A'));
  }
  if (lines.size() == 1) return {{true, lines[0], lines[0]}};
  if (lines.size() == 2) return {{false, lines[0], lines[1]}};
  return {{false, 0, 1}, {false, 1, 2}, {false, 2, 0}};
}

class ZoneGeometry {
 public:
  ZoneGeometry(const protection::Zone& zone, const RelaySettings& relay)
      : zone_(zone),
        k0_(std::polar(
            network::is_set(zone.residual_factor) ? zone.residual_factor : relay.residual_factor,
            network::is_set(zone.residual_angle_rad) ? zone.residual_angle_rad : relay.residual_angle_rad)),
        load_ohm_(relay.load_resistance_ohm),
        load_rad_(relay.load_angle_rad),
        way_(zone.direction == "reverse" ? -1.0 : 1.0) {}

  [[nodiscard]] bool holds(const Loop& loop, const Place& at, double wider) const {
    if (zone_.loops == (loop.earth ? "phase" : "earth")) return false;
    const auto across = [&](const Three& v) {
      return loop.earth ? v[loop.first] : v[loop.first] - v[loop.second];
    };
    const Complex residual = at.i[0] + at.i[1] + at.i[2];
    const Complex current =
        loop.earth ? at.i[loop.first] + k0_ * residual : at.i[loop.first] - at.i[loop.second];
    if (std::abs(current) <= std::max(zone_.least_current_A, 1e-9)) return false;
    // The plane is turned about for a zone that looks backwards.
    const Complex ohm = across(at.v) / current * way_;
    if (network::is_set(load_ohm_) && std::abs(ohm.real()) > load_ohm_ &&
        std::abs(std::atan2(ohm.imag(), std::abs(ohm.real()))) < load_rad_)
      return false;
    const Complex reach = std::polar(zone_.reach_ohm * wider, zone_.angle_rad);
    const bool directed = zone_.direction != "none";
    const Complex before = across(at.v_before) / current * way_;  // against what stood before the fault
    if (zone_.shape == "mho") {
      if (!directed) return std::abs(ohm) < std::abs(reach);
      const Complex polarising = std::abs(ohm) > 0.05 * std::abs(before) ? ohm : before;
      return std::cos(std::arg(reach - ohm) - std::arg(polarising)) > 0;
    }
    if (directed) {
      constexpr double from = -22 * std::numbers::pi / 180, to = 115 * std::numbers::pi / 180;
      const Complex polarising = (std::abs(ohm) > 0.05 * std::abs(before) ? ohm : before) + 0.25 * before;
      const double angle = std::arg(polarising);
      if (angle <= from || angle >= to) return false;
    }
    // The top lies along the residual current, so that load does not tilt it.
    const double tilt = loop.earth && std::abs(residual) > 0 ? std::arg(residual / current) : 0;
    const auto below_top = [&](const Complex& top) {
      return (top.imag() - ohm.imag()) > (ohm.real() - top.real()) * -std::tan(tilt);
    };
    if (!below_top(reach)) return false;
    if (!directed && below_top(-reach)) return false;
    const double side = loop.earth && network::is_set(zone_.earth_resistive_reach_ohm)
                            ? zone_.earth_resistive_reach_ohm
                            : zone_.resistive_reach_ohm;
    return std::abs(ohm.real() - ohm.imag() / std::tan(zone_.angle_rad)) < side * wider;
  }

 private:
  protection::Zone zone_;
  Complex k0_;
  double load_ohm_, load_rad_, way_;
};

Trips reckon(const protection::Zone& zone, const RelaySettings& relay) {
  const ZoneGeometry geometry(zone, relay);
  Lasting lasting;
  bool inside = false;
  return [=](const Instant& now) mutable {
    const Place& place = now.places[static_cast<std::size_t>(zone.end - 1)];
    const auto loops = now.faulted.empty() ? std::vector<Loop>{} : loops_of(now.faulted);
    const double wider = inside ? 1.05 : 1;
    inside = std::any_of(loops.begin(), loops.end(),
                         [&](const Loop& loop) { return geometry.holds(loop, place, wider); });
    return lasting.add(inside, now.lasts_s, zone.confirm_s + zone.delay_s);
  };
}

// --- differential ------------------------------------------------------------------------------------

/// Phases of one side as the first side sees them: its sequences turned back by its clock figure.
Three turned(const Three& phases, int hour, bool without_zero) {
  const Three s = sequences(phases);
  const Complex lead = std::polar(1.0, hour * std::numbers::pi / 6);
  const double zero = without_zero || hour % 2 != 0 ? 0 : hour % 4 == 0 ? 1 : -1;
  Three out;
  for (std::size_t k = 0; k < 3; ++k) {
    const Complex back = std::polar(1.0, -turn_rad * static_cast<double>(k));
    out[k] = zero * s[0] + lead * s[1] * back + std::conj(lead) * s[2] * std::conj(back);
  }
  return out;
}

Trips reckon(const protection::Differential& d, const RelaySettings& relay) {
  Lasting lasting;
  std::array<bool, 3> before{};
  return [=, scale = relay.current_scale()](const Instant& now) mutable {
    Three sum{}, second{}, fifth{};
    std::array<double, 3> through{};
    for (std::size_t e = 0; e < d.rated_currents.size(); ++e) {
      const int hour = e < d.hours.size() ? std::stoi(d.hours[e]) % 12 : 0;
      const bool earthed = e < d.earthed.size() && d.earthed[e] == "yes";
      const double rated = parse_quantity_as(d.rated_currents[e], "A") * scale;
      const Place& place = now.places[e];
      const Three i = turned(place.i, hour, earthed), i2 = turned(place.second, hour, earthed),
                  i5 = turned(place.fifth, hour, earthed);
      for (std::size_t k = 0; k < 3; ++k) {
        sum[k] += i[k] / rated;
        second[k] += i2[k] / rated;
        fifth[k] += i5[k] / rated;
        const double share = std::abs(i[k]) / rated;
        if (d.restraint == "largest")
          through[k] = std::max(through[k], share);
        else
          through[k] += d.restraint == "sum" ? share : share / 2;
      }
    }
    std::array<bool, 3> over{}, held{};
    bool high = false;
    for (std::size_t k = 0; k < 3; ++k) {
      const double size = std::abs(sum[k]), r = through[k];
      const double bent =
          std::max(d.pickup, d.slope * std::min(r, d.knee)) + d.second_slope * std::max(0.0, r - d.knee);
      over[k] = size > bent * (before[k] ? 0.95 : 1);
      held[k] = over[k] &&
                ((network::is_set(d.second_harmonic) && std::abs(second[k]) > d.second_harmonic * size) ||
                 (network::is_set(d.fifth_harmonic) && std::abs(fifth[k]) > d.fifth_harmonic * size));
      high = high || (network::is_set(d.unrestrained) && size > d.unrestrained);
    }
    const bool all = d.blocks == "all phases" && (held[0] || held[1] || held[2]);
    bool operates = false;
    for (std::size_t k = 0; k < 3; ++k) {
      before[k] = over[k] && !held[k] && !all;
      operates = operates || before[k];
    }
    return lasting.add(operates, now.lasts_s, d.delay_s) || high;
  };
}

// --- all together ------------------------------------------------------------------------------------

/// What a function is blocked by, where that is certain without reckoning other functions: a swing or a lost
/// voltage is none in a fault. Empty where it is not.
std::optional<std::vector<std::string>> blocking_inputs(const RelaySettings& settings,
                                                        const std::string& condition) {
  std::vector<std::string> inputs;
  std::istringstream words(condition);
  for (std::string word; words >> word;) {
    if (word == "or") continue;
    if (word.starts_with("input.")) {
      inputs.push_back(word.substr(6));
      continue;
    }
    const std::string owner = word.substr(0, word.find('.'));
    const bool rests_in_faults =
        std::any_of(settings.functions.begin(), settings.functions.end(), [&](const auto& function) {
          return protection::base_of(function).name == owner &&
                 (std::holds_alternative<protection::PowerSwing>(function) ||
                  std::holds_alternative<protection::LossOfPotential>(function));
        });
    if (!rests_in_faults) return std::nullopt;
  }
  return inputs;
}

struct Reckoned {
  std::string name;
  std::vector<std::string> blocked_by;  // inputs
  Trips trips;
};

class Record {
 public:
  Record(const RelaySettings& settings, const RecordedInputs& seen)
      : seen_(seen),
        cycle_(static_cast<std::size_t>(std::lround(seen.rate_Hz / seen.frequency_Hz))),
        fit_(cycle_),
        current_scale_(settings.current_scale()),
        voltage_scale_(settings.voltage_scale()) {
    for (const auto& samples : seen.ends) {
      auto& columns = columns_.emplace_back();
      for (std::size_t k = 0; k < 6; ++k) {
        for (const protection::Sample& sample : samples)
          columns[k].push_back(k < 3 ? sample.current_A[k] : sample.voltage_V[k - 3]);
      }
    }
    if (seen.inception < cycle_) return;
    for (std::size_t e = 0; e < columns_.size(); ++e) {
      Three& before = before_.emplace_back();
      for (std::size_t k = 0; k < 3; ++k)
        before[k] = fit_.fit(&columns_[e][3 + k][seen.inception - cycle_]).fundamental * voltage_scale_;
    }
  }
  [[nodiscard]] std::size_t cycle() const { return cycle_; }
  /// Whether a whole cycle of the fault was seen.
  [[nodiscard]] bool enough() const {
    return !before_.empty() && seen_.ends.front().size() >= seen_.inception + cycle_;
  }
  [[nodiscard]] std::size_t last() const { return seen_.ends.front().size() - cycle_; }

  /// Over the cycle that begins with a sample.
  void look(std::size_t at, std::vector<Place>& places) const {
    places.resize(columns_.size());
    for (std::size_t e = 0; e < columns_.size(); ++e) {
      Place& place = places[e];
      const double share = static_cast<double>(at) - static_cast<double>(seen_.inception);
      const Complex since = std::polar(1.0, 2 * std::numbers::pi * share / static_cast<double>(cycle_));
      for (std::size_t k = 0; k < 3; ++k) {
        const PhasorFit::Found current = fit_.fit(&columns_[e][k][at]);
        place.i[k] = current.fundamental * current_scale_;
        place.second[k] = current.second * current_scale_;
        place.fifth[k] = current.fifth * current_scale_;
        place.v[k] = fit_.fit(&columns_[e][3 + k][at]).fundamental * voltage_scale_;
        place.v_before[k] = before_[e][k] * since;
      }
    }
  }

 private:
  const RecordedInputs& seen_;
  std::size_t cycle_;
  PhasorFit fit_;
  double current_scale_, voltage_scale_;
  std::vector<std::array<std::vector<double>, 6>> columns_;  // of each place
  std::vector<Three> before_;
};

bool input_on(const RecordedInputs& seen, const std::string& name, double time_s) {
  bool on = false;
  for (const auto& change : seen.inputs) {
    if (change.input == name && change.time_s <= time_s) on = change.on;
  }
  return on;
}

}  // namespace

bool Recalculation::covers(const std::string& name) const {
  return std::find(left_out.begin(), left_out.end(), name) == left_out.end();
}

Recalculation recalculate(const RelaySettings& settings, const RecordedInputs& seen,
                          const std::vector<FaultedPhases>& faulted) {
  Recalculation found;
  std::vector<Reckoned> all;
  for (const protection::FunctionSettings& function : settings.functions) {
    const protection::FunctionBase& base = protection::base_of(function);
    if (!base.trips) continue;
    const auto blocked_by = blocking_inputs(settings, base.blocked_by);
    Trips trips;
    if (const auto* stage = std::get_if<protection::Stage>(&function)) trips = reckon(*stage);
    if (const auto* voltage = std::get_if<protection::VoltageStage>(&function)) trips = reckon(*voltage);
    if (const auto* power = std::get_if<protection::PowerStage>(&function)) trips = reckon(*power);
    if (const auto* zone = std::get_if<protection::Zone>(&function); zone && !faulted.empty())
      trips = reckon(*zone, settings);
    if (const auto* differential = std::get_if<protection::Differential>(&function))
      trips = reckon(*differential, settings);
    if (trips && blocked_by) {
      all.push_back({base.name, *blocked_by, std::move(trips)});
    } else {
      found.left_out.push_back(base.name);
    }
  }
  const Record record(settings, seen);
  if (!record.enough()) {
    for (const Reckoned& one : all) found.left_out.push_back(one.name);
    return found;
  }
  Instant now;
  const std::size_t step = record.cycle() / looks_per_cycle;
  const double step_s = static_cast<double>(step) / seen.rate_Hz;
  const auto trips = [&] {
    for (Reckoned& one : all) {
      const bool blocked = std::any_of(one.blocked_by.begin(), one.blocked_by.end(),
                                       [&](const auto& input) { return input_on(seen, input, now.time_s); });
      if (blocked || !one.trips(now)) continue;
      found.time_s = now.time_s + now.lasts_s;
      found.function = one.name;
      return true;
    }
    return false;
  };
  now.lasts_s = step_s;
  for (std::size_t at = seen.inception; at <= record.last(); at += step) {
    now.time_s = static_cast<double>(at - seen.inception) / seen.rate_Hz;
    now.faulted.clear();
    for (const FaultedPhases& one : faulted) {
      if (one.from_s <= now.time_s + step_s) now.faulted += one.phases;
    }
    record.look(at, now.places);
    if (trips()) return found;
  }
  // What was seen last goes on.
  for (const double until = now.time_s + seen.hold_s; now.time_s < until;) {
    now.time_s += now.lasts_s;
    now.lasts_s = std::clamp(1e-3 * now.time_s, step_s, longest_look_s);
    if (trips()) return found;
  }
  return found;
}

}  // namespace zavrek::trial::internal
