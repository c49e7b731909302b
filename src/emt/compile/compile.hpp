// What compiling makes, beside the plant: the parts that it was made of and where their values stand. The
// assembly refers to the network, which must outlive it; its models have moved into the core.
#pragma once

#include <memory>

#include "emt/parts/assembly.hpp"
#include "emt/parts/layout.hpp"
#include "emt/step/core.hpp"

namespace zavrek::emt::internal {

struct Compiled {
  std::unique_ptr<Core> core;
  std::unique_ptr<Assembly> assembly;
  Layout layout;
};
[[nodiscard]] Compiled compile_parts(const network::Network& network, double step_s);

}  // namespace zavrek::emt::internal
