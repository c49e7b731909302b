#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "zavrek/bench/description.hpp"
#include "zavrek/bench/snapshot.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/state_archive.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::bench {

namespace internal {
class Recorder;
class ControlSeat;
class TimeSource;
}  // namespace internal

/// What is simulated: a plant, or a stimulus in its place.
class Source {
 public:
  Source() = default;
  Source(const Source&) = delete;
  Source& operator=(const Source&) = delete;
  virtual ~Source() = default;
  [[nodiscard]] virtual double time_s() const noexcept = 0;  ///< of the values that can be read now
  [[nodiscard]] virtual double step_s() const noexcept = 0;
  /// False when it cannot go on.
  [[nodiscard]] virtual bool step() noexcept = 0;
  /// Throws Error with the nearest known name.
  [[nodiscard]] virtual emt::SignalId signal(const std::string& name) const = 0;
  [[nodiscard]] virtual std::string unit(emt::SignalId signal) const = 0;
  virtual void read(std::span<const emt::SignalId> signals, double* into) const noexcept = 0;
  /// Null when it is none.
  [[nodiscard]] virtual emt::Plant* plant() noexcept { return nullptr; }
};

/// A number that is shown: a signal of the plant, an output of the control, or what a port received.
struct ValueId {
  enum class Of : char { plant, control, port };
  std::size_t index = 0;
  Of of = Of::plant;
};
/// A number by which a port works, and which a run may change: "S1.loss".
struct SettingId {
  std::size_t index = 0;
};
struct PortSetting {
  const char* name;
  const char* unit;  ///< "" for one that is 0 or 1, or a plain number
  double least, greatest;
  double initial = 0;
};
/// Something that is on or off: the position of a breaker, switch or contactor, an output of a device, a
/// contact of the bench; or a number that is shown, on above one half.
struct PointId {
  std::size_t index = 0;
};
/// A point changed.
struct Change {
  double time_s = 0;
  PointId point;
  bool on = false;
};

/// What ports and a run share: all that is shown, read once, and all that may be asked. Before the run, texts
/// become places (these calls allocate and throw Error with the nearest known name); from then on nothing
/// allocates, throws or looks anything up.
class Exchange {
 public:
  /// `control` is null where there is none.
  Exchange(const Setup& setup, Source& source, internal::ControlSeat* control);
  ~Exchange();
  Exchange(const Exchange&) = delete;
  Exchange& operator=(const Exchange&) = delete;

  // --- before the run --------------------------------------------------------------------------
  /// The value times `factor`.
  [[nodiscard]] ValueId value_of(const std::string& name, double factor = 1);
  /// STEMa, STEMb, STEMc.
  [[nodiscard]] std::array<ValueId, 3> three_values_of(const std::string& stem, double factor);
  [[nodiscard]] std::string unit_of(ValueId value) const;
  [[nodiscard]] bool knows_value(const std::string& name) const;
  [[nodiscard]] PointId point_of(const std::string& name);
  /// A point whose owner tells what it is.
  [[nodiscard]] PointId add_output(const std::string& device, const std::string& output);
  /// A value whose owner tells what it is: "OWNER.NAME".
  [[nodiscard]] ValueId add_value(const std::string& owner, const std::string& name, const std::string& unit);
  /// A setting of a port: "OWNER.NAME"; an idle one changes nothing in this run.
  [[nodiscard]] SettingId add_setting(const std::string& owner, const PortSetting& setting,
                                      bool idle = false);
  [[nodiscard]] AskId ask_of(const std::string& name);
  /// The same, of one sort only: what opens and closes (contacts and gates too), what is set, a gate.
  [[nodiscard]] AskId operable_of(const std::string& name);
  [[nodiscard]] AskId settable_of(const std::string& name);
  [[nodiscard]] AskId gate_of(const std::string& name);
  /// Of what is set, "" for what is operated.
  [[nodiscard]] std::string unit_of(AskId what) const;
  /// Least and greatest that it may be set to; infinite where there is no bound.
  [[nodiscard]] std::pair<double, double> range_of(AskId what) const;
  /// What is set or operated as it stands ahead of the run; NaN where nobody can tell.
  [[nodiscard]] double initial_of(AskId what) const;
  /// Whether it is one of a port that changes nothing in this run.
  [[nodiscard]] bool is_idle(AskId what) const;
  /// Settings of ports, "S1.loss"; and the unit of each.
  [[nodiscard]] std::vector<std::pair<std::string, std::string>> port_settings() const;
  [[nodiscard]] std::size_t point_count() const noexcept { return points_.size(); }
  [[nodiscard]] const std::string& name_of(PointId point) const { return points_[point.index].name; }
  /// As the record names it: "Q1.closed" for a position, else its own name.
  [[nodiscard]] std::string column_of(PointId point) const;
  /// As events tell it: "R1 trip", "Q1 open".
  [[nodiscard]] std::string words_of(const Change& change) const;
  [[nodiscard]] const std::string& name_of(AskId what) const { return asks_[what.index].name; }
  [[nodiscard]] const Setup& setup() const noexcept { return setup_; }
  /// Null where a stimulus stands in its place.
  [[nodiscard]] emt::Plant* plant() const noexcept { return plant_; }

