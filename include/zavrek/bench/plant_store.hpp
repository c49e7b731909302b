#pragma once

#include <optional>
#include <string>

#include "zavrek/emt.hpp"

namespace zavrek::bench {

/// Compiles a network once for many runs, one after the other in one thread: each gets the plant set back to
/// its start, and gives the same bits as if it had been compiled for it.
class PlantStore {
 public:
  /// The plant of `network` at its start. `name` stands for all of the network but the resistances of its
  /// faults: it is compiled anew when that is another than the last time.
  [[nodiscard]] emt::Plant& at_start(const network::Network& network, const std::string& name);
  /// Of a run that has said what it watches, ahead of its first step: what is gone back to.
  void keep_start();

 private:
  [[nodiscard]] bool set_resistances(const network::Network& network);

  std::string name_;
  std::vector<double> resistances_ohm_;  // of the faults, as compiled or set
  std::optional<emt::Plant> plant_;
  std::optional<emt::PlantState> start_;
};

}  // namespace zavrek::bench
