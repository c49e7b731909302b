#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <string>
#include <vector>

namespace zavrek::pace {

/// How simulated time follows real time.
enum class Pace { free, wall };

/// Of a thread so far: how often it was switched out against its will, and page faults.
struct ThreadUse {
  std::int64_t switched_out = 0, faults = 0;
};
/// The clock and the calls to the system that pacing needs; tests put their own in its place.
class Clock {
 public:
  virtual ~Clock() = default;
  [[nodiscard]] virtual std::int64_t now_ns() noexcept = 0;
  /// Returns at or after `until_ns`, or earlier when interrupted.
  virtual void sleep_until_ns(std::int64_t until_ns) noexcept = 0;
  /// Of the calling thread.
  [[nodiscard]] virtual ThreadUse thread_use() noexcept { return {}; }
  /// What the host of a virtual machine took of this processor since the system began, as it says (10 ms is
  /// the least that is told); 0 where nobody says.
  [[nodiscard]] virtual std::int64_t stolen_ns() noexcept { return 0; }
};
/// CLOCK_MONOTONIC and clock_nanosleep.
[[nodiscard]] Clock& system_clock();
/// Since 1970, by the computer's clock, which may be set while a run goes.
[[nodiscard]] std::int64_t utc_ns() noexcept;

/// Counts of durations in classes 1/64 of an octave wide; fixed memory, exact maximum.
class Histogram {
 public:
  Histogram() = default;
  /// While another thread adds to `other`: as far as that has come.
  Histogram(const Histogram& other) noexcept { *this = other; }
  Histogram& operator=(const Histogram& other) noexcept;
  void add(std::int64_t ns) noexcept;
  [[nodiscard]] std::int64_t count() const noexcept { return count_; }
  [[nodiscard]] std::int64_t max_ns() const noexcept { return max_; }
  /// Upper edge of the class that holds the `share` quantile (0 ... 1); 0 when empty.
  [[nodiscard]] std::int64_t quantile_ns(double share) const noexcept;
  /// Counts of `coarse_classes`, four to an octave, each up to its edge.
  static constexpr std::size_t coarse_classes = 160;
  void read_coarse(double* counts) const noexcept;
  [[nodiscard]] static std::int64_t coarse_edge_ns(std::size_t index) noexcept;

