#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "zavrek/record.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {
namespace {

trial::TrialResult result_of(const std::string& name, std::vector<trial::Verdict> verdicts) {
  trial::TrialResult result;
  result.name = name;
  result.verdicts = std::move(verdicts);
  return result;
}

trial::Verdict verdict(const std::string& of, const std::string& measured, double left, bool passed) {
  return {.expectation = of, .expected = "0.5 s", .measured = measured, .passed = passed, .left = left};
}

trial::Case quay() {
  trial::Case all;
  all.network.title = "Quay";
  all.place = "Veskar quay, bay 2";
  bench::Device device;
  device.name = "R1";
  device.model = "stand-in";
  device.serial = "17";
  device.settings = "R1.toml";
  all.bench.devices.push_back(device);
  return all;
}

nlohmann::json results(const std::vector<trial::TrialResult>& trials) {
  const trial::Case all = quay();
  return results_json(all, trials, {}, provenance_of(all, "plant"));
}

TEST(Changes, TellWhatFailsAndWhatGotWorseSinceAnEarlierRun) {
  const nlohmann::json before = results(
      {result_of("one", {verdict("R1 trip", "0.50 s", 0.9, true), verdict("R1 start", "0.02 s", 0.5, true),
                         verdict("R1 trip", "0.51 s", 0.8, true)}),
       result_of("two", {verdict("R1 trip", "none", -1, false)}),
       result_of("old", {verdict("R1 trip", "", 1, true)})});
  const nlohmann::json now = results(
      {result_of("one", {verdict("R1 trip", "0.52 s", 0.6, true), verdict("R1 start", "0.02 s", 0.45, true),
                         verdict("R1 trip", "0.9 s", -3, false)}),
       result_of("two", {verdict("R1 trip", "0.5 s", 0.9, true)}),
       result_of("new", {verdict("R1 trip", "", 1, true)})});
  const std::vector<Change> changes = changes_since(before, now);
  ASSERT_EQ(changes.size(), 5U);
  EXPECT_EQ(words(changes[0].kind), "fails now");
  EXPECT_EQ(changes[0].before, "0.51 s") << "the second of two that are worded alike";
  EXPECT_EQ(words(changes[1].kind), "passes now");
  EXPECT_EQ(changes[1].trial, "two");
  EXPECT_EQ(words(changes[2].kind), "less margin");
  EXPECT_EQ(changes[2].now, "0.52 s");
  EXPECT_EQ(words(changes[3].kind), "is new");
  EXPECT_EQ(words(changes[4].kind), "is gone");
  EXPECT_TRUE(changes_since(now, now).empty());
}

TEST(Changes, RefuseWhatHoldsNoResults) {
  for (const char* text :
       {"[]", "{}", R"({"format": "zavrek check 1"})", R"({"format": "zavrek results 1"})",
        R"({"format": "zavrek results 1", "trials": [ { "name": 3, "verdicts": [ {} ] } ]})"})
    EXPECT_THROW((void)changes_since(nlohmann::json::parse(text), results({})), Error) << text;
}

TEST(Results, SayWhatWasTestedAndNumberTheirVerdicts) {
  const nlohmann::json told =
      results({result_of("one", {verdict("R1 trip", "0.50 s", 0.9, true)}),
               result_of("two", {verdict("R1 start", "", 1, true), verdict("R1 trip", "", 1, true)})});
  EXPECT_EQ(told["format"], "zavrek results 1");
  EXPECT_EQ(told["trials"][1]["verdicts"][1]["number"], "2.2");
  EXPECT_EQ(told["provenance"]["place"], "Veskar quay, bay 2");
  EXPECT_FALSE(told["provenance"]["version"].get<std::string>().empty());
  EXPECT_EQ(told["provenance"]["tested"][0]["serial"], "17");
  EXPECT_EQ(told["provenance"]["tested"][0]["where"], "in this process");
}

TEST(HtmlReport, OfManyTrialsKeepsTheWavesOfThoseThatDidNotPass) {
  std::vector<trial::TrialResult> trials;
  TrialPage with;
  for (int k = 0; k < 200; ++k) {
    trials.push_back(result_of("t" + std::to_string(k), {verdict("R1 trip", "0.5 s", 0.9, k != 150)}));
    record::Record& record = trials.back().record;
    record.rate_Hz = 4000;
    for (int n = 0; n < 4000; ++n) record.time_s.push_back(n / 4000.0);
    record.analogs.push_back(
        {.name = "S1.ia", .phase = "A", .unit = "A", .samples = std::vector<double>(4000, 7.0)});
    with.stems.push_back("stem" + std::to_string(k));
  }
  with.provenance = provenance_of(quay(), "");
  with.changes = {{Change::Kind::failed, "t150", "R1 trip", "0.5 s <b>", "0.9 s"}};
  const std::string page = html_report(quay(), trials, with);
  const auto count = [&](const std::string& text) {
    std::size_t n = 0;
    for (std::size_t at = 0; (at = page.find(text, at)) != std::string::npos; ++at) ++n;
    return n;
  };
  EXPECT_EQ(count("<div class=\"waves\""), 13U);
  EXPECT_EQ(count("data-trial=\"151\""), 1U) << "the one that failed";
  EXPECT_EQ(count("href=\"stem199.png\""), 1U);
  EXPECT_LT(page.size(), 13U * 14'000 + 400'000);
  EXPECT_EQ(count("id=\"verdict151.1\""), 1U);
  EXPECT_NE(page.find("serial number 17"), std::string::npos);
  EXPECT_NE(page.find("fails now"), std::string::npos);
  EXPECT_EQ(page.find("0.5 s <b>"), std::string::npos);
  EXPECT_EQ(count("section class=\"signatures\""), 1U);
}

TEST(NamedStates, FollowTheFactsOfARecord) {
  record::Record record;
  record.time_s = {0, 1, 2, 3, 4};
  record.analogs.push_back({.name = "mode", .phase = {}, .unit = {}, .samples = {0, 0, 1, 1, 2}});
  record.analogs.push_back({.name = "flag", .phase = {}, .unit = {}, .samples = {0, 0, 1, 1, 0}});
  record.facts = {{"states of mode", "off on"}};
  const std::vector<NamedStates> named = named_states_of(record);
  ASSERT_EQ(named.size(), 1U);
  const std::vector<std::pair<double, std::string>> expected{{0, "off"}, {2, "on"}, {4, "?"}};
  EXPECT_EQ(named[0].from, expected);
  ASSERT_EQ(states_of(record).size(), 1U);
  EXPECT_EQ(states_of(record)[0].name, "flag");
  EXPECT_TRUE(panels_of(record).empty());
}

TEST(Sha256, IsThatOfTheStandard) {
  EXPECT_EQ(record::sha256("abc"), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
}

}  // namespace
}  // namespace zavrek::report
