#pragma once

#include <array>
#include <string>
#include <vector>

#include "emt/assembly.hpp"

namespace zavrek::emt::internal {

/// The ends of the line or cable that `fault` lies on; throws Error when it can have no place along it.
[[nodiscard]] std::array<std::string, 2> ends_of_length(const network::Element* element,
                                                        const network::Fault& fault);

/// Poles between the phases at `place`, open at the start, as one operable named after the fault.
void assemble_fault(const network::Fault& fault, const std::vector<NodeId>& place, const std::string& letters,
                    Assembly& assembly);

}  // namespace zavrek::emt::internal
