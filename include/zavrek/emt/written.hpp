#pragma once

#include <string>
#include <vector>

#include "zavrek/emt.hpp"
#include "zavrek/network/written.hpp"

namespace zavrek::emt {

struct WritingOptions {
  std::string name;                  ///< of the model: an identifier of C, that its functions begin with
  std::string title;                 ///< for the comment ahead of it
  std::string header;                ///< the header's file, as the source includes it; NAME.h when empty
  std::vector<std::string> outputs;  ///< signals, and outputs of the control
  const network::WrittenControl* control = nullptr;  ///< taken in; its inputs stand behind the network's
};
using network::WrittenInput;
struct WrittenModel {
  std::string header, source;  ///< NAME.h, NAME.c
  std::vector<WrittenInput> inputs;
  std::vector<std::string> gates;
  double step_s = 0;
};
/// A network as C99 without anything else: its discrete equations, tables with the names of what stands in
/// them, and the step. Its state is one struct, whose copy saves it; a step does bounded work. Throws Error
/// that names what cannot be written so: parts whose equations C does not have (stacks of submodules,
/// elements of one's own), averaged legs, noise, recorded voltages, cuts.
[[nodiscard]] WrittenModel write_c(const network::Network& network, const WritingOptions& options);

}  // namespace zavrek::emt
