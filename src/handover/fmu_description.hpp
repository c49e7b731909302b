// modelDescription.xml of a Functional Mock-up Unit.
#pragma once

#include <string>

#include "zavrek/model.hpp"

namespace zavrek::handover::internal {

struct Described {
  const model::Model& model;
  std::string name;        ///< of the model
  std::string identifier;  ///< of the library's file
  std::string token;
};
/// Version 2.0 or 3.0.
[[nodiscard]] std::string fmu_description(const Described& what, const std::string& version);

}  // namespace zavrek::handover::internal
