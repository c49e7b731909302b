// Transformer: on each of three limbs n coupled windings, v = R i + L di/dt with
//   L_jk = Lm V_j V_k / V_1^2 + (leakage of winding j if j = k),   V_j: rated voltage of winding j.
// Leakages come from short-circuit tests: shared equally by two windings; by star equivalent for three,
// solved from volts per turn so that it holds for autotransformers too (series and common winding). Lm
// follows from the magnetising current, iron loss is a resistance and saturation a bent inductance across the
// high winding. The vector group (IEC 60076-1) says how the windings are joined; its figures are the lag of
// the other sides in units of 30 deg. A fault inside divides a winding in two that share its flux. With taps,
// see tapped_windings.hpp.
#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <Eigen/LU>

#include "emt/elements/transformers/tapped_windings.hpp"
#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

using std::numbers::sqrt3;

enum class Joint { star, delta, zigzag, automatic };

struct Side {
  Joint joint = Joint::star;
  bool neutral = false;
  int clock = 0;
};

[[noreturn]] void reject(const network::Transformer& t, std::string field, std::string text) {
  throw Error(
      Flaw{.file = {}, .place = "transformer." + t.name, .field = std::move(field), .text = std::move(text)});
}

/// "YNyn0d11" to sides: high, low, and tertiary where there is one.
std::vector<Side> parse_group(const network::Transformer& t) {
  std::string_view rest = t.vector_group;
  const auto fail = [&] {
    reject(t, "vector_group",
           fmt::format(
               "\"{}\" is no vector group; write D, Y or YN, then d, y, yn, z, zn or a with 0 to 11, such as "
               "\"Dyn11\"",
               t.vector_group));
  };
  const auto take = [&](char letter) {
    if (rest.empty() || rest.front() != letter) return false;
    rest.remove_prefix(1);
    return true;
  };
  const auto take_clock = [&] {
    std::size_t digits = 0;
    while (digits < rest.size() && rest[digits] >= '0' && rest[digits] <= '9') ++digits;
    if (digits == 0 || digits > 2) fail();
    const int clock = std::stoi(std::string(rest.substr(0, digits)));
    rest.remove_prefix(digits);
    if (clock > 11) fail();
    return clock;
  };
  std::vector<Side> sides(1);
  if (take('D')) {
    sides[0].joint = Joint::delta;
  } else if (take('Y')) {
    sides[0].neutral = take('N');
  } else {
    fail();
  }
  while (!rest.empty()) {
    Side side;
    if (take('d')) {
      side.joint = Joint::delta;
    } else if (take('y')) {
      side.neutral = take('n');
    } else if (take('z')) {
      side.joint = Joint::zigzag;
      side.neutral = take('n');
    } else if (sides.size() == 1 && take('a')) {
      side.joint = Joint::automatic;
    } else {
      fail();
    }
    side.clock = take_clock();
    const auto turns = [](const Side& s) { return s.joint == Joint::delta || s.joint == Joint::zigzag; };
    if ((side.clock % 2 == 1) != (turns(sides[0]) != turns(side))) {
      reject(t, "vector_group",
             fmt::format("\"{}\" cannot be wound: these windings give an {} figure", t.vector_group,
                         turns(sides[0]) != turns(side) ? "odd" : "even"));
    }
    sides.push_back(side);
  }
  const std::size_t wanted = t.tertiary.empty() ? 2 : 3;
  if (sides.size() != wanted) {
    reject(t, "vector_group",
           fmt::format("\"{}\" has {} windings; {} are connected to buses", t.vector_group, sides.size(),
                       wanted));
  }
  if (sides[1].joint == Joint::automatic && (sides[0].joint != Joint::star || sides[1].clock != 0))
    reject(t, "vector_group", "an autotransformer is written \"YNa0\" or \"Ya0\"");
  return sides;
}

/// One coil on each limb: a winding, or half of a zigzag one, or a part of either beside a fault.
struct Coil {
  std::array<Ends, 3> ends;  // on limb 0, 1, 2
  double voltage_V;          // rated
  std::size_t winding;       // whose leakage it has: 0 high (or series), 1 low (or common), 2 tertiary
  double share = 1;          // of that winding's turns
};

