#include <fmt/format.h>

#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/bench/stand_ins.hpp"

namespace zavrek::tool {

int load(const LoadOptions& options) {
  bench::LoadAtBoard load;
  load.board = options.board;
  load.first_voltage = options.first_voltage;
  load.first_current = options.first_current;
  load.phases = options.phases;
  load.resistance_ohm = parse_quantity_as(options.resistance, "ohm");
  load.inductance_H = parse_quantity_as(options.inductance, "H");
  load.capacitance_F = parse_quantity_as(options.capacitance, "F");
  load.rate_Hz = parse_quantity_as(options.rate, "Hz");
  if (!(load.resistance_ohm >= 0 && load.inductance_H >= 0 && load.capacitance_F >= 0) ||
      load.resistance_ohm + load.inductance_H == 0)
    throw Error("a load has a resistance or an inductance above zero");
  if (!(load.rate_Hz >= 100 && load.rate_Hz <= 1e6)) throw Error("--rate: 100 Hz to 1 MHz");
  for (const std::size_t last : {load.first_voltage + load.phases, load.first_current + load.phases}) {
    if (last > card::Board::terminals)
      throw Error(fmt::format("a board has {} terminals of a kind", card::Board::terminals));
  }
  const bench::Account account = bench::run_load(load, stop_on_signal());
  fmt::print("{}\n", bench::to_string(account, 1 / load.rate_Hz));
  return done;
}

}  // namespace zavrek::tool
