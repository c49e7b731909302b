// A co-simulation unit of the Functional Mock-up Interface, 2.0 or 3.0, as control. Its instants are the
// block's: at each it has first gone through the period before, with the inputs that stood at its beginning;
// so what it gives depends on nothing later.
#include "bench/co_simulation_unit.hpp"

#include <array>
#include <cmath>
#include <cstdarg>
#include <cstdlib>

#include <dlfcn.h>
#include <fmt/format.h>
#include <pugixml.hpp>

#include "model/fmi.hpp"
#include "record/archive_file.hpp"
#include "zavrek/error.hpp"
#include "zavrek/record.hpp"

namespace zavrek::bench::internal {
namespace {

namespace fs = std::filesystem;

std::string& said() {
  static std::string latest;
  return latest;
}
void hear2(void*, fmi2::String, fmi2::Status, fmi2::String, fmi2::String form, ...) {
  std::array<char, 400> text{};
  va_list words;
  va_start(words, form);
  (void)std::vsnprintf(text.data(), text.size(), form, words);
  va_end(words);
  said() = text.data();
}
void hear3(void*, fmi3::Status, fmi3::String, fmi3::String text) { said() = text == nullptr ? "" : text; }

class CoSimulationUnit final : public control::Own {
 public:
  CoSimulationUnit(const fs::path& path, std::shared_ptr<const UnitFolder> folder)
      : kept_(std::move(folder)), folder_(kept_->path()) {
    const auto files =
        record::internal::unpacked(record::read_file(path), record::internal::Packing::zip, path.string());
    const auto described = files.find("modelDescription.xml");
    if (described == files.end()) throw Error("has no modelDescription.xml");
    unit_ = read_unit_description(described->second);
    write_files(files);
    const fs::path library =
        folder_ / "binaries" / (unit_.third() ? "x86_64-linux" : "linux64") / (unit_.identifier + ".so");
    if (!fs::exists(library))
      throw Error(
          fmt::format("has no binaries/{}", library.lexically_relative(folder_ / "binaries").string()));
    handle_ = ::dlopen(library.c_str(), RTLD_NOW | RTLD_LOCAL);
    if (handle_ == nullptr) throw Error(fmt::format("cannot be loaded: {}", ::dlerror()));
    for (const UnitVariable& one : unit_.variables) {
      if (one.causality == "input") inputs_.push_back(&one);
      if (one.causality == "output") outputs_.push_back(&one);
      if (one.causality == "parameter") parameters_.push_back(&one);
    }
  }
  CoSimulationUnit(const CoSimulationUnit&) = delete;
  CoSimulationUnit& operator=(const CoSimulationUnit&) = delete;
  ~CoSimulationUnit() override {
    if (instance_ != nullptr) {
      unit_.third() ? (void)call<fmi3::Status(void*)>("Terminate")(instance_)
                    : (void)call<fmi2::Status(void*)>("Terminate")(instance_);
      call<void(void*)>("FreeInstance")(instance_);
    }
    if (handle_ != nullptr) ::dlclose(handle_);
  }
  [[nodiscard]] std::vector<std::string> inputs() const override { return names(inputs_); }
  [[nodiscard]] std::vector<std::string> outputs() const override { return names(outputs_); }
  [[nodiscard]] std::vector<std::string> parameters() const override { return names(parameters_); }

  void start(double period_s, std::span<const double> parameters) override {
    period_s_ = period_s;
    held_.assign(inputs_.size(), 0);
    instantiate();
    for (std::size_t k = 0; k < parameters_.size(); ++k) {
      if (!std::isnan(parameters[k])) set(*parameters_[k], parameters[k]);
    }
    if (unit_.third()) {
      well(call<int(void*, bool, double, double, bool, double)>("EnterInitializationMode")(instance_, false,
                                                                                           0, 0, false, 0),
           "EnterInitializationMode");
    } else {
      well(call<int(void*, int, double, double, int, double)>("SetupExperiment")(instance_, 0, 0, 0, 0, 0),
           "SetupExperiment");
      well(call<int(void*)>("EnterInitializationMode")(instance_), "EnterInitializationMode");
    }
  }
  std::string step(double time_s, std::span<const double> inputs, std::span<double> outputs) override {
    try {
      if (initialising_) {
        for (std::size_t k = 0; k < inputs_.size(); ++k) set(*inputs_[k], inputs[k]);
        well(call<int(void*)>("ExitInitializationMode")(instance_), "ExitInitializationMode");
        initialising_ = false;
      } else {
        for (std::size_t k = 0; k < inputs_.size(); ++k) set(*inputs_[k], held_[k]);
        advance(time_s - period_s_);
      }
      held_.assign(inputs.begin(), inputs.end());
      for (std::size_t k = 0; k < outputs_.size(); ++k) outputs[k] = get(*outputs_[k]);
    } catch (const Error& error) {
      return error.what();
    }
    return {};
  }