 private:
  static constexpr int per_octave = 64;
  [[nodiscard]] static std::size_t class_of(std::int64_t ns) noexcept;
  [[nodiscard]] static std::int64_t upper_edge(std::size_t index) noexcept;
  std::array<std::uint32_t, 64 * 40> classes_{};
  std::int64_t count_ = 0;
  std::int64_t max_ = 0;
};

/// How a paced thread waits. `sleeps`: until shortly before its tick, where that is far enough away. `spins`:
/// never sleeps. `rests`: as `sleeps`, and once in a while although steps are due, so that the kernel, which
/// lets real-time threads run 95 % of each second, never stops it for the rest of one.
enum class Waiting { sleeps, spins, rests };

/// What the thread got of what real time needs, in words for a person.
struct RealtimeGrants {
  bool realtime_priority = false;
  bool memory_locked = false;
  bool pinned = false;
  bool may_spin = false;  ///< the kernel does not stop a real-time thread that never sleeps
  [[nodiscard]] Waiting waiting() const {
    return may_spin ? Waiting::spins : realtime_priority ? Waiting::rests : Waiting::sleeps;
  }
  std::vector<std::string> shortcomings;  ///< one sentence each; empty when everything was granted
};
/// Pins the calling thread to `cpu` (-1: the last one allowed, -2: the last but one), asks for SCHED_FIFO and
/// locked memory. Never fails; says what it did not get.
[[nodiscard]] RealtimeGrants acquire_realtime(int cpu = -1);
/// For a thread that sleeps until it is called beside a run: above the run's priority, on any processor but
/// the one that the run takes. One that `carries` for others comes before these. Never fails; says what it
/// did not get.
[[nodiscard]] RealtimeGrants acquire_realtime_beside(bool carries = false);
/// The calling thread, which is in no haste, runs on any processor but the one that a run takes.
void keep_off_plant_processor();
/// Back to ordinary scheduling, unlocked memory and the processors it had.
void leave_realtime();

/// Why steps ended late, as far as it can be told from outside of the machine. `machine`: the thread was not
/// switched out and fetched no memory, but a step took more than twenty times the median, or began late: an
/// interrupt, or the host of a virtual machine. `partner`: it waited for one.
enum class Cause : std::size_t {
  catching_up,
  another_thread,
  memory,
  machine,
  resting,
  partner,
  own_work,
  all
};
/// "catching up", "another thread ran" ...
[[nodiscard]] const char* to_string(Cause cause);
/// What a paced run does about steps that come late.
struct LateSteps {
  double rate = 0;           ///< of real time, at most, while it catches up; 0: as fast as it goes
  std::int64_t most_ns = 0;  ///< a step that begins so much behind its tick ends the run; 0: none does
};
/// The longest step that ended late by its own work alone, and what was done in it.
struct OwnWork {
  std::int64_t step = -1, took_ns = 0;
  std::int64_t discontinuities = 0;
  bool controlled = false;  ///< the control ran
};
/// The timing table of one run. Durations in ns.
struct Timing {
  Pace pace = Pace::free;
  std::int64_t steps = 0;
  std::int64_t step_ns = 0;
  bool followed = false;         ///< each began by somebody else's tick
  std::int64_t plant_steps = 1;  ///< of the plant in each of these steps, when it takes several at once
  Histogram compute;   ///< from the start of a step's work to its end; of one step in sixteen when `free`
  Histogram lateness;  ///< start of a step's work behind its tick; `wall` only
  std::array<std::int64_t, static_cast<std::size_t>(Cause::all)> causes{};  ///< of its overruns
  std::int64_t overruns = 0;               ///< steps whose work ended after the next one was due
  std::int64_t longest_overrun_steps = 0;  ///< most of them in a row
  std::int64_t overrun_steps_now = 0;      ///< in a row, up to the latest step
  std::int64_t worst_overrun_step = -1;
  std::int64_t worst_overrun_ns = 0;
  std::int64_t elapsed_ns = 0;
  std::int64_t stolen_ns = 0;        ///< by the host of a virtual machine; `wall` only
  std::int64_t gave_up_step = -1;    ///< the one that came too late to go on (LateSteps::most_ns),
  std::int64_t gave_up_late_ns = 0;  ///< by so much
  OwnWork longest_own;
  RealtimeGrants grants;
};
/// Several lines for a terminal.
[[nodiscard]] std::string to_string(const Timing& timing);
/// "10 catching up, 3 the machine was away; the host ... took 20 ms": why steps were late; empty when none
/// was.
[[nodiscard]] std::string why_late(const Timing& timing);

/// How far a run kept to real time: what a verdict needs to be trusted by it.
struct Punctuality {
  bool paced = false;  ///< by the clock; else all else is zero
  std::int64_t steps = 0;
  std::int64_t late_steps = 0;          ///< whose work ended after the next one was due
  std::int64_t longest_late_steps = 0;  ///< most of them in a row
  double longest_late_s = 0;
  double worst_late_s = 0;
  double worst_at_s = 0;   ///< of the run's time
  double held_back_s = 0;  ///< most that a step began behind its tick
  [[nodiscard]] double late_share() const {
    return steps == 0 ? 0 : static_cast<double>(late_steps) / static_cast<double>(steps);
  }
  /// Of several runs, one after the other.
  void add(const Punctuality& next);
};
[[nodiscard]] Punctuality punctuality(const Timing& timing);
/// "9000 of 16400 steps ended late (54.9 %), 40 in a row, the worst by 1.2 ms at 0.41 s"
[[nodiscard]] std::string to_string(const Punctuality& kept);

/// Runs `work(step)` for steps 0, 1, ... until it returns false or `steps` are done. Paced to the wall,
/// step k starts at start + k * step; a late step starts at once, or as `treat_late_steps` says, so that
/// simulated time catches up.
class Executive {
 public:
  explicit Executive(Clock& clock = system_clock(), Waiting waiting = Waiting::sleeps)
      : clock_(clock), waiting_(waiting) {}

