#include "trial/case/operations.hpp"

#include <algorithm>
#include <array>
#include <string_view>
#include <utility>

#include <fmt/format.h>

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
  const auto [least, greatest] = exchange.range_of(what);
  if (!(deed.value >= least && deed.value <= greatest)) {
    const std::string unit = exchange.unit_of(what);
    throw Error(fmt::format("{} is set to {} to {}, not to {}", o.set, print_quantity(least, unit),
                            print_quantity(greatest, unit), o.to));
  }
}

}  // namespace

std::vector<Deed> operations(bench::Exchange& exchange, const std::vector<Operation>& operate, double zero_s,
                             const std::string& place) {
  std::vector<Deed> deeds;
  for (const Operation& o : operate) {
    Deed deed = deed_of(o, zero_s + o.at_s);
    try {
      const bench::AskId what = deed.kind == Deed::Kind::fail  ? exchange.gate_of(deed.what)
                                : deed.kind == Deed::Kind::set ? exchange.settable_of(deed.what)
                                                               : exchange.operable_of(deed.what);
      if (deed.kind == Deed::Kind::set) set_value(deed, o, exchange, what);
    } catch (const Error& error) {
      throw Error(Flaw{.file = {}, .place = place, .field = "operate", .text = error.flaws()[0].text});
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

namespace zavrek::trial {

Operation operation_of(const std::string& text) {
  const auto bare = [](std::string_view part) {
    const std::size_t first = part.find_first_not_of(' '), last = part.find_last_not_of(' ');
    return first == std::string_view::npos ? std::string()
                                           : std::string(part.substr(first, last - first + 1));
  };
  const std::size_t colon = text.find(':');
  const auto refuse = [&] {
    throw Error(fmt::format(
        "\"{}\" is no operation; \"0.2 s: open Q1\" or \"0.3 s: load.active = 2 MW\" is wanted", text));
  };
  if (colon == std::string::npos) refuse();
  Operation o;
  o.at_s = parse_quantity_as(bare(std::string_view(text).substr(0, colon)), "s");
  const std::string what = bare(std::string_view(text).substr(colon + 1));
  if (const std::size_t equals = what.find('='); equals != std::string::npos) {
    o.set = bare(std::string_view(what).substr(0, equals));
    o.to = bare(std::string_view(what).substr(equals + 1));
    if (o.set.empty() || o.to.empty()) refuse();
    return o;
  }
  const std::size_t space = what.find(' ');
  if (space == std::string::npos) refuse();
  const std::string verb = what.substr(0, space);
  const std::array<std::pair<std::string_view, std::string Operation::*>, 7> verbs{
      {{"open", &Operation::open},
       {"close", &Operation::close},
       {"shorted", &Operation::shorted},
       {"dead", &Operation::dead},
       {"lost", &Operation::lost},
       {"late", &Operation::late},
       {"restored", &Operation::restored}}};
  const auto found = std::find_if(verbs.begin(), verbs.end(), [&](const auto& v) { return v.first == verb; });
  if (found == verbs.end()) refuse();
  o.*(found->second) = bare(std::string_view(what).substr(space));
  return o;
}

}  // namespace zavrek::trial
