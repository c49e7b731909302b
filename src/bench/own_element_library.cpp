// Shared libraries with elements of a user's own (zavrek/element.h).
#include <algorithm>

#include <dlfcn.h>
#include <fmt/format.h>

#include "zavrek/bench/description.hpp"
#include "zavrek/element.h"

namespace zavrek::bench {
namespace {

/// The table of a library as a class.
class LibraryLaw final : public network::OwnLaw {
 public:
  explicit LibraryLaw(const std::filesystem::path& path)
      : handle_(::dlopen(std::filesystem::absolute(path).c_str(), RTLD_NOW | RTLD_LOCAL)) {
    if (handle_ == nullptr) refuse(path, fmt::format("cannot be loaded: {}", ::dlerror()));
    using Entry = const zavrek_element* (*)();
    const auto entry = reinterpret_cast<Entry>(::dlsym(handle_, "zavrek_element_describe"));
    of_ = entry != nullptr ? entry() : nullptr;
    if (const std::string wrong = what_is_wrong(entry != nullptr); !wrong.empty()) {
      ::dlclose(handle_);
      refuse(path, wrong);
    }
  }
  ~LibraryLaw() override { ::dlclose(handle_); }
  [[nodiscard]] int ends() const override { return of_->ends; }
  [[nodiscard]] std::vector<State> states() const override {
    std::vector<State> all;
    for (int k = 0; k < of_->states; ++k)
      all.push_back(
          {text(of_->state ? of_->state[k].name : nullptr), text(of_->state ? of_->state[k].unit : nullptr)});
    return all;
  }
  [[nodiscard]] std::vector<Parameter> parameters() const override {
    std::vector<Parameter> all;
    for (int k = 0; k < of_->parameters; ++k) {
      const zavrek_element_parameter& one = of_->parameter[k];
      all.push_back({text(one.name), text(one.unit), one.start, one.least, one.most, one.changeable != 0});
    }
    return all;
  }
  [[nodiscard]] bool varies() const override { return of_->varies != 0; }
  void conductance(Numbers parameters, double step_s, std::span<double> g) const override {
    of_->conductance(parameters.data(), step_s, g.data());
  }
  void admittance(Numbers parameters, std::complex<double> s, double omega,
                  std::span<std::complex<double>> y) const override {
    std::vector<double> parts(2 * y.size(), 0.0);
    of_->admittance(parameters.data(), s.imag(), omega, parts.data());
    for (std::size_t k = 0; k < y.size(); ++k) y[k] = {parts[k], parts[y.size() + k]};
  }
  void start(Numbers parameters, std::complex<double> s, double omega, Phasors v, Phasors i,
             std::span<double> states) const override {
    if (of_->start == nullptr) return;
    const auto in_parts = [](Phasors phasors) {
      std::vector<double> parts(2 * phasors.size());
      for (std::size_t k = 0; k < phasors.size(); ++k) {
        parts[k] = phasors[k].real();
        parts[phasors.size() + k] = phasors[k].imag();
      }
      return parts;
    };
    of_->start(parameters.data(), s.imag(), omega, in_parts(v).data(), in_parts(i).data(), states.data());
  }
  bool begin(const Span& span, Numbers parameters, Numbers states, Numbers v, Numbers i,
             std::span<double> history, std::span<double> g) const noexcept override {
    const zavrek_element_span told = told_of(span);
    return of_->begin(&told, parameters.data(), states.data(), v.data(), i.data(), history.data(),
                      g.data()) != 0;
  }
  void finish(const Span& span, Numbers parameters, Numbers states, Numbers v, Numbers i,
              std::span<double> at_end) const noexcept override {
    const zavrek_element_span told = told_of(span);
    if (of_->finish != nullptr)
      of_->finish(&told, parameters.data(), states.data(), v.data(), i.data(), at_end.data());
  }

