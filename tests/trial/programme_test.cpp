#include "zavrek/trial/programme.hpp"

#include <sstream>

#include <gtest/gtest.h>

#include <map>
#include <set>

#include <fmt/format.h>

#include "zavrek/casefile.hpp"

namespace zavrek::trial {
namespace {

/// The quay's first trial, varied in place and resistance; one resistance too high to trip in time.
Case swept() {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/veskar");
  Sweep sweep;
  sweep.name = "cable 1";
  sweep.trial = find_trial(all, "three-phase fault close on cable 1");
  sweep.trial.fault->lasts_s = 0.15;
  sweep.trial.prefault_s = 0.06;
  sweep.trial.postfault_s = 0;
  sweep.trial.expect = {{.device = "R1", .output = "trip", .window = {"0 s", "0.1 s"}}};
  Vary place, resistance;
  place.field = "fault.at";
  place.from = "5 %";
  place.to = "25 %";
  place.steps = 3;
  resistance.field = "fault.resistance";
  resistance.values = {"0 ohm", "0.05 ohm", "60 ohm"};
  sweep.vary = {place, resistance};
  all.sweeps = {sweep};
  return all;
}

ProgrammeOptions into(const std::string& folder) {
  ProgrammeOptions options;
  options.run = {.place = "plant", .interface = {}, .free = true, .relay_program = {}};
  options.folder = std::filesystem::temp_directory_path() / ("zavrek_programme_" + folder);
  std::filesystem::remove_all(options.folder);
  return options;
}

std::string refusal(const Case& all, std::size_t index = 0) {
  try {
    (void)swept_trial(all, all.sweeps[0], index);
  } catch (const Error& error) {
    return error.what();
  }
  return "no error";
}

TEST(Sweep, CombinesFullyPairedAndAtRandom) {
  Case all = swept();
  Sweep& sweep = all.sweeps[0];
  EXPECT_EQ(size_of(sweep), 9U);
  const SweptTrial fifth = swept_trial(all, sweep, 4);
  EXPECT_EQ(fifth.trial.name, "cable 1, at 15 %, resistance 0.05 ohm");
  EXPECT_DOUBLE_EQ(fifth.trial.fault->fault.at, 0.15);
  EXPECT_DOUBLE_EQ(fifth.trial.fault->fault.resistance_ohm, 0.05);

  sweep.combine = "paired";
  EXPECT_EQ(size_of(sweep), 3U);
  EXPECT_EQ(swept_trial(all, sweep, 2).trial.name, "cable 1, at 25 %, resistance 60 ohm");

  sweep.combine = "random";
  sweep.count = 500;
  std::map<std::string, int> drawn;
  double least = 1, most = 0;
  for (std::size_t k = 0; k < 500; ++k) {
    const SweptTrial one = swept_trial(all, sweep, k);
    ++drawn[one.fields[1].second];
    least = std::min(least, one.trial.fault->fault.at);
    most = std::max(most, one.trial.fault->fault.at);
  }
  EXPECT_LT(least, 0.055);
  EXPECT_GT(most, 0.245);
  for (const auto& [value, count] : drawn) EXPECT_NEAR(count, 167, 50) << value;
  EXPECT_EQ(swept_trial(all, sweep, 7).fields, swept_trial(all, sweep, 7).fields);
  sweep.seed = 2;
  Case other = swept();
  other.sweeps[0].combine = "random";
  EXPECT_NE(swept_trial(all, sweep, 7).fields, swept_trial(other, other.sweeps[0], 7).fields);
}

TEST(Sweep, VariesTheNetworkAndRefusesWhatIsNotThere) {
  Case all = swept();
  Vary& vary = all.sweeps[0].vary[1];
  vary.field = "grid.short_circuit";
  vary.values = {"500 MVA"};
  const SweptTrial one = swept_trial(all, all.sweeps[0], 0);
  EXPECT_DOUBLE_EQ(std::get<network::Source>(*one.all.network.find_element("grid")).short_circuit_VA, 500e6);
  vary.field = "grid.short_circuits";
  EXPECT_EQ(refusal(all), "no field \"grid.short_circuits\" to vary, did you mean \"short_circuit\"?");
  vary.field = "gird.short_circuit";
  EXPECT_EQ(refusal(all), "no element \"gird\", did you mean \"grid\"?");
  vary.field = "fault.resistance";
  vary.values = {"3 km"};
  EXPECT_NE(refusal(all).find("fault.resistance = \"3 km\": "), std::string::npos) << refusal(all);
  vary.values = {"1 ohm"};
  vary.together = "x";
  all.sweeps[0].vary[0].together = "x";
  EXPECT_EQ(refusal(all), "fault.at has 3 values and fault.resistance has 1, but they change together");
}

/// Whatever can change a result changes the fingerprint: a case that was changed is not gone on with.
TEST(Programme, KnowsACaseByAllThatCanChangeItsResults) {
  Case all = swept();
  const auto folder = std::filesystem::temp_directory_path() / "zavrek_fingerprint";
  std::filesystem::create_directories(folder);
  all.folder = folder;
  all.network.elements.emplace_back(network::Source{.name = "played", .bus = "x", .playback = "p.cfg"});
  control::OwnCode mine;
  mine.library = "mine.so";
  all.control.blocks.emplace_back(mine);
  all.network.geometries.push_back({.name = "g", .wires = {network::Wire{.name = "w"}}});
  record::write_file(folder / "p.dat", "1");
  record::write_file(folder / "mine.so", "1");
  std::string last = fingerprint_of(all);
  EXPECT_EQ(fingerprint_of(all), last);
  const auto expect_new = [&](const char* what) {
    const std::string now = fingerprint_of(all);
    EXPECT_NE(now, last) << what;
    last = now;
  };
  all.network.geometries[0].wires[0].height_m = 12;
  expect_new("a wire of a geometry");
  all.control.period_s *= 2;
  expect_new("the period of the control");
  record::write_file(folder / "p.dat", "2");
  expect_new("what is played back");
  record::write_file(folder / "mine.so", "2");
  expect_new("an own library");
  all.bench.ports.emplace_back(bench::Message{.name = "M", .entries = {"Q1"}});
  expect_new("a port");
  std::filesystem::remove_all(folder);
}

TEST(Programme, KeepsVerdictsAndTheRecordsOfWhatFailed) {
  const Case all = swept();
  const ProgrammeOptions options = into("keep");
  const Progress progress = run_programme(all, options);
  EXPECT_EQ(progress.total, 9);
  EXPECT_EQ(progress.failed, 3);  // through 60 ohm it does not trip
  const std::vector<StoredTrial> stored = Results(options.folder / "results.sqlite", "").all();
  ASSERT_EQ(stored.size(), 9U);
  for (const StoredTrial& t : stored) {
    const bool high = t.fields[1].second == "60 ohm";
    EXPECT_EQ(t.passed, !high) << t.name;
    EXPECT_EQ(t.record.empty(), !high);
    EXPECT_EQ(
        std::filesystem::exists(options.folder / ("records/" + fmt::format("{:06}", t.number) + ".dat")),
        high);
    ASSERT_EQ(t.verdicts.size(), 1U);
    EXPECT_EQ(t.verdicts[0].value > 0.03 && t.verdicts[0].value < 0.09, !high) << t.verdicts[0].value;
    EXPECT_GT(t.fault_current_A, 50);
  }
  std::filesystem::remove_all(options.folder);
}

TEST(Programme, GoesOnWhereItWasStoppedAndRepeatsNothing) {
  const Case all = swept();
  ProgrammeOptions options = into("resume");
  std::atomic<bool> stop{false};
  options.run.stop = &stop;
  std::set<long long> first, second;
  (void)run_programme(all, options, [&](const Progress& p, const StoredTrial& t) {
    first.insert(t.number);
    stop = p.done == 4;
  });
  EXPECT_EQ(first.size(), 4U);
  stop = false;
  const Progress rest =
      run_programme(all, options, [&](const Progress&, const StoredTrial& t) { second.insert(t.number); });
  EXPECT_EQ(rest.before, 4);
  EXPECT_EQ(rest.done, 5);
  for (const long long number : second) EXPECT_EQ(first.count(number), 0U);

  // The same in one go, by several workers: the same verdicts.
  ProgrammeOptions whole = into("whole");
  whole.workers = 3;
  (void)run_programme(all, whole);
  const auto a = Results(options.folder / "results.sqlite", "").all();
  const auto b = Results(whole.folder / "results.sqlite", "").all();
  ASSERT_EQ(a.size(), b.size());
  for (std::size_t k = 0; k < a.size(); ++k) {
    EXPECT_EQ(a[k].name, b[k].name);
    EXPECT_EQ(a[k].verdicts[0].measured, b[k].verdicts[0].measured);
    EXPECT_EQ(a[k].fault_current_A, b[k].fault_current_A);
  }

  Case other = all;
  std::get<network::Source>(*const_cast<network::Element*>(other.network.find_element("grid")))
      .short_circuit_VA = 1e9;
  EXPECT_THROW((void)run_programme(other, options), Error);
  std::filesystem::remove_all(options.folder);
  std::filesystem::remove_all(whole.folder);
}

TEST(Programme, ShardsTogetherAreTheWhole) {
  const Case all = swept();
  ProgrammeOptions one = into("shard1"), two = into("shard2");
  one.shards = two.shards = 2;
  two.shard = 2;
  EXPECT_EQ(run_programme(all, one).done, 5);
  EXPECT_EQ(run_programme(all, two).done, 4);
  Results whole(one.folder / "results.sqlite", "");
  EXPECT_EQ(whole.planned(), 9) << "though five were run";
  EXPECT_EQ(whole.merge(two.folder / "results.sqlite"), 4);
  EXPECT_EQ(whole.merge(two.folder / "results.sqlite"), 0);
  EXPECT_THROW((void)whole.merge(one.folder / "results.sqlite"), Error);  // itself
  EXPECT_EQ(whole.numbers(), (std::vector<long long>{1, 2, 3, 4, 5, 6, 7, 8, 9}));
  EXPECT_EQ(whole.all()[8].verdicts.size(), 1U);
  EXPECT_EQ(whole.planned(), 9);
  std::filesystem::remove_all(one.folder);
  std::filesystem::remove_all(two.folder);
}

TEST(Programme, OfTheLineFindsWhatIsWrongAtOneEnd) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/line");
  Sweep& sweep = all.sweeps.at(0);
  EXPECT_EQ(size_of(sweep), 10'400U);
  sweep.combine = "random";
  sweep.count = 12;
  ProgrammeOptions options = into("line");
  EXPECT_EQ(run_programme(all, options).failed, 0);
  // The reach of zone 1 as someone typed it: over the whole line and further.
  for (auto& function : all.bench.devices[0].relay.functions) {
    if (auto* zone = std::get_if<protection::Zone>(&function); zone && zone->name == "z1")
      zone->reach_ohm = 11;
  }
  sweep.count = 40;
  options = into("line_wrong");
  options.keep = "none";
  EXPECT_GT(run_programme(all, options).failed, 0);
  for (const StoredTrial& t : Results(options.folder / "results.sqlite", "").all()) {
    for (const Verdict& v : t.verdicts) {
      EXPECT_TRUE(v.passed || v.expectation == "DM trip") << t.name;
    }
  }
  std::filesystem::remove_all(options.folder);
  std::filesystem::remove_all(into("line").folder);
}

TEST(Programme, OfTheLineHoldsItsZonesInASwing) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/line");
  all.sweeps.erase(all.sweeps.begin());
  ASSERT_EQ(all.sweeps.at(0).name, "the island slips");
  ProgrammeOptions options = into("swing");
  options.keep = "none";
  const Progress held = run_programme(all, options);
  EXPECT_EQ(held.done, 5);
  EXPECT_EQ(held.failed, 0);
  // A swing function that blocks nothing.
  for (Device& device : all.bench.devices) {
    for (auto& function : device.relay.functions) {
      if (auto* zone = std::get_if<protection::Zone>(&function)) zone->blocked_by.clear();
    }
  }
  options = into("swing_free");
  options.keep = "none";
  EXPECT_GE(run_programme(all, options).failed, 3);
  std::filesystem::remove_all(options.folder);
  std::filesystem::remove_all(into("swing").folder);
}

TEST(Programme, OfTheTransformerPassesByItsFifthHarmonicAlone) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/transformer");
  ProgrammeOptions options = into("overexcitation");
  options.keep = "none";
  EXPECT_EQ(run_programme(all, options).failed, 0);
  std::get<protection::Differential>(all.bench.devices[0].relay.functions[0]).fifth_harmonic = unset;
  options = into("overexcitation");
  options.keep = "none";
  EXPECT_EQ(run_programme(all, options).failed, 2);
  std::filesystem::remove_all(options.folder);
}