 private:
  static std::vector<std::string> names(const std::vector<const UnitVariable*>& variables) {
    std::vector<std::string> all;
    for (const UnitVariable* one : variables) all.push_back(one->name);
    return all;
  }
  void write_files(const std::map<std::string, std::string>& files) const {
    for (const auto& [name, content] : files) {
      fs::create_directories((folder_ / name).parent_path());
      record::write_file(folder_ / name, content);
    }
    fs::create_directories(folder_ / "resources");
  }
  /// A function of its library, by the standard's name without its prefix.
  template <class Function>
  [[nodiscard]] Function* call(const std::string& name) const {
    const std::string full = (unit_.third() ? "fmi3" : "fmi2") + name;
    void* found = ::dlsym(handle_, full.c_str());
    if (found == nullptr) throw Error("has no " + full);
    return reinterpret_cast<Function*>(found);
  }
  void well(int status, const std::string& what) const {
    if (status > 1)
      throw Error(
          fmt::format("{} went wrong (status {}){}{}", what, status, said().empty() ? "" : ": ", said()));
  }
  void instantiate() {
    said().clear();
    const std::string resources = folder_ / "resources";
    if (unit_.third()) {
      using Make = void*(const char*, const char*, const char*, bool, bool, bool, bool, const unsigned*,
                         std::size_t, void*, fmi3::LogMessage, void*);
      instance_ = call<Make>("InstantiateCoSimulation")("zavrek", unit_.token.c_str(),
                                                        (resources + "/").c_str(), false, false, false, false,
                                                        nullptr, 0, nullptr, hear3, nullptr);
    } else {
      using Make =
          void*(const char*, int, const char*, const char*, const fmi2::CallbackFunctions*, int, int);
      callbacks_ = {hear2, std::calloc, std::free, nullptr, nullptr};
      instance_ =
          call<Make>("Instantiate")("zavrek", static_cast<int>(fmi2::Type::co_simulation),
                                    unit_.token.c_str(), ("file://" + resources).c_str(), &callbacks_, 0, 0);
    }
    if (instance_ == nullptr)
      throw Error(fmt::format("gives no instance{}{}", said().empty() ? "" : ": ", said()));
  }
  void advance(double from_s) {
    if (!unit_.third())
      return well(call<int(void*, double, double, int)>("DoStep")(instance_, from_s, period_s_, 1), "DoStep");
    bool event = false, ends = false, early = false;
    double last = 0;
    using Step = int(void*, double, double, bool, bool*, bool*, bool*, double*);
    well(call<Step>("DoStep")(instance_, from_s, period_s_, true, &event, &ends, &early, &last), "DoStep");
    if (ends) throw Error("wants to end");
  }
  /// Calls with the value in the type of the variable.
  template <class Number>
  void put(const UnitVariable& one, double value) {
    const auto typed = static_cast<Number>(value);
    if (unit_.third())
      well(call<int(void*, const unsigned*, std::size_t, const Number*, std::size_t)>("Set" + one.type)(
               instance_, &one.reference, 1, &typed, 1),
           one.name);
    else
      well(call<int(void*, const unsigned*, std::size_t, const Number*)>("Set" + one.type)(
               instance_, &one.reference, 1, &typed),
           one.name);
  }
  template <class Number>
  [[nodiscard]] double take(const UnitVariable& one) {
    Number typed{};
    if (unit_.third())
      well(call<int(void*, const unsigned*, std::size_t, Number*, std::size_t)>("Get" + one.type)(
               instance_, &one.reference, 1, &typed, 1),
           one.name);
    else
      well(call<int(void*, const unsigned*, std::size_t, Number*)>("Get" + one.type)(
               instance_, &one.reference, 1, &typed),
           one.name);
    return static_cast<double>(typed);
  }
  /// visit(number of the type that the standard gives the name to).
  template <class Visit>
  auto typed(const UnitVariable& one, Visit&& visit) {
    const std::string& t = one.type;
    if (t == "Real" || t == "Float64") return visit(double{});
    if (t == "Float32") return visit(float{});
    if (t == "Boolean") return unit_.third() ? visit(bool{}) : visit(int{});
    if (t == "Integer" || t == "Int32") return visit(std::int32_t{});
    if (t == "UInt32") return visit(std::uint32_t{});
    if (t == "Int8") return visit(std::int8_t{});
    if (t == "UInt8") return visit(std::uint8_t{});
    if (t == "Int16") return visit(std::int16_t{});
    if (t == "UInt16") return visit(std::uint16_t{});
    if (t == "Int64") return visit(std::int64_t{});
    if (t == "UInt64") return visit(std::uint64_t{});
    throw Error(
        fmt::format("{} is of a type \"{}\" that is not known", one.name, record::internal::printable(t)));
  }
  void set(const UnitVariable& one, double value) {
    if (one.type == "Boolean") value = value > 0.5 ? 1 : 0;
    typed(one, [&](auto number) { put<decltype(number)>(one, value); });
  }
  double get(const UnitVariable& one) {
    return typed(one, [&](auto number) { return take<decltype(number)>(one); });
  }