 private:
  [[noreturn]] static void refuse(const std::filesystem::path& path, const std::string& why) {
    throw Error(Flaw{.file = path.string(), .place = {}, .field = {}, .text = why});
  }
  [[nodiscard]] static std::string text(const char* said) {
    return said == nullptr ? std::string() : std::string(said);
  }
  [[nodiscard]] static zavrek_element_span told_of(const Span& span) noexcept {
    return {span.step_s, span.whole ? 1 : 0, span.until_s, span.omega};
  }
  [[nodiscard]] std::string what_is_wrong(bool exported) const {
    if (!exported) return "exports no function zavrek_element_describe (zavrek/element.h)";
    if (of_ == nullptr) return "zavrek_element_describe returns nothing";
    if (of_->version != ZAVREK_ELEMENT_VERSION)
      return fmt::format("is of version {}; {} is wanted", of_->version, ZAVREK_ELEMENT_VERSION);
    if (of_->conductance == nullptr || of_->admittance == nullptr || of_->begin == nullptr)
      return "has no conductance, no admittance or no begin";
    if (of_->states < 0 || of_->parameters < 0 || (of_->parameters > 0 && of_->parameter == nullptr))
      return "has parameters that it does not describe";
    if (of_->states > 0 && (of_->start == nullptr || of_->finish == nullptr))
      return "has states, but no start or no finish";
    return {};
  }
  void* handle_;
  const zavrek_element* of_ = nullptr;
};

/// In place of one that is not run: next to nothing flows.
class NoLaw final : public network::OwnLaw {
  static constexpr double least_S = 1e-9;
  void conductance(Numbers, double, std::span<double> g) const override { g[0] = least_S; }
  void admittance(Numbers, std::complex<double>, double, std::span<std::complex<double>> y) const override {
    y[0] = least_S;
  }
  bool begin(const Span&, Numbers, Numbers, Numbers, Numbers, std::span<double> history,
             std::span<double>) const noexcept override {
    history[0] = 0;
    return false;
  }
};

template <class Give>
void give_laws(network::Network& network, Give&& give) {
  for (network::Element& element : network.elements) {
    auto* own = std::get_if<network::OwnElement>(&element);
    if (own && !own->law) own->law = give(*own);
  }
}

}  // namespace

void open_laws(Setup& setup) {
  give_laws(setup.network, [&](const network::OwnElement& own) -> network::OwnLawSource {
    const auto refuse = [&](const char* field, std::string text) {
      throw Error(
          Flaw{.file = {}, .place = "own_element." + own.name, .field = field, .text = std::move(text)});
    };
    if (own.library.empty()) {
      auto law = setup.own_laws && !own.code.empty() ? setup.own_laws(own) : nullptr;
      if (!law && !own.code.empty()) refuse("code", fmt::format("this program has no law \"{}\"", own.code));
      return law ? network::kept(std::move(law)) : network::OwnLawSource();
    }
    if (setup.bench.libraries != "trusted")
      refuse(
          "library",
          "is asked at every solution of the network, so it runs in the plant's process; let the bench say "
          "libraries = \"trusted\" where you do trust it");
    const std::filesystem::path path = setup.folder / own.library;
    if (!std::filesystem::exists(path))
      refuse("library", fmt::format("{} is not there; build it", path.string()));
    return network::kept(std::make_shared<const LibraryLaw>(path));
  });
}

std::vector<std::string> leave_laws_out(Setup& setup) {
  std::vector<std::string> notes;
  give_laws(setup.network, [&](network::OwnElement& own) -> network::OwnLawSource {
    own.parameters.clear();
    notes.push_back(
        fmt::format("own_element.{}: {} was not run, it stands as if it were not there, and without "
                    "parameters and states; --execute asks it",
                    own.name, own.library.empty() ? own.code : own.library));
    return network::kept(std::make_shared<const NoLaw>());
  });
  return notes;
}

}  // namespace zavrek::bench