TEST(Trial, OfTheTransformerTellInsideFromOutsideAndInrush) {
  const Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/transformer");
  for (const Trial& trial : all.trials) {
    const TrialResult result =
        run_trial(all, trial, {.place = {}, .interface = {}, .free = true, .relay_program = {}});
    EXPECT_TRUE(result.passed()) << trial.name;
  }
}

/// The likeliest explanation that a programme gives for a quay whose relay R1 is not as it should be.
template <class Change>
std::string explained(const std::string& name, Change&& change) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/line");
  Sweep& sweep = all.sweeps.at(0);
  sweep.combine = "random";
  sweep.count = 24;
  sweep.seed = 5;
  change(all.bench.devices[0]);
  ProgrammeOptions options = into("explain_" + name);
  options.keep = "none";
  EXPECT_GT(run_programme(all, options).failed, 0) << name;
  const std::vector<StoredTrial> stored = Results(options.folder / "results.sqlite", "").all();
  const std::vector<Finding> found = findings_of(stored);
  std::filesystem::remove_all(options.folder);
  return found.empty() ? "nothing" : found.front().text;
}

/// An explanation by amounts "LOW to HIGH" or "about AMOUNT", with the true one among them and nothing twice
/// as large or small.
void expect_amount(const std::string& text, const std::string& before, double amount,
                   const std::string& behind) {
  ASSERT_TRUE(text.starts_with(before) && text.ends_with(behind)) << text;
  const std::string words = text.substr(before.size());
  std::istringstream range(words.starts_with("about ") ? words.substr(6) : words);
  double low = 0, high = 0;
  std::string to;
  ASSERT_TRUE(range >> low) << text;
  if (!(range >> to >> high)) high = low;
  EXPECT_LE(low, 1.05 * amount) << text;
  EXPECT_GE(high, 0.95 * amount) << text;
  EXPECT_LT(high / low, 2) << text;
}

