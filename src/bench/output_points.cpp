#include "bench/output_points.hpp"

#include <algorithm>

#include "bench/names.hpp"

namespace zavrek::bench::internal {

void OutputPoints::declare(Exchange& exchange, const std::string& owner,
                           const std::vector<std::string>& outputs) {
  for (const std::string& output : outputs) points_.push_back(exchange.add_output(owner, output));
}

void OutputPoints::open_by(Exchange& exchange, const std::string& what, std::size_t output) {
  commands_.push_back({output, exchange.ask_of(what), false});
}

void OutputPoints::wire(Exchange& exchange, const std::vector<std::string>& outputs,
                        const std::vector<std::string>& opens, const std::vector<std::string>& closes) {
  for (const auto* list : {&opens, &closes}) {
    for (const std::string& text : *list) {
      const auto [what, output] = split_pair(text);
      const auto at = std::find(outputs.begin(), outputs.end(), output) - outputs.begin();
      commands_.push_back({static_cast<std::size_t>(at), exchange.ask_of(what), list == &closes});
    }
  }
}

void OutputPoints::tell(Exchange& exchange, std::size_t output, bool on) const noexcept {
  if (exchange.on(points_[output]) == on) return;
  exchange.tell(points_[output], on);
  if (!on) return;
  for (const Command& command : commands_) {
    if (command.output == output) exchange.ask(command.what, command.close ? 1 : 0);
  }
}

std::string OutputPoints::operated(const Exchange& exchange) const {
  std::string names;
  for (const Command& command : commands_) {
    if (!names.empty()) names += ", ";
    names += exchange.name_of(command.what);
  }
  return names;
}

}  // namespace zavrek::bench::internal