/// A winding as it would be for clock 0 without rotation: limb k lies between terminal k and the neutral
/// (star) or terminal k + 1 (delta); a zigzag adds half a coil of limb k - 1, reversed.
std::vector<std::array<Ends, 3>> plain_coils(Assembly& assembly, const std::string& name,
                                             const std::vector<NodeId>& terminals, Joint joint,
                                             NodeId neutral) {
  std::array<Ends, 3> coil;
  if (joint != Joint::zigzag) {
    for (std::size_t k = 0; k < 3; ++k)
      coil[k] = {terminals[k], joint == Joint::delta ? terminals[(k + 1) % 3] : neutral};
    return {coil};
  }
  std::array<Ends, 3> inner;
  for (std::size_t k = 0; k < 3; ++k) {
    const NodeId middle = assembly.new_node(name + ".zigzag");
    coil[k] = {terminals[k], middle};
    inner[(k + 2) % 3] = {neutral, middle};
  }
  return {coil, inner};
}

/// Rotates and turns the windings of a side so that its phase a lags the high side's by `clock` * 30 deg. On
/// a limb all windings have the same voltage; that of a delta (or zigzag) leads its first terminal's by 30
/// deg.
std::vector<std::array<Ends, 3>> turned(const std::vector<std::array<Ends, 3>>& plain, const Side& high,
                                        const Side& side) {
  const auto leads = [](const Side& s) {
    return s.joint == Joint::delta || s.joint == Joint::zigzag ? 1 : 0;
  };
  for (int rotation = 0; rotation < 3; ++rotation) {
    for (int reversed = 0; reversed < 2; ++reversed) {
      // Limb k carries the winding of terminal k - rotation, so terminal 0 sits on limb `rotation`.
      const int lag = ((leads(side) - leads(high) + 4 * rotation + 6 * reversed) % 12 + 12) % 12;
      if (lag != side.clock) continue;
      std::vector<std::array<Ends, 3>> coils = plain;
      for (std::size_t c = 0; c < plain.size(); ++c) {
        for (int k = 0; k < 3; ++k) {
          const Ends ends = plain[c][static_cast<std::size_t>((k - rotation + 3) % 3)];
          coils[c][static_cast<std::size_t>(k)] = reversed ? Ends{ends.q, ends.p} : ends;
        }
      }
      return coils;
    }
  }
  return plain;
}

class Builder {
 public:
  Builder(const network::Transformer& t, Assembly& assembly)
      : t_(t), assembly_(assembly), owner_("transformer." + t.name), sides_(parse_group(t)) {
    check_buses();
    make_coils();
    split_faulted();
    find_leakages();
  }

  void run() {
    const bool tapped = t_.tap_winding != "none";
    tapped ? add_tapped() : add_fixed();
    add_iron();
    add_saturation();
    add_signals();
  }

 private:
  struct Leakage {
    double resistance = 0, reactance = 0;  // ohm, on the winding's own voltage
  };

  void check_buses() {
    for (const auto& [field, bus] :
         {std::pair{"high", t_.high}, std::pair{"low", t_.low}, std::pair{"tertiary", t_.tertiary}}) {
      if (bus.empty()) continue;
      terminals_.push_back(assembly_.nodes(bus));
      if (terminals_.back().size() != 3) reject(t_, field, "a three-phase bus is wanted");
    }
    if (t_.tertiary.empty()) return;
    for (const auto& [field, value] : {std::pair{"tertiary_voltage", t_.tertiary_voltage_V},
                                       std::pair{"short_circuit_voltage_ht", t_.short_circuit_voltage_ht},
                                       std::pair{"short_circuit_voltage_lt", t_.short_circuit_voltage_lt}}) {
      if (!network::is_set(value)) reject(t_, field, "missing; a third winding needs it");
    }
  }