  template <class Work>
  Timing run(Pace pace, std::int64_t step_ns, std::int64_t steps, Work&& work) {
    Timing timing;
    timing.pace = pace;
    timing.step_ns = step_ns;
    timing.followed = pace == Pace::wall && follows();
    live_ = &timing;
    std::int64_t start = clock_.now_ns() + (pace == Pace::wall ? step_ns : 0);
    if (pace == Pace::wall) start = std::max(start, not_before_ns_);
    start_ns_ = start;
    latest_ns_ = 0;
    awake_from_ns_ = start;
    slept_ns_ = 0;
    const std::int64_t stolen_before = pace == Pace::wall ? clock_.stolen_ns() : 0;
    for (std::int64_t step = 0; step < steps; ++step) {
      // Reading the clock takes as long as several steps of a small plant's relays.
      const bool timed = pace == Pace::wall || step % timed_of_free == 0;
      std::int64_t due = start + step * step_ns + shift_ns();
      const std::int64_t begun = pace == Pace::wall ? await(due, step_ns, timing)
                                 : timed            ? clock_.now_ns()
                                                    : 0;
      if (pace == Pace::wall && follow_) due = begun;
      if (pace == Pace::wall && late_.most_ns > 0 && begun - due > late_.most_ns) {
        timing.gave_up_step = step;
        timing.gave_up_late_ns = begun - due;
        break;
      }
      const bool more = work(step);
      ++timing.steps;
      if (timed) note(timing, {step, due, begun, clock_.now_ns()});
      if (!more) break;
      shift_ps_ += turn_ps_;
    }
    timing.elapsed_ns = clock_.now_ns() - start;
    if (pace == Pace::wall) timing.stolen_ns = clock_.stolen_ns() - stolen_before;
    return timing;
  }

  /// Steps of paced runs to come begin when this is back, whatever the clock says: somebody else's tick.
  void follow(std::function<void()> tick) { follow_ = std::move(tick); }
  [[nodiscard]] bool follows() const noexcept { return static_cast<bool>(follow_); }
  /// From within the work of a step: so long it waited for somebody else.
  void tell_waited(std::int64_t ns) noexcept { waited_ns_ = ns; }
  /// Of paced runs to come.
  void treat_late_steps(const LateSteps& how) noexcept { late_ = how; }
  /// A paced run begins no sooner, by the clock.
  void begin_at(std::int64_t not_before_ns) noexcept { not_before_ns_ = not_before_ns; }
  /// From the next step on each comes so much later than a step behind the one before.
  void turn(std::int64_t ps_per_step) noexcept { turn_ps_ = ps_per_step; }
  /// By how much steps come later by now than at an even pace.
  [[nodiscard]] std::int64_t shift_ns() const noexcept { return shift_ps_ / 1000; }
  /// When the latest run began, by the clock.
  [[nodiscard]] std::int64_t start_ns() const noexcept { return start_ns_; }
  /// From within the work of a run: its timing so far.
  [[nodiscard]] const Timing& live() const noexcept { return *live_; }

 private:
  static constexpr std::int64_t timed_of_free = 16;
  const Timing* live_ = nullptr;
  std::int64_t await(std::int64_t due_ns, std::int64_t step_ns, Timing& timing) noexcept;
  std::int64_t await_tick(std::int64_t due_ns, Timing& timing) noexcept;
  void sleep_until(std::int64_t until_ns) noexcept;
  void rest_if_owed() noexcept;
  struct Done {
    std::int64_t step, due, begun, ended;
  };
  void note(Timing& timing, const Done& done) noexcept;
  [[nodiscard]] Cause cause_of(const Timing& timing, const Done& done) noexcept;
  static constexpr std::int64_t looks_at_thread = 20'000;  // steps between
  Clock& clock_;
  Waiting waiting_;
  std::int64_t awake_from_ns_ = 0, slept_ns_ = 0;  // since then
  bool rested_ = false;                            // ahead of this step
  LateSteps late_;
  std::function<void()> follow_;
  std::int64_t waited_ns_ = 0;  // of the step at hand
  std::int64_t latest_ns_ = 0;  // when the latest step began
  ThreadUse use_;
  std::int64_t start_ns_ = 0, not_before_ns_ = 0;
  std::int64_t turn_ps_ = 0, shift_ps_ = 0;
};

/// Measures whether this computer holds `step_ns`: paces idle steps for `seconds`.
[[nodiscard]] Timing measure_fitness(std::int64_t step_ns, double seconds, Clock& clock = system_clock());

}  // namespace zavrek::pace
