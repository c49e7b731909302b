#include "pace/program.hpp"

#include <gtest/gtest.h>

#include <csignal>
#include <filesystem>
#include <fstream>

#include <unistd.h>

#include "zavrek/error.hpp"

namespace zavrek::pace::internal {
namespace {

constexpr double enough_s = 20;

TEST(Program, TellsHowItEnded) {
  Program five({"sh", "-c", "exit 5"}, {});
  ASSERT_TRUE(five.wait(enough_s));
  EXPECT_EQ(five.exit_status(), 5);
  EXPECT_EQ(five.ended(), "its process ended with 5");
  Program killed({"sh", "-c", "kill -9 $$"}, {});
  ASSERT_TRUE(killed.wait(enough_s));
  EXPECT_EQ(killed.exit_status(), std::nullopt);
  EXPECT_EQ(killed.ended(), "its process ended: Killed");
}

TEST(Program, ThatIsNotThereIsAnError) {
  try {
    Program none({"zavrek-no-such-program"}, {});
    FAIL() << "started";
  } catch (const Error& e) {
    EXPECT_STREQ(e.what(), "cannot start \"zavrek-no-such-program\" (No such file or directory)");
  }
}

TEST(Program, TakesItsWordsAsTheyAre) {
  Program same({"test", "`id` $HOME *", "=", "`id` $HOME *"}, {});
  ASSERT_TRUE(same.wait(enough_s));
  EXPECT_EQ(same.exit_status(), 0);
}

TEST(Program, ReadsAllThatItIsFed) {
  const std::string text(3'000'000, 'x');
  Program counting({"sh", "-c", "test $(wc -c) = 3000000"}, {.fed = true});
  EXPECT_TRUE(counting.feed(text, enough_s));
  ASSERT_TRUE(counting.wait(enough_s));
  EXPECT_EQ(counting.exit_status(), 0);
}

TEST(Program, ThatReadsNothingIsNoSignalToThisOne) {
  Program deaf({"sh", "-c", "exec <&-; exit 3"}, {.fed = true});
  EXPECT_FALSE(deaf.feed(std::string(3'000'000, 'x'), enough_s));
  ASSERT_TRUE(deaf.wait(enough_s));
  EXPECT_EQ(deaf.exit_status(), 3);
}

TEST(Program, ThatNeverReadsIsGivenUp) {
  Program asleep({"sleep", "60"}, {.fed = true});
  EXPECT_FALSE(asleep.feed(std::string(3'000'000, 'x'), 0.05));
  EXPECT_FALSE(asleep.wait(0.01));
  EXPECT_TRUE(asleep.running());
}

TEST(Program, EndsWithItsOwnerEvenWhenItWillNot) {
  const auto file = std::filesystem::temp_directory_path() / "zavrek_program_test";
  std::filesystem::remove(file);
  {
    Program stubborn({"sh", "-c", "trap '' TERM; echo $$ > " + file.string() + "; while :; do sleep 1; done"},
                     {});
    for (int k = 0; k < 2000 && !(std::filesystem::exists(file) && std::filesystem::file_size(file) > 0); ++k)
      usleep(1000);
  }
  pid_t pid = 0;
  std::ifstream(file) >> pid;
  ASSERT_GT(pid, 0);
  EXPECT_NE(kill(pid, 0), 0);
  std::filesystem::remove(file);
}

TEST(Program, IsInAGroupOfItsOwn) {
  Program alone({"sh", "-c", "test $(ps -o pgid= -p $$ 2>/dev/null || cut -d' ' -f5 /proc/$$/stat) = $$"},
                {});
  ASSERT_TRUE(alone.wait(enough_s));
  EXPECT_EQ(alone.exit_status(), 0);
}

}  // namespace
}  // namespace zavrek::pace::internal
