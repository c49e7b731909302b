// Distance zones, power swings, switching onto a fault.
//
//   loop      a to earth: V = Va, I = Ia + k0 Ir, Ir the residual current; a to b: V = Va - Vb, I = Ia - Ib
//   mho       Re((Zr I - V) conj(Vp)) > 0, Zr the reach, Vp the loop's voltage (the remembered one when it is
//             near nothing)
//   quadrilateral
//             X: Im((Zr I - V) conj(Ir)) > 0 for loops to earth (so that load flow does not tilt the line),
//                Im((Zr I - V) conj(I)) > 0 between phases; R: both blinders parallel to the line;
//             direction: -22 deg < arg(V / I) < 115 deg, V with a share of the remembered voltage in it
//   which     the sector of the angle between I0 and I2 tells which loop to earth is free, together with the
//             loop between the other two phases; without residual current the three loops between phases are,
//             and in a fault of three phases until residual current has lasted for 40 ms
#include "protection/function.hpp"

#include <numbers>
#include <optional>

namespace zavrek::protection {

namespace {

using std::numbers::pi;

constexpr double hysteresis = 1.05;        // of every reach, once inside
constexpr double residual_share = 0.12;    // of the largest phase current: an earth fault
constexpr double voltage_of_fault = 0.85;  // of the remembered one
constexpr double alike_share = 0.6;      // of the largest phase current in the least one: of all three phases
constexpr double poles_apart_s = 40e-3;  // of a breaker, and the window that sees it
constexpr double memory_below = 0.05;    // of the remembered voltage: the loop's own is not trusted
constexpr double memory_share =
    0.25;  // of the remembered voltage in what a polygon's direction is taken from
/// Forward: from -22 deg to 115 deg, as a middle and what lies either side of it.
const Phasor forward_middle = std::polar(1.0, 46.5 * pi / 180);
const double forward_width = std::cos(68.5 * pi / 180);

struct Loop {
  Phasor voltage, current, residual, memory;
  bool earth;
};

Loop loop_of(const End& end, std::size_t k, const Phasor& k0) noexcept {
  constexpr Phasor turn{-0.5, -0.86602540378443864676};
  const auto remembered = [&](std::size_t phase) {
    return end.v1_memory * (phase == 0 ? Phasor(1) : phase == 1 ? turn : std::conj(turn));
  };
  if (k < 3)
    return {end.voltage[k], end.current[k] + k0 * end.current[3], end.current[3], remembered(k), true};
  const std::size_t a = k - 3, b = (k - 2) % 3;
  return {end.voltage[a] - end.voltage[b],
          end.current[a] - end.current[b],
          {},
          remembered(a) - remembered(b),
          false};
}

/// Which of the loops a-e, b-e, c-e, ab, bc, ca may decide. In a fault of all three phases residual current
/// frees no loop to earth until it lasts: poles of a breaker far away that open one after the other make it.
class LoopSelection {
 public:
  std::array<bool, 6> free(const End& end, double dt_s) noexcept {
    double largest = 0, least = INFINITY;
    for (std::size_t k = 0; k < 3; ++k) {
      largest = std::max(largest, std::norm(end.current[k]));
      least = std::min(least, std::norm(end.current[k]));
    }
    const bool fallen =
        std::norm(end.v.positive) < voltage_of_fault * voltage_of_fault * std::norm(end.v1_memory);
    const bool residual = std::norm(end.current[3]) >= residual_share * residual_share * largest;
    if (!fallen) of_three_ = false;
    if (!residual) {
      lasts_s_ = 0;
      of_three_ = of_three_ || (fallen && least > alike_share * alike_share * largest);
      return {false, false, false, true, true, true};
    }
    lasts_s_ += dt_s;
    if (of_three_ && lasts_s_ <= poles_apart_s) return {false, false, false, true, true, true};
    of_three_ = false;
    return by_sector(end);
  }
  void clear() noexcept { *this = {}; }

 private:
  [[nodiscard]] static std::array<bool, 6> by_sector(const End& end) noexcept;