  // --- during the run ---------------------------------------------------------------------------
  /// Of the plant: the present.
  [[nodiscard]] double time_s() const noexcept { return source_.time_s(); }
  [[nodiscard]] double step_s() const noexcept { return source_.step_s(); }
  /// The instant at which `value` is shown: that of a sample, which may lie within the latest step.
  [[nodiscard]] double shown_s() const noexcept { return shown_s_; }
  /// Samples before this one.
  [[nodiscard]] long long sample() const noexcept { return sample_; }
  [[nodiscard]] double value(ValueId id) const noexcept { return shown_[place_of(id)]; }
  /// As it is at the present, between samples too.
  [[nodiscard]] double latest(ValueId value) const noexcept;
  [[nodiscard]] bool on(PointId point) const noexcept { return points_[point.index].on; }
  /// All values that are shown, and where one of them stands among them once the run has begun.
  [[nodiscard]] const double* shown() const noexcept { return shown_; }
  [[nodiscard]] std::size_t place_of(ValueId id) const noexcept {
    switch (id.of) {
      case ValueId::Of::plant:
        break;
      case ValueId::Of::control:
        return scale_.size() + id.index;
      case ValueId::Of::port:
        return scale_.size() + read_outputs_.size() + id.index;
    }
    return id.index;
  }
  [[nodiscard]] double setting(SettingId id) const noexcept { return settings_[id.index].value; }
  /// By its owner, from the present on.
  void tell(ValueId value, double is) noexcept { told_[value.index] = is; }
  /// By the owner of a point, at the present or at another instant that is known better.
  void tell(PointId point, bool on) noexcept { tell(point, on, time_s()); }
  void tell(PointId point, bool on, double at_s) noexcept;
  /// For a point that changes all the time: it is as it is, and no event.
  void show_only(PointId point, bool on) noexcept { points_[point.index].on = on; }
  /// From the present on, or from `at_s` within the step to come. Operated: closed above one half. False when
  /// interlocking refuses it.
  bool ask(AskId what, double value) noexcept { return ask(what, value, time_s()); }
  bool ask(AskId what, double value, double at_s) noexcept;
  void fail(AskId gate, emt::Failure how, double late_s) noexcept;
  /// Wall clock, ns: monotonic, and what it was when the plant stood at 0 s; 0 when not paced.
  [[nodiscard]] std::int64_t now_ns() const noexcept;
  [[nodiscard]] wire::Now now() const noexcept;
  [[nodiscard]] std::int64_t zero_ns() const noexcept { return zero_ns_; }
  /// UTC of the present of the plant, by the clock at its start; of now when not paced.
  [[nodiscard]] std::int64_t plant_utc_ns() const noexcept;
  /// Whether that clock is synchronised: 0 no, 1 to some clock, 2 to a global one; as the trial has it.
  [[nodiscard]] int synchronised() const noexcept;
  /// As time stamps say it.
  [[nodiscard]] std::uint8_t clock_quality() const noexcept;
  /// Number of the sample at 0 s of the plant in its second, at so many a second.
  [[nodiscard]] long long count_at_zero(double rate_Hz) const noexcept;

  /// Changes so far, by their times. Those beyond `most_changes` are lost, and counted; or they take the
  /// place of the oldest, where only the latest are wanted.
  [[nodiscard]] std::vector<Change> changes() const;
  /// All that there were, and one of the latest `most_changes` of them, by its number.
  [[nodiscard]] long long change_count() const noexcept { return change_count_; }
  [[nodiscard]] const Change& change(long long number) const noexcept {
    return changes_[static_cast<std::size_t>(number) % most_changes];
  }
  [[nodiscard]] long long lost_changes() const noexcept { return lost_changes_; }
  static constexpr std::size_t most_changes = 1U << 16U;

  /// What is shown, told and set, but for the changes so far.
  void visit_state(StateArchive& archive);

