// Functional Mock-up Interface 3.0 for co-simulation (fmi-standard.org, 2022): names, types and orders of
// arguments are the standard's. What this kind of model does not have answers with an error.
#include <cstdint>
#include <cstring>

#include "exported/fmu.hpp"
#include "model/fmi.hpp"

#define ZAVREK_API extern "C" __attribute__((visibility("default")))

namespace {

using namespace zavrek::fmi3;

using References = const ValueReference*;
using Count = std::size_t;

struct Mock {
  void* environment = nullptr;
  LogMessage message = nullptr;
  std::unique_ptr<zavrek::exported::Fmu> fmu;
};
using Kept = std::vector<std::byte>;

/// Nothing is thrown out of the library.
template <class Body>
Status kept_within(Instance instance, Body&& body) noexcept {
  if (instance == nullptr) return Status::error;
  Mock& mock = *static_cast<Mock*>(instance);
  try {
    return body(mock) ? Status::ok : Status::error;
  } catch (const std::exception& error) {
    (void)mock.fmu->refuse(error.what());
  } catch (...) {
  }
  return Status::fatal;
}
Status missing(Instance instance, const char* what) noexcept {
  return kept_within(instance,
                     [&](Mock& m) { return m.fmu->refuse(std::string(what) + ": this model has none"); });
}
template <class Number>
Status read(Instance instance, References references, Count count, Number* values, Count room) noexcept {
  return kept_within(instance, [&](Mock& m) {
    if (room < count) return m.fmu->refuse("fewer values than value references");
    for (Count k = 0; k < count; ++k) {
      double value = 0;
      if (!m.fmu->get(references[k], value)) return m.fmu->refuse("no such value reference");
      values[k] = static_cast<Number>(value);
    }
    return true;
  });
}
template <class Number>
Status write(Instance instance, References references, Count count, const Number* values,
             Count given) noexcept {
  return kept_within(instance, [&](Mock& m) {
    if (given < count) return m.fmu->refuse("fewer values than value references");
    bool well = true;
    for (Count k = 0; k < count; ++k)
      well = m.fmu->set(references[k], static_cast<double>(values[k])) && well;
    return well;
  });
}

}  // namespace

ZAVREK_API const char* fmi3GetVersion() { return "3.0"; }
ZAVREK_API Status fmi3SetDebugLogging(Instance, bool, Count, const String*) { return Status::ok; }

ZAVREK_API Instance fmi3InstantiateModelExchange(String, String, String, bool, bool, void*, LogMessage) {
  return nullptr;
}
ZAVREK_API Instance fmi3InstantiateScheduledExecution(String, String, String, bool, bool, void*, LogMessage,
                                                      void*, void*, void*) {
  return nullptr;
}
ZAVREK_API Instance fmi3InstantiateCoSimulation(String, String token, String, bool, bool, bool, bool,
                                                References, Count, void* environment, LogMessage message,
                                                void*) {
  auto mock = std::make_unique<Mock>();
  mock->environment = environment;
  mock->message = message;
  const auto log = [m = mock.get()](const char* category, const std::string& text) {
    if (m->message != nullptr) m->message(m->environment, Status::error, category, text.c_str());
  };
  try {
    mock->fmu = std::make_unique<zavrek::exported::Fmu>(token, log);
    return mock.release();
  } catch (const std::exception& error) {
    log("logStatusError", error.what());
    return nullptr;
  }
}
ZAVREK_API void fmi3FreeInstance(Instance instance) { delete static_cast<Mock*>(instance); }

ZAVREK_API Status fmi3EnterInitializationMode(Instance instance, bool, double, double start, bool, double) {
  return kept_within(instance, [&](Mock& m) { return m.fmu->begin_at(start), true; });
}
ZAVREK_API Status fmi3ExitInitializationMode(Instance) { return Status::ok; }
ZAVREK_API Status fmi3EnterEventMode(Instance i) { return missing(i, "event mode"); }
ZAVREK_API Status fmi3EnterStepMode(Instance) { return Status::ok; }
ZAVREK_API Status fmi3EnterConfigurationMode(Instance i) { return missing(i, "configuration mode"); }
ZAVREK_API Status fmi3ExitConfigurationMode(Instance i) { return missing(i, "configuration mode"); }
ZAVREK_API Status fmi3Terminate(Instance) { return Status::ok; }
ZAVREK_API Status fmi3Reset(Instance instance) {
  return kept_within(instance, [](Mock& m) { return m.fmu->reset(); });
}