  [[nodiscard]] NodeId neutral(const Side& side, const char* which, double r, double x) {
    if (side.joint == Joint::delta) return ground_node;
    if (side.neutral && r == 0 && x == 0) return ground_node;
    const NodeId node = assembly_.new_node(t_.name + "." + which + ".neutral");
    if (side.neutral) uncoupled_series(assembly_, owner_, {{node, ground_node}}, r, x / assembly_.omega());
    return node;
  }

  /// Rated voltage of a coil of a side.
  [[nodiscard]] static double coil_voltage(const Side& side, double line_V) {
    switch (side.joint) {
      case Joint::delta:
        return line_V;
      case Joint::zigzag:
        return line_V / 3;
      default:
        return line_V / sqrt3;
    }
  }

  void make_coils() {
    const bool automatic = sides_[1].joint == Joint::automatic;
    const NodeId high_neutral =
        neutral(sides_[0], "high", t_.high_neutral_resistance_ohm, t_.high_neutral_reactance_ohm);
    if (automatic) {
      if (t_.low_voltage_V >= t_.high_voltage_V)
        reject(t_, "low_voltage", "an autotransformer's is below high_voltage");
      std::array<Ends, 3> series, common;
      for (std::size_t k = 0; k < 3; ++k) {
        series[k] = {terminals_[0][k], terminals_[1][k]};
        common[k] = {terminals_[1][k], high_neutral};
      }
      coils_.push_back({series, (t_.high_voltage_V - t_.low_voltage_V) / sqrt3, 0});
      coils_.push_back({common, t_.low_voltage_V / sqrt3, 1});
    } else {
      const auto high = plain_coils(assembly_, t_.name, terminals_[0], sides_[0].joint, high_neutral);
      coils_.push_back({high[0], coil_voltage(sides_[0], t_.high_voltage_V), 0});
      const NodeId low_neutral =
          neutral(sides_[1], "low", t_.low_neutral_resistance_ohm, t_.low_neutral_reactance_ohm);
      add_side(1, t_.low_voltage_V, low_neutral);
    }
    if (sides_.size() == 3) add_side(2, t_.tertiary_voltage_V, neutral(sides_[2], "tertiary", 0, 0));
  }

  void add_side(std::size_t number, double line_V, NodeId neutral_node) {
    const Side& side = sides_[number];
    const auto plain = plain_coils(assembly_, t_.name, terminals_[number], side.joint, neutral_node);
    for (const auto& ends : turned(plain, sides_[0], side))
      coils_.push_back({ends, coil_voltage(side, line_V), number, 1.0 / static_cast<double>(plain.size())});
  }

  /// A fault inside a winding takes a node of its own on each limb: `at` counts from the coil's far end (the
  /// neutral).
  void split_faulted() {
    for (const WindingTap& tap : assembly_.winding_taps(t_.name)) {
      const std::size_t winding = tap.winding == "high" ? 0 : tap.winding == "low" ? 1 : 2;
      for (std::size_t c = 0; c < coils_.size(); ++c) {
        if (coils_[c].winding != winding) continue;
        Coil inner = coils_[c];
        Coil& outer = coils_[c];
        for (std::size_t k = 0; k < 3; ++k) outer.ends[k].q = inner.ends[k].p = tap.nodes[k];
        inner.voltage_V *= tap.fraction;
        inner.share *= tap.fraction;
        outer.voltage_V *= 1 - tap.fraction;
        outer.share *= 1 - tap.fraction;
        coils_.insert(coils_.begin() + static_cast<std::ptrdiff_t>(c) + 1, inner);
        break;
      }
    }
    if (coils_.size() > 4) reject(t_, "vector_group", "only one fault at a time may lie inside it");
  }

  /// Complex impedance of a test in ohm at `line_V`.
  [[nodiscard]] std::complex<double> test(const char* field, double uk, double loss_W, double line_V) const {
    const double base = line_V * line_V / t_.rating_VA;
    const double z = uk * base, r = loss_W / t_.rating_VA * base;
    if (r >= z) reject(t_, field, "is more than the short-circuit voltage allows; check both");
    return {r, std::sqrt(z * z - r * r)};
  }

