// Functional Mock-up Interface 2.0 for co-simulation (fmi-standard.org, 2014): names, types and orders of
// arguments are the standard's.
#include <cstdarg>
#include <cstring>

#include "exported/fmu.hpp"
#include "model/fmi.hpp"

#define ZAVREK_API extern "C" __attribute__((visibility("default")))

namespace {

using namespace zavrek::fmi2;

struct Instance {
  std::string name;
  CallbackFunctions calls{};
  std::unique_ptr<zavrek::exported::Fmu> fmu;
};
using State = std::vector<std::byte>;

Instance& of(Component component) { return *static_cast<Instance*>(component); }

/// Nothing is thrown out of the library.
template <class Body>
Status guarded(Component component, Body&& body) noexcept {
  if (component == nullptr) return Status::error;
  try {
    return body(of(component)) ? Status::ok : Status::error;
  } catch (const std::exception& error) {
    (void)of(component).fmu->refuse(error.what());
  } catch (...) {
  }
  return Status::fatal;
}

template <class Number>
Status get(Component component, const ValueReference* references, std::size_t count,
           Number* values) noexcept {
  return guarded(component, [&](Instance& i) {
    for (std::size_t k = 0; k < count; ++k) {
      double value = 0;
      if (!i.fmu->get(references[k], value)) return i.fmu->refuse("no such value reference");
      values[k] = static_cast<Number>(value);
    }
    return true;
  });
}
template <class Number>
Status set(Component component, const ValueReference* references, std::size_t count,
           const Number* values) noexcept {
  return guarded(component, [&](Instance& i) {
    bool well = true;
    for (std::size_t k = 0; k < count; ++k)
      well = i.fmu->set(references[k], static_cast<double>(values[k])) && well;
    return well;
  });
}
Status refused(Component component, const char* what) noexcept {
  return guarded(component, [&](Instance& i) { return i.fmu->refuse(std::string(what) + " is not there"); });
}

}  // namespace

ZAVREK_API const char* fmi2GetTypesPlatform() { return "default"; }
ZAVREK_API const char* fmi2GetVersion() { return "2.0"; }
ZAVREK_API Status fmi2SetDebugLogging(Component, Boolean, std::size_t, const String*) { return Status::ok; }

ZAVREK_API Component fmi2Instantiate(String name, Type type, String token, String,
                                     const CallbackFunctions* calls, Boolean, Boolean) {
  auto instance = std::make_unique<Instance>();
  Instance* const it = instance.get();
  it->name = name == nullptr ? "" : name;
  if (calls != nullptr) it->calls = *calls;
  const auto log = [it](const char* category, const std::string& text) {
    if (it->calls.logger != nullptr)
      it->calls.logger(it->calls.component_environment, it->name.c_str(), Status::error, category, "%s",
                       text.c_str());
  };
  try {
    if (type != Type::co_simulation) throw zavrek::Error("this model is for co-simulation");
    it->fmu = std::make_unique<zavrek::exported::Fmu>(token, log);
    return instance.release();
  } catch (const std::exception& error) {
    log("logStatusError", error.what());
    return nullptr;
  }
}
ZAVREK_API void fmi2FreeInstance(Component component) { delete static_cast<Instance*>(component); }

ZAVREK_API Status fmi2SetupExperiment(Component component, Boolean, Real, Real start, Boolean, Real) {
  return guarded(component, [&](Instance& i) { return i.fmu->begin_at(start), true; });
}
ZAVREK_API Status fmi2EnterInitializationMode(Component) { return Status::ok; }
ZAVREK_API Status fmi2ExitInitializationMode(Component) { return Status::ok; }
ZAVREK_API Status fmi2Terminate(Component) { return Status::ok; }
ZAVREK_API Status fmi2Reset(Component component) {
  return guarded(component, [](Instance& i) { return i.fmu->reset(); });
}

