// Types of the Functional Mock-up Interface as its standards have them (fmi-standard.org: 2.0 of 2014, 3.0 of
// 2022): what crosses between a unit and who drives it.
#pragma once

#include <cstddef>
#include <cstdint>

namespace zavrek::fmi2 {

using Component = void*;
using FmuState = void*;
using ValueReference = unsigned int;
using Real = double;
using Integer = int;
using Boolean = int;
using String = const char*;
enum class Status : int { ok, warning, discard, error, fatal, pending };
enum class Type : int { model_exchange, co_simulation };
enum class StatusKind : int { do_step_status, pending_status, last_successful_time, terminated };
struct CallbackFunctions {
  void (*logger)(void*, String, Status, String, String, ...);
  void* (*allocate_memory)(std::size_t, std::size_t);
  void (*free_memory)(void*);
  void (*step_finished)(void*, Status);
  void* component_environment;
};

}  // namespace zavrek::fmi2

namespace zavrek::fmi3 {

using Instance = void*;
using FmuState = void*;
using ValueReference = std::uint32_t;
using String = const char*;
enum class Status : int { ok, warning, discard, error, fatal };
using LogMessage = void (*)(void*, Status, String, String);

}  // namespace zavrek::fmi3