TEST(Programme, NamesASwappedPhaseAWrongRatioAReversedTransformerAndAWrongSetting) {
  EXPECT_EQ(explained("swap", [](Device& d) { d.current_wiring = "b and c swapped"; }),
            "DM behaves as if phases b and c of its currents were exchanged");
  EXPECT_EQ(explained("reverse", [](Device& d) { d.current_wiring = "reversed"; }),
            "DM behaves as if its currents were reversed");
  expect_amount(explained("ratio", [](Device& d) { d.current_factor = 0.7; }),
                "DM behaves as if the ratio of its currents were ", 0.7, " times what it should be");
  expect_amount(explained("setting",
                          [](Device& d) {
                            for (auto& f : d.relay.functions) {
                              if (auto* z = std::get_if<protection::Zone>(&f); z && z->name == "z2")
                                z->delay_s = 0.15;
                            }
                          }),
                "DM behaves as if the delay of z2 were ", 150, " ms shorter than approved");
}

TEST(Programme, SearchesForTheValuesWithLeastMargin) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/proof");
  const Sweep sweep = all.sweeps.back();
  ASSERT_EQ(sweep.search, "least margin");
  all.sweeps = {sweep};
  all.sweeps[0].count = 40;
  // The relay measures 10 ms late, as if its timers were: what is fast has less left.
  const auto least = [&](const Case& some, const std::string& name) {
    ProgrammeOptions options = into(name);
    (void)run_programme(some, options);
    const Results results(options.folder / "results.sqlite", "");
    double worst = 2;
    std::size_t records = 0;
    std::vector<std::string> names;
    for (const StoredTrial& trial : results.all()) {
      names.push_back(trial.name);
      records += trial.record.empty() ? 0 : 1;
      if (const auto left = least_left(trial)) worst = std::min(worst, *left);
    }
    std::filesystem::remove_all(options.folder);
    return std::tuple(worst, records, names);
  };
  const auto [worst, records, names] = least(all, "search");
  EXPECT_EQ(names.size(), 40U);
  EXPECT_EQ(records, 1U) << "that of the worst";
  EXPECT_EQ(std::get<2>(least(all, "search_again")), names) << "the same seed, the same trials";
  Case drawn = all;
  drawn.sweeps[0].search = "none";
  drawn.sweeps[0].combine = "random";
  const double by_chance = std::get<0>(least(drawn, "no_search"));
  EXPECT_LT(worst, by_chance) << "as many trials drawn at random find less";
}