  std::shared_ptr<const UnitFolder> kept_;
  fs::path folder_;
  UnitDescription unit_;
  std::vector<const UnitVariable*> inputs_, outputs_, parameters_;
  void* handle_ = nullptr;
  void* instance_ = nullptr;
  fmi2::CallbackFunctions callbacks_{};
  std::vector<double> held_;  // inputs at the latest instant
  double period_s_ = 0;
  bool initialising_ = true;
};

}  // namespace

UnitDescription read_unit_description(const std::string& text) {
  pugi::xml_document document;
  if (const auto parsed = document.load_string(text.c_str()); !parsed)
    throw Error(fmt::format("its modelDescription.xml is no XML: {}", parsed.description()));
  const pugi::xml_node root = document.child("fmiModelDescription");
  UnitDescription unit;
  unit.version = root.attribute("fmiVersion").value();
  if (unit.version != "2.0" && unit.version != "3.0")
    throw Error(fmt::format("is of version \"{}\" of the interface; 2.0 or 3.0 is wanted",
                            record::internal::printable(unit.version)));
  unit.token = root.attribute(unit.third() ? "instantiationToken" : "guid").value();
  unit.identifier = root.child("CoSimulation").attribute("modelIdentifier").value();
  if (unit.identifier.empty()) throw Error("is not for co-simulation");
  if (!record::internal::stays_inside(unit.identifier) || unit.identifier.find('/') != std::string::npos)
    throw Error("names a library that cannot be");
  for (const pugi::xml_node node : root.child("ModelVariables")) {
    const pugi::xml_node type = unit.third() ? node : node.first_child();
    std::string kind = type.name();
    if (kind == "String" || kind == "Binary" || kind == "Clock" || node.attribute("causality").empty())
      continue;
    if (kind == "Enumeration") kind = unit.third() ? "Int64" : "Integer";
    unit.variables.push_back({node.attribute("name").value(), node.attribute("causality").value(), kind,
                              node.attribute("valueReference").as_uint()});
  }
  return unit;
}

UnitFolder::UnitFolder() {
  std::string name = (fs::temp_directory_path() / "zavrek-unit-XXXXXX").string();
  if (::mkdtemp(name.data()) == nullptr) throw Error("no folder for the files of a unit: " + name);
  path_ = name;
}
UnitFolder::~UnitFolder() {
  std::error_code ignored;
  fs::remove_all(path_, ignored);
}

std::unique_ptr<control::Own> load_unit(const fs::path& path, std::shared_ptr<const UnitFolder> folder) {
  try {
    return std::make_unique<CoSimulationUnit>(path, std::move(folder));
  } catch (const Error& error) {
    throw Error(Flaw{.file = path.string(),
                     .place = {},
                     .field = {},
                     .text = error.flaws().empty() ? error.what() : error.flaws().front().text});
  }
}

}  // namespace zavrek::bench::internal
