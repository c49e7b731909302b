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
/// Whether partitions with valves are condensed where that helps (compile/condense.hpp).
enum class Condensing : bool { none, where_it_helps };
[[nodiscard]] Compiled compile_parts(const network::Network& network, double step_s,
                                     Condensing condensing = Condensing::where_it_helps);

}  // namespace zavrek::emt::internal
