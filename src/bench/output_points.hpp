// The outputs of a device, or the entries of a message: points, and what a rise of one opens or closes.
#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/exchange.hpp"

namespace zavrek::bench::internal {

class OutputPoints {
 public:
  /// The points "OWNER.OUTPUT".
  void declare(Exchange& exchange, const std::string& owner, const std::vector<std::string>& outputs);
  /// WHAT opens when that output rises. Throws Error for what cannot be operated, as `wire` does.
  void open_by(Exchange& exchange, const std::string& what, std::size_t output);
  /// "WHAT: OUTPUT" each.
  void wire(Exchange& exchange, const std::vector<std::string>& outputs,
            const std::vector<std::string>& opens, const std::vector<std::string>& closes);
  [[nodiscard]] std::size_t size() const noexcept { return points_.size(); }
  void tell(Exchange& exchange, std::size_t output, bool on) const noexcept;
  /// "Q1, Q2", all that they operate.
  [[nodiscard]] std::string operated(const Exchange& exchange) const;

 private:
  struct Command {
    std::size_t output;
    AskId what;
    bool close;
  };
  std::vector<PointId> points_;
  std::vector<Command> commands_;
};

}  // namespace zavrek::bench::internal
