#pragma once

#include <cstdint>

#include <modbus/modbus.h>

namespace zavrek::wire::internal {

struct FreeMapping {
  void operator()(modbus_mapping_t* mapping) const noexcept { modbus_mapping_free(mapping); }
};
struct FreeContext {
  void operator()(modbus_t* context) const noexcept { modbus_free(context); }
};

/// Registers and counts have the high octet first.
[[nodiscard]] inline unsigned high_first_16(const std::uint8_t* at) {
  return static_cast<unsigned>(at[0]) << 8U | at[1];
}

}  // namespace zavrek::wire::internal
