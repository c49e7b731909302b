#include "trial/child_process.hpp"

#include <cerrno>
#include <csignal>
#include <cstring>

#include <fcntl.h>
#include <fmt/format.h>
#include <sched.h>
#include <spawn.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include "zavrek/error.hpp"

namespace zavrek::trial::internal {
namespace {

void avoid_last_processor() {
  cpu_set_t allowed;
  if (sched_getaffinity(0, sizeof allowed, &allowed) != 0 || CPU_COUNT(&allowed) < 2) return;
  for (int k = CPU_SETSIZE - 1; k >= 0; --k) {
    if (!CPU_ISSET(k, &allowed)) continue;
    CPU_CLR(k, &allowed);
    break;
  }
  (void)sched_setaffinity(0, sizeof allowed, &allowed);
}

}  // namespace

ChildProcess::ChildProcess(const std::filesystem::path& program, const std::vector<std::string>& arguments) {
  std::vector<std::string> words{program.string()};
  words.insert(words.end(), arguments.begin(), arguments.end());
  std::vector<char*> argv;
  for (std::string& word : words) argv.push_back(word.data());
  argv.push_back(nullptr);
  if (access(words[0].c_str(), X_OK) != 0) {
    throw Error(fmt::format("cannot start \"{}\" ({})", words[0], std::strerror(errno)));
  }
  const pid_t parent = getpid();
  pid_ = fork();
  if (pid_ < 0) throw Error(fmt::format("cannot start \"{}\" ({})", words[0], std::strerror(errno)));
  if (pid_ > 0) return;
  // In the child: only calls that are safe between fork and exec.
  prctl(PR_SET_PDEATHSIG, SIGTERM);  // it must not outlive the run
  if (getppid() != parent) _exit(127);
  avoid_last_processor();
  const int nowhere = open("/dev/null", O_RDWR);
  dup2(nowhere, STDIN_FILENO);
  dup2(nowhere, STDOUT_FILENO);
  execv(argv[0], argv.data());
  _exit(127);
}

bool ChildProcess::running() {
  if (pid_ <= 0) return false;
  if (waitpid(pid_, &status_, WNOHANG) != pid_) return true;
  pid_ = -1;
  return false;
}

std::string ChildProcess::ended() const {
  if (WIFSIGNALED(status_)) return fmt::format("its process ended: {}", strsignal(WTERMSIG(status_)));
  return fmt::format("its process ended with {}", WEXITSTATUS(status_));
}

ChildProcess::~ChildProcess() {
  if (pid_ <= 0) return;
  kill(pid_, SIGTERM);
  for (int tries = 0; tries < 50; ++tries) {
    if (!running()) return;
    usleep(10'000);
  }
  kill(pid_, SIGKILL);
  waitpid(pid_, nullptr, 0);
}

}  // namespace zavrek::trial::internal
