#include "zavrek/report.hpp"

#include <gtest/gtest.h>

#include <unistd.h>

#include <cmath>
#include <filesystem>
#include <sstream>

#include <fmt/format.h>

#include "report/gnuplot.hpp"

namespace zavrek::report {
namespace {

record::Record small_record() {
  record::Record r;
  r.rate_Hz = 4000;
  r.trigger_s = 0.02;
  for (const char* name : {"CT1.ia", "CT1.ib", "fault.ia", "VT0.va"}) {
    r.analogs.push_back({name, "A", std::string(name).starts_with("VT") ? "V" : "A", 1, 1, {}});
  }
  r.binaries.push_back({"R1.trip", false, {}});
  r.events.push_back({0.03, "R1 trip"});
  for (int k = 0; k < 200; ++k) {
    r.time_s.push_back(k / 4000.0);
    const double wave = std::sin(k * 0.0785);
    r.analogs[0].samples.push_back(wave * (k > 80 ? 3000 : 300));
    r.analogs[1].samples.push_back(wave);
    r.analogs[2].samples.push_back(k > 80 ? wave : 0);
    r.analogs[3].samples.push_back(wave * 8000);
    r.binaries[0].samples.push_back(k > 120);
  }
  return r;
}

TEST(Panels, GroupPhasesAndPutWhatHappensFirst) {
  const record::Record r = small_record();
  const std::vector<Panel> panels = panels_of(r);
  ASSERT_EQ(panels.size(), 3U);
  EXPECT_EQ(panels[0].title, "CT1.i");
  EXPECT_EQ(panels[0].analogs.size(), 2U);
  EXPECT_EQ(panels[1].title, "VT0.v");
  EXPECT_EQ(panels[2].title, "fault.i");
}

TEST(Figure, IsAPngOrAnSvgAndNothingElse) {
  const auto folder = std::filesystem::temp_directory_path() / "zavrek_report_test";
  draw_record(small_record(), "a \"quoted\" title", folder / "x.png");
  draw_record(small_record(), "title", folder / "x.svg");
  EXPECT_TRUE(record::read_file(folder / "x.png").starts_with("\x89PNG"));
  EXPECT_NE(record::read_file(folder / "x.svg").find("<svg"), std::string::npos);
  EXPECT_THROW(draw_record(small_record(), "title", folder / "x.bmp"), Error);
  EXPECT_THROW(draw_record(small_record(), "title", "/proc/none/x.png"), std::exception);
  std::filesystem::remove_all(folder);
}

/// What gnuplot itself reads of each text, a line each.
std::vector<std::string> read_by_gnuplot(const std::vector<std::string>& texts) {
  const auto file = std::filesystem::temp_directory_path() / fmt::format("zavrek_quoting_{}.txt", getpid());
  const auto figure = std::filesystem::temp_directory_path() / fmt::format("zavrek_quoting_{}.svg", getpid());
  std::string script =
      internal::terminal(figure, 300) + "set print " + internal::quoted(file.string()) + "\n";
  for (const std::string& text : texts) script += "print " + internal::quoted(text) + "\n";
  internal::run_gnuplot(script + "plot x\n", figure);
  std::filesystem::remove(figure);
  std::istringstream text(record::read_file(file));
  std::vector<std::string> lines;
  for (std::string line; std::getline(text, line);) lines.push_back(line);
  std::filesystem::remove(file);
  return lines;
}

TEST(Figure, HandsGnuplotEveryCharacterAsItIs) {
  std::vector<std::string> texts{"`id>x`", "$(id)", "a'b",    "''",        "'", "\\",
                                 "a\\",    "\"",    "@frame", "{/Bold x}", "#"};
  for (int c = ' '; c < 127; ++c)
    for (const char* form : {"{}", "{}{}", "a{}b", "'{}'", "{}\\"})
      texts.push_back(fmt::format(fmt::runtime(form), static_cast<char>(c), static_cast<char>(c)));
  EXPECT_EQ(read_by_gnuplot(texts), texts);
}

TEST(Figure, HandsGnuplotBlanksForControlCharacters) {
  std::vector<std::string> texts, blanks;
  for (int c = 1; c < ' '; ++c) texts.push_back(fmt::format("a{}b", static_cast<char>(c)));
  texts.push_back(
      "a\x7f"
      "b");
  texts.push_back(std::string("a\0b", 3));
  blanks.assign(texts.size(), "a b");
  EXPECT_EQ(read_by_gnuplot(texts), blanks);
}

TEST(Figure, RunsNothingThatANameOfARecordSays) {
  const auto folder = std::filesystem::temp_directory_path() / "zavrek_names_test";
  std::filesystem::create_directories(folder);
  const std::string command = "touch " + (folder / "ran").string();
  record::Record r = small_record();
  for (record::Analog& analog : r.analogs) analog.name = "`" + command + "`";
  r.binaries[0].name = "' ; system('" + command + "') #";
  r.events[0].text = "\" ; system(\"" + command + "\") #";
  r.station = "`" + command + "`";
  draw_record(r, "`" + command + "`", folder / "x.svg");
  const auto before = std::filesystem::current_path();
  std::filesystem::current_path(folder);  // a path that begins with a bar is a file all the same
  draw_record(r, "title", "|touch ran;x.svg");
  std::filesystem::current_path(before);
  EXPECT_FALSE(std::filesystem::exists(folder / "ran"));
  EXPECT_TRUE(std::filesystem::exists(folder / "|touch ran;x.svg"));
  EXPECT_NE(record::read_file(folder / "x.svg").find("`touch "), std::string::npos) << "the name as it is";
  std::filesystem::remove_all(folder);
}

TEST(FileStem, KeepsPlainLetters) {
  EXPECT_EQ(file_stem(2, "Two-phase fault, 20 %!"), "02-two-phase-fault-20");
}

TEST(HtmlReport, StandsAloneAndEscapesNames) {
  trial::Case all;
  all.network.title = "Quay <b>&";
  all.folder = "demo/quay";
  trial::TrialResult result;
  result.name = "a </script> fault";
  result.record = small_record();
  result.record.events[0].text = "</script>";
  result.verdicts.push_back({"R1 trip", "never", "0.1 s", "", false});
  const std::string page = html_report(all, {result});
  EXPECT_NE(page.find("<title>Quay &lt;b&gt;&amp;</title>"), std::string::npos);
  EXPECT_NE(page.find("0 of 1 trials passed"), std::string::npos);
  EXPECT_EQ(page.find("http://"), std::string::npos);
  EXPECT_EQ(page.find("src="), std::string::npos);
  std::size_t scripts = 0;
  for (std::size_t at = 0; (at = page.find("</script>", at)) != std::string::npos; ++at) ++scripts;
  EXPECT_EQ(scripts, 2U);
}

TEST(Junit, TellsWhatCouldNotBeJudgedAndHowLateARunWas) {
  trial::TrialResult late;
  late.name = "late";
  late.not_judged = "the run was held back by 8 ms";
  late.timing.pace = pace::Pace::wall;
  late.timing.steps = 100;
  late.timing.overruns = 7;
  trial::TrialResult failed;
  failed.name = "failed";
  failed.verdicts = {{.expectation = "R1 trip", .expected = "never", .measured = "0.1 s"}};
  const std::string xml = junit("suite", trial_cases({late, failed}));
  EXPECT_NE(xml.find("tests=\"2\" failures=\"1\""), std::string::npos) << xml;
  EXPECT_NE(xml.find("<skipped message=\"the run was held back by 8 ms\"/>"), std::string::npos) << xml;
  EXPECT_NE(xml.find("<property name=\"late_steps\" value=\"7\"/>"), std::string::npos) << xml;
  EXPECT_NE(xml.find("<failure message=\"R1 trip: expected never, measured 0.1 s\"/>"), std::string::npos)
      << xml;
}

}  // namespace
}  // namespace zavrek::report
