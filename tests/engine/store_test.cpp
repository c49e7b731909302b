// What an engine keeps on the disk, and how often somebody may ask.
#include <gtest/gtest.h>

#include <thread>

#include <unistd.h>

#include "engine/rates.hpp"
#include "engine/store.hpp"
#include "zavrek/error.hpp"
#include "zavrek/record.hpp"

namespace zavrek::engine {
namespace {

namespace fs = std::filesystem;
using internal::Store;

struct StoreTest : testing::Test {
  fs::path folder = fs::path(testing::TempDir()) / ("store" + std::to_string(getpid()));
  StoreTest() { fs::remove_all(folder); }
  ~StoreTest() override { fs::remove_all(folder); }
};

TEST_F(StoreTest, CountsAResultOnceItIsWhole) {
  std::string begun, finished;
  {
    Store store(folder);
    begun = store.begin_result();
    finished = store.begin_result();
    EXPECT_NE(begun, finished);
    record::write_file(store.result_folder(begun) / "run.cfg", "half");
    store.finish_result(finished, {{"kind", "run"}, {"case", "veskar"}});
    EXPECT_EQ(store.results().size(), 1U);
    EXPECT_TRUE(store.result(begun).is_null());
    EXPECT_FALSE(store.is_result(begun));
    EXPECT_EQ(store.result(finished)["id"], finished);
    for (const char* id : {"", "..", "../cases", "00000a", "0000001"})
      EXPECT_TRUE(store.result(id).is_null()) << id;
  }
  // The next engine finds it, and numbers on behind both.
  Store next(folder);
  ASSERT_EQ(next.results().size(), 1U);
  EXPECT_EQ(next.results()[0]["case"], "veskar");
  EXPECT_GT(next.begin_result(), finished);
  // Damage of a result hides that one alone.
  record::write_file(next.result_folder(finished) / "result.json", "{ \"kind\":");
  EXPECT_TRUE(next.results().empty());
}

TEST_F(StoreTest, IsOneEnginesAlone) {
  const Store store(folder);
  EXPECT_THROW(Store second(folder), Error);
}

TEST_F(StoreTest, ForgetsWhatWasNeverWholeAndTheOldest) {
  fs::create_directories(folder / "cases" / ".new-1234" / "files");
  Store store(folder);
  EXPECT_FALSE(fs::exists(folder / "cases" / ".new-1234"));
  fs::create_directories(store.case_folder("small"));
  EXPECT_TRUE(store.cases().empty()) << "no note, no case";
  store.note_case("small", {{"folder", "small"}});
  EXPECT_EQ(store.cases(), std::vector<std::string>{"small"});
  EXPECT_EQ(store.case_note("small")["folder"], "small");
  store.forget_case("small");
  EXPECT_TRUE(store.cases().empty());
  for (std::size_t k = 0; k < Store::most_results + 3; ++k) {
    const std::string id = store.begin_result();
    if (k < 5 || k + 3 > Store::most_results) store.finish_result(id, {{"kind", "run"}});
  }
  EXPECT_FALSE(fs::exists(store.result_folder("000001")));
  EXPECT_FALSE(fs::exists(store.result_folder("000003")));
  EXPECT_TRUE(store.is_result("000004"));
}

TEST_F(StoreTest, WritesFilesWholeOrNotAtAll) {
  fs::create_directories(folder);
  internal::write_whole(folder / "a.json", "first");
  internal::write_whole(folder / "a.json", "second");
  EXPECT_EQ(record::read_file(folder / "a.json"), "second");
  EXPECT_FALSE(fs::exists(folder / "a.json.part"));
  EXPECT_THROW(internal::write_whole(folder / "none" / "a.json", "x"), Error);
}

TEST(Rates, LetABurstThroughAndThenSoManyASecond) {
  internal::Rates rates;
  int taken = 0;
  const auto begun = std::chrono::steady_clock::now();
  for (int k = 0; k < 20'000; ++k) taken += rates.takes("10.0.0.1") ? 1 : 0;
  const double spent_s = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
  EXPECT_GE(taken, 4000);
  EXPECT_LE(taken, 4001 + 2000 * spent_s);
  EXPECT_TRUE(rates.takes("10.0.0.2")) << "another address is another matter";
  std::this_thread::sleep_for(std::chrono::milliseconds(20));
  EXPECT_TRUE(rates.takes("10.0.0.1"));
}

}  // namespace
}  // namespace zavrek::engine
