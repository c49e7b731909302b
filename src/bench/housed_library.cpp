// A library in a process of its own. Messages over the channel, both ways, one kind byte in front:
//   to the library    'i' period, parameters ...    init
//                     's' time, inputs ...          step
//   from it           'n' texts, ended by zeros: inputs, an empty one, outputs, an empty one, parameters, an
//                         empty one                 what it has, once it is loaded
//                     'd' outputs ...               done
//                     'e' a text                    refused, or failed
// Numbers are doubles of this computer. Nothing that comes from there is believed without a look at its size.
#include <array>
#include <cmath>
#include <cstring>
#include <functional>

#include <fmt/format.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/socket.h>

#include "bench/own_library.hpp"
#include "pace/program.hpp"
#include "zavrek/error.hpp"

namespace zavrek::bench::internal {
namespace {

using pace::internal::Program;

constexpr std::size_t most_message = 65'536;  // bytes

/// A kind and numbers, or a kind and a text, in a buffer that is made once.
class LibraryMessage {
 public:
  std::span<std::byte> room() { return bytes_; }
  [[nodiscard]] std::span<const std::byte> bytes() const { return {bytes_.data(), size}; }
  [[nodiscard]] char kind() const { return size > 0 ? static_cast<char>(bytes_[0]) : '\0'; }
  [[nodiscard]] std::string text() const {
    return size < 1 ? std::string() : std::string(reinterpret_cast<const char*>(bytes_.data()) + 1, size - 1);
  }
  void write(char kind, std::string_view text) {
    bytes_[0] = static_cast<std::byte>(kind);
    size = 1 + std::min(text.size(), bytes_.size() - 1);
    std::memcpy(bytes_.data() + 1, text.data(), size - 1);
  }
  void write(char kind, std::initializer_list<double> first, std::span<const double> others) {
    bytes_[0] = static_cast<std::byte>(kind);
    size = 1;
    for (const double number : first) put(number);
    for (const double number : others) put(number);
  }
  [[nodiscard]] bool read(std::span<double> numbers) const {
    if (size != 1 + numbers.size_bytes()) return false;
    std::memcpy(numbers.data(), bytes_.data() + 1, numbers.size_bytes());
    return true;
  }
  std::size_t size = 0;

