#include "bench/own_library.hpp"

#include <dlfcn.h>
#include <fmt/format.h>

#include "zavrek/controller.h"
#include "zavrek/error.hpp"

namespace zavrek::bench::internal {
namespace {

[[noreturn]] void refuse_library(const std::filesystem::path& path, const std::string& text) {
  throw Error(Flaw{.file = path.string(), .place = {}, .field = {}, .text = text});
}

std::vector<std::string> texts(const char* const* names) {
  std::vector<std::string> all;
  for (; names != nullptr && *names != nullptr; ++names) all.emplace_back(*names);
  return all;
}

class Library final : public control::Own {
 public:
  explicit Library(const std::filesystem::path& path)
      : handle_(::dlopen(std::filesystem::absolute(path).c_str(), RTLD_NOW | RTLD_LOCAL)) {
    if (handle_ == nullptr) refuse_library(path, fmt::format("cannot be loaded: {}", ::dlerror()));
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
    if (wrong.empty()) return;
    ::dlclose(handle_);
    refuse_library(path, wrong);
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
    const int code = code_->step(state_, time_s, inputs.data(), outputs.data());
    return code == 0 ? std::string() : fmt::format("its step returned {}", code);
  }

 private:
  void* handle_;
  const zavrek_controller_code* code_ = nullptr;
  void* state_ = nullptr;
};

}  // namespace

std::unique_ptr<control::Own> load_library(const std::filesystem::path& path,
                                           std::shared_ptr<const UnitFolder> folder) {
  if (!std::filesystem::exists(path)) refuse_library(path, "is not there; build it, or mend `library`");
  if (path.extension() == ".fmu")
    return load_unit(path, folder ? std::move(folder) : std::make_shared<const UnitFolder>());
  return std::make_unique<Library>(path);
}

}  // namespace zavrek::bench::internal
