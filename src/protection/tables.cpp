#include "zavrek/protection/settings.hpp"

namespace zavrek::protection {

using network::above;
using network::any;
using network::at_least;
using network::Need;
using network::within;

namespace {

constexpr auto optional = Need::optional;

/// What the signals of functions say while they are on.
std::string_view doc_of(std::string_view signal) {
  constexpr std::pair<std::string_view, std::string_view> docs[] = {
      {"start", "on while it has picked up"},
      {"trip", "on while it has operated"},
      {"inhibit", "on while it forbids a start"},
      {"held", "on while harmonics hold it back"},
      {"close", "on while it closes the breaker"},
      {"lockout", "on once it has given up"},
      {"release", "on while the breaker may be closed"},
  };
  for (const auto& [name, doc] : docs) {
    if (name == signal) return doc;
  }
  return "on while it holds";
}

/// The fields that every function has.
template <class T>
TableOf<T> function_table(std::string kind, std::string doc) {
  TableOf<T> table(std::move(kind), std::move(doc));
  table
      .text("blocked_by", &T::blocked_by, "condition that keeps it at rest, such as \"input.block\"",
            optional)
      .flag("trips", &T::trips, "its trip is one of the relay's");
  for (const std::string& signal : T::signals()) table.gives(signal, "", doc_of(signal));
  return table;
}
template <class T>
TableOf<T> placed_table(std::string kind, std::string doc) {
  TableOf<T> table = function_table<T>(std::move(kind), std::move(doc));
  table.count("end", &T::end, within(1, 8), "place (of the streams that the relay reads) that it measures");
  return table;
}

}  // namespace

const Table& table(const Stage*) {
  static const Table built = [] {
    std::vector<std::string> characteristics{"definite"};
    for (const Curve& curve : curves()) characteristics.push_back(curve.name);
    characteristics.emplace_back("points");
    return placed_table<Stage>("stage", "one overcurrent stage")
        .choice("quantity", &Stage::quantity, {"phase", "earth", "negative"},
                "largest phase current, residual current, or negative sequence")
        .choice("characteristic", &Stage::characteristic, characteristics,
                "definite time, an inverse curve of IEC 60255-151 or IEEE C37.112, or the curve in `points`")
        .points("points", &Stage::points, "", "s",
                "operating time over multiple of pickup, [\"1.5: 2 s\", ...]")
        .quantity("pickup", &Stage::pickup_A, "A", above(0), "rms current above which the stage starts")
        .quantity("delay", &Stage::delay_s, "s", at_least(0), "operating time of a definite stage", optional)
        .quantity("time_multiplier", &Stage::time_multiplier, "", above(0), "of a curve")
        .quantity("drop_off", &Stage::drop_off, "", within(0.5, 1),
                  "fraction of pickup below which it resets")
        .quantity("flat_above", &Stage::flat_above, "", above(1),
                  "multiple beyond which a curve gets no faster")
        .choice("reset", &Stage::reset, {"instant", "definite", "inverse"},
                "what is kept of the travelled time when the current falls")
        .quantity("reset_delay", &Stage::reset_delay_s, "s", at_least(0), "of a definite reset")
        .choice("direction", &Stage::direction, {"none", "forward", "reverse"}, "the way that counts")
        .quantity("angle", &Stage::angle_rad, "deg", within(-1.5707963267948966, 1.5707963267948966),
                  "by which the fault current lags its voltage where direction is clearest")
        .quantity("least_voltage", &Stage::least_voltage_V, "V", at_least(0),
                  "below it phases use the remembered voltage; sequences give no direction")
        .choice("voltage", &Stage::voltage, {"none", "restrains", "controls"},
                "what the least voltage between phases does: pickup falls with it, or the stage rests while "
                "it is up")
        .quantity("full_voltage", &Stage::full_voltage_V, "V", above(0),
                  "between phases, from which on pickup is whole, or the stage rests", optional)
        .quantity("second_harmonic", &Stage::second_harmonic, "%", above(0),
                  "share of the phase current above which the stage is held back", optional)
        .build();
  }();
  return built;
}

const Table& table(const VoltageStage*) {
  static const Table built =
      placed_table<VoltageStage>("voltage_stage", "over- or undervoltage")
          .choice("when", &VoltageStage::when, {"over", "under"}, "which side of the pickup it starts on")
          .choice("quantity", &VoltageStage::quantity,
                  {"phase", "phase-phase", "positive", "negative", "residual"},
                  "the voltage that it compares")
          .choice("of", &VoltageStage::of, {"any", "all"}, "how many of the three must be beyond the pickup")
          .choice("characteristic", &VoltageStage::characteristic, {"definite", "inverse"},
                  "definite, or T / |M - 1| of IEC 60255-127")
          .quantity("pickup", &VoltageStage::pickup_V, "V", above(0), "rms voltage")
          .quantity("delay", &VoltageStage::delay_s, "s", at_least(0), "of a definite stage", optional)
          .quantity("time_multiplier", &VoltageStage::time_multiplier, "", above(0), "of an inverse stage")
          .quantity("drop_off", &VoltageStage::drop_off, "", within(0.5, 1),
                    "fraction of pickup at which an overvoltage resets; an undervoltage at its inverse")
          .quantity("block_below", &VoltageStage::block_below_V, "V", at_least(0),
                    "an undervoltage below this is a dead line and does not count")
          .build();
  return built;
}

const Table& table(const FrequencyStage*) {
  static const Table built =
      placed_table<FrequencyStage>("frequency_stage", "over- or underfrequency, or its rate of change")
          .choice("when", &FrequencyStage::when, {"over", "under", "rising", "falling"}, "what it watches")
          .quantity("pickup", &FrequencyStage::pickup_Hz, "Hz", above(0), "frequency, of over and under",
                    optional)
          .quantity("rate", &FrequencyStage::rate_Hz_per_s, "Hz/s", above(0), "of rising and falling",
                    optional)
          .quantity("delay", &FrequencyStage::delay_s, "s", at_least(0), "operating time")
          .quantity("drop_off", &FrequencyStage::drop_off_Hz, "Hz", at_least(0), "way back to reset")
          .quantity("least_voltage", &FrequencyStage::least_voltage_V, "V", at_least(0),
                    "positive sequence, below which it rests")
          .build();
  return built;
}

const Table& table(const Zone*) {
  static const Table built =
      placed_table<Zone>("zone", "one zone of distance protection")
          .choice("shape", &Zone::shape, {"quadrilateral", "mho"}, "of the characteristic")
          .choice("direction", &Zone::direction, {"forward", "reverse", "none"}, "the way it looks")
          .choice("loops", &Zone::loops, {"all", "phase", "earth"}, "that it watches")
          .quantity("reach", &Zone::reach_ohm, "ohm", above(0), "impedance along the line's angle")
          .quantity("angle", &Zone::angle_rad, "deg", within(0.17, 1.5707963267948966), "of the line")
          .quantity("resistive_reach", &Zone::resistive_reach_ohm, "ohm", above(0),
                    "of a quadrilateral, either side of the line", optional)
          .quantity("earth_resistive_reach", &Zone::earth_resistive_reach_ohm, "ohm", above(0),
                    "of loops to earth; as between phases when left out", optional)
          .quantity("delay", &Zone::delay_s, "s", at_least(0), "operating time")
          .quantity("confirm", &Zone::confirm_s, "ms", at_least(0),
                    "for which a loop must be inside before the zone starts")
          .quantity("least_current", &Zone::least_current_A, "A", at_least(0), "of a loop, rms")
          .quantity("residual_factor", &Zone::residual_factor, "", at_least(0),
                    "magnitude of its own compensation; that of the relay when left out", optional)
          .quantity("residual_angle", &Zone::residual_angle_rad, "deg", any(), "and its angle", optional)
          .build();
  return built;
}

const Table& table(const PowerSwing*) {
  static const Table built =
      placed_table<PowerSwing>(
          "power_swing", "tells a swing by the slow passage of the impedance; block zones by NAME.start")
          .quantity("outer", &PowerSwing::outer_ohm, "ohm", above(0),
                    "positive-sequence impedance of the outer ring")
          .quantity("inner", &PowerSwing::inner_ohm, "ohm", above(0), "of the inner ring")
          .quantity("least_time", &PowerSwing::least_time_s, "s", above(0),
                    "between the rings, to be a swing")
          .quantity("hold", &PowerSwing::hold_s, "s", at_least(0), "outside the outer ring until it resets")
          .build();
  return built;
}

const Table& table(const SwitchOntoFault*) {
  static const Table built =
      placed_table<SwitchOntoFault>("switch_onto_fault",
                                    "trips at once, for a while after a dead line was energised")
          .text("when", &SwitchOntoFault::when, "condition that then trips, such as \"z2.start\"")
          .quantity("dead_voltage", &SwitchOntoFault::dead_voltage_V, "V", above(0),
                    "below this a phase is dead")
          .quantity("dead_current", &SwitchOntoFault::dead_current_A, "A", above(0), "and below this")
          .quantity("dead_for", &SwitchOntoFault::dead_for_s, "s", at_least(0),
                    "how long, for the line to be dead")
          .quantity("window", &SwitchOntoFault::window_s, "s", above(0), "how long it is armed")
          .build();
  return built;
}

const Table& table(const Differential*) {
  static const Table built =
      function_table<Differential>("differential", "percentage differential of a transformer, line or busbar")
          .texts("rated_currents", &Differential::rated_currents, "primary, one for each place",
                 Need::required)
          .texts("hours", &Differential::hours,
                 "clock figure of each place against the first, such as [\"0\", \"11\"]")
          .texts("earthed", &Differential::earthed, "\"yes\" where zero sequence is taken out")
          .quantity("pickup", &Differential::pickup, "", above(0), "of the rated current")
          .quantity("slope", &Differential::slope, "", at_least(0), "of the operating line, up to the knee")
          .quantity("knee", &Differential::knee, "", at_least(0),
                    "restraint from which the second slope holds")
          .quantity("second_slope", &Differential::second_slope, "", at_least(0), "beyond the knee")
          .quantity("second_harmonic", &Differential::second_harmonic, "%", above(0), "share that blocks",
                    optional)
          .quantity("fifth_harmonic", &Differential::fifth_harmonic, "%", above(0), "share that blocks",
                    optional)
          .choice("restraint", &Differential::restraint, {"mean", "sum", "largest"},
                  "half the sum of the places' currents, the sum, or the largest of them")
          .choice("blocks", &Differential::blocks, {"each phase", "all phases"},
                  "whom a phase's harmonics hold back")
          .quantity("unrestrained", &Differential::unrestrained, "", above(0),
                    "of the rated current; trips whatever the harmonics", optional)
          .quantity("delay", &Differential::delay_s, "s", at_least(0), "operating time")
          .build();
  return built;
}

const Table& table(const BreakerFailure*) {
  static const Table built =
      placed_table<BreakerFailure>("breaker_failure", "current still flows a while after the trip")
          .text("started_by", &BreakerFailure::started_by, "condition; the relay's trip when left out",
                optional)
          .quantity("current", &BreakerFailure::current_A, "A", above(0), "rms, of any phase")
          .quantity("delay", &BreakerFailure::delay_s, "s", above(0), "after the trip")
          .build();
  return built;
}

const Table& table(const Reclose*) {
  static const Table built =
      function_table<Reclose>("reclose", "closes the breaker again after a trip; NAME.close is its command")
          .text("started_by", &Reclose::started_by, "condition; the relay's trip when left out", optional)
          .text("closed", &Reclose::closed,
                "condition that tells that the breaker is closed, such as \"input.closed\"")
          .texts("dead_times", &Reclose::dead_times, "of the shots, such as [\"0.5 s\", \"15 s\"]",
                 Need::required)
          .quantity("reclaim", &Reclose::reclaim_s, "s", above(0),
                    "after closing, until it is ready for a first shot")
          .quantity("pulse", &Reclose::pulse_s, "s", above(0), "of the closing command")
          .build();
  return built;
}

const Table& table(const Synchrocheck*) {
  static const Table built =
      placed_table<Synchrocheck>("synchrocheck", "both sides of a breaker fit together; NAME.release says so")
          .count("other_end", &Synchrocheck::other_end, within(1, 8), "the other place")
          .quantity("voltage", &Synchrocheck::voltage_V, "V", above(0),
                    "positive sequence that both must exceed")
          .quantity("difference", &Synchrocheck::difference_V, "V", above(0), "most, in magnitude")
          .quantity("angle", &Synchrocheck::angle_rad, "deg", above(0), "most")
          .quantity("slip", &Synchrocheck::slip_Hz, "Hz", above(0), "most")
          .quantity("delay", &Synchrocheck::delay_s, "s", at_least(0), "for which all must hold")
          .build();
  return built;
}

const Table& table(const Unbalance*) {
  static const Table built =
      placed_table<Unbalance>("unbalance", "negative- over positive-sequence current: an open conductor")
          .quantity("pickup", &Unbalance::pickup, "%", above(0), "share of the positive sequence")
          .quantity("least_current", &Unbalance::least_current_A, "A", above(0),
                    "positive sequence below which it rests")
          .quantity("delay", &Unbalance::delay_s, "s", at_least(0), "operating time")
          .quantity("drop_off", &Unbalance::drop_off, "", within(0.1, 1), "fraction of pickup")
          .build();
  return built;
}

const Table& table(const EarthPower*) {
  static const Table built =
      placed_table<EarthPower>(
          "earth_power",
          "sensitive earth fault: the part of the residual current in line with its voltage, or across")
          .choice("quantity", &EarthPower::quantity, {"active", "reactive"},
                  "in line with the residual voltage (compensated neutral), or across it (insulated)")
          .choice("direction", &EarthPower::direction, {"forward", "reverse"}, "the way that counts")
          .quantity("pickup", &EarthPower::pickup_A, "A", above(0), "of that part, rms")
          .quantity("voltage", &EarthPower::voltage_V, "V", above(0), "residual voltage from which it counts")
          .quantity("delay", &EarthPower::delay_s, "s", at_least(0), "operating time")
          .quantity("drop_off", &EarthPower::drop_off, "", within(0.1, 1), "fraction of pickup")
          .build();
  return built;
}

const Table& table(const RestrictedEarth*) {
  static const Table built =
      placed_table<RestrictedEarth>("restricted_earth",
                                    "residual current of a winding against that of its neutral")
          .count("neutral_end", &RestrictedEarth::neutral_end, within(1, 8),
                 "place that measures the current of the neutral, towards the winding")
          .quantity("pickup", &RestrictedEarth::pickup_A, "A", above(0), "of the sum of the two")
          .quantity("slope", &RestrictedEarth::slope, "", at_least(0), "of half their difference, on top")
          .quantity("delay", &RestrictedEarth::delay_s, "s", at_least(0), "operating time")
          .quantity("drop_off", &RestrictedEarth::drop_off, "", within(0.1, 1), "fraction of the threshold")
          .build();
  return built;
}

const Table& table(const Overfluxing*) {
  static const Table built =
      placed_table<Overfluxing>("overfluxing", "voltage over frequency, each over its rated value")
          .quantity("rated_voltage", &Overfluxing::rated_voltage_V, "V", above(0), "between phases")
          .quantity("pickup", &Overfluxing::pickup, "", above(0), "of the rated flux")
          .choice("characteristic", &Overfluxing::characteristic, {"definite", "inverse"},
                  "`delay`, or time_multiplier / (M - 1), M the flux over pickup")
          .quantity("delay", &Overfluxing::delay_s, "s", at_least(0), "definite operating time", optional)
          .quantity("time_multiplier", &Overfluxing::time_multiplier, "", above(0), "seconds, of the inverse")
          .quantity("drop_off", &Overfluxing::drop_off, "", within(0.5, 1), "fraction of pickup")
          .build();
  return built;
}

const Table& table(const FieldLoss*) {
  static const Table built =
      placed_table<FieldLoss>("field_loss",
                              "a machine without excitation: its impedance in a circle below the origin")
          .quantity("offset", &FieldLoss::offset_ohm, "ohm", at_least(0),
                    "of the circle's top below the origin: half the transient reactance")
          .quantity("diameter", &FieldLoss::diameter_ohm, "ohm", above(0), "the synchronous reactance")
          .choice("current", &FieldLoss::current, {"out", "into"},
                  "way of the measured current, of the machine")
          .quantity("least_voltage", &FieldLoss::least_voltage_V, "V", at_least(0), "positive sequence")
          .quantity("delay", &FieldLoss::delay_s, "s", at_least(0), "operating time")
          .build();
  return built;
}

const Table& table(const PoleSlip*) {
  static const Table built =
      placed_table<PoleSlip>("pole_slip", "a machine out of step: its impedance crosses both blinders")
          .quantity("blinder", &PoleSlip::blinder_ohm, "ohm", above(0), "either side of the line")
          .quantity("forward", &PoleSlip::forward_ohm, "ohm", above(0), "reach along the line")
          .quantity("reverse", &PoleSlip::reverse_ohm, "ohm", at_least(0), "reach the other way")
          .quantity("angle", &PoleSlip::angle_rad, "deg", within(0.17, 1.5707963267948966), "of the line")
          .quantity("least_time", &PoleSlip::least_time_s, "s", at_least(0), "from blinder to blinder")
          .count("slips", &PoleSlip::slips, within(1, 20), "until it trips")
          .quantity("forget", &PoleSlip::forget_s, "s", above(0), "without a further slip")
          .build();
  return built;
}

const Table& table(const MotorStart*) {
  static const Table built =
      placed_table<MotorStart>(
          "motor_start",
          "a motor that starts too long, stalls or starts too often; NAME.inhibit forbids a start")
          .quantity("rated", &MotorStart::rated_A, "A", above(0), "rated current")
          .quantity("starting", &MotorStart::starting, "", above(0), "of it, above which the motor starts")
          .quantity("longest", &MotorStart::longest_s, "s", above(0), "that a start may take")
          .quantity("stalled", &MotorStart::stalled, "", above(0),
                    "of it, above which a motor that runs is stalled", optional)
          .quantity("stall_delay", &MotorStart::stall_delay_s, "s", at_least(0), "for which it must be so")
          .count("most_starts", &MotorStart::most_starts, within(1, 16), "allowed")
          .quantity("within", &MotorStart::within_s, "s", above(0), "so much time")
          .build();
  return built;
}

const Table& table(const VectorShift*) {
  static const Table built =
      placed_table<VectorShift>("vector_shift",
                                "the angle of the voltage jumps: an island has parted from its grid")
          .quantity("angle", &VectorShift::angle_rad, "deg", within(0.017, 1.6), "of the jump")
          .quantity("least_voltage", &VectorShift::least_voltage_V, "V", above(0),
                    "positive sequence, below which it rests")
          .quantity("pulse", &VectorShift::pulse_s, "s", above(0), "for which it trips")
          .build();
  return built;
}

const Table& table(const CurrentWatch*) {
  static const Table built =
      placed_table<CurrentWatch>("current_watch", "a current circuit is broken; block by NAME.start")
          .quantity("residual_current", &CurrentWatch::residual_current_A, "A", above(0),
                    "above which, without")
          .quantity("residual_voltage", &CurrentWatch::residual_voltage_V, "V", above(0),
                    "such voltage, it is broken")
          .quantity("delay", &CurrentWatch::delay_s, "s", at_least(0), "until it says so")
          .build();
  return built;
}

const Table& table(const Thermal*) {
  static const Table built =
      placed_table<Thermal>("thermal",
                            "thermal overload with one time constant, IEC 60255-149; NAME.start is its alarm")
          .quantity("rated", &Thermal::rated_A, "A", above(0), "rated current")
          .quantity("factor", &Thermal::factor, "", above(0),
                    "of the rated current that it may carry for ever")
          .quantity("time_constant", &Thermal::time_constant_s, "s", above(0), "of heating and cooling")
          .quantity("alarm", &Thermal::alarm, "", within(0.1, 1), "of the trip temperature")
          .quantity(
              "negative_factor", &Thermal::negative_factor, "", at_least(0),
              "by which negative sequence heats: the square of I1 and so many times that of I2; the largest "
              "phase current when 0")
          .build();
  return built;
}

const Table& table(const PowerStage*) {
  static const Table built =
      placed_table<PowerStage>("power_stage", "three-phase power one way, out of the bus being forward")
          .choice("quantity", &PowerStage::quantity, {"active", "reactive"}, "which power")
          .choice("direction", &PowerStage::direction, {"reverse", "forward"}, "the way that counts")
          .quantity("pickup", &PowerStage::pickup_W, "W", above(0),
                    "of the three phases; secondary watts with secondary values")
          .quantity("delay", &PowerStage::delay_s, "s", at_least(0), "operating time")
          .quantity("drop_off", &PowerStage::drop_off, "", within(0.1, 1), "fraction of pickup")
          .build();
  return built;
}

const Table& table(const LossOfPotential*) {
  static const Table built =
      placed_table<LossOfPotential>("loss_of_potential",
                                    "a fuse of the voltage circuits has blown; block by NAME.start")
          .quantity("negative", &LossOfPotential::negative_V, "V", above(0),
                    "negative-sequence voltage above which, without such current, a fuse is gone", optional)
          .quantity("negative_current", &LossOfPotential::negative_current_A, "A", above(0),
                    "negative- or zero-sequence current that tells a fault instead", optional)
          .quantity("collapsed", &LossOfPotential::collapsed_V, "V", above(0),
                    "positive-sequence voltage below which, without a change of current, all three are gone",
                    optional)
          .quantity("change", &LossOfPotential::change_A, "A", above(0),
                    "change of current that tells a fault instead", optional)
          .quantity("delay", &LossOfPotential::delay_s, "s", at_least(0), "until it says so")
          .build();
  return built;
}

const Table& table(const Logic*) {
  static const Table built =
      function_table<Logic>("logic", "a condition with timers; its signal is NAME")
          .text("when", &Logic::when, "condition, such as \"phase1.start and not input.block\"")
          .quantity("on_delay", &Logic::on_delay_s, "s", at_least(0), "for which it must hold")
          .quantity("off_delay", &Logic::off_delay_s, "s", at_least(0), "for which it must be gone")
          .build();
  return built;
}

const Table& table(const Latch*) {
  static const Table built =
      function_table<Latch>("latch", "remembers; its signal is NAME")
          .text("set", &Latch::set, "condition that sets it")
          .text("reset", &Latch::reset, "condition that resets it, and prevails", optional)
          .build();
  return built;
}

const Table& table(const Output*) {
  static const Table built =
      function_table<Output>("output",
                             "a signal that the relay sends; \"trip\" and \"start\" replace its own")
          .text("when", &Output::when, "condition")
          .build();
  return built;
}

RelaySettings::RelaySettings() = default;
RelaySettings::RelaySettings(const RelaySettings&) = default;
RelaySettings::RelaySettings(RelaySettings&&) noexcept = default;
RelaySettings& RelaySettings::operator=(const RelaySettings&) = default;
RelaySettings& RelaySettings::operator=(RelaySettings&&) noexcept = default;
RelaySettings::~RelaySettings() = default;

const Table& table(const RelaySettings*) {
  static const Table built =
      TableOf<RelaySettings>("relay", "settings of a relay")
          .choice("values", &RelaySettings::values, {"primary", "secondary"},
                  "in which currents, voltages, impedances and powers are given")
          .quantity("ct_primary", &RelaySettings::ct_primary_A, "A", above(0),
                    "rated primary current of the current transformers; needed for secondary values",
                    optional)
          .quantity("ct_secondary", &RelaySettings::ct_secondary_A, "A", above(0), "rated secondary current")
          .quantity("vt_primary", &RelaySettings::vt_primary_V, "V", above(0),
                    "rated primary voltage; needed for secondary values of voltage functions", optional)
          .quantity("vt_secondary", &RelaySettings::vt_secondary_V, "V", above(0), "rated secondary voltage")
          .choice("earth", &RelaySettings::earth, {"sum", "neutral"}, "where the residual current comes from")
          .choice("filter", &RelaySettings::filter, {"full cycle", "half cycle", "cosine"},
                  "how phasors are taken from samples")
          .flag("track_frequency", &RelaySettings::track_frequency, "the window follows the frequency found")
          .count("decisions", &RelaySettings::decisions, within(0, 80),
                 "how often its functions decide in a cycle; 0: at every sample")
          .quantity("residual_factor", &RelaySettings::residual_factor, "", at_least(0),
                    "magnitude of (Z0 - Z1) / (3 Z1) of the line")
          .quantity("residual_angle", &RelaySettings::residual_angle_rad, "deg", any(), "its angle")
          .quantity("load_resistance", &RelaySettings::load_resistance_ohm, "ohm", above(0),
                    "beyond it, within `load_angle`, zones see load and stay quiet", optional)
          .quantity("load_angle", &RelaySettings::load_angle_rad, "deg", within(0, 1.2),
                    "of the load, either way")
          .build();
  return built;
}

}  // namespace zavrek::protection