  // --- by the loop of a run ---------------------------------------------------------------------
  /// All that is read has its place: values are read from now on.
  void begin(internal::Recorder* recorder, double rate_Hz);
  void keep_latest_changes() noexcept { keeps_latest_ = true; }
  /// The plant stands at 0 s at this instant of the clock that never jumps; `utc_zero_ns` is kept from the
  /// first time on.
  void begin_pace(std::int64_t zero_ns, std::int64_t utc_zero_ns) noexcept;
  [[nodiscard]] const internal::TimeSource& time_source() const noexcept { return *time_source_; }
  /// From now on it is known how well its clock is synchronised.
  void watch_time();
  /// Ahead of each step: whether a pulse of the clock began.
  void look_for_pulse() noexcept;
  [[nodiscard]] std::int64_t utc_zero_ns() const noexcept { return utc_zero_ns_; }
  /// The plant's pace is turned so that it follows its clock: the steady clock at 0 s moves with it.
  void shift_pace(std::int64_t zero_ns) noexcept { zero_ns_ = zero_ns; }
  /// Looks by how much its clock leads the plant.
  std::int64_t look_for_lead() noexcept;
  [[nodiscard]] std::int64_t lead_ns() const noexcept { return lead_ns_; }
  void read() noexcept;
  /// Shows values `share` of the latest step behind its beginning, at `time_s`.
  void show(double share, double time_s) noexcept;
  /// As sample `number` of those that see them.
  void count(long long number) noexcept { sample_ = number; }
  /// Points that nobody tells: positions, and numbers that stand for points.
  void look() noexcept;
  [[nodiscard]] bool looks_each_step() const noexcept { return !polled_.empty(); }
  [[nodiscard]] Source& source() noexcept { return source_; }
  [[nodiscard]] bool is_contact(AskId what) const noexcept { return asks_[what.index].kind == Kind::contact; }
  [[nodiscard]] bool is_of_control(AskId what) const noexcept {
    return asks_[what.index].kind == Kind::parameter;
  }
  [[nodiscard]] bool is_of_port(AskId what) const noexcept { return asks_[what.index].kind == Kind::setting; }
  /// Outputs of devices, then positions, contacts, and numbers that stand for points.
  [[nodiscard]] std::vector<PointId> points_in_order() const;

 private:
  enum class Kind : char { operable, gate, knob, contact, parameter, setting, resistance };
  enum class Sort : char { position, output, contact, number };
  struct Point {
    std::string name;
    Sort sort;
    bool on = false;
  };
  struct Ask {
    std::string name;
    Kind kind;
    int index;  // of the plant's operables (resistances too), gates or knobs; points; parameters; settings
  };
  struct Setting {
    std::string name, unit;
    double least, greatest, value;
    bool idle;
  };
  struct Told {
    std::string name, unit;
  };
  struct Watched {
    emt::SignalId signal;
    std::size_t point;
  };
  struct Polled {
    ValueId value;
    std::size_t point;
  };
  [[nodiscard]] PointId add(std::string name, Sort sort, bool on);
  [[nodiscard]] std::optional<PointId> find_point(const std::string& name) const;
  [[nodiscard]] AskId add(const std::string& name, Kind kind, int index);
  /// Of those known by now, or a contact, or what the plant or the control has of that name.
  [[nodiscard]] std::optional<AskId> find_ask(const std::string& name);

  const Setup& setup_;
  Source& source_;
  emt::Plant* plant_;
  internal::ControlSeat* control_;
  internal::Recorder* recorder_ = nullptr;
  // Signals of the plant, outputs of the control, what ports received: at the end of the latest step, of the
  // one before, and at a sample between them.
  std::vector<emt::SignalId> read_;
  std::vector<double> scale_;  // of the signals
  std::vector<std::size_t> read_outputs_;
  std::vector<Told> told_names_;
  std::vector<double> told_;
  std::vector<Setting> settings_;
  std::vector<double> now_, before_, between_;
  const double* shown_ = nullptr;  // one of these
  double shown_s_ = 0;
  long long sample_ = 0;
  std::vector<Point> points_;
  std::vector<Watched> positions_;
  std::vector<Polled> polled_;
  std::vector<Ask> asks_;
  std::vector<Change> changes_;
  long long change_count_ = 0, lost_changes_ = 0;
  bool keeps_latest_ = false;
  long long discontinuities_seen_ = 0;  // of the plant, when positions were read
  std::int64_t zero_ns_ = 0, utc_zero_ns_ = 0;
  std::unique_ptr<internal::TimeSource> time_source_;
  SettingId clock_lost_;
  std::int64_t lead_ns_ = 0;  // of the clock
  std::optional<PointId> pulse_;
  bool pulsed_ = true;  // as it was last
};

}  // namespace zavrek::bench
