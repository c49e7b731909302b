#pragma once

#include <atomic>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/bench/kept_states.hpp"
#include "zavrek/bench/plant_store.hpp"
#include "zavrek/bench/port.hpp"
#include "zavrek/bench/timetable.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/record.hpp"
#include "zavrek/record/row_file.hpp"

namespace zavrek::bench {

struct RunOptions {
  /// Overrides every device's place when not empty: "plant" runs the relays in this process.
  std::string place;
  /// Overrides the interface of the bench when not empty.
  std::string interface;
  /// Free when nobody outside is connected and this is set; else paced to the wall.
  bool free = false;
  /// Program that has the verbs `relay` and `controller`; needed for devices of place "process".
  std::filesystem::path relay_program;
  /// Threads that share each step, where the network falls into parts that allow it.
  int cores = 1;
  /// How the record will be kept: it is judged as it will be read back. Empty: it is not.
  std::optional<record::Encoding> kept_as = {};
  /// Takes its plant from a store, under the name of its network; else it compiles one.
  PlantStore* plants = nullptr;
  std::string network_name = {};
  /// Ends the run early once it is set.
  const std::atomic<bool>* stop = nullptr;
  /// Listens ahead of the first frame whether somebody else speaks as this run will (Bench::listen_s). Of
  /// many runs in a row only the first need do so.
  bool listens = true;
  /// How often a trial that was held back too far is run again.
  int most_repeats = 3;
  /// Looks for what would explain verdicts that failed.
  bool explain = true;
  /// Keeps rows of the record in this folder, not in memory: for a run of hours (see Run::rows).
  std::filesystem::path rows_in = {};
  /// Where disturbance recorders of the bench keep their files, numbered on behind those that are there, or
  /// in place of them; nowhere when empty.
  std::filesystem::path captures_in = {};
  bool captures_afresh = false;
  /// Where states of the run are kept, if its parts are all in this process.
  KeptStates* states = nullptr;
  /// Called four times a second, on the thread of the plant, with the timing so far: may not wait.
  std::function<void(const pace::Timing&)> look = {};
};

/// One run of a setup: its source, its control, its ports, and what is recorded. Nothing is looked up or
/// allocated from `start` on.
class Run {
 public:
  /// Compiles `network`, that of the setup with the faults of the run, and makes the ports of the setup,
  /// which must outlive the run.
  Run(const Setup& setup, const network::Network& network, const RunOptions& options);
  /// With a stimulus in place of a plant, paced where a device is elsewhere.
  Run(const Setup& setup, std::unique_ptr<Source> stimulus, const RunOptions& options);
  ~Run();
  Run(const Run&) = delete;
  Run& operator=(const Run&) = delete;

  // --- before the run --------------------------------------------------------------------------
  [[nodiscard]] Exchange& exchange() noexcept;
  /// Null for a stimulus.
  [[nodiscard]] emt::Plant* plant() noexcept;
  /// Null without control.
  [[nodiscard]] const control::Controller* controller() const noexcept;
  /// A port of the user's own, behind those of the setup.
  void add(std::unique_ptr<Port> port);
  /// Records what the bench names and `further` values and points (those with a two-state column): all of the
  /// first `duration_s`, or, where that is 0, always the latest `kept_s`.
  void record(double duration_s, double kept_s, const std::vector<std::string>& further,
              const std::vector<std::string>& points = {});
  void schedule(const std::vector<Deed>& deeds);
  /// Ways from signals to devices and back, and their delays.
  [[nodiscard]] std::vector<Path> paths();

  /// Opens all ports and waits until everybody outside was heard; why not, or nothing.
  [[nodiscard]] std::string start();
  /// Whether the run follows the wall clock.
  [[nodiscard]] bool paced() const noexcept;
  /// Whether a device, a control or a publisher is elsewhere, so that being late matters.
  [[nodiscard]] bool somebody_elsewhere() const noexcept;

  /// Begins at a state that a run of the same setup and network kept, behind `start`. False, and nothing
  /// happened, where a part is elsewhere or the state is that of another network.
  [[nodiscard]] bool begin_at(const RunState& state);

  // --- during it --------------------------------------------------------------------------------
  /// Runs for `duration_s`, or, where that is 0, without end; ends early when a port or the plant cannot
  /// go on, when RunOptions::stop is set, or when `until` (asked behind each step) says so.
  pace::Timing execute(double duration_s, const std::function<bool()>& until = {});
  /// The same, as fast as it goes, for a time that is gone through again; nobody may live by the clock.
  pace::Timing hasten(double duration_s, const std::function<bool()>& until = {});
  /// Devices in this process forget all that was; false when one elsewhere cannot be made to.
  bool forget();

  // --- behind it --------------------------------------------------------------------------------
  /// Ends processes that it started, and asks them for their counts: `accounts` is whole from then on.
  void end();
  /// Until `end`: whether a process that it started has ended by itself, or somebody else spoke as a device.
  [[nodiscard]] bool somebody_ended();
  /// Why it ended early, or why a device cannot be trusted; empty when all is well.
  [[nodiscard]] std::string failure();
  /// How frames travelled; empty when none did.
  [[nodiscard]] std::string medium() const;
  [[nodiscard]] std::vector<Account> accounts() const;
  /// Without samples where RunOptions::rows_in is set.
  [[nodiscard]] record::Record take_record(double trigger_s);
  /// Those, behind take_record.
  [[nodiscard]] std::shared_ptr<record::RowFile> rows() const;

 private:
  class Loop;
  std::unique_ptr<Loop> loop_;
};

/// Ways from signals to devices and back, a line each.
[[nodiscard]] std::string to_string(const std::vector<Path>& paths, double step_s);

}  // namespace zavrek::bench
