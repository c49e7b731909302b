#include "zavrek/trial/injection.hpp"

#include <gtest/gtest.h>

#include <atomic>
#include <cmath>
#include <map>
#include <set>

#include "zavrek/casefile.hpp"

namespace zavrek::trial {
namespace {

using protection::RelaySettings;
using protection::Stage;

RelaySettings demo(const std::string& file) {
  return casefile::read_relay_settings(std::string(ZAVREK_DEMO) + "/" + file);
}
std::string demo_file(const std::string& file) { return std::string(ZAVREK_DEMO) + "/" + file; }

InjectionReport tested(const RelaySettings& settings, const RelaySettings& approved,
                       InjectionOptions options = {}) {
  options.name = "R";
  return inject(settings, approved, "none.toml", options);
}

Stage& stage_of(RelaySettings& settings, const std::string& name) {
  for (auto& function : settings.functions) {
    if (auto* stage = std::get_if<Stage>(&function); stage && stage->name == name) return *stage;
  }
  throw Error("no stage " + name);
}

/// Functions of which something failed.
std::set<std::string> failed(const InjectionReport& report) {
  std::set<std::string> names;
  for (const InjectedPoint& p : report.points) {
    if (!p.passed) names.insert(p.function);
  }
  for (const Boundary& b : report.boundaries) {
    if (!b.passed()) names.insert(b.function);
  }
  return names;
}

TEST(Injection, ProvesEachOfFiveStagesOfEveryQuantityByPointsOfItsOwn) {
  const RelaySettings settings = demo("shore-relay/RS.toml");
  const InjectionReport report = tested(settings, settings);
  EXPECT_EQ(report.failure, "");
  EXPECT_EQ(failed(report), std::set<std::string>{});
  EXPECT_EQ(report.warnings, std::vector<std::string>{});
  std::map<std::string, int> proven;
  for (const InjectedPoint& p : report.points) {
    if (p.test == "time" && p.by == p.function && p.judged) ++proven[p.function];
  }
  for (const auto& function : settings.functions) {
    if (std::holds_alternative<protection::Output>(function)) continue;
    EXPECT_GE(proven[protection::base_of(function).name], 2) << protection::base_of(function).name;
  }
}

TEST(Injection, ExpectsTheFormulaAndTriesBothSidesOfAThreshold) {
  const RelaySettings settings = demo("veskar/R1.toml");
  const InjectionReport report = tested(settings, settings, {.only = "phase1"});
  bool below = false;
  for (const InjectedPoint& p : report.points) {
    if (p.test == "time" && p.by == "phase1") {
      EXPECT_NEAR(p.expected, 0.15 * 0.14 / (std::pow(p.value / 420, 0.02) - 1), 1e-9);
      EXPECT_NEAR(p.measured, p.expected + 0.0125, 0.0125);
    }
    below = below || (p.test == "no operation" && p.value < 420);
  }
  EXPECT_TRUE(below);
}

TEST(Injection, FindsEverySettingThatIsNotAsApproved) {
  const RelaySettings approved = demo("veskar/R1.toml");
  const auto with = [&](const std::string& name, auto&& change) {
    RelaySettings found = approved;
    for (auto& function : found.functions) {
      auto& stage = std::get<Stage>(function);
      if (stage.name == name) change(stage);
    }
    return failed(tested(found, approved));
  };
  EXPECT_EQ(with("phase1", [](Stage& s) { s.time_multiplier = 0.2; }).count("phase1"), 1U);
  EXPECT_EQ(with("phase1", [](Stage& s) { s.pickup_A *= 1.05; }).count("phase1"), 1U);
  EXPECT_EQ(with("phase1", [](Stage& s) { s.drop_off = 0.88; }), std::set<std::string>{"phase1"});
  EXPECT_EQ(with("phase2", [](Stage& s) { s.pickup_A *= 1.06; }), std::set<std::string>{"phase2"});
  EXPECT_EQ(with("phase2", [](Stage& s) { s.delay_s = 0.15; }), std::set<std::string>{"phase2"});
  EXPECT_EQ(with("earth1", [](Stage& s) { s.characteristic = "IEC normal inverse"; }).count("earth1"), 1U);
}

TEST(Injection, SearchesZoneBoundariesAndFindsAReachThatIsOff) {
  RelaySettings approved = demo("line/DM.toml");
  std::erase_if(approved.functions, [](const auto& f) { return protection::base_of(f).name != "z1"; });
  std::get<protection::Zone>(approved.functions[0]).blocked_by = "";  // the swing function is not there
  for (const char* shape : {"quadrilateral", "mho"}) {
    std::get<protection::Zone>(approved.functions[0]).shape = shape;
    const InjectionReport right = tested(approved, approved, {.rays = 12});
    EXPECT_EQ(failed(right), std::set<std::string>{}) << shape;
    ASSERT_EQ(right.boundaries.size(), 2U);
    EXPECT_EQ(right.boundaries[0].rays.size(), 12U);
    RelaySettings wrong = approved;
    std::get<protection::Zone>(wrong.functions[0]).reach_ohm *= 1.1;
    const InjectionReport off = tested(wrong, approved, {.rays = 12});
    EXPECT_FALSE(off.boundaries[0].passed()) << shape;
    EXPECT_FALSE(off.boundaries[1].passed()) << shape;
  }
}

TEST(Injection, SearchesTheDifferentialPlane) {
  protection::Differential d;
  d.name = "diff";
  d.rated_currents = {"218.7 A", "1312.2 A"};
  d.hours = {"0", "11"};
  RelaySettings approved;
  approved.name = "T";
  approved.functions = {d};
  const InjectionReport right = tested(approved, approved);
  EXPECT_EQ(failed(right), std::set<std::string>{});
  ASSERT_EQ(right.boundaries.size(), 1U);
  d.slope = 0.4;
  d.second_slope = 0.9;
  RelaySettings wrong = approved;
  wrong.functions = {d};
  EXPECT_FALSE(tested(wrong, approved).boundaries[0].passed());
}

TEST(Injection, FindsTheShareOfAHarmonicAtWhichADifferentialIsFree) {
  const RelaySettings approved = demo("transformer/DT.toml");
  for (const char* blocks : {"each phase", "all phases"}) {
    RelaySettings own = approved;
    auto& differential = std::get<protection::Differential>(own.functions[0]);
    differential.blocks = blocks;
    const InjectionReport right = tested(own, own);
    EXPECT_EQ(failed(right), std::set<std::string>{}) << blocks;
    int shares = 0;
    for (const InjectedPoint& p : right.points) {
      if (p.test != "restraint") continue;
      ++shares;
      EXPECT_NEAR(p.measured, p.expected, 0.06 * p.expected) << p.quantity;
    }
    EXPECT_EQ(shares, 2);
    RelaySettings wrong = own;
    std::get<protection::Differential>(wrong.functions[0]).second_harmonic =
        1.15 * differential.second_harmonic;
    EXPECT_EQ(failed(tested(wrong, own)), std::set<std::string>{"diff"}) << blocks;
  }
}

RelaySettings with_frequency(const std::string& when, double pickup_Hz, int place = 1) {
  protection::FrequencyStage stage;
  stage.name = "f";
  stage.when = when;
  stage.pickup_Hz = pickup_Hz;
  stage.delay_s = 0.2;
  stage.end = place;
  RelaySettings settings;
  settings.name = "F";
  settings.functions = {stage};
  return settings;
}

TEST(Injection, TriesFrequenciesThatANetworkCanHave) {
  for (const auto& [when, pickup_Hz] : std::map<std::string, double>{{"over", 51.5}, {"under", 47.0}}) {
    const InjectionReport report = tested(with_frequency(when, pickup_Hz), with_frequency(when, pickup_Hz));
    EXPECT_EQ(failed(report), std::set<std::string>{}) << when;
  }
  for (const double pickup_Hz : {57.5, 59.0, 61.0}) {
    const RelaySettings settings = with_frequency("over", pickup_Hz);
    const InjectionReport report = tested(settings, settings);
    EXPECT_EQ(failed(report), std::set<std::string>{}) << pickup_Hz;
    EXPECT_GE(report.points.size(), 6U);
    for (const InjectedPoint& p : report.points) {
      EXPECT_LE(p.value, pickup_Hz + 5.1) << pickup_Hz;
    }
    RelaySettings late = settings;
    std::get<protection::FrequencyStage>(late.functions[0]).delay_s += 0.05;
    EXPECT_EQ(failed(tested(late, settings)), std::set<std::string>{"f"});
  }
}

TEST(Injection, FollowsTheFrequencyOfThePlaceThatAFunctionMeasures) {
  const RelaySettings second = with_frequency("under", 48.5, 2);
  EXPECT_EQ(failed(tested(second, second)), std::set<std::string>{});
  // One that looks at the other place never sees it.
  EXPECT_EQ(failed(tested(with_frequency("under", 48.5, 1), second)), std::set<std::string>{"f"});
}

TEST(Injection, TimesFromTheStartWhereOneFunctionStarts) {
  RelaySettings approved;
  approved.name = "T";
  Stage stage;
  stage.name = "only";
  stage.pickup_A = 400;
  stage.delay_s = 0.4;
  approved.functions = {stage};
  const InjectionReport right = tested(approved, approved);
  EXPECT_EQ(failed(right), std::set<std::string>{});
  int timers = 0;
  for (const InjectedPoint& p : right.points) {
    if (p.test != "timer") continue;
    ++timers;
    EXPECT_NEAR(p.measured, 0.4, 1e-3);
  }
  EXPECT_GE(timers, 2);
  // 20 ms late, which the allowance for measuring would hide.
  stage.delay_s = 0.42;
  RelaySettings late = approved;
  late.functions = {stage};
  EXPECT_EQ(failed(tested(late, approved)), std::set<std::string>{"only"});
}

TEST(Injection, ProposesNoValueThatFallsOnAnotherStagesThreshold) {
  RelaySettings settings;
  settings.name = "T";
  Stage low, high;
  low.name = "low";
  low.characteristic = "IEC very inverse";
  low.pickup_A = 400;
  low.time_multiplier = 0.4;
  high.name = "high";
  high.pickup_A = 1400;  // 3.5 times the pickup of the other
  high.delay_s = 0.1;
  settings.functions = {low, high};
  const auto probe = probe_of(settings, settings.functions[0], 50);
  const std::vector<double> values = proposed_values(settings, settings.functions[0], *probe, 120);
  EXPECT_GE(values.size(), 3U);
  for (const double value : values) EXPECT_LT(1.02 * value, 1400);
}

/// One function of machines or earth faults, with a setting that its element tests must find wrong.
struct Single {
  const char* settings;
  const char* wrong;  // in place of the line that begins like it
};

TEST(Injection, TestsFunctionsOfMachinesAndOfSensitiveEarthFaults) {
  const std::string head = "values = \"primary\"\nvt_primary = \"11 kV\"\n";
  for (const Single& one :
       {Single{"[unbalance.f]\npickup = \"20 %\"\nleast_current = \"80 A\"\ndelay = \"1 s\"\n",
               "pickup = \"22 %\""},
        Single{"[earth_power.f]\npickup = \"2 A\"\nvoltage = \"3 kV\"\ndelay = \"0.5 s\"\n",
               "pickup = \"2.2 A\""},
        Single{"[restricted_earth.f]\npickup = \"50 A\"\ndelay = \"20 ms\"\n", "pickup = \"56 A\""},
        Single{"[overfluxing.f]\nrated_voltage = \"11 kV\"\npickup = 1.1\ndelay = \"1 s\"\n",
               "pickup = 1.15"},
        Single{
            "[overfluxing.f]\nrated_voltage = \"11 kV\"\ncharacteristic = \"inverse\"\ntime_multiplier = 1\n",
            "time_multiplier = 1.3"},
        Single{"[field_loss.f]\noffset = \"1 ohm\"\ndiameter = \"30 ohm\"\ndelay = \"0.5 s\"\n",
               "diameter = \"27 ohm\""},
        Single{"[motor_start.f]\nrated = \"200 A\"\nlongest = \"3 s\"\n", "longest = \"4 s\""},
        Single{"[stage.f]\nvoltage = \"restrains\"\nfull_voltage = \"11 kV\"\npickup = \"900 A\"\ndelay = "
               "\"0.3 s\"\n",
               "full_voltage = \"12 kV\""},
        Single{"[stage.f]\nvoltage = \"controls\"\nfull_voltage = \"9 kV\"\npickup = \"900 A\"\ndelay = "
               "\"0.3 s\"\n",
               "pickup = \"960 A\""}}) {
    const RelaySettings approved = casefile::read_relay_settings_text(head + one.settings, "R.toml");
    const InjectionReport report = tested(approved, approved);
    EXPECT_TRUE(report.passed()) << one.settings;
    EXPECT_GT(report.points.size(), 5U) << one.settings;
    for (const InjectedPoint& p : report.points)
      EXPECT_TRUE(p.passed) << one.settings << p.test << " " << p.measured;
    std::string text = one.settings;
    const std::string wrong = one.wrong, field = wrong.substr(0, wrong.find('='));
    const std::size_t from = text.find("\n" + field) + 1;
    text.replace(from, text.find('\n', from) - from, wrong);
    EXPECT_FALSE(tested(casefile::read_relay_settings_text(head + text, "R.toml"), approved).passed())
        << text;
  }
}

TEST(Injection, SearchesTheDifferentialPlaneOfEachRestraint) {
  for (const char* restraint : {"sum", "largest"}) {
    RelaySettings approved = demo("transformer/DT.toml");
    for (auto& function : approved.functions) {
      if (auto* d = std::get_if<protection::Differential>(&function)) d->restraint = restraint;
    }
    const InjectionReport report = tested(approved, approved, {.rays = 12});
    EXPECT_EQ(failed(report), std::set<std::string>{}) << restraint;
    ASSERT_EQ(report.boundaries.size(), 1U);
    EXPECT_GE(report.boundaries[0].rays.size(), 3U);
    EXPECT_EQ(failed(tested(demo("transformer/DT.toml"), approved, {.rays = 12})),
              std::set<std::string>{"diff"})
        << "the mean instead of the " << restraint;
  }
}

TEST(Injection, TriesEachPhaseAndPairAndTheSectorOfADirection) {
  RelaySettings approved = demo("proof/RP.toml");
  const auto points = [&](const RelaySettings& settings, const std::string& function) {
    std::map<std::string, bool> found;
    for (const InjectedPoint& p : tested(settings, approved, {.only = function}).points) {
      if (p.function == function) found[p.test + " " + p.quantity] = p.passed;
    }
    return found;
  };
  const auto phase = points(approved, "phase2");
  for (const char* pair : {"A-B", "B-C", "C-A"})
    EXPECT_EQ(phase.count(std::string("time phase current in ") + pair + " 4.5 kA"), 1U) << pair;
  EXPECT_TRUE(phase.at("sector phase current, ahead of its clearest angle"));
  EXPECT_TRUE(phase.at("sector phase current, behind of its clearest angle"));
  RelaySettings turned = approved;
  stage_of(turned, "phase2").angle_rad += 5 * M_PI / 180;
  const auto off = points(turned, "phase2");
  EXPECT_FALSE(off.at("sector phase current, ahead of its clearest angle"));
  EXPECT_TRUE(off.at("time phase current 4.5 kA")) << "the middle of the sector does not show it";
  // Any instead of all pairs: what is balanced does not show it.
  RelaySettings any = approved;
  for (auto& function : any.functions) {
    if (auto* stage = std::get_if<protection::VoltageStage>(&function); stage && stage->name == "low")
      stage->of = "any";
  }
  EXPECT_EQ(failed(tested(any, approved, {.only = "low"})), std::set<std::string>{"low"});
}

TEST(Injection, TriesAllSixLoopsOfAZone) {
  const RelaySettings settings = demo("line/DM.toml");
  std::set<std::string> loops;
  for (const InjectedPoint& p : tested(settings, settings, {.only = "z1", .rays = 4}).points) {
    EXPECT_TRUE(p.passed) << p.quantity;
    if (p.test == "time") loops.insert(p.quantity.substr(0, 3));
  }
  EXPECT_EQ(loops, (std::set<std::string>{"A-E", "B-E", "C-E", "A-B", "B-C", "C-A"}));
}

TEST(Injection, TriesDropOffByTheOutputOfAStage) {
  RelaySettings approved = demo("veskar/R1.toml");
  const auto drop_offs = [&](const RelaySettings& settings) {
    const InjectionReport report = tested(settings, approved, {.only = "phase2"});
    std::vector<bool> passed;
    for (const InjectedPoint& p : report.points) {
      if (p.test == "drop-off") passed.push_back(p.passed);
    }
    return std::pair(passed, report.warnings.size());
  };
  EXPECT_EQ(drop_offs(approved), std::pair(std::vector<bool>{}, std::size_t{1})) << "it says why not";
  protection::Output output;
  output.name = "fast";
  output.when = "phase2.start";
  approved.functions.emplace_back(output);
  EXPECT_EQ(drop_offs(approved), std::pair(std::vector<bool>{true}, std::size_t{0}));
  RelaySettings wrong = approved;
  stage_of(wrong, "phase2").drop_off = 0.85;
  EXPECT_EQ(drop_offs(wrong).first, std::vector<bool>{false});
}

TEST(Injection, PlaysARecordAndComparesEachOutput) {
  const Case all = casefile::read_case(demo_file("veskar"));
  const Trial& trial = find_trial(all, "two-phase fault far down cable 1");
  RunOptions run;
  run.place = "plant";
  run.free = true;
  const TrialResult result = run_trial(all, trial, run);
  Playback playback = playback_of(result.record, {"CT1.i"}, {"VT0.v"});
  playback.name = "fault";
  const RelaySettings approved = demo("veskar/R1.toml");
  InjectionOptions how;
  how.name = "R";
  const InjectionReport report = play_back(playback, approved, approved, "none.toml", how);
  ASSERT_EQ(report.points.size(), 2U) << "start and trip";
  EXPECT_TRUE(report.passed());
  // As in the trial itself.
  EXPECT_NEAR(report.points[1].measured, result.verdicts[0].value, 2e-3);
  RelaySettings wrong = approved;
  stage_of(wrong, "phase1").time_multiplier = 0.25;
  EXPECT_FALSE(play_back(playback, wrong, approved, "none.toml", how).passed());
  EXPECT_THROW((void)playback_of(result.record, {"CT9.i"}, {}), Error);
  record::Record slow = result.record;
  slow.rate_Hz = 600;
  EXPECT_THROW((void)playback_of(slow, {"CT1.i"}, {"VT0.v"}), Error);
}

TEST(Injection, TellsHowFarItIsAndKeepsWhatWasTriedToItsEndWhereItIsStopped) {
  const RelaySettings settings = demo("veskar/R1.toml");
  const InjectionReport whole = tested(settings, settings);
  std::atomic<bool> stop{false};
  std::vector<InjectionProgress> told;
  InjectionOptions options;
  options.stop = &stop;
  options.report = [&](const InjectionProgress& now) {
    told.push_back(now);
    if (now.points >= 9) stop = true;
  };
  const InjectionReport cut = tested(settings, settings, options);
  EXPECT_TRUE(cut.interrupted);
  EXPECT_FALSE(cut.passed());
  EXPECT_NE(cut.failure.find("interrupted after"), std::string::npos) << cut.failure;
  ASSERT_GE(cut.points.size(), 9U);
  ASSERT_LT(cut.points.size(), whole.points.size());
  for (std::size_t k = 0; k < cut.points.size(); ++k) {
    EXPECT_EQ(cut.points[k].quantity, whole.points[k].quantity);
    EXPECT_EQ(cut.points[k].measured, whole.points[k].measured) << k;
    EXPECT_TRUE(cut.points[k].passed) << k;
  }
  EXPECT_EQ(told.front().total, 4U);
  EXPECT_EQ(told.front().at, "earth1");
  for (std::size_t k = 1; k < told.size(); ++k) {
    EXPECT_GE(told[k].points, told[k - 1].points);
    EXPECT_GE(told[k].injected_s, told[k - 1].injected_s);
  }

  told.clear();
  stop = false;
  options.stop = nullptr;
  EXPECT_FALSE(tested(settings, settings, options).interrupted);
  EXPECT_EQ(told.back().done, told.back().total);
  EXPECT_EQ(told.back().left_s(), 0);
}

TEST(Injection, SaysWhatItCannotProve) {
  RelaySettings settings = demo("veskar/R1.toml");
  protection::Reclose reclose;
  reclose.name = "again";
  reclose.closed = "input.closed";
  reclose.dead_times = {"0.5 s"};
  settings.functions.emplace_back(reclose);
  const InjectionReport report = tested(settings, settings, {.only = "again"});
  EXPECT_EQ(report.warnings,
            std::vector<std::string>{"again: no steady quantity tests it; write trials for it"});
}

TEST(Injection, DrivesARelayInAProcessOfItsOwn) {
  const RelaySettings settings = demo("veskar/R2.toml");
  InjectionOptions options{.place = "process",
                           .relay_program = ZAVREK_TOOL,
                           .name = "RX",
                           .goose_appid = 0x77,
                           .stream_appid = 0x4077,
                           .only = "phase2"};
  options.tolerance = {"5 %", "80 ms"};  // other work on the machine may hold it back
  const InjectionReport report = inject(settings, settings, demo_file("veskar/R2.toml"), options);
  EXPECT_EQ(report.failure, "");
  EXPECT_NE(report.medium, "");
  int timed = 0;
  for (const InjectedPoint& p : report.points) timed += p.test == "time" && std::isfinite(p.measured) ? 1 : 0;
  EXPECT_GE(timed, 4);
  options.relay_program = "/bin/false";
  EXPECT_EQ(inject(settings, settings, demo_file("veskar/R2.toml"), options).failure,
            "no answer from RX at the start");
}

/// One stage that remembers, in a process of its own; nothing but its times is tested.
InjectionReport remembering(const std::string& name, const std::string& stage) {
  const auto file = std::filesystem::temp_directory_path() / fmt::format("zavrek_{}_{}.toml", name, getpid());
  record::write_file(file, "values = \"primary\"\nct_primary = \"400 A\"\n" + stage);
  const RelaySettings settings = casefile::read_relay_settings(file);
  InjectionPlan plan;
  for (const char* value : {"4 kA", "2 kA", "300 A", "2 kA"})
    plan.values.push_back(
        {.function = std::get_if<protection::Stage>(&settings.functions[0]) ? "phase1" : "heat",
         .value = value});
  InjectionOptions options{.place = "process",
                           .relay_program = ZAVREK_TOOL,
                           .name = name,
                           .goose_appid = 0x79,
                           .stream_appid = 0x4079,
                           .plan = &plan};
  options.longest_rest_s = 1;
  const InjectionReport report = inject(settings, settings, file, options);
  std::filesystem::remove(file);
  return report;
}

TEST(Injection, WaitsUntilARelayElsewhereHasForgotten) {
  const InjectionReport report =
      remembering("definite",
                  "[stage.phase1]\ncharacteristic = \"IEC very inverse\"\npickup = \"420 A\"\n"
                  "time_multiplier = 0.05\nreset = \"definite\"\nreset_delay = \"0.8 s\"\n");
  EXPECT_EQ(report.failure, "");
  EXPECT_TRUE(report.warnings.empty());
  ASSERT_EQ(report.points.size(), 4U);
  for (const InjectedPoint& p : report.points)
    EXPECT_TRUE(p.passed) << p.quantity << ": expected " << p.expected << ", measured " << p.measured;
  EXPECT_NEAR(report.points[3].expected, report.points[1].expected, 1e-3);
}

TEST(Injection, ReckonsWithWhatARelayElsewhereCannotForgetInTime) {
  const InjectionReport report =
      remembering("warm", "[thermal.heat]\nrated = \"400 A\"\ntime_constant = \"20 s\"\n");
  EXPECT_EQ(report.failure, "");
  ASSERT_EQ(report.warnings.size(), 1U);
  EXPECT_NE(report.warnings[0].find("remembers for more than 1 s of rest"), std::string::npos);
  ASSERT_EQ(report.points.size(), 4U);
  for (const InjectedPoint& p : report.points)
    EXPECT_TRUE(p.passed) << p.quantity << ": expected " << p.expected << ", measured " << p.measured;
  // IEC 60255-149 from cold: 20 s times the logarithm of I^2 / (I^2 - (1.05 * 400 A)^2).
  EXPECT_LT(report.points[1].expected, 0.9 * 20 * std::log(4.0 / (4.0 - 0.42 * 0.42))) << "it was warm";
}

}  // namespace
}  // namespace zavrek::trial
