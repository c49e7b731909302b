#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/exchange.hpp"

namespace zavrek::bench {

/// Something that is done at an instant of a run.
struct Deed {
  enum class Kind { open, close, set, fail };
  double at_s = 0;
  Kind kind = Kind::open;
  std::string what;  ///< breaker, switch, contactor, fault or contact; knob; gate of a valve
  double value = 0;  ///< of what is set, in SI units; of what fails, how late its pulses are
  emt::Failure how = emt::Failure::none;
};

/// All that is done during a run, in the order of time: what the engineer operates, faults, contacts, knobs
/// of plant and control. What the plant does at an instant of its own is handed to it ahead of the step in
/// which that instant lies: only then do interlocking and positions count as they stand. What others see
/// (contacts, knobs of the control) happens ahead of the first step that does not begin before its instant.
class Timetable {
 public:
  Timetable() = default;
  /// Throws Error with the nearest name for one that nobody knows.
  Timetable(const std::vector<Deed>& deeds, Exchange& exchange);
  /// What others see by `until_s`.
  void tell_others(Exchange& exchange, double until_s) noexcept;
  /// What the plant does within the step to come.
  void operate_plant(Exchange& exchange) noexcept;
  /// How far it is.
  void visit_state(StateArchive& archive) { archive(next_plant_, next_other_); }
  /// When it next has something to do, infinite behind the last.
  [[nodiscard]] double next_of_plant_s() const noexcept { return next(Whom::plant); }

 private:
  enum class Whom : char { plant, others };
  struct Entry {
    double at_s;
    Whom whom;
    AskId what;
    double value;
    bool fails;
    emt::Failure how;
  };
  [[nodiscard]] double next(Whom whom) const noexcept;
  void pass(Whom whom) noexcept;
  void carry_out(const Entry& entry, Exchange& exchange) noexcept;

  std::vector<Entry> entries_;                   // by time
  std::size_t next_plant_ = 0, next_other_ = 0;  // the first for each that is not done
};

}  // namespace zavrek::bench