  /// Per winding; star equivalents on volts per turn, a_j = z_j / V_j^2 with V_j the winding's voltage.
  void find_leakages() {
    const bool automatic = sides_[1].joint == Joint::automatic;
    // Voltages as of star windings; a delta's own impedance is three times as large, in the end.
    std::vector<double> v{t_.high_voltage_V, t_.low_voltage_V};
    if (automatic) v[0] = t_.high_voltage_V - t_.low_voltage_V;
    if (sides_.size() == 3) v.push_back(t_.tertiary_voltage_V);
    const auto hl = test("copper_loss", t_.short_circuit_voltage, t_.copper_loss_W, t_.high_voltage_V);
    std::vector<std::complex<double>> a(v.size());
    if (v.size() == 2) {
      a[0] = a[1] = hl / (v[0] * v[0]) / 2.0;
    } else {
      const auto ht =
          test("copper_loss_ht", t_.short_circuit_voltage_ht, t_.copper_loss_ht_W, t_.high_voltage_V);
      const auto lt =
          test("copper_loss_lt", t_.short_circuit_voltage_lt, t_.copper_loss_lt_W, t_.low_voltage_V);
      // hl = (a0 + a1) v0^2, lt = (a1 + a2) v1^2, and for the high side through both windings when they are
      // one.
      const double through = automatic ? v[0] + v[1] : v[0];
      Eigen::Matrix3d m;
      m << v[0] * v[0], v[0] * v[0], 0,  //
          0, v[1] * v[1], v[1] * v[1],   //
          v[0] * v[0], automatic ? v[1] * v[1] : 0, through * through;
      Eigen::Vector3cd tests(hl, lt, ht);
      const Eigen::Vector3cd solved = m.cast<std::complex<double>>().inverse() * tests;
      for (std::size_t k = 0; k < 3; ++k) a[k] = solved[static_cast<Eigen::Index>(k)];
    }
    for (std::size_t k = 0; k < v.size(); ++k) {
      const double delta = sides_[k].joint == Joint::delta ? 3 : 1;
      const auto z = a[k] * v[k] * v[k] * delta;
      leakages_.push_back({z.real(), z.imag()});
    }
  }

  [[nodiscard]] double coils_voltage_of(std::size_t winding) const {
    double sum = 0;
    for (const Coil& coil : coils_) {
      if (coil.winding == winding) sum += coil.voltage_V;
    }
    return sum;
  }

  [[nodiscard]] double iron_share() const {
    const double iron = t_.iron_loss_W / t_.rating_VA;
    if (iron >= t_.magnetizing_current)
      reject(t_, "iron_loss", "takes more than the magnetizing current; check both");
    return iron;
  }
  /// Across the whole high (or series) winding.
  [[nodiscard]] double main_ohm() const {
    const double iron = iron_share();
    const double current = std::sqrt(t_.magnetizing_current * t_.magnetizing_current - iron * iron);
    return star_base() / current;
  }
  /// Base impedance on the voltage of the high (or series) winding.
  [[nodiscard]] double star_base() const {
    const double v = coils_voltage_of(0);
    return v * v / (t_.rating_VA / 3);
  }

  [[nodiscard]] Eigen::MatrixXd resistance() const {
    const auto n = static_cast<Eigen::Index>(coils_.size());
    Eigen::MatrixXd r = Eigen::MatrixXd::Zero(n, n);
    for (Eigen::Index k = 0; k < n; ++k) {
      const Coil& coil = coils_[static_cast<std::size_t>(k)];
      r(k, k) = leakages_[coil.winding].resistance * coil.share;
    }
    return r;
  }
  [[nodiscard]] Eigen::MatrixXd inductance() const {
    const auto n = static_cast<Eigen::Index>(coils_.size());
    Eigen::MatrixXd x = Eigen::MatrixXd::Zero(n, n);
    const double main = main_ohm(), reference = coils_voltage_of(0);
    for (Eigen::Index r = 0; r < n; ++r) {
      for (Eigen::Index c = 0; c < n; ++c) {
        const Coil &a = coils_[static_cast<std::size_t>(r)], &b = coils_[static_cast<std::size_t>(c)];
        x(r, c) = main * a.voltage_V * b.voltage_V / (reference * reference);
        // Parts of one winding share its leakage flux; a hundredth of it stays with each part.
        if (a.winding != b.winding) continue;
        const double leakage = leakages_[a.winding].reactance;
        const bool divided = a.share < 1 && sides_[a.winding].joint != Joint::zigzag;
        if (r == c) x(r, c) += leakage * (divided ? 0.99 * a.share * a.share + 0.01 * a.share : a.share);
        if (r != c && divided) x(r, c) += 0.99 * leakage * a.share * b.share;
      }
    }
    return x / assembly_.omega();
  }

