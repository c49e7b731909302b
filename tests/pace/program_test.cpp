#include "pace/program.hpp"

#include <gtest/gtest.h>

#include <chrono>
#include <csignal>
#include <cstdlib>
#include <filesystem>
#include <fstream>

#include <fcntl.h>
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

TEST(Program, SaysAtItsEndWhatItHadToSay) {
  Program teller({"sh", "-c", "trap 'echo late; exit 0' TERM; echo early; while :; do sleep 0.01; done"},
                 {.heard = true});
  std::string said;
  usleep(100'000);
  said = teller.end();
  EXPECT_EQ(said, "early\nlate\n");
  EXPECT_EQ(teller.end(), "");
  Program done({"echo", "once"}, {.heard = true});
  ASSERT_TRUE(done.wait(enough_s));
  EXPECT_EQ(done.end(), "once\n");
  Program unheard({"echo", "once"}, {});
  EXPECT_EQ(unheard.end(), "");
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

std::span<const std::byte> bytes_of(const std::string& text) { return std::as_bytes(std::span(text)); }

TEST(Program, OfThisProcessAnswersMessages) {
  Program twice([](int channel) {
    std::vector<std::byte> message(100);
    std::size_t size = 0;
    while (Program::await(channel, message, size) == Program::Heard::message)
      (void)!::write(channel, message.data(), size / 2);
  });
  std::vector<std::byte> answer(100);
  std::size_t size = 0;
  for (int k = 0; k < 100; ++k) {
    ASSERT_TRUE(twice.send(bytes_of("four")));
    ASSERT_EQ(twice.receive(answer, size, enough_s), Program::Heard::message);
    EXPECT_EQ(size, 2U);
  }
  EXPECT_EQ(twice.receive(answer, size, 0.01), Program::Heard::silence);
}

/// However code of others ends: this process hears of it and goes on.
TEST(Program, OfThisProcessMayEndInAnyWay) {
  const std::vector<std::pair<std::function<void(int)>, std::string>> ways{
      {[](int) { std::exit(4); }, "its process ended with 0"},  // what an exit says is not believed
      {[](int) { ::_exit(4); }, "its process ended with 4"},
      {[](int) { std::abort(); }, "its process ended: Aborted"},
      {[](int) { ::raise(SIGKILL); }, "its process ended: Killed"},
      {[](int) {}, "its process ended with 0"}};
  for (const auto& [way, says] : ways) {
    Program ended(way);
    std::vector<std::byte> answer(100);
    std::size_t size = 0;
    EXPECT_EQ(ended.receive(answer, size, enough_s), Program::Heard::end) << says;
    ASSERT_TRUE(ended.wait(enough_s));
    EXPECT_EQ(ended.ended(), says);
  }
}

TEST(Program, OfThisProcessThatListensToNothingIsKilled) {
  const auto begun = std::chrono::steady_clock::now();
  {
    Program deaf([](int) {
      for (int number = 1; number < 32; ++number) std::signal(number, SIG_IGN);
      while (true) ::pause();
    });
  }
  EXPECT_LT(std::chrono::steady_clock::now() - begun, std::chrono::seconds(5));
}

TEST(Program, OfThisProcessHasNoneOfItsFiles) {
  const int ours = ::fcntl(STDIN_FILENO, F_DUPFD_CLOEXEC, 10);
  ASSERT_GE(ours, 10);
  Program looks([ours](int) { ::_exit(::fcntl(ours, F_GETFD) == -1 ? 7 : 8); });
  ASSERT_TRUE(looks.wait(enough_s));
  EXPECT_EQ(looks.exit_status(), 7);
  ::close(ours);
}

}  // namespace
}  // namespace zavrek::pace::internal
