#include <algorithm>
#include <optional>

#include "trial/judge.hpp"
#include "trial/operations.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::trial {
namespace {

/// What a trial names that its plant or its control lacks, one Error after the other into `flaws`.
void check_trial(const Case& all, const Trial& trial, const control::Controller* controller,
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
  std::optional<emt::Plant> plant;
  attempt("", [&] { plant.emplace(emt::compile(struck(all, trial))); });
  if (!plant) return;
  for (const std::string& note : plant->summary().notes) {
    if (std::find(known.begin(), known.end(), note) == known.end()) notes.push_back(trial.name + ": " + note);
  }
  for (const Operation& o : trial.operate) {
    Trial one = trial;
    one.operate = {o};
    attempt("operate", [&] { (void)internal::operations(*plant, controller, all.bench, one, 0); });
  }
  for (const Expectation& e : trial.expect) {
    if (e.signal.empty()) continue;
    const bool of_control = controller != nullptr &&
                            std::find(controller->outputs().begin(), controller->outputs().end(), e.signal) !=
                                controller->outputs().end();
    attempt("expect",
            [&] { internal::require_band(e, of_control ? "" : plant->unit(plant->signal(e.signal))); });
  }
}

}  // namespace

std::vector<std::string> check_trials(const Case& all, const std::vector<std::string>& known) {
  std::vector<std::string> notes;
  std::vector<Flaw> flaws;
  std::optional<internal::ControlSeat> control;
  if (has_control(all)) control.emplace(all, emt::compile(all.network), false);
  const control::Controller* controller = control ? &control->controller() : nullptr;
  for (const Trial& trial : all.trials) check_trial(all, trial, controller, known, notes, flaws);
  for (const Sweep& sweep : all.sweeps) {
    const SweptTrial first = swept_trial(all, sweep, 0);
    check_trial(first.all, first.trial, controller, known, notes, flaws);
  }
  if (!flaws.empty()) throw Error(std::move(flaws));
  return notes;
}

}  // namespace zavrek::trial