  void add_fixed() {
    for (std::size_t limb = 0; limb < 3; ++limb) {
      SeriesPart part{.owner = owner_,
                      .ends = {},
                      .resistance = resistance(),
                      .inductance = inductance(),
                      .elastance = {},
                      .first_current = {},
                      .first_charge_voltage = {}};
      for (const Coil& coil : coils_) part.ends.push_back(coil.ends[limb]);
      const Slot first = assembly_.series(std::move(part));
      for (std::size_t c = 0; c < coils_.size(); ++c)
        currents_.push_back({first.index + static_cast<int>(c)});
    }
  }

  /// All coils of the tapped side have taps; the control looks at the first of the low side, whose voltage is
  /// the terminal's in proportion.
  void add_tapped() {
    const auto coils = static_cast<int>(coils_.size());
    const std::size_t side = t_.tap_winding == "high" ? 0 : 1;
    const auto regulated =
        std::find_if(coils_.begin(), coils_.end(), [](const Coil& c) { return c.winding == 1; });
    const Eigen::MatrixXd r = resistance(), l = inductance();
    Eigen::MatrixXd all_r = Eigen::MatrixXd::Zero(3 * coils, 3 * coils), all_l = all_r;
    std::vector<Ends> ends;
    std::vector<int> tapped, measured;
    for (int limb = 0; limb < 3; ++limb) {
      all_r.block(coils * limb, coils * limb, coils, coils) = r;
      all_l.block(coils * limb, coils * limb, coils, coils) = l;
      for (int c = 0; c < coils; ++c) {
        const Coil& coil = coils_[static_cast<std::size_t>(c)];
        ends.push_back(coil.ends[static_cast<std::size_t>(limb)]);
        if (coil.winding == side) tapped.push_back(coils * limb + c);
      }
      measured.push_back(coils * limb + static_cast<int>(regulated - coils_.begin()));
    }
    if (t_.tap > t_.taps_up || t_.tap < -t_.taps_down)
      reject(t_, "tap", fmt::format("is none of the positions from {} to {}", -t_.taps_down, t_.taps_up));
    TapControl control;
    if (network::is_set(t_.tap_target_V)) {
      control.target_V = t_.tap_target_V / t_.low_voltage_V * regulated->voltage_V;
      control.band_V = t_.tap_band * control.target_V;
      control.delay_s = t_.tap_delay_s;
      control.travel_s = t_.tap_time_s;
      control.raise_lifts = t_.tap_winding == "low";
    }
    const Slot knob = assembly_.knob(t_.name + ".tap", "", t_.tap, -t_.taps_down, t_.taps_up);
    auto windings = std::make_unique<TappedWindings>(all_r, all_l, tapped, measured, t_.tap_step,
                                                     -t_.taps_down, t_.taps_up, t_.tap, control, knob);
    const int position = windings->position_slot();
    const Slot first = assembly_.model({.owner = owner_, .ends = ends, .model = std::move(windings)});
    assembly_.signal(t_.name + ".position", "", {value_of({first.index + position})});
    for (int k = 0; k < 3 * coils; ++k) currents_.push_back({first.index + k});
  }

  void add_iron() {
    iron_S_ = iron_share() / star_base();
    if (iron_S_ == 0) return;
    for (const Ends& ends : high_winding()) assembly_.conductance(ends, iron_S_);
  }

