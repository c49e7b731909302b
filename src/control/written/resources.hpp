// What blocks do, as C: pieces/NAME.c defines a function NAME. In them NAME stands for the model's name.
#pragma once

#include <string_view>
#include <utility>
#include <vector>

namespace zavrek::control::internal {

extern const std::vector<std::pair<std::string_view, std::string_view>> bundled_files;

}  // namespace zavrek::control::internal