TEST(Programme, GoesOnWithASearchWhereItWasStopped) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/proof");
  all.sweeps = {all.sweeps.back()};
  all.sweeps[0].count = 24;
  ProgrammeOptions options = into("search_stopped");
  std::atomic<bool> stop{false};
  options.run.stop = &stop;
  const Progress first = run_programme(all, options, [&](const Progress& p, const StoredTrial&) {
    if (p.done == 13) stop = true;
  });
  EXPECT_LT(first.done, 24);
  stop = false;
  const Progress second = run_programme(all, options);
  EXPECT_EQ(second.before, first.done);
  EXPECT_EQ(second.before + second.done, 24);
  const auto stopped = Results(options.folder / "results.sqlite", "").all();
  std::filesystem::remove_all(options.folder);
  ProgrammeOptions whole = into("search_whole");
  (void)run_programme(all, whole);
  const auto at_once = Results(whole.folder / "results.sqlite", "").all();
  std::filesystem::remove_all(whole.folder);
  ASSERT_EQ(stopped.size(), at_once.size());
  for (std::size_t k = 0; k < stopped.size(); ++k) EXPECT_EQ(stopped[k].name, at_once[k].name);
}

/// A trial that failed, with what would explain it.
StoredTrial failed_with(std::vector<Explanation> findings) {
  StoredTrial trial;
  trial.findings = std::move(findings);
  return trial;
}

