#include "zavrek/casefile.hpp"

#include <gtest/gtest.h>

#include <map>
#include <string>
#include <vector>

#include <filesystem>
#include <random>

#include "zavrek/record.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::casefile {
namespace {

std::string refusal(std::string_view text) {
  try {
    (void)read_network_text(text, "network.toml");
  } catch (const Error& error) {
    return error.what();
  }
  return "no error";
}

TEST(CaseFile, ReadsTheDemoCases) {
  const trial::Case quay = read_case(std::string(ZAVREK_DEMO) + "/veskar");
  EXPECT_EQ(quay.network.title, "Veskar quay, 11 kV shore supply");
  EXPECT_DOUBLE_EQ(quay.network.step_s, 50e-6);
  EXPECT_EQ(quay.network.buses.size(), 10U);
  EXPECT_EQ(quay.bench.devices.size(), 3U);
  EXPECT_GE(quay.trials.size(), 6U);
  EXPECT_DOUBLE_EQ(quay.trials[0].fault->fault.at, 0.05);
  const trial::Case wrong = read_case(std::string(ZAVREK_DEMO) + "/wrong-setting");
  EXPECT_DOUBLE_EQ(wrong.bench.devices[0].relay.all<protection::Stage>()[2]->time_multiplier, 0.30);
  EXPECT_DOUBLE_EQ(wrong.bench.devices[0].approved_relay.all<protection::Stage>()[2]->time_multiplier, 0.15);
}

TEST(CaseFile, ReportsEveryFlawWithLineAndSuggestion) {
  EXPECT_EQ(refusal("frequency = 50\n"
                    "stepp = \"50 us\"\n"
                    "[bus]\n"
                    "quay = \"11 kA\"\n"
                    "[source.grid]\n"
                    "bus = \"quai\"\n"
                    "[cable.c1]\n"
                    "between = [\"quay\", \"berth\"]\n"
                    "length = \"2.4 kV\"\n"
                    "lenght = \"2.4 km\"\n"),
            "network.toml:1: network, frequency: 50 has no unit; a frequency is wanted, such as \"50 Hz\"\n"
            "network.toml:2: network, stepp: no such field, did you mean \"step\"?\n"
            "network.toml:4: bus.quay, voltage: \"11 kA\" is a current; a voltage is wanted, in kV\n"
            "network.toml:6: source.grid, bus: no bus \"quai\", did you mean \"quay\"?\n"
            "network.toml:7: cable.c1, r1: missing; sequence values, r_matrix and x_matrix, or a geometry "
            "are wanted\n"
            "network.toml:7: cable.c1, x1: missing; sequence values, r_matrix and x_matrix, or a geometry "
            "are wanted\n"
            "network.toml:8: cable.c1, between: no bus \"berth\"; known: quay\n"
            "network.toml:9: cable.c1, length: \"2.4 kV\" is a voltage; a length is wanted, in km\n"
            "network.toml:10: cable.c1, lenght: no such field, did you mean \"length\"?");
}

TEST(CaseFile, RefusesWhatIsNoToml) {
  EXPECT_TRUE(refusal("[bus\nquay = 3").starts_with("network.toml:1: is no valid TOML: "))
      << refusal("[bus\nquay = 3");
  EXPECT_EQ(refusal("bus = 3"),
            "network.toml:1: bus: a table is wanted: [bus], then NAME = \"11 kV\"\n"
            "network.toml:1: network: has no bus; write at least one, such as bus.quay = \"11 kV\"");
}

TEST(CaseFile, ChecksReferencesAcrossFiles) {
  const auto folder = std::filesystem::temp_directory_path() / "zavrek_casefile_test";
  std::filesystem::create_directories(folder);
  record::write_file(folder / "network.toml",
                     "[bus]\nquay = \"11 kV\"\n[source.grid]\nbus = \"quay\"\n[vt.VT]\nbus = "
                     "\"quay\"\nprimary = \"11 kV\"\n");
  record::write_file(folder / "bench.toml",
                     "[stream.S1]\nct = \"CT\"\nvt = \"VT\"\n[device.R1]\nsettings = \"R1.toml\"\nreads = "
                     "\"S9\"\ntrips = [\"Q1\"]\n");
  record::write_file(folder / "R1.toml", "[stage.s]\npickup = \"100 A\"\n");
  record::write_file(folder / "trials.toml",
                     "[[trial]]\nname = \"x\"\nfault = { on = \"quai\", phases = \"AX\" }\nexpect = [ { "
                     "device = \"R2\", never = true } ]\n");
  std::string text;
  try {
    (void)read_case(folder);
  } catch (const Error& error) {
    text = error.what();
  }
  const std::string at = folder.string() + "/";
  for (const std::string& line :
       {at + "R1.toml:1: stage.s, delay: missing; a definite stage needs its operating time, such as \"0.1 "
             "s\"",
        at + "bench.toml:2: stream.S1, ct: no ct \"CT\"",
        at + "bench.toml:6: device.R1, reads: no stream \"S9\", did you mean \"S1\"?",
        at + "bench.toml:7: device.R1, trips: no breaker, switch or contactor \"Q1\"",
        at + "trials.toml:3: trial 1, fault.on: no bus or element \"quai\", did you mean \"quay\"?",
        at + "trials.toml:3: trial 1, fault.phases: \"AX\" is none of \"AG\"",
        at + "trials.toml:4: trial 1, device: no device \"R2\", did you mean \"R1\"?"}) {
    EXPECT_NE(text.find(line), std::string::npos) << line << "\nnot in\n" << text;
  }
  std::filesystem::remove_all(folder);
}

TEST(CaseFile, SurvivesRandomDamageWithAnErrorAtMost) {
  const std::string good = record::read_file(std::string(ZAVREK_DEMO) + "/veskar/network.toml");
  std::vector<std::string> settings;
  for (const char* file :
       {"/veskar/R0.toml", "/line/DM.toml", "/transformer/DT.toml", "/shore-relay/RS.toml"})
    settings.push_back(record::read_file(std::string(ZAVREK_DEMO) + file));
  std::mt19937 random(17);
  for (int round = 0; round < 1500; ++round) {
    std::string bad = round % 2 ? good : settings[random() % settings.size()];
    for (unsigned k = 0; k <= random() % 5; ++k) {
      const std::size_t at = random() % bad.size();
      switch (random() % 4) {
        case 0:
          bad[at] = static_cast<char>(random() % 128);
          break;
        case 1:
          bad.erase(at, random() % 20);
          break;
        case 2:
          bad.insert(at, " and not (");
          break;
        default:
          bad.insert(at, "= \"-1e9 km\"\n");
          break;
      }
    }
    try {
      if (round % 2) {
        (void)read_network_text(bad, "bad.toml");
      } else {
        (void)read_relay_settings_text(bad, "bad.toml");
      }
    } catch (const Error& error) {
      ASSERT_TRUE(std::string(error.what()).starts_with("bad.toml")) << error.what();
    }
  }
}

std::string said_of(const std::string& text) {
  try {
    (void)read_network_text(text, "network.toml");
  } catch (const Error& error) {
    return error.flaws().front().text;
  }
  return "taken";
}
std::string times(std::size_t count, const std::string& text) {
  std::string all;
  for (std::size_t k = 0; k < count; ++k) all += text;
  return all;
}

/// What would take the parser down, or all memory, is refused ahead of it.
TEST(Limits, StandAheadOfTheParser) {
  EXPECT_EQ(said_of(times(33'000, "a.") + "a = 1\n"), "has a key of 33001 parts; 16 at most");
  EXPECT_EQ(said_of("[" + times(33'000, "a.") + "a]\n"), "has a key of 33001 parts; 16 at most");
  EXPECT_EQ(said_of("[[" + times(33'000, "a . ") + "a]]\n"), "has a key of 33001 parts; 16 at most");
  EXPECT_EQ(said_of(times(1'000'000, "k") + " = 1\n"), "has a key of 1000001 letters; 400 at most");
  EXPECT_EQ(said_of(times(9 << 20, " ")), "is larger than 8 MiB");
  EXPECT_EQ(said_of("# " + times(1000, "a.b = ") + "\n[bus]\nb = \"1 kV\"\n").substr(0, 5), "taken")
      << "a comment may be of any length";
}

TEST(Limits, HoldForTextsAndNumbers) {
  const std::string buses = "[bus]\na = \"11 kV\"\nb = \"11 kV\"\n";
  const std::vector<std::pair<std::string, std::string>> cases{
      {buses + "[load.l]\nbus = \"" + times(20'000, "q") + "\"\n", "has 20000 letters; 10000 at most"},
      {buses + "[load.l]\nbus = \"a\\u001b[31m\"\n", "has a control character (0x1B)"},
      {"frequency = \"0.01 Hz\"\n" + buses, "0.01 Hz is too small; at least 1 Hz is wanted"},
      {buses + "[cable.c]\nbetween = [\"a\", \"b\"]\nlength = \"1e9 km\"\n",
       "1000000000 km is too large; at most 10000 km is wanted"}};
  for (const auto& [text, says] : cases) {
    try {
      (void)read_network_text(text, "network.toml");
      FAIL() << "taken: " << says;
    } catch (const Error& error) {
      EXPECT_NE(std::string(error.what()).find(says), std::string::npos) << error.what();
    }
  }
  // No suggestion out of names of any length, which would take the square of it.
  EXPECT_EQ(suggestion(times(1'000'000, "q"), {"bus"}), "");
  EXPECT_EQ(suggestion("bas", {times(1'000'000, "q"), "bus"}), ", did you mean \"bus\"?");
}

const std::map<std::string, std::string>& feeder_in_memory() {
  static const std::map<std::string, std::string> files{
      {"network.toml",
       "[bus]\nquay = \"11 kV\"\nfeed = \"11 kV\"\n[source.grid]\nbus = \"quay\"\nshort_circuit = \"140 "
       "MVA\"\n"
       "[breaker.Q1]\nbetween = [\"quay\", \"feed\"]\n[cable.K1]\nbetween = [\"feed\", \"berth\"]\n"
       "length = \"3 km\"\nr1 = \"0.2 ohm/km\"\nx1 = \"0.1 ohm/km\"\nc1 = \"300 nF/km\"\nr0 = \"1 ohm/km\"\n"
       "x0 = \"0.3 ohm/km\"\nc0 = \"200 nF/km\"\n[load.ferry]\nbus = \"berth\"\nactive = \"3 MW\"\n"
       "[ct.CT1]\non = \"K1\"\nprimary = \"400 A\"\nsecondary = \"1 A\"\n[vt.VT1]\nbus = \"quay\"\n"
       "primary = \"11 kV\"\nsecondary = \"110 V\"\n[bus.berth]\nvoltage = \"11 kV\"\n"},
      {"bench.toml",
       "[stream.S1]\nct = \"CT1\"\nvt = \"VT1\"\n[device.R1]\nplace = \"plant\"\nsettings = \"R1.toml\"\n"
       "reads = \"S1\"\ntrips = [\"Q1\"]\ninputs = [\"f1: Q1\"]\n"},
      {"R1.toml",
       "values = \"primary\"\n[stage.fast]\ncharacteristic = \"definite\"\npickup = \"2 kA\"\ndelay = \"0 "
       "s\"\n"
       "blocked_by = \"input.f1\"\n"},
      {"trials.toml", "[[trial]]\nname = \"quiet\"\n"}};
  return files;
}

std::string refusal(const std::map<std::string, std::string>& files) {
  try {
    (void)read_case_texts(files);
    return {};
  } catch (const Error& error) {
    return error.what();
  }
}

TEST(Casefile, WantsEveryInputOfARelayFedAndEveryFedOneUsed) {
  auto files = feeder_in_memory();
  EXPECT_EQ(refusal(files), "");
  files["R1.toml"].replace(files["R1.toml"].find("input.f1"), 8, "input.f2");
  std::string text = refusal(files);
  EXPECT_NE(text.find("device.R1, inputs: no input in its settings \"f1\""), std::string::npos) << text;
  files["bench.toml"].resize(files["bench.toml"].find("inputs ="));
  text = refusal(files);
  EXPECT_NE(text.find("device.R1, inputs: input \"f2\" of its settings is not fed"), std::string::npos)
      << text;
}

TEST(Casefile, IsToldOfFunctionsAndTrialsThatProveNothing) {
  auto files = feeder_in_memory();
  files["R1.toml"] += "[power_swing.swing]\nouter = \"38 ohm\"\ninner = \"24 ohm\"\n";
  const auto notes_of = [&] { return trial::check_trials(read_case_texts(files)); };
  EXPECT_EQ(notes_of(),
            (std::vector<std::string>{
                "trial \"quiet\" expects nothing: it proves nothing",
                "R1: its function swing neither trips nor is asked for by a condition: nothing comes of "
                "what it sees"}));
  files["R1.toml"].replace(files["R1.toml"].find("\"input.f1\""), 10, "\"input.f1 or swing.start\"");
  EXPECT_EQ(notes_of().size(), 1U);
}

TEST(Casefile, IsToldOfWiringThatCannotBeRight) {
  auto files = feeder_in_memory();
  files["trials.toml"] += "expect = [ { device = \"R1\", output = \"trip\", never = true } ]\n";
  const auto notes_of = [&] { return trial::check_trials(read_case_texts(files)); };
  EXPECT_EQ(notes_of(), std::vector<std::string>{});
  files["R1.toml"] = "ct_primary = \"600 A\"\nct_secondary = \"1 A\"\n" + files["R1.toml"];
  std::string& network = files["network.toml"];
  network.replace(network.find("primary = \"11 kV\""), 17, "primary = \"33 kV\"");
  network +=
      "[bus.low]\nvoltage = \"400 V\"\n[transformer.T1]\nhigh = \"quay\"\nlow = \"low\"\nrating = \"1 MVA\"\n"
      "high_voltage = \"11 kV\"\nlow_voltage = \"690 V\"\nshort_circuit_voltage = \"6 %\"\n";
  EXPECT_EQ(notes_of(), (std::vector<std::string>{
                            "transformer.T1: rated 690 V on its low side, on bus low of 400 V",
                            "vt.VT1: rated 33 kV between phases, on bus quay of 11 kV",
                            "device.R1: its settings reckon with ct_primary = 600 to 1, CT1 has 400 to 1"}));
}

TEST(Writer, WritesTheTrialsOfEveryDemoSoThatTheSameIsReadBack) {
  for (const auto& entry : std::filesystem::directory_iterator(ZAVREK_DEMO)) {
    if (!std::filesystem::exists(entry.path() / "trials.toml")) continue;
    trial::Case all = read_case(entry.path());
    const std::string before = trial::fingerprint_of(all);
    const std::string text = trials_text(all.trials, all.sweeps);
    const auto folder =
        std::filesystem::temp_directory_path() / ("zavrek-writer-" + std::to_string(getpid()));
    std::filesystem::create_directories(folder);
    record::write_file(folder / "case.toml", "base = \"" + entry.path().string() + "\"\n");
    record::write_file(folder / "trials.toml", text);
    const trial::Case again = read_case(folder);
    EXPECT_EQ(trial::fingerprint_of(again), before) << entry.path();
    ASSERT_EQ(again.trials.size(), all.trials.size());
    EXPECT_EQ(trials_text(again.trials, again.sweeps), text) << entry.path();
    std::filesystem::remove_all(folder);
  }
}

TEST(Writer, QuotesWhatPeopleWrite) {
  trial::Trial trial;
  trial.name = "a \"quoted\" \\ name\twith a tab";
  const std::string text = trials_text({trial}, {});
  const trial::Case all =
      read_case_texts({{"network.toml", "[bus]\nb = \"11 kV\"\n"}, {"trials.toml", text}});
  ASSERT_EQ(all.trials.size(), 1U) << text;
  EXPECT_EQ(all.trials[0].name, trial.name);
}

TEST(CaseFile, SaysThatItsBaseIsNoFolder) {
  const auto folder = std::filesystem::temp_directory_path() / ("zavrek-base-" + std::to_string(getpid()));
  std::filesystem::create_directories(folder);
  record::write_file(folder / "case.toml", "base = \"nowhere\"\n");
  try {
    (void)read_case(folder);
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_NE(std::string(error.what()).find("\"nowhere\" is no folder"), std::string::npos) << error.what();
  }
  std::filesystem::remove_all(folder);
}

TEST(CaseFile, TakesControlAndTrialsFromSeveralFiles) {
  std::map<std::string, std::string> files{
      {"case.toml", "control = [\"fast.toml\", \"slow.toml\"]\ntrials = [\"one.toml\", \"two.toml\"]\n"},
      {"network.toml",
       "[bus]\nb = \"11 kV\"\n[source.g]\nbus = \"b\"\nshort_circuit = \"90 MVA\"\nx_over_r = 8\n"},
      {"fast.toml", "period = \"100 us\"\n[setpoint.wanted]\nvalue = 1\n"},
      {"slow.toml",
       "period = \"4 ms\"\n[sum.slow]\ninputs = [\"wanted\"]\n[sum.own]\nperiod = \"1 ms\"\ninputs = "
       "[\"wanted\"]\n"},
      {"one.toml", "[[trial]]\nname = \"first\"\n"},
      {"two.toml", "[[trial]]\nname = \"second\"\noperate = [ { at = \"0 s\", open = \"Q7\" } ]\n"}};
  const auto refused = [&] {
    try {
      (void)read_case_texts(files);
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string();
  };
  files["two.toml"] = "[[trial]]\nname = \"second\"\nhold = \"3\"\n";
  EXPECT_EQ(refused().substr(0, 10), "two.toml:3") << refused();
  files["two.toml"] = "[[trial]]\nname = \"second\"\n";
  const trial::Case all = read_case_texts(files);
  ASSERT_EQ(all.trials.size(), 2U);
  EXPECT_EQ(all.trials[1].name, "second");
  ASSERT_EQ(all.control.blocks.size(), 3U);
  EXPECT_DOUBLE_EQ(all.control.period_s, 100e-6);
  for (const control::Block& block : all.control.blocks) {
    const double period = std::visit([](const control::BlockBase& b) { return b.period_s; }, block);
    const std::string& name = control::name_of(block);
    if (name != "wanted") {
      EXPECT_DOUBLE_EQ(period, name == "slow" ? 4e-3 : 1e-3) << name;
    }
  }
  files["slow.toml"] += "[volts_per_hertz.drive]\n";
  EXPECT_NE(refused().find("slow.toml"), std::string::npos);
  EXPECT_NE(refused().find("ready controllers want the period of the first file"), std::string::npos)
      << refused();
  files.erase("slow.toml");
  EXPECT_EQ(refused(), "slow.toml: cannot be read");
}

}  // namespace
}  // namespace zavrek::casefile
