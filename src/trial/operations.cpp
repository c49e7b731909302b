#include "trial/operations.hpp"

#include <algorithm>

namespace zavrek::trial::internal {
namespace {

emt::Command failure_of(const Operation& o, double at_s) {
  emt::Command command{at_s, {}, false};
  const auto fails = [&](const std::string& gate, emt::Failure how) {
    if (gate.empty()) return;
    command.fails = gate;
    command.how = how;
  };
  fails(o.shorted, emt::Failure::shorted);
  fails(o.dead, emt::Failure::dead);
  fails(o.lost, emt::Failure::lost);
  fails(o.late, emt::Failure::late);
  fails(o.restored, emt::Failure::none);
  command.value = o.by_s;
  return command;
}

/// Throws Error for a contact that the bench does not have, or a value other than 0 and 1.
ContactTurn contact_turn(const Bench& bench, const Operation& o, double at_s) {
  const std::vector<std::string> contacts = contacts_of(bench);
  const auto found = std::find(contacts.begin(), contacts.end(), o.set);
  if (found == contacts.end()) throw Error("no contact \"" + o.set + "\"" + suggestion(o.set, contacts));
  const double value = parse_quantity_as(o.to, "");
  if (value != 0 && value != 1) throw Error("a contact is set to 0 (open) or 1 (closed), not to " + o.to);
  return {at_s, static_cast<std::size_t>(found - contacts.begin()), value == 1};
}

}  // namespace

Operations operations(const emt::Plant& plant, const control::Controller* controller, const Bench& bench,
                      const Trial& trial, double zero_s) {
  Operations all;
  for (const Operation& o : trial.operate) {
    const double at = zero_s + o.at_s;
    emt::Command command = failure_of(o, at);
    try {
      if (!command.fails.empty()) {
        (void)plant.gate(command.fails);
      } else if (o.set.starts_with(contact_prefix)) {
        all.contacts.push_back(contact_turn(bench, o, at));
        continue;
      } else if (o.set.empty()) {
        command.operable = o.open.empty() ? o.close : o.open;
        command.close = !o.close.empty();
        (void)plant.operable(command.operable);
      } else {
        const std::vector<std::string> knobs = plant.knob_names();
        if (controller != nullptr && std::find(knobs.begin(), knobs.end(), o.set) == knobs.end()) {
          const std::size_t parameter = controller->parameter(o.set);
          all.turns.push_back({at, parameter, parse_quantity_as(o.to, controller->unit(parameter))});
          continue;
        }
        command.knob = o.set;
        command.value = parse_quantity_as(o.to, plant.unit(plant.knob(o.set)));
      }
    } catch (const Error& error) {
      throw Error(Flaw{.file = {},
                       .place = "trial \"" + trial.name + "\"",
                       .field = "operate",
                       .text = error.flaws()[0].text});
    }
    all.commands.push_back(std::move(command));
  }
  return all;
}

}  // namespace zavrek::trial::internal
