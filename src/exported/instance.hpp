// A model within an exported library, made from what that carries.
#pragma once

#include <memory>
#include <string>

#include "exported/parts.hpp"
#include "zavrek/model.hpp"

namespace zavrek::exported {

/// What this library carries; read once, from its own file. Throws Error when it is damaged.
[[nodiscard]] const Parts& own_parts();
/// Throws Error.
[[nodiscard]] std::unique_ptr<model::Model> make_model(const Parts& parts);

}  // namespace zavrek::exported
