#include "trial/case/operations.hpp"

#include <array>
#include <utility>

namespace zavrek::trial::internal {
namespace {

using bench::Deed;

Deed deed_of(const Operation& o, double at_s) {
  Deed deed{.at_s = at_s};
  const std::array<std::pair<const std::string*, emt::Failure>, 5> failures{
      {{&o.shorted, emt::Failure::shorted},
       {&o.dead, emt::Failure::dead},
       {&o.lost, emt::Failure::lost},
       {&o.late, emt::Failure::late},
       {&o.restored, emt::Failure::none}}};
  for (const auto& [gate, how] : failures) {
    if (gate->empty()) continue;
    deed.kind = Deed::Kind::fail;
    deed.what = *gate;
    deed.how = how;
    deed.value = o.by_s;
    return deed;
  }
  deed.kind = !o.set.empty() ? Deed::Kind::set : !o.close.empty() ? Deed::Kind::close : Deed::Kind::open;
  deed.what = !o.set.empty() ? o.set : !o.close.empty() ? o.close : o.open;
  return deed;
}

void set_value(Deed& deed, const Operation& o, const bench::Exchange& exchange, bench::AskId what) {
  deed.value = parse_quantity_as(o.to, exchange.unit_of(what));
  if (exchange.is_contact(what) && deed.value != 0 && deed.value != 1)
    throw Error("a contact is set to 0 (open) or 1 (closed), not to " + o.to);
}

}  // namespace

std::vector<Deed> operations(bench::Exchange& exchange, const Trial& trial, double zero_s) {
  std::vector<Deed> deeds;
  for (const Operation& o : trial.operate) {
    Deed deed = deed_of(o, zero_s + o.at_s);
    try {
      const bench::AskId what = deed.kind == Deed::Kind::fail  ? exchange.gate_of(deed.what)
                                : deed.kind == Deed::Kind::set ? exchange.settable_of(deed.what)
                                                               : exchange.operable_of(deed.what);
      if (deed.kind == Deed::Kind::set) set_value(deed, o, exchange, what);
    } catch (const Error& error) {
      throw Error(Flaw{.file = {},
                       .place = "trial \"" + trial.name + "\"",
                       .field = "operate",
                       .text = error.flaws()[0].text});
    }
    deeds.push_back(std::move(deed));
  }
  return deeds;
}

std::vector<Deed> fault_deeds(const Trial& trial, double inception_s) {
  std::vector<Deed> deeds;
  for (const emt::ScheduledCommand& command : fault_commands(trial, inception_s))
    deeds.push_back({.at_s = command.at_s,
                     .kind = command.close ? Deed::Kind::close : Deed::Kind::open,
                     .what = command.operable});
  return deeds;
}

}  // namespace zavrek::trial::internal
