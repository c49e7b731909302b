#include "bench/own_library.hpp"

#include <cmath>
#include <csetjmp>
#include <csignal>
#include <cstring>

#include <dlfcn.h>
#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>

#include "zavrek/controller.h"
#include "zavrek/error.hpp"

namespace zavrek::bench::internal {
namespace {

[[noreturn]] void refuse(const std::filesystem::path& path, const std::string& text) {
  throw Error(Flaw{.file = path.string(), .place = {}, .field = {}, .text = text});
}

std::vector<std::string> texts(const char* const* names) {
  std::vector<std::string> all;
  for (; names != nullptr && *names != nullptr; ++names) all.emplace_back(*names);
  return all;
}

/// A step that faults comes back here: its frames are plain C, which has nothing to unwind. What the library
/// did until then cannot be undone, so the run that it belongs to ends; this process lives on.
thread_local sigjmp_buf way_back;
thread_local volatile sig_atomic_t in_step = 0;

void come_back(int number) {
  if (in_step != 0) siglongjmp(way_back, number);
  std::signal(number, SIG_DFL);  // a fault of our own is not to be hidden
}
void catch_faults() {
  struct sigaction action {};
  action.sa_handler = come_back;
  action.sa_flags = SA_NODEFER;
  for (const int number : {SIGSEGV, SIGBUS, SIGFPE, SIGILL}) ::sigaction(number, &action, nullptr);
}

class Library final : public control::Own {
 public:
  explicit Library(const std::filesystem::path& path)
      : handle_(::dlopen(std::filesystem::absolute(path).c_str(), RTLD_NOW | RTLD_LOCAL)) {
    if (handle_ == nullptr) refuse(path, fmt::format("cannot be loaded: {}", ::dlerror()));
    using Entry = const zavrek_controller_code* (*)();
    const auto entry = reinterpret_cast<Entry>(::dlsym(handle_, "zavrek_controller"));
    code_ = entry != nullptr ? entry() : nullptr;
    std::string wrong;
    if (entry == nullptr)
      wrong = "exports no function zavrek_controller (zavrek/controller.h)";
    else if (code_ == nullptr)
      wrong = "zavrek_controller returns nothing";
    else if (code_->version != ZAVREK_CONTROLLER_VERSION)
      wrong = fmt::format("is of version {}; {} is wanted", code_->version, ZAVREK_CONTROLLER_VERSION);
    else if (code_->init == nullptr || code_->step == nullptr)
      wrong = "has no init or no step";
    if (wrong.empty()) {
      catch_faults();
      return;
    }
    ::dlclose(handle_);
    refuse(path, wrong);
  }
  Library(const Library&) = delete;
  Library& operator=(const Library&) = delete;
  ~Library() override {
    if (state_ != nullptr && code_->end != nullptr) code_->end(state_);
    ::dlclose(handle_);
  }
  [[nodiscard]] std::vector<std::string> inputs() const override { return texts(code_->inputs); }
  [[nodiscard]] std::vector<std::string> outputs() const override { return texts(code_->outputs); }
  [[nodiscard]] std::vector<std::string> parameters() const override { return texts(code_->parameters); }
  void start(double period_s, std::span<const double> parameters) override {
    state_ = code_->init(period_s, parameters.data());
    if (state_ == nullptr) throw Error("its init refuses these parameters");
  }
  std::string step(double time_s, std::span<const double> inputs, std::span<double> outputs) override {
    const int fault = sigsetjmp(way_back, 0);
    if (fault != 0) {
      in_step = 0;
      state_ = nullptr;  // not to be ended either
      return fmt::format("crashed ({})", ::strsignal(fault));
    }
    in_step = 1;
    const int code = code_->step(state_, time_s, inputs.data(), outputs.data());
    in_step = 0;
    return code == 0 ? std::string() : fmt::format("its step returned {}", code);
  }

 private:
  void* handle_;
  const zavrek_controller_code* code_ = nullptr;
  void* state_ = nullptr;
};

/// In a process of its own: whether the code survives its beginning. Returns what went wrong, or nothing.
std::string try_out(const std::filesystem::path& path) {
  const pid_t child = ::fork();
  if (child < 0) return {};
  if (child == 0) {
    ::alarm(5);
    try {
      Library library(path);
      for (const int number : {SIGSEGV, SIGBUS, SIGFPE, SIGILL}) std::signal(number, SIG_DFL);
      const std::vector<double> parameters(library.parameters().size(), std::nan("")),
          inputs(library.inputs().size(), 0.0);
      std::vector<double> outputs(library.outputs().size());
      library.start(100e-6, parameters);
      for (int k = 0; k < 10; ++k) (void)library.step(k * 100e-6, inputs, outputs);
    } catch (...) {  // said in full by the process that asks
    }
    ::_exit(0);
  }
  int status = 0;
  while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  if (!WIFSIGNALED(status)) return {};
  const int number = WTERMSIG(status);
  if (number == SIGALRM) return "did not come back within 5 s when it was tried out";
  return fmt::format("crashed when it was tried out ({})", ::strsignal(number));
}

}  // namespace

std::unique_ptr<control::Own> load_library(const std::filesystem::path& path) {
  if (!std::filesystem::exists(path)) refuse(path, "is not there; build it, or mend `library`");
  if (const std::string wrong = try_out(path); !wrong.empty()) refuse(path, wrong);
  return std::make_unique<Library>(path);
}

}  // namespace zavrek::bench::internal
