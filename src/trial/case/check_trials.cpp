#include <algorithm>
#include <optional>

#include <fmt/format.h>
#include "bench/control_seat.hpp"
#include "bench/make_port.hpp"
#include "bench/plant_source.hpp"

#include "trial/case/check_wiring.hpp"
#include "trial/case/operations.hpp"
#include "trial/judge/judge.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::trial {
namespace {

/// What a trial names that its plant or its control lacks, one Error after the other into `flaws`.
void check_trial(const Case& all, const Trial& trial, bench::internal::ControlSeat* control,
                 const std::vector<std::string>& known, std::vector<std::string>& notes,
                 std::vector<Flaw>& flaws) {
  const std::string place = "trial \"" + trial.name + "\"";
  const auto attempt = [&](const std::string& field, auto&& what) {
    try {
      what();
    } catch (const Error& error) {
      for (Flaw flaw : error.flaws()) {
        if (flaw.place != place) flaw.place = flaw.place.empty() ? place : place + ", " + flaw.place;
        if (flaw.field.empty()) flaw.field = field;
        flaws.push_back(std::move(flaw));
      }
    }
  };
  std::optional<bench::internal::PlantSource> source;
  attempt("", [&] { source.emplace(emt::compile(network_with_faults(all, trial))); });
  if (!source) return;
  for (const std::string& note : source->plant()->summary().notes) {
    if (std::find(known.begin(), known.end(), note) == known.end()) notes.push_back(trial.name + ": " + note);
  }
  bench::Exchange exchange(all, *source, control);
  attempt("bench", [&] { bench::internal::declare_ports(all, exchange); });
  for (const Operation& o : trial.operate) {
    Trial one = trial;
    one.operate = {o};
    attempt("operate", [&] {
      (void)internal::operations(exchange, one, 0);
      if (!o.set.empty() && exchange.is_idle(exchange.settable_of(o.set)))
        notes.push_back(fmt::format("{}: {} changes nothing: no frames of it leave the plant's process",
                                    trial.name, o.set));
    });
  }
  for (const Expectation& e : trial.expect) {
    attempt("expect", [&] {
      if (!e.breaker.empty()) (void)exchange.point_of(e.breaker);
      if (e.signal.empty()) return;
      const bench::ValueId value = exchange.value_of(e.signal);
      internal::require_band(e, exchange.unit_of(value), value.of == bench::ValueId::Of::control);
    });
  }
}

}  // namespace

std::vector<std::string> check_trials(const Case& all, const std::vector<std::string>& known) {
  std::vector<std::string> notes;
  std::vector<Flaw> flaws;
  std::optional<bench::internal::ControlSeat> seat;
  if (has_control(all)) seat.emplace(all, emt::compile(all.network), false);
  bench::internal::ControlSeat* control = seat ? &*seat : nullptr;
  for (const Trial& trial : all.trials) check_trial(all, trial, control, known, notes, flaws);
  for (const Sweep& sweep : all.sweeps) {
    const SweptTrial first = swept_trial(all, sweep, 0);
    check_trial(first.all, first.trial, control, known, notes, flaws);
  }
  if (!flaws.empty()) throw Error(std::move(flaws));
  for (const Trial& trial : all.trials) {
    if (trial.expect.empty())
      notes.push_back(fmt::format("trial \"{}\" expects nothing: it proves nothing", trial.name));
  }
  for (std::string& note : internal::wiring_notes(all)) notes.push_back(std::move(note));
  for (const Device& device : all.bench.devices) {
    for (const std::string& name : protection::idle_functions(device.approved_relay))
      notes.push_back(
          fmt::format("{}: its function {} neither trips nor is asked for by a condition: nothing "
                      "comes of what it sees",
                      device.name, name));
  }
  return notes;
}

}  // namespace zavrek::trial
