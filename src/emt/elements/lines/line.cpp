// Line: its stretches between taps, each as stretch.hpp has it; those that run in a right of way are part of
// that. `NAME.i*` flows into the first end, `NAME.i*_far` into the second.
#include <optional>
#include <utility>

#include "emt/elements/lines/stretch.hpp"

namespace zavrek::emt::internal {

template <>
void assemble(const network::Line& line, Assembly& assembly) {
  const std::string owner = "line." + line.name;
  const std::vector<Tap> stations = assembly.stations(line.name, line.between);
  const std::string letters = assembly.span(owner, line.between).letters;
  // A line that runs in a right of way all along needs no values of its own.
  std::optional<CrossSection> own;
  const auto alone = [&]() -> const CrossSection& {
    if (!own) {
      own.emplace(owner, line_matrices(assembly, owner, letters, values_of(line)), line.length_m,
                  line.geometry.empty()
                      ? nullptr
                      : &geometry_of(assembly, owner, conductor_names(letters), line.geometry),
                  fit_of(line));
    }
    return *own;
  };
  EndCurrents whole;
  for (std::size_t s = 0; s + 1 < stations.size(); ++s) {
    const Tap &from = stations[s], &to = stations[s + 1];
    const StretchCurrents* shared = assembly.shared_stretch(line.name, from.fraction);
    EndCurrents currents =
        shared ? EndCurrents{shared->near, shared->far}
               : alone().add_stretch(assembly, from.nodes, to.nodes, from.fraction, to.fraction);
    if (whole.near.empty()) whole.near = std::move(currents.near);
    whole.far = std::move(currents.far);
  }
  assembly.end_currents(line.name, whole.near, whole.far, letters);
}

}  // namespace zavrek::emt::internal