ZAVREK_API Status fmi2GetReal(Component c, const ValueReference* r, std::size_t n, Real* v) {
  return get(c, r, n, v);
}
ZAVREK_API Status fmi2GetInteger(Component c, const ValueReference* r, std::size_t n, Integer* v) {
  return get(c, r, n, v);
}
ZAVREK_API Status fmi2GetBoolean(Component c, const ValueReference* r, std::size_t n, Boolean* v) {
  return get(c, r, n, v);
}
ZAVREK_API Status fmi2GetString(Component c, const ValueReference*, std::size_t n, String*) {
  return n == 0 ? Status::ok : refused(c, "a text");
}
ZAVREK_API Status fmi2SetReal(Component c, const ValueReference* r, std::size_t n, const Real* v) {
  return set(c, r, n, v);
}
ZAVREK_API Status fmi2SetInteger(Component c, const ValueReference* r, std::size_t n, const Integer* v) {
  return set(c, r, n, v);
}
ZAVREK_API Status fmi2SetBoolean(Component c, const ValueReference* r, std::size_t n, const Boolean* v) {
  return set(c, r, n, v);
}
ZAVREK_API Status fmi2SetString(Component c, const ValueReference*, std::size_t n, const String*) {
  return n == 0 ? Status::ok : refused(c, "a text");
}

ZAVREK_API Status fmi2GetFMUstate(Component component, FmuState* state) {
  return guarded(component, [&](Instance& i) {
    if (*state == nullptr) *state = new State;
    return i.fmu->save(*static_cast<State*>(*state)), true;
  });
}
ZAVREK_API Status fmi2SetFMUstate(Component component, FmuState state) {
  return guarded(component, [&](Instance& i) {
    return state == nullptr ? i.fmu->refuse("no state") : i.fmu->restore(*static_cast<State*>(state));
  });
}
ZAVREK_API Status fmi2FreeFMUstate(Component, FmuState* state) {
  if (state == nullptr) return Status::ok;
  delete static_cast<State*>(*state);
  *state = nullptr;
  return Status::ok;
}
ZAVREK_API Status fmi2SerializedFMUstateSize(Component, FmuState state, std::size_t* size) {
  *size = static_cast<State*>(state)->size();
  return Status::ok;
}
ZAVREK_API Status fmi2SerializeFMUstate(Component component, FmuState state, char* bytes, std::size_t size) {
  const State& kept = *static_cast<State*>(state);
  if (size != kept.size()) return refused(component, "room for the state");
  std::memcpy(bytes, kept.data(), size);
  return Status::ok;
}
ZAVREK_API Status fmi2DeSerializeFMUstate(Component component, const char* bytes, std::size_t size,
                                          FmuState* state) {
  return guarded(component, [&](Instance&) {
    const auto* first = reinterpret_cast<const std::byte*>(bytes);
    if (*state == nullptr) *state = new State;
    static_cast<State*>(*state)->assign(first, first + size);
    return true;
  });
}
ZAVREK_API Status fmi2GetDirectionalDerivative(Component c, const ValueReference*, std::size_t,
                                               const ValueReference*, std::size_t, const Real*, Real*) {
  return refused(c, "a directional derivative");
}
ZAVREK_API Status fmi2SetRealInputDerivatives(Component c, const ValueReference*, std::size_t, const Integer*,
                                              const Real*) {
  return refused(c, "a derivative of an input");
}
ZAVREK_API Status fmi2GetRealOutputDerivatives(Component c, const ValueReference*, std::size_t,
                                               const Integer*, Real*) {
  return refused(c, "a derivative of an output");
}

ZAVREK_API Status fmi2DoStep(Component component, Real from, Real by, Boolean) {
  return guarded(component, [&](Instance& i) { return i.fmu->advance(from, by); });
}
ZAVREK_API Status fmi2CancelStep(Component c) { return refused(c, "a step that could be cancelled"); }
ZAVREK_API Status fmi2GetStatus(Component, StatusKind, Status* value) {
  *value = Status::ok;
  return Status::ok;
}
ZAVREK_API Status fmi2GetRealStatus(Component component, StatusKind, Real* value) {
  return guarded(component, [&](Instance& i) { return *value = i.fmu->time_s(), true; });
}
ZAVREK_API Status fmi2GetIntegerStatus(Component, StatusKind, Integer*) { return Status::discard; }
ZAVREK_API Status fmi2GetBooleanStatus(Component, StatusKind, Boolean* value) {
  *value = 0;
  return Status::ok;
}
ZAVREK_API Status fmi2GetStringStatus(Component, StatusKind, String*) { return Status::discard; }
