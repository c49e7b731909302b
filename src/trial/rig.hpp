// One run: the plant, what is wired to it, and what is recorded. The executive calls `advance` once a
// stride: a step, or all steps between two samples when every device is in this process and samples lie on
// the grid of the steps. Everything that it touches was allocated before.
//
// Delays: a sample is sent at the end of the step in which its instant lies (at most one step late);
// a GOOSE message is read at the end of the step in which it arrived and acts from then on.
#pragma once

#include <array>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "trial/control_seat.hpp"
#include "trial/party.hpp"
#include "zavrek/emt/study.hpp"
#include "zavrek/pace/crew.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::trial::internal {

class Rig {
 public:
  /// Compiles the plant and readies recording for `duration_s`, of what the bench names and `further`
  /// signals; starts no process yet.
  Rig(const Case& all, const network::Network& network, const RunOptions& options, double duration_s,
      const std::vector<std::string>& further);

  [[nodiscard]] emt::Plant& plant() { return plant_; }
  /// Contacts that are operated, in the order of their times.
  void operate_contacts(std::vector<ContactTurn> turns) { contact_turns_ = std::move(turns); }
  void command(const std::vector<emt::Command>& commands) { commander_.emplace(plant_, commands); }
  /// Null without control.
  [[nodiscard]] ControlSeat* control() { return control_ ? &*control_ : nullptr; }
  [[nodiscard]] bool has_remote() const;
  [[nodiscard]] const std::string& medium() const { return medium_; }

  /// Starts the devices of place "process" and waits until every remote device was heard. Returns the
  /// name of one that was not, or an empty text.
  [[nodiscard]] std::string start_devices();

  /// Steps that one call of `advance` takes: all up to the next sample when nobody looks at the bench in
  /// between, else one.
  [[nodiscard]] int stride() const noexcept { return stride_; }
  /// One stride with everything that belongs to it; false ends the run (plant diverged, a device silent).
  [[nodiscard]] bool advance() noexcept;

  /// Why `advance` returned false, or why a device cannot be trusted at the end; empty when all is well.
  [[nodiscard]] std::string failure();

  /// First rise of an output at or after `from_s`; empty when there was none.
  [[nodiscard]] std::optional<double> first_rise(const std::string& device, const std::string& output,
                                                 double from_s) const;
  /// How often an output rose.
  [[nodiscard]] int rises(const std::string& device, const std::string& output) const;
  /// First instant at or after `from_s` at which all poles of the breaker were open.
  [[nodiscard]] std::optional<double> opened(const std::string& breaker, double from_s) const;
  /// First instant at or after `from_s` at which a pole of the breaker had closed again.
  [[nodiscard]] std::optional<double> closed(const std::string& breaker, double from_s) const;
  /// What the binary inputs of a device saw, times counted from `zero_s`.
  [[nodiscard]] std::vector<protection::Seen::Change> inputs_of(const Device& device, double zero_s) const;

  /// The record, trimmed to what was run, with the events as text.
  [[nodiscard]] record::Record take_record(double trigger_s);

 private:
  static constexpr std::size_t most_events = 4096;
  static constexpr std::size_t none = static_cast<std::size_t>(-1);
  /// What an output does to a breaker when it rises.
  struct Command {
    std::size_t output;
    emt::OperableId breaker;
    bool close;
  };
  /// Where a binary input comes from: an output of another seat, or a breaker (`of_breaker`) or a contact
  /// (`of_contact`) instead.
  struct InputWire {
    std::size_t input;
    int seat;
    std::size_t which;
  };
  static constexpr int of_breaker = -1, of_contact = -2;
  /// A device at its place in this run.
  struct Seat {
    Party party;
    std::vector<std::size_t> streams;
    std::vector<protection::Sample> samples;  // of its streams, now
    std::vector<Command> commands;
    std::vector<InputWire> inputs;  // of a relay in this process
    std::vector<char> outputs;      // as seen last
    std::size_t first_lane = 0;     // of the outputs in lanes_
    double last_heard_s = 0;        // plant time
    bool silent = false;
    bool miswired = false;
  };
  struct Source {              // of one stream
    std::size_t currents = 0;  // the first of three of what is read
    std::size_t voltages = 0;
    bool sent = false;  // has a remote reader
    wire::SampledValues message;
    protection::Sample taken;
  };
  /// A column of the record and which of what is read goes into it.
  struct Column {
    std::size_t from;
    double* samples;
  };
  /// A binary column of the record, written where it changes.
  struct Lane {
    std::uint8_t* samples;
    std::size_t since;  // row
    bool value;
  };
  struct Mark {
    double time_s;
    int seat;   // -1: breaker
    int which;  // output of a seat, or breaker
    bool rose;
  };

