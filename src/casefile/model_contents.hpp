// What the files of a model hold, each read from its text.
#pragma once

#include "casefile/reader.hpp"
#include "zavrek/control.hpp"
#include "zavrek/network.hpp"

namespace zavrek::casefile::internal {

[[nodiscard]] network::Network read_network(Reader& reader);
/// Of a file that holds one geometry alone.
[[nodiscard]] network::LineGeometry read_geometry(Reader& reader);
[[nodiscard]] control::Description read_control(Reader& reader);
/// Adds what a further file of the control says: what has no period of its own has that of its file.
void add(control::Description more, Reader& reader, control::Description& into);

}  // namespace zavrek::casefile::internal
