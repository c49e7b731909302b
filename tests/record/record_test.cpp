#include "zavrek/record.hpp"
#include "zavrek/record/row_file.hpp"

#include <gtest/gtest.h>

#include <csignal>
#include <cstring>
#include <filesystem>
#include <limits>

#include <cmath>
#include <numbers>
#include <random>

#include <fmt/format.h>
#include <sys/resource.h>
#include <unistd.h>

namespace zavrek::record {
namespace {

Record sample_record() {
  Record r;
  r.station = "Veskar quay";
  r.device = "R1";
  r.rate_Hz = 4000;
  r.start_utc_ns = 1'790'000'000'123'456'000;
  r.trigger_s = 0.01;
  Analog current{"CT1.ia", "A", "A", 400, 1, {}};
  Analog voltage{"VT0.va", "A", "V", 11000, 110, {}};
  Binary trip{"R1.trip", false, {}};
  Binary closed{"Q1.closed", true, {}};
  for (int k = 0; k < 200; ++k) {
    r.time_s.push_back(k / 4000.0);
    current.samples.push_back(7251.5 * std::sin(2 * std::numbers::pi * k / 80));
    voltage.samples.push_back(8981 * std::cos(2 * std::numbers::pi * k / 80));
    trip.samples.push_back(k > 120);
    closed.samples.push_back(k < 150);
  }
  r.analogs = {current, voltage};
  r.binaries = {trip, closed};
  return r;
}

std::string refusal(const Comtrade& files) {
  try {
    (void)from_comtrade(files, "x.cfg");
  } catch (const Error& error) {
    return error.what();
  }
  return "no error";
}

class Encodings : public testing::TestWithParam<Encoding> {};

TEST_P(Encodings, ReadBackWhatWasWritten) {
  const Record written = sample_record();
  const Record read = from_comtrade(to_comtrade(written, GetParam()), "quay.cfg");
  EXPECT_EQ(read.station, "Veskar quay");
  EXPECT_EQ(read.device, "R1");
  EXPECT_EQ(read.rate_Hz, 4000);
  EXPECT_EQ(read.start_utc_ns, written.start_utc_ns);
  EXPECT_NEAR(read.trigger_s, 0.01, 1e-9);
  ASSERT_EQ(read.time_s.size(), 200U);
  ASSERT_EQ(read.analogs.size(), 2U);
  EXPECT_EQ(read.analogs[0].name, "CT1.ia");
  EXPECT_EQ(read.analogs[0].primary, 400);
  EXPECT_EQ(read.analogs[1].secondary, 110);
  const double digits = GetParam() == Encoding::binary  ? 1.0 / 32766
                        : GetParam() == Encoding::ascii ? 1.0 / 99998
                                                        : 2e-7;
  for (std::size_t k = 0; k < 200; ++k) {
    EXPECT_NEAR(read.time_s[k], written.time_s[k], 1e-9);
    EXPECT_NEAR(read.analogs[0].samples[k], written.analogs[0].samples[k], 7251.5 * digits);
    EXPECT_EQ(read.binaries[0].samples[k], written.binaries[0].samples[k]);
    EXPECT_EQ(read.binaries[1].samples[k], written.binaries[1].samples[k]);
  }
  EXPECT_TRUE(read.binaries[1].normal);
}

TEST_P(Encodings, SurviveRandomDamageWithAnErrorAtMost) {
  const Comtrade good = to_comtrade(sample_record(), GetParam());
  std::mt19937 random(11);
  for (int round = 0; round < 1000; ++round) {
    Comtrade bad = good;
    std::string& part = random() % 4 == 0 ? bad.data : bad.configuration;
    for (unsigned k = 0; k <= random() % 4; ++k) {
      if (part.empty()) break;
      const std::size_t at = random() % part.size();
      switch (random() % 4) {
        case 0:
          part[at] = static_cast<char>(random());
          break;
        case 1:
          part.erase(at, random() % 9);
          break;
        case 2:
          part.insert(at, "9999999");
          break;
        default:
          part.resize(at + 1);
          break;
      }
    }
    try {
      const Record record = from_comtrade(bad, "bad.cfg");
      for (const Analog& analog : record.analogs) ASSERT_EQ(analog.samples.size(), record.time_s.size());
    } catch (const Error& error) {
      ASSERT_TRUE(std::string(error.what()).starts_with("bad.")) << error.what();
    }
  }
}

std::string name_of(const testing::TestParamInfo<Encoding>& info) {
  constexpr const char* names[] = {"Ascii", "Binary", "Binary32", "Float32"};
  return names[static_cast<std::size_t>(info.param)];
}
/// Peaks of any size, of either sign, among small values: what comes back lies within a unit of the encoding.
TEST_P(Encodings, KeepPeaksOfAnySize) {
  const double shares[] = {1e-5, 4e-5, 5e-10, 1.2e-7};  // of ascii, binary, binary32, float32
  const double share = shares[static_cast<int>(GetParam())];
  std::mt19937 random(7);
  std::uniform_real_distribution<double> exponent(-290, 300), within(-1, 1);
  Record written = sample_record();
  for (int round = 0; round < 1000; ++round) {
    const double peak = std::pow(10, exponent(random)) * (1 + within(random) / 2);
    auto& samples = written.analogs[0].samples;
    for (double& sample : samples) sample = peak * within(random);
    samples[static_cast<std::size_t>(round) % samples.size()] = round % 2 == 0 ? peak : -peak;
    const Record read = from_comtrade(to_comtrade(written, GetParam()), "quay.cfg");
    for (std::size_t k = 0; k < samples.size(); ++k)
      ASSERT_NEAR(read.analogs[0].samples[k], samples[k], 0.51 * share * peak) << peak << " at " << k;
  }
}

TEST_P(Encodings, KeepTheTimesOfALongRecord) {
  Record written = sample_record();
  written.rate_Hz = 0;
  for (std::size_t k = 0; k < written.time_s.size(); ++k) written.time_s[k] = 3600.0 * static_cast<double>(k);
  const Record read = from_comtrade(to_comtrade(written, GetParam()), "quay.cfg");
  for (std::size_t k = 0; k < written.time_s.size(); ++k)
    EXPECT_NEAR(read.time_s[k], written.time_s[k], 1e-3) << k;
}

INSTANTIATE_TEST_SUITE_P(Comtrade, Encodings,
                         testing::Values(Encoding::ascii, Encoding::binary, Encoding::binary32,
                                         Encoding::float32),
                         name_of);

TEST(Comtrade, WritesTheConfigurationOfTheStandard) {
  const std::string text = to_comtrade(sample_record(), Encoding::ascii).configuration;
  EXPECT_TRUE(text.starts_with("Veskar quay,R1,2013\r\n4,2A,2D\r\n1,CT1.ia,A,,A,")) << text;
  EXPECT_NE(text.find("\r\n1,R1.trip,,,0\r\n2,Q1.closed,,,1\r\n50\r\n1\r\n4000,200\r\n"), std::string::npos)
      << text;
  EXPECT_TRUE(text.ends_with("\r\nASCII\r\n1\r\n0,0\r\n0,0\r\n")) << text;
}

TEST(Comtrade, KeepsMissingValuesMissing) {
  Record r = sample_record();
  r.analogs[0].samples[7] = NAN;
  for (const Encoding encoding : {Encoding::ascii, Encoding::binary, Encoding::binary32, Encoding::float32}) {
    EXPECT_TRUE(std::isnan(from_comtrade(to_comtrade(r, encoding), "x").analogs[0].samples[7]));
  }
}

TEST(Comtrade, ReadsARecordOf1991WithTimeStamps) {
  const Comtrade files{
      "STATION,7\r\n2,1A,1D\r\n1,IA,A,,A,0.5,1,0,-100,100\r\n1,TRIP,0\r\n60\r\n0\r\n0,3\r\n"
      "11/23/98,10:00:00.000000\r\n11/23/98,10:00:00.002000\r\nascii\r\n",
      "1,0,10,0\r\n2,1000,20,0\r\n3,3000,-4,1\r\n"};
  const Record r = from_comtrade(files, "old.cfg");
  EXPECT_EQ(r.rate_Hz, 0);
  EXPECT_NEAR(r.time_s[2], 0.003, 1e-12);
  EXPECT_DOUBLE_EQ(r.analogs[0].samples[1], 11);
  EXPECT_NEAR(r.trigger_s, 0.002, 1e-9);
  EXPECT_EQ(r.binaries[0].samples[2], 1);
}

TEST(Comtrade, SaysWhatIsWrongAndWhere) {
  Comtrade files = to_comtrade(sample_record(), Encoding::ascii);
  Comtrade bad = files;
  bad.configuration.replace(bad.configuration.find("4,2A"), 4, "4,2X");
  EXPECT_EQ(refusal(bad), "x.cfg:2: field 2 is \"2X\"; a channel count such as \"4A\" is wanted");
  bad = files;
  bad.data.resize(bad.data.size() / 2);
  bad.data.resize(bad.data.rfind("\r\n") + 2);
  EXPECT_TRUE(refusal(bad).find("ends before sample") != std::string::npos) << refusal(bad);
  bad = to_comtrade(sample_record(), Encoding::binary);
  bad.data.resize(100);
  EXPECT_EQ(refusal(bad), "x.dat: holds 7 whole samples of 14 bytes; the configuration speaks of 200");
}

TEST(FundamentalRms, IsExactForASinusoidAndZeroDuringTheFirstCycle) {
  const Record r = sample_record();
  const std::vector<double> rms = fundamental_rms(r, {&r.analogs[0]});
  EXPECT_EQ(rms[78], 0);
  EXPECT_NEAR(rms[79], 7251.5 / std::numbers::sqrt2, 1e-6);
  EXPECT_NEAR(rms[199], 7251.5 / std::numbers::sqrt2, 1e-6);
}

/// A disk that fills up, by a limit on the size of files: the error says so, and what stood there stands.
TEST(Files, AppearWholeOrNotAtAll) {
  const std::filesystem::path folder = std::filesystem::path(testing::TempDir()) / "files-whole";
  std::filesystem::remove_all(folder);
  const std::filesystem::path file = folder / "below" / "a.txt";
  write_file(file, "before");
  rlimit before{};
  ASSERT_EQ(getrlimit(RLIMIT_FSIZE, &before), 0);
  const rlimit small{1000, before.rlim_max};
  std::signal(SIGXFSZ, SIG_IGN);
  ASSERT_EQ(setrlimit(RLIMIT_FSIZE, &small), 0);
  std::string said;
  try {
    write_file(file, std::string(5000, 'x'));
  } catch (const Error& error) {
    said = error.what();
  }
  ASSERT_EQ(setrlimit(RLIMIT_FSIZE, &before), 0);
  std::signal(SIGXFSZ, SIG_DFL);
  EXPECT_EQ(said, file.string() + ": cannot be written (File too large)");
  EXPECT_EQ(read_file(file), "before");
  EXPECT_EQ(std::distance(std::filesystem::directory_iterator(file.parent_path()), {}), 1) << "left behind";
  write_file(file, "after");
  EXPECT_EQ(read_file(file), "after");
  EXPECT_THROW(write_file(folder / "below", "a folder"), Error);
  EXPECT_THROW(write_file(file / "under a file", "x"), Error);
}

/// Names of others' records reach terminals, reports and JSON: what is no text becomes one.
TEST(Names, OfARecordAreTextWhateverItsFilesHold) {
  const auto read_name = [](const std::string& name) {
    return from_csv("time_s," + name + " A\n0,1\n1,2\n", "x.csv").analogs.at(0).name;
  };
  EXPECT_EQ(read_name("a\x1b[31mb"), "a [31mb");
  EXPECT_EQ(read_name("a\xff\xfe"), "a??");
  EXPECT_EQ(read_name("\xc3\xa4\xe2\x82\xac\xf0\x9f\x94\x8c"), "\xc3\xa4\xe2\x82\xac\xf0\x9f\x94\x8c")
      << "as it is";
  EXPECT_EQ(read_name("\xed\xa0\x80"), "???") << "half a pair";
  EXPECT_EQ(read_name("\xc0\xaf"), "??") << "longer than need be";
  EXPECT_EQ(read_name("\xf4\x90\x80\x80"), "????") << "beyond the last";
  EXPECT_LE(read_name(std::string(5000, 'n')).size(), 200U);
  Record r = sample_record();
  r.analogs[0].name = "a,b\nc";
  EXPECT_EQ(from_csv(to_csv(r), "x.csv").analogs.at(0).name, "a b c");
}

TEST(Files, ThatNeedNotEndAreNotRead) {
  try {
    (void)read_file("/dev/zero");
    FAIL() << "read";
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(), "/dev/zero: is no ordinary file");
  }
}

TEST(RowFile, IsWrittenAsTheSameRecordInMemoryIs) {
  const auto folder = std::filesystem::temp_directory_path() / fmt::format("zavrek_rows_{}", getpid());
  Record record;
  record.station = "quay";
  record.rate_Hz = 4000;
  record.trigger_s = 0.1;
  record.analogs = {{.name = "i", .unit = "A", .samples = {}}, {.name = "v", .unit = "V", .samples = {}}};
  record.binaries = {{.name = "trip", .samples = {}}};
  const Record head = record;
  RowFile rows(folder, 2, 1, record.rate_Hz);
  std::vector<double> piece;
  constexpr int count = 5000;  // more than are held at once
  for (int k = 0; k < count; ++k) {
    const double i = 300 * std::sin(0.08 * k), v = k % 7 == 3 ? std::nan("") : k - 0.25;
    record.time_s.push_back(k / 4000.0);
    record.analogs[0].samples.push_back(i);
    record.analogs[1].samples.push_back(v);
    record.binaries[0].samples.push_back(k > 4000 ? 1 : 0);
    piece.insert(piece.end(), {i, v, k > 4000 ? 1.0 : 0.0});
    if (k % 999 == 0 || k + 1 == count) {
      rows.append(piece);
      piece.clear();
    }
  }
  ASSERT_EQ(rows.rows(), static_cast<std::size_t>(count));
  for (const Encoding encoding : {Encoding::ascii, Encoding::binary, Encoding::binary32, Encoding::float32}) {
    write_comtrade(record, folder / "memory.cfg", encoding);
    write_comtrade(head, rows, folder / "disk.cfg", encoding);
    for (const char* end : {".cfg", ".dat"})
      EXPECT_EQ(read_file(folder / (std::string("disk") + end)),
                read_file(folder / (std::string("memory") + end)))
          << end;
  }
  write_csv(head, rows, folder / "disk.csv");
  EXPECT_EQ(read_file(folder / "disk.csv"), to_csv(record));
  std::filesystem::remove_all(folder);
}

TEST(PartOf, KeepsSamplesAndEventsOfATime) {
  Record record = sample_record();
  record.events = {{0.001, "early"}, {0.02, "in"}, {0.04, "late"}};
  const Record part = part_of(record, 0.01, 0.03);
  EXPECT_DOUBLE_EQ(part.time_s.front(), 0.01);
  EXPECT_DOUBLE_EQ(part.time_s.back(), 0.03);
  EXPECT_EQ(part.analogs[0].samples[0], record.analogs[0].samples[40]);
  EXPECT_EQ(part.binaries[0].samples.size(), part.time_s.size());
  ASSERT_EQ(part.events.size(), 1U);
  EXPECT_EQ(part.events[0].text, "in");
  EXPECT_THROW((void)part_of(record, 7, 8), Error);
}

TEST(RowFile, SaysSoWhenTheDiskIsFullAndLeavesNoFile) {
  const auto folder = std::filesystem::temp_directory_path() / fmt::format("zavrek_full_{}", getpid());
  {
    RowFile rows(folder, 1, 0, 4000);
    EXPECT_TRUE(std::filesystem::is_empty(folder));
    const std::vector<double> many(100'000, 1.0);
    rlimit before{};
    getrlimit(RLIMIT_FSIZE, &before);
    const rlimit small{100'000, before.rlim_max};
    const auto handler = signal(SIGXFSZ, SIG_IGN);
    setrlimit(RLIMIT_FSIZE, &small);
    try {
      rows.append(many);
      ADD_FAILURE() << "written";
    } catch (const Error& error) {
      EXPECT_NE(std::string(error.what()).find("cannot be kept there (File too large)"), std::string::npos)
          << error.what();
    }
    setrlimit(RLIMIT_FSIZE, &before);
    signal(SIGXFSZ, handler);
  }
  EXPECT_THROW(RowFile("/dev/null/rows", 1, 0, 4000), Error);
  std::filesystem::remove_all(folder);
}

TEST(Comtrade, TakesWhatIsNoNumberAsMissingAndRefusesTimesThatAreNone) {
  Record record;
  record.rate_Hz = 1000;
  record.time_s = {0, 1e-3};
  record.analogs = {{.name = "i", .unit = "A", .samples = {1, 2}}};
  Comtrade files = to_comtrade(record, Encoding::float32);
  const float infinite = std::numeric_limits<float>::infinity();
  std::memcpy(files.data.data() + 8, &infinite, sizeof infinite);
  EXPECT_TRUE(std::isnan(from_comtrade(files, "x.cfg").analogs[0].samples[0]));
  const std::size_t rate = files.configuration.find("1000,2");
  files.configuration.replace(rate, 4, "1e-99");
  EXPECT_THROW((void)from_comtrade(files, "x.cfg"), Error);
  record.time_s[1] = 1e300;
  EXPECT_THROW((void)to_comtrade(record, Encoding::binary), Error);
  EXPECT_THROW((void)from_csv("time_s,i A\n0,1\n1e300,2\n", "x.csv"), Error);
  // The dates furthest apart that a file may give.
  files = to_comtrade({.rate_Hz = 1000, .time_s = {0}}, Encoding::binary);
  const std::size_t first = files.configuration.find("01/01/1970"),
                    trigger = files.configuration.find("01/01/1970", first + 1);
  ASSERT_NE(trigger, std::string::npos);
  files.configuration.replace(trigger, 10, "01/01/2200");
  files.configuration.replace(first, 10, "01/01/1900");
  EXPECT_THROW((void)from_comtrade(files, "x.cfg"), Error);
}

}  // namespace
}  // namespace zavrek::record
