#include "zavrek/record/hdf5.hpp"

#include <gtest/gtest.h>

#include <cmath>
#include <filesystem>
#include <fstream>
#include <random>

#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>

namespace zavrek::record {
namespace {

std::filesystem::path hdf5_place(const std::string& name) {
  return std::filesystem::temp_directory_path() / fmt::format("zavrek_{}_{}.h5", name, getpid());
}

struct Hdf5 : testing::Test {
  std::filesystem::path path = hdf5_place(testing::UnitTest::GetInstance()->current_test_info()->name());
  ~Hdf5() override { std::filesystem::remove(path); }
};

Record two_and_two(std::size_t rows) {
  Record record;
  record.station = "Veskar, the quay \u00e5";
  record.device = "DR1";
  record.frequency_Hz = 60;
  record.rate_Hz = 4800;
  record.start_utc_ns = 1'790'000'000'123'456'789;
  record.trigger_s = 0.0123;
  record.analogs = {{"CT1.ia", "A", "A", 300, 1, {}}, {"VT1.va", "A", "V", 11000, 110, {}}};
  record.binaries = {{"R1.trip", false, {}}, {"Q1.closed", true, {}}};
  for (std::size_t k = 0; k < rows; ++k) {
    record.time_s.push_back(static_cast<double>(k) / 4800);
    record.analogs[0].samples.push_back(std::sin(0.1 * static_cast<double>(k)) / 3);
    record.analogs[1].samples.push_back(k == 7 ? std::nan("") : 1e4 * std::cos(0.1 * static_cast<double>(k)));
    record.binaries[0].samples.push_back(k > 5 ? 1 : 0);
    record.binaries[1].samples.push_back(k < 9 ? 1 : 0);
  }
  record.events = {{0.00125, "R1 trip, by I>>", "R1.trip", true}, {0.002, "Q1 open", "Q1.closed", false}};
  record.facts = {{"trial", "short circuit, 2 ohm"}, {"station", "Veskar"}};
  return record;
}

void expect_same(const Record& a, const Record& b) {
  EXPECT_EQ(a.station, b.station);
  EXPECT_EQ(a.device, b.device);
  EXPECT_EQ(a.frequency_Hz, b.frequency_Hz);
  EXPECT_EQ(a.rate_Hz, b.rate_Hz);
  EXPECT_EQ(a.start_utc_ns, b.start_utc_ns);
  EXPECT_EQ(a.trigger_s, b.trigger_s);
  EXPECT_EQ(a.time_s, b.time_s);
  ASSERT_EQ(a.analogs.size(), b.analogs.size());
  for (std::size_t c = 0; c < a.analogs.size(); ++c) {
    EXPECT_EQ(a.analogs[c].name, b.analogs[c].name);
    EXPECT_EQ(a.analogs[c].phase, b.analogs[c].phase);
    EXPECT_EQ(a.analogs[c].unit, b.analogs[c].unit);
    EXPECT_EQ(a.analogs[c].primary, b.analogs[c].primary);
    EXPECT_EQ(a.analogs[c].secondary, b.analogs[c].secondary);
    ASSERT_EQ(a.analogs[c].samples.size(), b.analogs[c].samples.size());
    for (std::size_t k = 0; k < a.time_s.size(); ++k) {
      const double is = a.analogs[c].samples[k], was = b.analogs[c].samples[k];
      EXPECT_TRUE(is == was || (std::isnan(is) && std::isnan(was))) << c << " " << k;
    }
  }
  ASSERT_EQ(a.binaries.size(), b.binaries.size());
  for (std::size_t c = 0; c < a.binaries.size(); ++c) {
    EXPECT_EQ(a.binaries[c].name, b.binaries[c].name);
    EXPECT_EQ(a.binaries[c].normal, b.binaries[c].normal);
    EXPECT_EQ(a.binaries[c].samples, b.binaries[c].samples);
  }
  ASSERT_EQ(a.events.size(), b.events.size());
  for (std::size_t k = 0; k < a.events.size(); ++k) {
    EXPECT_EQ(a.events[k].time_s, b.events[k].time_s);
    EXPECT_EQ(a.events[k].text, b.events[k].text);
    EXPECT_EQ(a.events[k].of, b.events[k].of);
    EXPECT_EQ(a.events[k].on, b.events[k].on);
  }
}

TEST_F(Hdf5, ReadsBackToTheBitWhatWasWritten) {
  const Record written = two_and_two(5000);
  write_record(written, path, Encoding::binary);
  const Record read = read_record(path);
  expect_same(read, written);
  EXPECT_EQ(read.fact("trial"), "short circuit, 2 ohm");
  EXPECT_EQ(read.fact("station"), "Veskar");
  // Half of its numbers are binary or repeat: it is packed.
  EXPECT_LT(std::filesystem::file_size(path), 5000U * 3 * sizeof(double));
}

TEST_F(Hdf5, OfRowsOnDiskIsTheSame) {
  const Record whole = two_and_two(3000);
  Record head = whole;
  head.time_s.clear();
  for (Analog& analog : head.analogs) analog.samples.clear();
  for (Binary& binary : head.binaries) binary.samples.clear();
  RowFile rows(std::filesystem::temp_directory_path(), 2, 2, 4800);
  for (std::size_t k = 0; k < 3000; ++k)
    rows.append(std::array<double, 4>{whole.analogs[0].samples[k], whole.analogs[1].samples[k],
                                      static_cast<double>(whole.binaries[0].samples[k]),
                                      static_cast<double>(whole.binaries[1].samples[k])});
  write_record(head, rows, path, Encoding::binary);
  expect_same(read_record(path), whole);
}

TEST_F(Hdf5, WithoutChannelsOrEventsIsReadToo) {
  Record written;
  written.time_s = {-0.5, 0.25, 7};
  write_hdf5(written, path);
  expect_same(read_hdf5(path), written);
}

/// Writes `rows` rows, flushes, writes as many again, and ends as it is killed.
void grow_and_die(const std::filesystem::path& path, std::size_t rows) {
  Record head = two_and_two(0);
  head.events.clear();
  GrowingHdf5 file(path, head);
  for (std::size_t k = 0; k < rows; ++k)
    file.append(std::array<double, 4>{static_cast<double>(k), -1.0, 0.0, 1.0});
  file.append(Event{0.5, "trigger: R1.trip", "", true});
  file.flush();
  for (std::size_t k = 0; k < 10; ++k) file.append(std::array<double, 4>{0.0, 0.0, 0.0, 0.0});
  _exit(0);
}

TEST_F(Hdf5, StandsUpToItsLatestFlushHoweverItsWriterEnds) {
  const pid_t writer = fork();
  if (writer == 0) grow_and_die(path, 4321);
  int status = 0;
  waitpid(writer, &status, 0);
  const Record read = read_hdf5(path);
  ASSERT_EQ(read.time_s.size(), 4321U);
  EXPECT_EQ(read.time_s[4320], 4320 / 4800.0);
  EXPECT_EQ(read.analogs[0].samples[4320], 4320);
  EXPECT_EQ(read.binaries[1].samples[17], 1);
  ASSERT_EQ(read.events.size(), 1U);
  EXPECT_EQ(read.events[0].text, "trigger: R1.trip");
}

TEST_F(Hdf5, IsReadByAnotherProcessWhileItGrows) {
  GrowingHdf5 file(path, two_and_two(0));
  const std::array<double, 4> row{1, 2, 0, 1};
  for (const std::size_t until : {1500U, 4000U}) {
    while (file.rows() < until) file.append(row);
    file.flush();
    const pid_t reader = fork();
    if (reader == 0) {
      bool well = false;
      try {
        well = read_hdf5(path).time_s.size() == until;
      } catch (const Error&) {
      }
      _exit(well ? 0 : 1);
    }
    int status = 0;
    waitpid(reader, &status, 0);
    EXPECT_EQ(status, 0) << until;
  }
}

std::string hdf5_refusal(const std::filesystem::path& path) {
  try {
    (void)read_hdf5(path);
  } catch (const Error& error) {
    return error.what();
  }
  return "read";
}

TEST_F(Hdf5, OfOthersOrDamagedIsRefusedByNameAndReason) {
  EXPECT_NE(hdf5_refusal("/nowhere/x.h5").find("/nowhere/x.h5: cannot be read"), std::string::npos);
  std::ofstream(path) << "no such thing";
  EXPECT_NE(hdf5_refusal(path).find("is no HDF5 file, or a damaged one"), std::string::npos);
  // A place that can't be written.
  EXPECT_THROW(write_hdf5(two_and_two(3), "/proc/x.h5"), Error);
  EXPECT_THROW(GrowingHdf5("/proc/x.h5", two_and_two(0)), Error);
}

TEST_F(Hdf5, WithDamagedBytesIsReadOrRefusedAndNothingElse) {
  write_hdf5(two_and_two(300), path);
  std::string whole;
  {
    std::ifstream in(path, std::ios::binary);
    whole.assign(std::istreambuf_iterator<char>(in), {});
  }
  std::mt19937 random(7);
  int refused = 0;
  for (int round = 0; round < 300; ++round) {
    std::string bytes = whole;
    if (round % 3 == 0) bytes.resize(random() % bytes.size());
    for (int k = 0; k < 4 && !bytes.empty() && round % 3 != 0; ++k)
      bytes[random() % bytes.size()] = static_cast<char>(random());
    std::ofstream(path, std::ios::binary) << bytes;
    // By itself: a fault within the library would end it.
    const pid_t reader = fork();
    if (reader == 0) {
      alarm(20);
      _exit(hdf5_refusal(path) == "read" ? 0 : 1);
    }
    int status = 0;
    waitpid(reader, &status, 0);
    EXPECT_TRUE(WIFEXITED(status)) << round;
    refused += WIFEXITED(status) && WEXITSTATUS(status) == 1 ? 1 : 0;
  }
  EXPECT_GE(refused, 90);
}

}  // namespace
}  // namespace zavrek::record