  void add_streams(const Case& all);
  [[nodiscard]] std::size_t reads(const std::string& signal, double scale);
  [[nodiscard]] std::size_t reads_three(const std::string& stem, double scale);
  void add_devices(const Case& all, const RunOptions& options);
  void watch_what_is_read_often();
  void ready_record(const Case& all, double duration_s, const std::vector<std::string>& judged);
  void record_transformers(const Case& all, std::size_t rows);
  void record_binaries(const Case& all, std::size_t rows);
  void take_samples() noexcept;
  void read_all() noexcept;
  void take_row(double share) noexcept;
  void send_samples() noexcept;
  void wire_inputs(Seat& seat);
  [[nodiscard]] InputWire wire_of(const std::string& source) const;
  [[nodiscard]] bool on(const InputWire& wire) const noexcept;
  void find_stride();
  [[nodiscard]] bool take_stride() noexcept;
  void turn_contacts(double until_s) noexcept;
  void record_row(const double* taken) noexcept;
  void show(Lane& lane, bool value) noexcept;
  void poll_wire() noexcept;
  void judge_outputs() noexcept;
  void judge_breakers() noexcept;
  void set_output(std::size_t seat, std::size_t output, bool value) noexcept;
  void mark(int seat, std::size_t which, bool rose) noexcept;
  [[nodiscard]] std::int64_t wall_ns() const noexcept;

  const Case& case_;
  RunOptions options_;
  emt::Plant plant_;
  std::unique_ptr<pace::Crew> crew_;
  std::optional<emt::Commander> commander_;
  double rate_Hz_;       // of the streams
  int rows_per_sample_;  // of the record, which may be finer than the streams
  double record_rate_Hz_;
  std::vector<Source> sources_;
  std::vector<Seat> seats_;
  std::unique_ptr<wire::GoosePublisher> telling_;  // to remote devices, what they read of this process
  std::vector<bool> told_;
  std::vector<InputWire> told_from_;
  std::vector<char> contacts_;  // closed, in the order of the bench
  std::vector<ContactTurn> contact_turns_;
  std::size_t next_contact_turn_ = 0;
  std::unique_ptr<wire::Link> link_;
  std::string medium_;
  std::array<std::uint8_t, wire::longest_frame> frame_{};
  long long next_row_ = 0;
  int stride_ = 1;
  bool diverged_ = false;

  std::optional<ControlSeat> control_;

  // What samples and the record are made of: signals of the plant, then outputs of the control; at the end of
  // the latest step, of the one before, and at a sample between them.
  std::vector<emt::SignalId> read_;
  std::vector<double> scale_;  // of the signals
  std::vector<std::size_t> read_outputs_;
  std::vector<double> now_, before_, between_;
  std::vector<Column> columns_;
  std::vector<Lane> lanes_;
  std::vector<std::string> breakers_;
  std::vector<emt::SignalId> breaker_signals_;
  std::vector<bool> breaker_closed_;
  std::size_t first_breaker_lane_ = 0;
  long long discontinuities_seen_ = 0;  // of the plant, when breaker_closed_ was read
  bool relays_spoke_ = true;            // since the outputs were read
  record::Record record_;
  std::size_t rows_ = 0;
  std::vector<Mark> marks_;
};

}  // namespace zavrek::trial::internal
