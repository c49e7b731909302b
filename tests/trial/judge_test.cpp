// Judges read a record and settings alone: what was kept gives the same verdicts again.
#include <gtest/gtest.h>

#include "zavrek/casefile.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::trial {
namespace {

std::string words_of(const TrialResult& result) {
  std::string text;
  for (const Verdict& v : result.verdicts)
    text +=
        v.expectation + " | " + v.expected + " | " + v.measured + " | " + v.margin + " | " + v.doubt + "\n";
  return text;
}

TEST(Judge, GivesTheSameVerdictsOfARecordThatWasKept) {
  const auto file = std::filesystem::temp_directory_path() / "zavrek_judge_test.cfg";
  for (const char* demo : {"veskar", "transformer", "line", "battery"}) {
    const Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/" + demo);
    for (const record::Encoding encoding : {record::Encoding::float32, record::Encoding::binary}) {
      for (std::size_t k = 0; k < std::min<std::size_t>(all.trials.size(), 3); ++k) {
        const TrialResult first =
            run_trial(all, all.trials[k], {.place = "plant", .free = true, .kept_as = encoding});
        record::write_comtrade(first.record, file, encoding);
        const TrialResult again = judge_again(all, all.trials[k], record::read_comtrade(file));
        EXPECT_EQ(words_of(again), words_of(first)) << demo << ", " << all.trials[k].name;
        EXPECT_EQ(again.inception_s, first.inception_s);
        EXPECT_EQ(again.fault_current_A, first.fault_current_A);
      }
    }
  }
  for (const char* part : {".cfg", ".dat", ".inf"})
    std::filesystem::remove(std::filesystem::path(file).replace_extension(part));
}

TEST(Judge, SaysWhereAVerdictIsAtTheEdgeOfWhatIsUncertain) {
  const Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/veskar");
  Trial trial = all.trials[0];
  const TrialResult first = run_trial(all, trial, {.place = "plant", .free = true});
  const double measured_s = first.verdicts[1].value;
  EXPECT_EQ(first.verdicts[1].doubt, "");
  // The step, a sample, and a decision of R1, which takes 20 in a cycle.
  EXPECT_NEAR(first.verdicts[1].uncertain, 50e-6 + 250e-6 + 1e-3, 1e-9);
  const auto judged = [&](double left_s) {
    trial.expect.resize(1);
    trial.expect[0] = {};
    trial.expect[0].device = "R1";
    trial.expect[0].window = {"0 s", print_quantity(measured_s + left_s, "s")};
    return judge_again(all, trial, first.record).verdicts[0];
  };
  const Verdict close = judged(0.4e-3), beyond = judged(-0.4e-3), clear = judged(2e-3),
                failed = judged(-2e-3);
  EXPECT_TRUE(close.passed && close.at_edge());
  EXPECT_TRUE(close.doubt.starts_with("at the edge: 1.3 ms are uncertain, and its margin is +0.4 ms"))
      << close.doubt;
  EXPECT_TRUE(!beyond.passed && beyond.at_edge());
  EXPECT_TRUE(clear.passed && !clear.at_edge());
  EXPECT_TRUE(!failed.passed && !failed.at_edge());
}

TEST(Judge, DoubtsThatADeviceOutsideMeasuresWhichNeverStarted) {
  const Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/veskar");
  std::vector<TrialResult> results;
  for (const char* name : {"fault on cable 2 is no business of R1", "solid earth fault on cable 1"})
    results.push_back(run_trial(all, find_trial(all, name), {.place = "plant", .free = true}));
  const auto doubted = [&](std::vector<TrialResult> some) {
    doubt_silent_devices(all, {.place = "outside"}, some);
    int count = 0;
    for (const Verdict& v : some.front().verdicts)
      count += v.doubt.find("is outside") != std::string::npos ? 1 : 0;
    return count;
  };
  EXPECT_EQ(doubted({results[0]}), 2) << "R1 twice; R0 started";
  EXPECT_EQ(doubted(results), 0) << "R1 started in the other";
}

TEST(Judge, TakesChangesFromSamplesWhereARecordHasNoEvents) {
  const Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/veskar");
  const TrialResult first = run_trial(all, all.trials[0], {.place = "plant", .free = true});
  ASSERT_TRUE(first.passed());
  record::Record bare = first.record;
  bare.events.clear();
  bare.facts.clear();
  const TrialResult again = judge_again(all, all.trials[0], bare);
  EXPECT_TRUE(again.passed());
  for (std::size_t k = 0; k < first.verdicts.size(); ++k) {
    if (!network::is_set(first.verdicts[k].value)) continue;
    EXPECT_NEAR(again.verdicts[k].value, first.verdicts[k].value, 0.3e-3) << "a sample";
  }
}

/// A record that was cut out of a longer one begins later than at 0.
TEST(Judge, TakesAPartOfARecordAsTheWhole) {
  const Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/veskar");
  const TrialResult whole = run_trial(all, all.trials[0], {.place = "plant", .free = true});
  ASSERT_TRUE(whole.passed());
  const TrialResult part =
      judge_again(all, all.trials[0], record::part_of(whole.record, 0.061, whole.record.time_s.back()));
  EXPECT_TRUE(part.passed());
  ASSERT_EQ(part.verdicts.size(), whole.verdicts.size());
  for (std::size_t k = 0; k < part.verdicts.size(); ++k) {
    EXPECT_EQ(part.verdicts[k].expected, whole.verdicts[k].expected);
    EXPECT_EQ(part.verdicts[k].measured, whole.verdicts[k].measured);
  }
}

TEST(Judge, NamesAChannelThatARecordLacks) {
  const Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/veskar");
  record::Record record = run_trial(all, all.trials[0], {.place = "plant", .free = true}).record;
  std::erase_if(record.analogs, [](const auto& analog) { return analog.name == "CT1.ib"; });
  try {
    (void)judge_again(all, all.trials[0], record);
    FAIL() << "judged";
  } catch (const Error& error) {
    EXPECT_TRUE(std::string(error.what()).starts_with("the record has no channel \"CT1.ib\""))
        << error.what();
  }
}

/// Contactors, outputs of the control and signals open, close and are judged as breakers are.
TEST(Judge, ReadsContactorsAndOutputsOfControlAsItDoesBreakers) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/crane");
  Trial trial = find_trial(all, "a valve shorts while lifting: the drive trips");
  trial.expect.clear();
  for (const char* point : {"drive.state.running", "hoist.speed"}) {
    Expectation e;
    e.breaker = point;
    e.open_before_s = 2;
    trial.expect.push_back(e);
  }
  const TrialResult result = run_trial(all, trial, {.place = "plant", .free = true});
  ASSERT_EQ(result.failure, "");
  EXPECT_EQ(result.verdicts[0].expectation, "drive.state.running open");
  EXPECT_TRUE(result.verdicts[0].passed) << result.verdicts[0].measured;
  EXPECT_NE(result.record.find_binary("hoist.speed"), nullptr);
}