  /// The whole of the first winding, limb by limb.
  [[nodiscard]] std::array<Ends, 3> high_winding() const {
    std::array<Ends, 3> whole = coils_[0].ends;
    for (const Coil& coil : coils_) {
      if (coil.winding != 0) continue;
      for (std::size_t k = 0; k < 3; ++k) whole[k].q = coil.ends[k].q;
    }
    return whole;
  }

  void add_saturation() {
    if (!network::is_set(t_.knee)) {
      if (!t_.residual_flux.empty())
        reject(t_, "residual_flux", "needs a knee: without saturation it has no meaning");
      return;
    }
    if (!t_.residual_flux.empty() && t_.residual_flux.size() != 3)
      reject(t_, "residual_flux", "three figures are wanted, one per limb");
    const double omega = assembly_.omega();
    const double rated = std::numbers::sqrt2 * coils_voltage_of(0) / omega;  // peak flux linkage
    const double beyond = omega / (t_.air_core * star_base()) - omega / main_ohm();
    if (beyond <= 0) reject(t_, "air_core", "is more than the magnetizing current allows; check both");
    for (std::size_t k = 0; k < 3; ++k) {
      double residual = 0;
      if (!t_.residual_flux.empty()) {
        try {
          residual = parse_quantity_as(t_.residual_flux[k], "") * rated;
        } catch (const Error& error) {
          reject(t_, "residual_flux", error.flaws().front().text);
        }
      }
      const SegmentPart& part = assembly_.segments({.owner = owner_,
                                                    .ends = high_winding()[k],
                                                    .inductive = true,
                                                    .corners = bent_at(t_.knee * rated, beyond),
                                                    .residual = residual});
      saturation_.push_back(part.current);
      assembly_.signal(t_.name + ".flux" + "abc"[k], "V s", {value_of(part.state)});
    }
  }

  /// Current from each terminal of a side into the windings.
  [[nodiscard]] std::vector<Terms> terminal_currents(std::size_t side) const {
    std::vector<Terms> sums(3);
    const std::array<Ends, 3> high = high_winding();
    for (std::size_t k = 0; k < 3; ++k) {
      const NodeId terminal = terminals_[side][k];
      for (std::size_t limb = 0; limb < 3; ++limb) {
        for (std::size_t c = 0; c < coils_.size(); ++c) {
          const double sign = sign_at(coils_[c].ends[limb], terminal);
          if (sign != 0) sums[k].push_back(value_of(currents_[limb * coils_.size() + c], sign));
        }
        const double sign = sign_at(high[limb], terminal);
        if (sign == 0) continue;
        if (!saturation_.empty()) sums[k].push_back(value_of(saturation_[limb], sign));
        if (iron_S_ == 0) continue;
        sums[k].push_back(voltage_of(high[limb].p, sign * iron_S_));
        sums[k].push_back(voltage_of(high[limb].q, -sign * iron_S_));
      }
    }
    return sums;
  }
  [[nodiscard]] static double sign_at(const Ends& ends, NodeId terminal) {
    return ends.p == terminal ? 1 : ends.q == terminal ? -1 : 0;
  }

  void add_signals() {
    assembly_.end_currents(t_.name, terminal_currents(0), terminal_currents(1));
    if (sides_.size() < 3) return;
    const std::vector<Terms> third = terminal_currents(2);
    for (std::size_t k = 0; k < 3; ++k)
      assembly_.signal(t_.name + ".i" + "abc"[k] + "_tertiary", "A", third[k]);
  }

  const network::Transformer& t_;
  Assembly& assembly_;
  std::string owner_;
  std::vector<Side> sides_;
  std::vector<std::vector<NodeId>> terminals_;  // per side
  std::vector<Coil> coils_;
  std::vector<Leakage> leakages_;  // per winding
  std::vector<Slot> currents_;     // limb by limb, coil by coil
  std::vector<Slot> saturation_;   // per limb
  double iron_S_ = 0;
};

}  // namespace

template <>
void assemble(const network::Transformer& t, Assembly& assembly) {
  Builder(t, assembly).run();
}

}  // namespace zavrek::emt::internal