// NOLINTBEGIN(bugprone-macro-parentheses): a type cannot stand in them
#define ZAVREK_NUMBERS(Name, Type)                                                                 \
  ZAVREK_API Status fmi3Get##Name(Instance i, References r, Count n, Type* v, Count room) {        \
    return read(i, r, n, v, room);                                                                 \
  }                                                                                                \
  ZAVREK_API Status fmi3Set##Name(Instance i, References r, Count n, const Type* v, Count given) { \
    return write(i, r, n, v, given);                                                               \
  }
// NOLINTEND(bugprone-macro-parentheses)
ZAVREK_NUMBERS(Float64, double)
ZAVREK_NUMBERS(Float32, float)
ZAVREK_NUMBERS(Int8, std::int8_t)
ZAVREK_NUMBERS(UInt8, std::uint8_t)
ZAVREK_NUMBERS(Int16, std::int16_t)
ZAVREK_NUMBERS(UInt16, std::uint16_t)
ZAVREK_NUMBERS(Int32, std::int32_t)
ZAVREK_NUMBERS(UInt32, std::uint32_t)
ZAVREK_NUMBERS(Int64, std::int64_t)
ZAVREK_NUMBERS(UInt64, std::uint64_t)
ZAVREK_NUMBERS(Boolean, bool)
ZAVREK_API Status fmi3GetString(Instance i, References, Count, String*, Count) { return missing(i, "texts"); }
ZAVREK_API Status fmi3SetString(Instance i, References, Count, const String*, Count) {
  return missing(i, "texts");
}
ZAVREK_API Status fmi3GetBinary(Instance i, References, Count, Count*, const std::uint8_t**, Count) {
  return missing(i, "binaries");
}
ZAVREK_API Status fmi3SetBinary(Instance i, References, Count, const Count*, const std::uint8_t* const*,
                                Count) {
  return missing(i, "binaries");
}
ZAVREK_API Status fmi3GetClock(Instance i, References, Count, bool*) { return missing(i, "clocks"); }
ZAVREK_API Status fmi3SetClock(Instance i, References, Count, const bool*) { return missing(i, "clocks"); }