TEST(Information, IsReadBackToTheLastDigitAndRefusedWithItsLine) {
  record::Record record;
  record.trigger_s = 0.1 + 0.2;
  record.facts = {{"trial", "a = b\tc"}};
  record.events = {{1.0 / 3, "R1 trip", "R1.trip", true}, {0.5, "remark"}};
  record::Record read;
  record::take_information(record::to_information(record), "x.inf", read);
  EXPECT_EQ(read.trigger_s, record.trigger_s);
  EXPECT_EQ(read.fact("trial"), "a = b c");
  ASSERT_EQ(read.events.size(), 2U);
  EXPECT_EQ(read.events[0].time_s, 1.0 / 3);
  EXPECT_EQ(read.events[0].of, "R1.trip");
  EXPECT_TRUE(read.events[0].on);
  EXPECT_EQ(read.events[1].text, "remark");
  record::Record others;
  record::take_information("[Public Record_Information]\r\nSource=x\r\nno equals sign\r\n", "x.inf", others);
  EXPECT_TRUE(others.facts.empty());
  try {
    record::take_information("[Zavrek Events]\n1=late\t1\tQ\tQ\n", "x.inf", others);
    FAIL() << "read";
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(), "x.inf:2: event 1 is at \"late\"; a number is wanted");
  }
}

}  // namespace
}  // namespace zavrek::trial