  bool of_three_ = false;  // phases: what the fault began as
  double lasts_s_ = 0;     // residual current
};

std::array<bool, 6> LoopSelection::by_sector(const End& end) noexcept {
  std::array<bool, 6> free{};
  // I2 stands along I0 for a-e and b-c-e, 120 deg behind it for b-e, ahead of it for c-e.
  const Phasor turned = end.i.negative * std::conj(end.i.zero);
  const std::size_t phase = turned.real() > 0.5 * size_of(turned) ? 0 : turned.imag() < 0 ? 1 : 2;
  free[phase] = true;
  free[3 + (phase + 1) % 3] = true;
  return free;
}

class DistanceZone : public DelayedFunction {
 public:
  DistanceZone(const Zone& settings, const RelaySettings& relay)
      : zone_(settings),
        k0_(std::polar(compensation_of(relay, settings).first, compensation_of(relay, settings).second)),
        load_(relay.load_resistance_ohm),
        load_slope_(std::tan(relay.load_angle_rad)),
        sign_(settings.direction == "reverse" ? -1.0 : 1.0),
        reach_(sign_ * std::polar(settings.reach_ohm, settings.angle_rad)),
        along_line_(1 / std::tan(settings.angle_rad)),
        directed_(settings.direction != "none"),
        circle_(settings.shape == "mho"),
        phase_side_(settings.resistive_reach_ohm),
        earth_side_(network::is_set(settings.earth_resistive_reach_ohm) ? settings.earth_resistive_reach_ohm
                                                                        : settings.resistive_reach_ohm),
        watched_{settings.loops != "phase", settings.loops != "earth"} {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, zone_.end);
    const auto free = selection_.free(end, in.dt_s);
    bool inside = false;
    for (std::size_t k = 0; k < 6; ++k) {
      inside_[k] =
          watched_[k < 3 ? 0 : 1] && free[k] && reaches(loop_of(end, k, k0_), inside_[k] ? hysteresis : 1);
      inside = inside || inside_[k];
    }
    // While windows fill, the impedance wanders: it must stay before it counts.
    const bool confirmed = wait(confirm_, inside, zone_.confirm_s, in.dt_s);
    own[0] = confirmed ? 1 : 0;
    own[1] = wait(travel_, confirmed, zone_.delay_s, in.dt_s) ? 1 : 0;
  }
  void rest() noexcept override {
    inside_ = {};
    selection_.clear();
    confirm_.clear();
    DelayedFunction::rest();
  }
  void visit_state(StateArchive& archive) override {
    DelayedFunction::visit_state(archive);
    archive(inside_, selection_, confirm_);
  }

 private:
  [[nodiscard]] bool reaches(const Loop& loop, double wider) const noexcept {
    const double size = std::norm(loop.current);
    if (!(size > zone_.least_current_A * zone_.least_current_A) || !(size > 0)) return false;
    const bool trusted = std::norm(loop.voltage) > memory_below * memory_below * std::norm(loop.memory);
    const Phasor polarising = trusted ? loop.voltage : loop.memory;
    if (network::is_set(load_) && in_load(loop.voltage / loop.current)) return false;
    return circle_ ? in_circle(loop, polarising, wider) : in_polygon(loop, polarising, wider);
  }

  [[nodiscard]] bool in_load(const Phasor& z) const noexcept {
    return std::abs(z.real()) > load_ && std::abs(z.imag()) < load_slope_ * std::abs(z.real());
  }

  [[nodiscard]] bool in_circle(const Loop& loop, const Phasor& polarising, double wider) const noexcept {
    const Phasor far = wider * reach_ * loop.current;
    if (!directed_) return size_of(loop.voltage) < size_of(far);
    return dot(far - loop.voltage, polarising) > 0;
  }

  [[nodiscard]] bool in_polygon(const Loop& loop, const Phasor& polarising, double wider) const noexcept {
    if (directed_) {
      // A share of the voltage before the fault steadies the angle while windows fill.
      const Phasor steadied = polarising + memory_share * loop.memory;
      const Phasor turned = steadied * std::conj(sign_ * loop.current);
      if (dot(turned, forward_middle) <= forward_width * size_of(turned)) return false;
    }
    const Phasor level = loop.earth && size_of(loop.residual) > 0 ? loop.residual : loop.current;
    const auto above = [&](const Phasor& far) { return ((far - loop.voltage) * std::conj(level)).imag(); };
    const Phasor far = wider * reach_ * loop.current;
    if (sign_ * above(far) <= 0) return false;
    if (!directed_ && above(-far) >= 0) return false;
    const Phasor z = loop.voltage / loop.current;
    // Distance of the impedance from the line, along the resistance axis.
    const double aside = z.real() - z.imag() * along_line_;
    return std::abs(aside) < wider * (loop.earth ? earth_side_ : phase_side_);
  }

