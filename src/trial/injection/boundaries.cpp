// Characteristics that are searched: zones, differentials, sectors; each phase, pair or loop by itself.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "trial/injection/tester.hpp"

namespace zavrek::trial::internal {

using protection::Phasor;

namespace {

/// A set boundary around a centre, so drawn that its corners stand where they are: by rays, and between them
/// again where it bends. `edge_at` gives how far it is at an angle.
template <class EdgeAt>
std::vector<std::pair<double, double>> outlined(EdgeAt&& edge_at) {
  constexpr int rays = 48, refinements = 5;
  constexpr double straight_rad = 0.05;
  std::vector<std::pair<double, double>> points;  // angle and distance
  for (int r = 0; r <= rays; ++r) {
    const double angle = 2 * std::numbers::pi * r / rays;
    points.emplace_back(angle, edge_at(angle));
  }
  const auto place = [&](std::size_t k) { return std::polar(points[k].second, points[k].first); };
  for (int level = 0; level < refinements; ++level) {
    std::vector<char> divide(points.size(), 0);  // the stretch behind each
    for (std::size_t k = 1; k + 1 < points.size(); ++k) {
      const Phasor before = place(k) - place(k - 1), behind = place(k + 1) - place(k);
      if (std::abs(std::arg(behind * std::conj(before))) > straight_rad) divide[k - 1] = divide[k] = 1;
    }
    std::vector<std::pair<double, double>> finer;
    for (std::size_t k = 0; k < points.size(); ++k) {
      finer.push_back(points[k]);
      if (divide[k] == 0 || k + 1 == points.size()) continue;
      const double angle = (points[k].first + points[k + 1].first) / 2;
      finer.emplace_back(angle, edge_at(angle));
    }
    points = std::move(finer);
  }
  return points;
}

constexpr int halvings_of_a_ray = 7;

/// "B-C" a third of a turn later, and again: "C-A", "A-B".
std::string next_phase(std::string where, int times) {
  for (char& c : where) {
    if (c >= 'A' && c <= 'C') c = static_cast<char>('A' + (c - 'A' + times) % 3);
  }
  return where;
}

}  // namespace

void Tester::each_phase(const FunctionSettings& function, const Probe& probe) {
  constexpr double multiples[] = {1.5, 2.5, 4, 7};
  for (const Probe::Single& single : probe.singles) {
    const auto stage_at = [&](double value) {
      return expected(probe, single.at(value), options_.longest_s).stage;
    };
    const auto value_of = [&](double multiple) {
      return value_at(function, probe, probe.operates_above ? multiple : 1 / multiple, options_.frequency_Hz);
    };
    // Where it operates first over the tolerance of the value; else where nothing does, which a function that
    // asks for all phases must show.
    double value = network::unset;
    for (const double multiple : multiples) {
      const double off = options_.value_tolerance;
      const std::string by = stage_at(value_of(multiple));
      const bool same =
          stage_at(value_of(multiple * (1 + off))) == by && stage_at(value_of(multiple * (1 - off))) == by;
      if (same && (by == probe.function || (by.empty() && !network::is_set(value))))
        value = value_of(multiple);
      if (same && by == probe.function) break;
    }
    if (!network::is_set(value)) continue;
    for (int k = 0; k < 3 && report_.failure.empty(); ++k) {
      Probe one = probe;
      const bool loop = std::holds_alternative<protection::Zone>(function);
      one.quantity = loop ? next_phase(single.where, k) + " impedance"
                          : fmt::format("{} in {}", probe.quantity, next_phase(single.where, k));
      one.at = [k, at = single.at](double x) { return at(x).in_next_phase(k); };
      time(function, one, value);
    }
  }
}

void Tester::sector(const Probe& probe, double value) {
  constexpr double degree = std::numbers::pi / 180;
  constexpr double tolerance_deg = 3, search_deg = 12, widest_deg = 175;
  constexpr int halvings = 6;
  const auto at = [&](double turn_deg) { return probe.turned(value, turn_deg * degree); };
  const double time_s = expected(probe, at(0), options_.longest_s).time_s;
  const double within = time_s + tolerance_.of(time_s) + probe.measuring_s;
  const auto should = [&](double turn_deg) {
    const ExpectedOperation found = expected(probe, at(turn_deg), options_.longest_s);
    return found.stage == probe.function;
  };
  for (const double way : {-1.0, 1.0}) {
    if (!report_.failure.empty() || !should(0) || should(way * widest_deg)) continue;
    const double wanted = edge(0, widest_deg, 10, [&](double turn) { return should(way * turn); });
    // Behind the edge nothing else may trip in its time.
    if (expected(probe, at(way * (wanted + search_deg)), options_.longest_s).time_s < within) continue;
    tried_.clear();
    const auto trips = [&](double turn) { return trips_in_time(probe, at(way * turn), within); };
    double measured = never_s;
    if (trips(wanted - search_deg) && !trips(wanted + search_deg))
      measured = edge(wanted - search_deg, wanted + search_deg, halvings, trips);
    Probe one = probe;
    one.quantity = fmt::format("{}, {} of its clearest angle", probe.quantity, way < 0 ? "behind" : "ahead");
    add_value(one, "sector", wanted, measured, tolerance_deg, "deg");
    note_tried(probe, report_.points.back().passed);
  }
}

void Tester::boundaries(const protection::Zone& zone, const Probe& probe) {
  for (const bool earth : {true, false}) {
    if (zone.loops == (earth ? "phase" : "earth")) continue;
    Boundary found;
    found.function = zone.name;
    found.plane = earth ? "A-E" : "B-C";
    const double way = zone.direction == "reverse" ? -1 : 1;
    const Phasor centre = way * std::polar(0.5 * zone.reach_ohm, zone.angle_rad);
    const double farthest =
        3 * zone.reach_ohm +
        3 * (network::is_set(zone.resistive_reach_ohm)
                 ? std::max(zone.resistive_reach_ohm, network::is_set(zone.earth_resistive_reach_ohm)
                                                          ? zone.earth_resistive_reach_ohm
                                                          : 0)
                 : 0);
    const auto at = [&](const Phasor& z) {
      return impedance_stimulus(approved_, zone, earth, z, options_.frequency_Hz);
    };
    const double within = zone.delay_s + tolerance_.of(zone.delay_s) + probe.measuring_s;
    const auto should = [&](const Phasor& z) {
      return expected(probe, at(z), within + 0.05).time_s <= zone.delay_s + zone.confirm_s + 2e-3;
    };
    if (!should(centre)) continue;
    if (!trips_in_time(probe, at(centre), within)) {
      report_.warnings.push_back(
          fmt::format("{}: does not operate in the middle of its {} characteristic", zone.name, found.plane));
      found.worst = never_s;
      report_.boundaries.push_back(std::move(found));
      continue;
    }
    const auto tolerance_of = [&](double wanted) {
      return 2.5 * options_.value_tolerance * std::max(wanted, 0.2 * zone.reach_ohm);
    };
    const auto set_edge = [&](double angle) {
      const Phasor ray = std::polar(1.0, angle);
      return edge(0, farthest, 16, [&](double x) { return should(centre + x * ray); });
    };
    for (const auto& [angle, distance] : outlined(set_edge)) {
      const Phasor ray = std::polar(1.0, angle);
      found.outline.push_back(centre + distance * ray);
      found.inner.push_back(centre + (distance - tolerance_of(distance)) * ray);
      found.outer.push_back(centre + (distance + tolerance_of(distance)) * ray);
    }
    for (int r = 0; r < options_.rays && report_.failure.empty(); ++r) {
      const Phasor ray = std::polar(1.0, 2 * std::numbers::pi * r / options_.rays + 0.01);
      const double wanted = edge(0, farthest, 14, [&](double x) { return should(centre + x * ray); });
      const double tolerance = tolerance_of(wanted);
      // Only near where it should be: each try costs the device's time.
      double low = std::max(0.0, wanted - 6 * tolerance), high = wanted + 6 * tolerance;
      Boundary::Ray& one = found.rays.emplace_back();
      one.expected = centre + wanted * ray;
      one.low = centre + (wanted - tolerance) * ray;
      one.high = centre + (wanted + tolerance) * ray;
      const auto trips = [&](double x) { return trips_in_time(probe, at(centre + x * ray), within); };
      tried_.clear();
      one.found = trips(low) && !trips(high);
      const double measured = one.found ? edge(low, high, halvings_of_a_ray, trips) : never_s;
      one.measured = one.found ? centre + measured * ray : Phasor{};
      const double off = one.found ? std::abs(measured - wanted) / tolerance : never_s;
      one.passed = off <= 1;
      note_tried(probe, one.passed);
      found.worst = std::max(found.worst, off);
    }
    report_.boundaries.push_back(std::move(found));
  }
}

void Tester::boundary(const protection::Differential& function, const Probe& probe) {
  Boundary found;
  found.function = function.name;
  found.plane = "differential";
  const double within = function.delay_s + tolerance_.time_s + probe.measuring_s;
  for (int r = 0; r < options_.rays / 2 && report_.failure.empty(); ++r) {
    const double restraint = 0.15 + (1.8 * function.knee + 0.5) * r / (options_.rays / 2.0);
    const double wanted = function.threshold(restraint);
    if (wanted > function.most_at(restraint)) continue;  // more than one place can feed
    const double tolerance = 2.5 * options_.value_tolerance * wanted;
    const double low = wanted - 5 * tolerance,
                 high = std::min(wanted + 5 * tolerance, function.most_at(restraint));
    Boundary::Ray& one = found.rays.emplace_back();
    one.expected = {restraint, wanted};
    one.low = {restraint, wanted - tolerance};
    one.high = {restraint, wanted + tolerance};
    // From the restraint alone upwards: a step from nothing passes through every ratio while windows fill.
    const auto trips = [&](double d) {
      const auto at = [&](double x) {
        return differential_stimulus(approved_, function, x, restraint, options_.frequency_Hz);
      };
      if (!rest(probe, at(d))) return false;
      (void)injector_.inject(at(0), 0.15);
      tried_.push_back({injector_.past(), at(d), {}});
      tried_.back().trip_s = injector_.inject(at(d), within, Injector::Until::trip).trip_s;
      tried_.back().watched_s = within;
      return tried_.back().trip_s.has_value();
    };
    tried_.clear();
    one.found = trips(high) && !trips(low);
    const double measured =
        one.found ? edge(low, high, halvings_of_a_ray, [&](double d) { return !trips(d); }) : never_s;
    one.measured = one.found ? Phasor{restraint, measured} : Phasor{};
    const double off = one.found ? std::abs(measured - wanted) / tolerance : never_s;
    one.passed = off <= 1;
    note_tried(probe, one.passed);
    found.worst = std::max(found.worst, off);
  }
  report_.boundaries.push_back(std::move(found));
}

}  // namespace zavrek::trial::internal
