// A model written out in C, compiled by the compiler of the machine.
#pragma once

#include <dlfcn.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <string>
#include <vector>

#include <gtest/gtest.h>

#include "zavrek/emt/written.hpp"

namespace zavrek::test {

/// Named "it".
inline emt::WrittenModel written_out(const network::Network& network, std::vector<std::string> outputs) {
  return emt::write_c(network, {.name = "it", .title = "a /* test */", .outputs = std::move(outputs)});
}

/// One model in memory of its own.
class Written {
 public:
  explicit Written(emt::WrittenModel model)
      : model_(std::move(model)),
        folder_(std::filesystem::temp_directory_path() /
                ("written-" + std::to_string(::getpid()) + "-" + std::to_string(made_++))) {
    std::filesystem::create_directories(folder_);
    std::ofstream(folder_ / "it.h") << model_.header;
    std::ofstream(folder_ / "it.c") << model_.source << "const unsigned long it_bytes = sizeof(it_model);\n";
    const std::string library = (folder_ / "it.so").string();
    const std::string compile = "cc -std=c99 -pedantic -Wall -Wextra -Werror -O0 -shared -fPIC -o " +
                                library + " " + (folder_ / "it.c").string() + " -lm 2> " +
                                (folder_ / "said").string();
    if (std::system(compile.c_str()) != 0) {
      std::ifstream said(folder_ / "said");
      ADD_FAILURE() << std::string(std::istreambuf_iterator<char>(said), {}).substr(0, 2000);
      return;
    }
    library_ = ::dlopen(library.c_str(), RTLD_NOW | RTLD_LOCAL);
    if (library_ == nullptr) return;
    memory_.resize(*static_cast<unsigned long*>(::dlsym(library_, "it_bytes")) / sizeof(double) + 1);
    call<void(void*)>("it_start")(memory_.data());
  }
  Written(const Written&) = delete;
  Written& operator=(const Written&) = delete;
  ~Written() {
    if (library_ != nullptr) ::dlclose(library_);
    std::filesystem::remove_all(folder_);
  }
  [[nodiscard]] bool stands() const { return library_ != nullptr; }
  [[nodiscard]] int input(const std::string& name) const {
    for (std::size_t k = 0; k < model_.inputs.size(); ++k) {
      if (model_.inputs[k].name == name) return static_cast<int>(k);
    }
    return -1;
  }
  int step() { return call<int(void*)>("it_step")(memory_.data()); }
  int set(const std::string& name, double value) {
    return call<int(void*, int, double)>("it_set")(memory_.data(), input(name), value);
  }
  int fire(int gate, bool on, double at_s) {
    return call<int(void*, int, int, double)>("it_fire")(memory_.data(), gate, on ? 1 : 0, at_s);
  }
  [[nodiscard]] int gate(const std::string& name) const {
    return static_cast<int>(std::find(model_.gates.begin(), model_.gates.end(), name) - model_.gates.begin());
  }
  [[nodiscard]] double get(std::size_t output) {
    return call<double(void*, int)>("it_get")(memory_.data(), static_cast<int>(output));
  }
  [[nodiscard]] std::vector<double> memory() const { return memory_; }
  void remember(const std::vector<double>& kept) { memory_ = kept; }

 private:
  template <class Function>
  [[nodiscard]] Function* call(const char* name) const {
    return reinterpret_cast<Function*>(::dlsym(library_, name));
  }
  static inline int made_ = 0;
  emt::WrittenModel model_;
  std::filesystem::path folder_;
  void* library_ = nullptr;
  std::vector<double> memory_;
};

}  // namespace zavrek::test
