// One run: the plant, what is wired to it, and what is recorded. The executive calls `advance` once a
// step; everything it touches was allocated before.
//
// Delays: a sample is sent at the end of the step in which its instant lies (at most one step late);
// a GOOSE message is read at the end of the step in which it arrived and acts from then on.
#pragma once

#include <array>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "trial/child_process.hpp"
#include "zavrek/emt/study.hpp"
#include "zavrek/pace/crew.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::trial::internal {

inline constexpr int samples_per_cycle = 80;

/// The control of a case with what it reads and drives in the plant.
struct ControlWiring {
  control::Controller controller;
  std::vector<emt::SignalId> reads;
  std::vector<emt::KnobId> knobs;
  std::vector<emt::GateId> gates;
  std::vector<emt::OperableId> operables;
  std::vector<double> signals;     // as read last
  std::vector<double> knobs_sent;  // NaN before the first time
  std::vector<char> closes_sent;
  long long next_tick = 0;

  /// Throws Error for a name that the plant does not know.
  ControlWiring(const Case& all, const emt::Plant& plant);
  /// What is due at the start of a step: the control sees the plant at that instant and acts from it on.
  void run_due(emt::Plant& plant) noexcept;
};

class Rig {
 public:
  /// Compiles the plant and readies recording for `duration_s`, of what the bench names and `further`
  /// signals; starts no process yet.
  Rig(const Case& all, const network::Network& network, const RunOptions& options, double duration_s,
      const std::vector<std::string>& further);

  [[nodiscard]] emt::Plant& plant() { return plant_; }
  void command(const std::vector<emt::Command>& commands) { commander_.emplace(plant_, commands); }
  [[nodiscard]] bool has_remote() const;
  [[nodiscard]] const std::string& medium() const { return medium_; }

  /// Starts the devices of place "process" and waits until every remote device was heard. Returns the
  /// name of one that was not, or an empty text.
  [[nodiscard]] std::string start_devices();

  /// One step with everything that belongs to it; false ends the run (plant diverged, a device silent).
  [[nodiscard]] bool advance() noexcept;

  /// Why `advance` returned false, or why a device cannot be trusted at the end; empty when all is well.
  [[nodiscard]] std::string failure();

  /// First rise of an output at or after `from_s`; empty when there was none.
  [[nodiscard]] std::optional<double> first_rise(const std::string& device, const std::string& output,
                                                 double from_s) const;
  /// First instant at or after `from_s` at which all poles of the breaker were open.
  [[nodiscard]] std::optional<double> opened(const std::string& breaker, double from_s) const;

  /// The record, trimmed to what was run, with the events as text.
  [[nodiscard]] record::Record take_record(double trigger_s);

 private:
  static constexpr std::size_t most_events = 4096;
  static constexpr std::size_t none = static_cast<std::size_t>(-1);
  /// A signal of the plant or an output of the control.
  struct Recorded {
    emt::SignalId signal;
    std::size_t output = none;
  };
  struct Party {
    const Device* device = nullptr;
    std::size_t stream = 0;
    bool remote = false;
    std::unique_ptr<protection::OvercurrentRelay> relay;  // place "plant"
    std::unique_ptr<wire::GooseSubscriber> subscriber;    // remote
    std::unique_ptr<ChildProcess> process;                // place "process"
    std::vector<emt::OperableId> trips;
    std::array<bool, 2> outputs{};  // start, trip
    double last_heard_s = 0;        // plant time
    bool silent = false;
  };
  struct Source {                          // of one stream
    std::array<emt::SignalId, 6> signals;  // ia ib ic va vb vc
    std::array<double, 6> to_primary{};
    std::size_t current_column = none;  // first of three in the record; none when
    std::size_t voltage_column = none;  // another stream's transformers put it there
    bool sent = false;                  // has a remote reader
    wire::SampledValues message;
    protection::Sample before, now;
  };
  struct Mark {
    double time_s;
    int party;  // -1: breaker
    int which;  // output of a party, or breaker
    bool rose;
  };

  void add_streams(const Case& all);
  [[nodiscard]] Recorded find_recorded(const std::string& name) const;
  [[nodiscard]] double value(const Recorded& recorded) const noexcept;
  void add_devices(const Case& all, const RunOptions& options);
  void ready_record(const Case& all, double duration_s, const std::vector<std::string>& further);
  void record_transformers(const Case& all, std::size_t rows);
  [[nodiscard]] protection::Sample read(const Source& source) const noexcept;
  void take_samples() noexcept;
  void take_row(double share) noexcept;
  void send_sample(std::size_t source, const protection::Sample& sample) noexcept;
  void record_row(double share) noexcept;
  void poll_wire() noexcept;
  void judge_outputs() noexcept;
  void set_output(std::size_t party, int output, bool value) noexcept;
  void mark(int party, int which, bool rose) noexcept;
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
  std::vector<Party> parties_;
  std::unique_ptr<wire::Link> link_;
  std::string medium_;
  std::array<std::uint8_t, wire::longest_frame> frame_{};
  long long next_row_ = 0;
  bool diverged_ = false;

  std::optional<ControlWiring> control_;

  std::vector<Recorded> recorded_;  // in the record behind the transformers
  std::size_t first_recorded_ = 0;  // their first column
  std::vector<double> recorded_before_;
  std::vector<double> recorded_now_;
  std::vector<std::string> breakers_;
  std::vector<emt::SignalId> breaker_signals_;
  std::vector<bool> breaker_closed_;
  record::Record record_;
  std::size_t rows_ = 0;
  std::vector<Mark> marks_;
};

}  // namespace zavrek::trial::internal