TEST(Programme, TellsTheFactorThatExplainsMost) {
  const std::string ratio = "R1 behaves as if the ratio of its currents were {} times what it should be";
  const std::vector<Finding> found =
      findings_of({failed_with({{ratio, 0.60, 0.70}, {"R1 reversed"}}), failed_with({{ratio, 0.65, 0.72}}),
                   failed_with({{ratio, 0.30, 0.40}}), failed_with({{ratio, 0.66, 0.90}})});
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[0].text,
            "R1 behaves as if the ratio of its currents were about 0.68 times what it should be");
  EXPECT_EQ(found[0].explained, 3);
  EXPECT_EQ(found[1].text, "R1 reversed");
}

TEST(Explanation, SaysWhetherItsFactorIsBounded) {
  EXPECT_EQ((Explanation{"{} times", 1.32, 1.34}).words(), "about 1.33 times");
  EXPECT_EQ((Explanation{"{} times", 0.47, 0.642}).words(), "0.47 to 0.642 times");
  EXPECT_EQ((Explanation{"{} times", 1.3, Explanation::most}).words(), "at least 1.3 times");
  EXPECT_EQ((Explanation{"{} times", Explanation::least, 0.45}).words(), "at most 0.45 times");
  EXPECT_EQ((Explanation{"reversed"}).words(), "reversed");
  EXPECT_EQ((Explanation{"{ms} longer", 0.0195, 0.0205}).words(), "about 20 ms longer");
  EXPECT_EQ((Explanation{"{} times", 1.02, 1.18, 1.1}).words(), "1.02 to 1.18, best 1.1, times");
}

TEST(PlantStore, GivesEachTrialTheBitsOfAPlantOfItsOwn) {
  const Case line = casefile::read_case(std::filesystem::path(ZAVREK_DEMO) / "line");
  Sweep sweep = line.sweeps.at(0);
  sweep.vary = {{.field = "fault.phases", .values = {"AG", "BCG"}},
                {.field = "fault.at", .values = {"30 %", "80 %"}},
                {.field = "fault.resistance", .values = {"0 ohm", "5 ohm"}},
                {.field = "fault.inception", .values = {"0 deg", "77 deg"}}};
  EXPECT_EQ(network_of(sweep, 0), network_of(sweep, 4));
  EXPECT_EQ(network_of(sweep, 0), network_of(sweep, 12));
  EXPECT_NE(network_of(sweep, 0), network_of(sweep, 1));
  EXPECT_NE(network_of(sweep, 0), network_of(sweep, 2));
  bench::PlantStore plants;
  RunOptions alone{.place = "plant", .free = true}, shared = alone;
  shared.plants = &plants;
  for (const std::size_t index : {0, 4, 8, 12, 3, 15, 7, 0}) {
    const SweptTrial swept = swept_trial(line, sweep, index);
    shared.network_name = network_of(sweep, index);
    const TrialResult own = run_trial(swept.all, swept.trial, alone);
    const TrialResult stored = run_trial(swept.all, swept.trial, shared);
    ASSERT_EQ(own.failure, "");
    ASSERT_EQ(own.record.analogs.size(), stored.record.analogs.size());
    for (std::size_t k = 0; k < own.record.analogs.size(); ++k)
      EXPECT_EQ(own.record.analogs[k].samples, stored.record.analogs[k].samples) << index;
    ASSERT_EQ(own.verdicts.size(), stored.verdicts.size());
    for (std::size_t k = 0; k < own.verdicts.size(); ++k)
      EXPECT_EQ(own.verdicts[k].measured + own.verdicts[k].expected,
                stored.verdicts[k].measured + stored.verdicts[k].expected);
  }
}

}  // namespace
}  // namespace zavrek::trial