  Zone zone_;
  Phasor k0_;
  double load_, load_slope_;
  double sign_;
  Phasor reach_;       // towards the way it looks
  double along_line_;  // resistance over reactance of the line
  bool directed_, circle_;
  double phase_side_, earth_side_;  // resistive reaches
  std::array<bool, 2> watched_;     // loops to earth, between phases
  std::array<bool, 6> inside_{};
  LoopSelection selection_;
  Travel confirm_;
};

class Swing : public Function {
 public:
  explicit Swing(const PowerSwing& settings) : settings_(settings) {}

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    const double current = size_of(end.i.positive);
    const double z = current > 0 ? size_of(end.v.positive) / current : INFINITY;
    // A fault out of balance ends the blocking: a swing is balanced.
    if (size_of(end.i.negative) > 0.2 * current || size_of(end.current[3]) > 0.2 * current) {
      rest();
    } else if (z < settings_.inner_ohm) {
      swinging_ = swinging_ || between_s_ >= settings_.least_time_s;
    } else if (z < settings_.outer_ohm) {
      between_s_ += in.dt_s;
    } else {
      between_s_ = 0;
    }
    held_s_ = swinging_ && z >= settings_.outer_ohm ? held_s_ + in.dt_s : 0;
    if (held_s_ > settings_.hold_s) swinging_ = false;
    own[0] = swinging_ || (between_s_ >= settings_.least_time_s && z < settings_.outer_ohm) ? 1 : 0;
    own[1] = 0;
  }
  void rest() noexcept override {
    between_s_ = held_s_ = 0;
    swinging_ = false;
  }
  void visit_state(StateArchive& archive) override { archive(between_s_, held_s_, swinging_); }

 private:
  PowerSwing settings_;
  double between_s_ = 0, held_s_ = 0;
  bool swinging_ = false;
};

class OntoFault : public Function {
 public:
  explicit OntoFault(const SwitchOntoFault& settings) : settings_(settings) {}
  [[nodiscard]] std::vector<std::string> conditions() const override { return {settings_.when}; }

  void run(const Inputs& in, std::span<char> own) noexcept override {
    const End& end = place_of(in.measured, settings_.end);
    bool dead = true;
    for (std::size_t k = 0; k < 3; ++k) {
      dead = dead && size_of(end.voltage[k]) < settings_.dead_voltage_V &&
             size_of(end.current[k]) < settings_.dead_current_A;
    }
    const bool was_dead = dead_s_ >= settings_.dead_for_s;
    dead_s_ = dead ? dead_s_ + in.dt_s : 0;
    if (was_dead && !dead) left_s_ = settings_.window_s;
    own[0] = left_s_ > 0 ? 1 : 0;
    own[1] = (own[1] != 0 || left_s_ > 0) && in.conditions[0] ? 1 : 0;
    left_s_ = std::max(0.0, left_s_ - in.dt_s);
  }
  void rest() noexcept override { dead_s_ = left_s_ = 0; }
  void visit_state(StateArchive& archive) override { archive(dead_s_, left_s_); }

 private:
  SwitchOntoFault settings_;
  double dead_s_ = 0, left_s_ = 0;
};

}  // namespace

std::unique_ptr<Function> make_function(const Zone& settings, const Surroundings& around) {
  return std::make_unique<DistanceZone>(settings, around.relay);
}
std::unique_ptr<Function> make_function(const PowerSwing& settings, const Surroundings&) {
  return std::make_unique<Swing>(settings);
}
std::unique_ptr<Function> make_function(const SwitchOntoFault& settings, const Surroundings&) {
  return std::make_unique<OntoFault>(settings);
}

std::vector<Phasor> outline(const Zone& zone, bool earth) {
  const double way = zone.direction == "reverse" ? -1 : 1;
  std::vector<Phasor> points;
  if (zone.shape == "mho") {
    for (int k = 0; k <= 72; ++k) {
      const Phasor reach = way * std::polar(zone.reach_ohm, zone.angle_rad);
      const Phasor turn = std::polar(1.0, 2 * pi * k / 72);
      points.push_back(zone.direction == "none" ? reach * turn : reach / 2.0 * (1.0 + turn));
    }
    return points;
  }
  const double aside = earth && network::is_set(zone.earth_resistive_reach_ohm)
                           ? zone.earth_resistive_reach_ohm
                           : zone.resistive_reach_ohm;
  const Phasor top = std::polar(zone.reach_ohm, zone.angle_rad);
  const double slope = std::tan(zone.angle_rad);
  if (zone.direction == "none") {
    points = {top - aside, top + aside, -top + aside, -top - aside};
  } else {
    // The right blinder meets the lower direction line; the left one meets the upper, or that meets the
    // reactance first.
    const double low = std::tan(-22 * pi / 180), high = std::tan(115 * pi / 180);
    const double right = aside / (1 - low / slope), left = -aside / (1 - high / slope);
    points = {{0, 0}, {right, low * right}, top + aside, top - aside, {left, high * left}};
    if (high * left > top.imag()) points[3] = points[4] = {top.imag() / high, top.imag()};
  }
  for (Phasor& p : points) p *= way;
  points.push_back(points.front());
  return points;
}

}  // namespace zavrek::protection