 private:
  void put(double number) {
    if (size + sizeof number > bytes_.size()) return;  // names are bounded, so that this cannot be
    std::memcpy(bytes_.data() + size, &number, sizeof number);
    size += sizeof number;
  }
  std::vector<std::byte> bytes_ = std::vector<std::byte>(most_message);
};

// --- in the library's process ----------------------------------------------------------------------

void limit(int what, rlim_t most) {
  const rlimit both{most, most};
  (void)setrlimit(static_cast<__rlimit_resource>(what), &both);
}

void say(int channel, const LibraryMessage& message) {
  (void)!::send(channel, message.bytes().data(), message.size, MSG_NOSIGNAL);
}

void serve_library(int channel, const std::filesystem::path& path,
                   const std::shared_ptr<const UnitFolder>& folder) {
  limit(RLIMIT_CORE, 0);
  limit(RLIMIT_AS, most_library_bytes);
  limit(RLIMIT_FSIZE, most_written_bytes);
  (void)prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
  LibraryMessage message;
  try {
    const std::unique_ptr<control::Own> code = load_library(path, folder);
    std::string names;
    for (const auto& some : {code->inputs(), code->outputs(), code->parameters()}) {
      for (const std::string& name : some) names.append(name).push_back('\0');
      names.push_back('\0');
    }
    message.write('n', names);
    say(channel, message);
    std::vector<double> parameters(1 + code->parameters().size()), inputs(1 + code->inputs().size()),
        outputs(code->outputs().size());
    while (Program::await(channel, message.room(), message.size) == Program::Heard::message) {
      std::string why;
      if (message.kind() == 'i' && message.read(parameters)) {
        code->start(parameters[0], std::span(parameters).subspan(1));
      } else if (message.kind() == 's' && message.read(inputs)) {
        std::fill(outputs.begin(), outputs.end(), std::nan(""));
        why = code->step(inputs[0], std::span(inputs).subspan(1), outputs);
      } else {
        return;
      }
      why.empty() ? message.write('d', {}, outputs) : message.write('e', why);
      say(channel, message);
    }
  } catch (const Error& error) {
    message.write('e', error.flaws().empty() ? error.what() : error.flaws().front().text);
    say(channel, message);
  }
}

// --- in this process -------------------------------------------------------------------------------

class HousedLibrary final : public control::Own {
 public:
  explicit HousedLibrary(const std::filesystem::path& path)
      : path_(path),
        folder_(path.extension() == ".fmu" ? std::make_shared<const UnitFolder>() : nullptr),
        program_([&](int channel) { serve_library(channel, path, folder_); }) {
    if (const std::string wrong = await('n', most_loading_s); !wrong.empty()) refuse(wrong);
    if (!take_names()) refuse("names its inputs and outputs in a way that cannot be");
  }
  [[nodiscard]] std::vector<std::string> inputs() const override { return names_[0]; }
  [[nodiscard]] std::vector<std::string> outputs() const override { return names_[1]; }
  [[nodiscard]] std::vector<std::string> parameters() const override { return names_[2]; }
  void start(double period_s, std::span<const double> parameters) override {
    message_.write('i', {period_s}, parameters);
    (void)program_.send(message_.bytes());
    if (const std::string wrong = await('d', most_loading_s); !wrong.empty()) refuse(wrong);
  }
  std::string step(double time_s, std::span<const double> inputs, std::span<double> outputs) override {
    message_.write('s', {time_s}, inputs);
    (void)program_.send(message_.bytes());
    std::string wrong = await('d', most_step_s);
    if (wrong.empty() && !message_.read(outputs)) wrong = "answered with something that is no answer";
    return wrong;
  }

 private:
  [[noreturn]] void refuse(const std::string& text) const {
    throw Error(Flaw{.file = path_.string(), .place = {}, .field = {}, .text = text});
  }
  /// Waits for a message of that kind; why there is none, or nothing.
  std::string await(char kind, double most_s) {
    switch (program_.receive(message_.room(), message_.size, most_s)) {
      case Program::Heard::silence:
        return fmt::format("did not come back within {:g} s", most_s);
      case Program::Heard::end:
        (void)program_.wait(1);
        return program_.running() ? "closed its channel" : program_.ended();
      case Program::Heard::message:
        break;
    }
    if (message_.kind() == 'e') return message_.text();
    return message_.kind() == kind ? std::string() : "answered with something that is no answer";
  }
  bool take_names() {
    constexpr std::size_t most_names = 4000, most_letters = 200;
    const std::string all = message_.text();
    std::size_t list = 0;
    for (std::size_t at = 0; at < all.size();) {
      const std::size_t end = all.find('\0', at);
      if (end == std::string::npos || list == names_.size() || end - at > most_letters) return false;
      if (end == at) {
        ++list;
      } else {
        names_[list].push_back(all.substr(at, end - at));
        if (names_[list].size() > most_names) return false;
      }
      at = end + 1;
    }
    return list == names_.size();
  }

  std::filesystem::path path_;
  std::shared_ptr<const UnitFolder> folder_;  // removed however its process ends
  Program program_;
  LibraryMessage message_;
  std::array<std::vector<std::string>, 3> names_;  // inputs, outputs, parameters
};

}  // namespace

std::unique_ptr<control::Own> house_library(const std::filesystem::path& path) {
  if (!std::filesystem::exists(path)) return load_library(path);  // which says so
  return std::make_unique<HousedLibrary>(path);
}

}  // namespace zavrek::bench::internal