ZAVREK_API Status fmi3GetNumberOfVariableDependencies(Instance i, ValueReference, Count*) {
  return missing(i, "listed dependencies");
}
ZAVREK_API Status fmi3GetVariableDependencies(Instance i, ValueReference, Count*, References*, Count*, int*,
                                              Count) {
  return missing(i, "listed dependencies");
}
ZAVREK_API Status fmi3GetFMUState(Instance instance, FmuState* state) {
  return kept_within(instance, [&](Mock& m) {
    if (*state == nullptr) *state = new Kept;
    return m.fmu->save(*static_cast<Kept*>(*state)), true;
  });
}
ZAVREK_API Status fmi3SetFMUState(Instance instance, FmuState state) {
  return kept_within(instance, [&](Mock& m) {
    return state == nullptr ? m.fmu->refuse("no state") : m.fmu->restore(*static_cast<Kept*>(state));
  });
}
ZAVREK_API Status fmi3FreeFMUState(Instance, FmuState* state) {
  if (state == nullptr) return Status::ok;
  delete static_cast<Kept*>(*state);
  *state = nullptr;
  return Status::ok;
}
ZAVREK_API Status fmi3SerializedFMUStateSize(Instance, FmuState state, Count* size) {
  *size = static_cast<Kept*>(state)->size();
  return Status::ok;
}
ZAVREK_API Status fmi3SerializeFMUState(Instance instance, FmuState state, std::uint8_t* bytes, Count size) {
  const Kept& kept = *static_cast<Kept*>(state);
  if (size != kept.size()) return missing(instance, "room for the state");
  std::memcpy(bytes, kept.data(), size);
  return Status::ok;
}
ZAVREK_API Status fmi3DeserializeFMUState(Instance instance, const std::uint8_t* bytes, Count size,
                                          FmuState* state) {
  return kept_within(instance, [&](Mock&) {
    const auto* first = reinterpret_cast<const std::byte*>(bytes);
    if (*state == nullptr) *state = new Kept;
    static_cast<Kept*>(*state)->assign(first, first + size);
    return true;
  });
}
ZAVREK_API Status fmi3GetDirectionalDerivative(Instance i, References, Count, References, Count,
                                               const double*, Count, double*, Count) {
  return missing(i, "directional derivatives");
}
ZAVREK_API Status fmi3GetAdjointDerivative(Instance i, References, Count, References, Count, const double*,
                                           Count, double*, Count) {
  return missing(i, "adjoint derivatives");
}
ZAVREK_API Status fmi3GetIntervalDecimal(Instance i, References, Count, double*, int*) {
  return missing(i, "clocks");
}
ZAVREK_API Status fmi3GetIntervalFraction(Instance i, References, Count, std::uint64_t*, std::uint64_t*,
                                          int*) {
  return missing(i, "clocks");
}
ZAVREK_API Status fmi3GetShiftDecimal(Instance i, References, Count, double*) { return missing(i, "clocks"); }
ZAVREK_API Status fmi3GetShiftFraction(Instance i, References, Count, std::uint64_t*, std::uint64_t*) {
  return missing(i, "clocks");
}
ZAVREK_API Status fmi3SetIntervalDecimal(Instance i, References, Count, const double*) {
  return missing(i, "clocks");
}
ZAVREK_API Status fmi3SetIntervalFraction(Instance i, References, Count, const std::uint64_t*,
                                          const std::uint64_t*) {
  return missing(i, "clocks");
}
ZAVREK_API Status fmi3SetShiftDecimal(Instance i, References, Count, const double*) {
  return missing(i, "clocks");
}
ZAVREK_API Status fmi3SetShiftFraction(Instance i, References, Count, const std::uint64_t*,
                                       const std::uint64_t*) {
  return missing(i, "clocks");
}
ZAVREK_API Status fmi3EvaluateDiscreteStates(Instance i) { return missing(i, "discrete states"); }
ZAVREK_API Status fmi3UpdateDiscreteStates(Instance i, bool*, bool*, bool*, bool*, bool*, double*) {
  return missing(i, "discrete states");
}
ZAVREK_API Status fmi3EnterContinuousTimeMode(Instance i) { return missing(i, "continuous-time mode"); }
ZAVREK_API Status fmi3CompletedIntegratorStep(Instance i, bool, bool*, bool*) {
  return missing(i, "continuous states");
}
ZAVREK_API Status fmi3SetTime(Instance i, double) { return missing(i, "continuous-time mode"); }
ZAVREK_API Status fmi3SetContinuousStates(Instance i, const double*, Count) {
  return missing(i, "continuous states");
}
ZAVREK_API Status fmi3GetContinuousStateDerivatives(Instance i, double*, Count) {
  return missing(i, "continuous states");
}
ZAVREK_API Status fmi3GetEventIndicators(Instance i, double*, Count) {
  return missing(i, "event indicators");
}
ZAVREK_API Status fmi3GetContinuousStates(Instance i, double*, Count) {
  return missing(i, "continuous states");
}
ZAVREK_API Status fmi3GetNominalsOfContinuousStates(Instance i, double*, Count) {
  return missing(i, "continuous states");
}
ZAVREK_API Status fmi3GetNumberOfEventIndicators(Instance i, Count*) {
  return missing(i, "event indicators");
}
ZAVREK_API Status fmi3GetNumberOfContinuousStates(Instance i, Count*) {
  return missing(i, "continuous states");
}
ZAVREK_API Status fmi3GetOutputDerivatives(Instance i, References, Count, const std::int32_t*, double*,
                                           Count) {
  return missing(i, "output derivatives");
}
ZAVREK_API Status fmi3ActivateModelPartition(Instance i, ValueReference, double) {
  return missing(i, "model partitions");
}

ZAVREK_API Status fmi3DoStep(Instance instance, double from, double by, bool, bool* event_needed,
                             bool* terminate, bool* early, double* last_time) {
  *event_needed = *early = *terminate = false;
  return kept_within(instance, [&](Mock& m) {
    const bool well = m.fmu->advance(from, by);
    *last_time = m.fmu->time_s();
    return well;
  });
}
