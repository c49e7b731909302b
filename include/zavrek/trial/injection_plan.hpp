// Element tests written by hand: states of phasors one after the other, and single values of one's own.
#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"
#include "zavrek/trial/injection.hpp"

namespace zavrek::trial {

/// What stands at one place of the relay, in the values of its settings. A phasor is a text such as
/// "400 A at -30 deg", rms; sequence values and phase values add up.
struct InjectedPlace {
  int place = 1;
  std::string v1, v2, v0, va, vb, vc;
  std::string i1, i2, i0, ia, ib, ic;
  std::string loop = "none";  ///< "A-E" ... "C-A": current through that loop, and the voltage across it
  std::string impedance;      ///< of the loop: "2.1 ohm at 70 deg"
  double through_A = 5;       ///< current through the loop
  double second_harmonic = 0, fifth_harmonic = 0;  ///< harmonics, as shares of every current
  double frequency_Hz = network::unset;            ///< nominal, or as at the first place, when left out
  double frequency_rate = network::unset;
};

/// A state of a sequence.
struct InjectedState {
  std::string name;
  double lasts_s = 1;
  std::string until = "end";  ///< or "start", "trip", "quiet": ends the state earlier
  std::string from;           ///< a state before it from whose quantities it moves to its own
  int steps = 50;             ///< in which it does so
  InjectedPlace here;
  std::vector<InjectedPlace> others;  ///< what stands at further places
};

/// What a device shall do in a state of a sequence.
struct StateExpectation {
  std::string state;
  std::string output = "trip";         ///< or "start", or another that it sends
  std::string change = "rises";        ///< or "falls"
  std::string time = "from settings";  ///< from the beginning of the state
  bool never = false;
  std::vector<std::string> tolerance;  ///< of the time; that of the command when left out
};

struct InjectedSequence {
  std::string name;
  std::vector<InjectedState> states;
  std::vector<StateExpectation> expect;
};

/// One value at which a function is timed.
struct InjectedValue {
  std::string function;
  std::string value;  ///< of the quantity that tests the function: "840 A", "48.6 Hz"
};

struct InjectionPlan {
  std::vector<InjectedSequence> sequences;
  std::vector<InjectedValue> values;
};

[[nodiscard]] const network::Table& table(const InjectedPlace*);
[[nodiscard]] const network::Table& table(const InjectedState*);
[[nodiscard]] const network::Table& table(const StateExpectation*);
[[nodiscard]] const network::Table& table(const InjectedSequence*);
[[nodiscard]] const network::Table& table(const InjectedValue*);

/// What is wrong with a plan for a relay with these settings; `place` of a flaw is "sequence 2", or "value
/// 1".
[[nodiscard]] std::vector<Flaw> validate(const InjectionPlan& plan,
                                         const protection::RelaySettings& settings);

/// What stands at the terminals in each part of a state: one, or `steps` of one that moves.
[[nodiscard]] std::vector<Stimulus> stimuli_of(const InjectedSequence& sequence, const InjectedState& state,
                                               const protection::RelaySettings& settings, std::size_t places,
                                               double nominal_Hz = 50);

/// A state as the relay sees it. Throws Error for a phasor that is none.
[[nodiscard]] Stimulus stimulus_of(const InjectedState& state, const protection::RelaySettings& settings,
                                   std::size_t places, double nominal_Hz = 50);

/// When a relay with `settings` changes an output in each state, by its settings alone: index of the state,
/// seconds from its beginning; infinite when it never does.
struct ExpectedChange {
  double rises_s, falls_s;
  std::string by;  ///< the function that trips first
};
/// One for each state; `output`: one of those that the relay sends. A state that waits for an output ends
/// when it comes.
[[nodiscard]] std::vector<ExpectedChange> expected_changes(const InjectedSequence& sequence,
                                                           const protection::RelaySettings& settings,
                                                           std::size_t places, const std::string& output,
                                                           double nominal_Hz = 50);

}  // namespace zavrek::trial
