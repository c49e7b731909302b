#include <algorithm>
#include <array>
#include <cerrno>
#include <ctime>
#include <utility>

#include <fmt/format.h>
#include <sched.h>
#include <sys/resource.h>
#include <unistd.h>

#include "pace/processor_ticks.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::pace {
namespace {

/// Sleeping wakes late by tens of microseconds on an ordinary kernel, so the last stretch is spun. The
/// sleep also keeps a real-time thread under the kernel's limit of 95 % of each second.
constexpr std::int64_t spin_ns = 25'000;
/// A thread that must rest sleeps 60 us of each millisecond, 6 %, whatever is due: a few steps late, made up
/// at once, where the kernel would keep it for 50 ms.
constexpr std::int64_t rests_every_ns = 1'000'000, rests_for_ns = 60'000;

class SystemClock final : public Clock {
 public:
  std::int64_t now_ns() noexcept override {
    timespec now{};
    clock_gettime(CLOCK_MONOTONIC, &now);
    return static_cast<std::int64_t>(now.tv_sec) * 1'000'000'000 + now.tv_nsec;
  }
  void sleep_until_ns(std::int64_t until_ns) noexcept override {
    const timespec until{until_ns / 1'000'000'000, until_ns % 1'000'000'000};
    clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, nullptr);
  }
  std::int64_t stolen_ns() noexcept override {
    const auto ticks = internal::read_processor_ticks("/proc/stat");
    const auto own = ticks.find(::sched_getcpu());
    return own == ticks.end() ? 0 : own->second.stolen * (1'000'000'000 / ::sysconf(_SC_CLK_TCK));
  }
  ThreadUse thread_use() noexcept override {
    rusage use{};
    (void)::getrusage(RUSAGE_THREAD, &use);
    return {use.ru_nivcsw, use.ru_minflt + use.ru_majflt};
  }
};

std::string show(std::int64_t ns) { return print_rounded(static_cast<double>(ns) * 1e-9, "s", 3); }

}  // namespace

Clock& system_clock() {
  static SystemClock clock;
  return clock;
}

std::int64_t utc_ns() noexcept {
  timespec now{};
  clock_gettime(CLOCK_REALTIME, &now);
  return static_cast<std::int64_t>(now.tv_sec) * 1'000'000'000 + now.tv_nsec;
}

void Executive::sleep_until(std::int64_t until_ns) noexcept {
  const std::int64_t before = clock_.now_ns();
  clock_.sleep_until_ns(until_ns);
  slept_ns_ += clock_.now_ns() - before;
}

void Executive::rest_if_owed() noexcept {
  rested_ = false;
  const std::int64_t now = clock_.now_ns();
  if (now - awake_from_ns_ < rests_every_ns) return;
  rested_ = slept_ns_ < rests_for_ns;
  if (rested_) sleep_until(now + rests_for_ns - slept_ns_);
  awake_from_ns_ = now;
  slept_ns_ = 0;
}

std::int64_t Executive::await(std::int64_t due_ns, std::int64_t step_ns, Timing& timing) noexcept {
  if (follow_) return await_tick(due_ns, timing);
  std::int64_t until = due_ns;
  if (late_.rate > 0 && latest_ns_ > 0)
    until =
        std::max(until, latest_ns_ + static_cast<std::int64_t>(static_cast<double>(step_ns) / late_.rate));
  if (waiting_ == Waiting::rests) rest_if_owed();
  std::int64_t now = clock_.now_ns();
  while (now < until) {
    if (waiting_ != Waiting::spins && until - now > spin_ns) sleep_until(until - spin_ns);
    now = clock_.now_ns();
  }
  timing.lateness.add(now - due_ns);
  latest_ns_ = now;
  return now;
}

/// The pace is moved so that the next step is due a step behind this tick.
std::int64_t Executive::await_tick(std::int64_t due_ns, Timing& timing) noexcept {
  follow_();
  const std::int64_t now = clock_.now_ns();
  if (timing.steps > 0) timing.lateness.add(std::max<std::int64_t>(0, now - due_ns));
  shift_ps_ += 1000 * (now - due_ns);
  latest_ns_ = now;
  return now;
}

void Executive::note(Timing& timing, const Done& done) noexcept {
  timing.compute.add(done.ended - done.begun);
  if (timing.pace != Pace::wall) return;
  if (done.step % looks_at_thread == 0) use_ = clock_.thread_use();
  const std::int64_t late = done.ended - done.due - timing.step_ns;
  if (late <= 0) {
    timing.overrun_steps_now = 0;
    return;
  }
  const Cause cause = cause_of(timing, done);
  ++timing.causes[static_cast<std::size_t>(cause)];
  if (const std::int64_t took = done.ended - done.begun;
      cause == Cause::own_work && took > timing.longest_own.took_ns)
    timing.longest_own = {done.step, took, 0, false};
  ++timing.overruns;
  timing.longest_overrun_steps = std::max(timing.longest_overrun_steps, ++timing.overrun_steps_now);
  if (late > timing.worst_overrun_ns) {
    timing.worst_overrun_ns = late;
    timing.worst_overrun_step = done.step;
  }
}

Cause Executive::cause_of(const Timing& timing, const Done& done) noexcept {
  const ThreadUse was = std::exchange(use_, clock_.thread_use());
  if (timing.overrun_steps_now > 0 && done.ended - done.begun < timing.step_ns) return Cause::catching_up;
  if (rested_) return Cause::resting;
  if (waited_ns_ > timing.step_ns / 4) return Cause::partner;
  if (use_.switched_out != was.switched_out) return Cause::another_thread;
  if (use_.faults != was.faults) return Cause::memory;
  constexpr std::int64_t usual_times = 20;
  const bool began_late = done.begun - done.due > timing.step_ns / 4;
  const bool far_longer = done.ended - done.begun > usual_times * timing.compute.quantile_ns(0.5);
  return began_late || far_longer ? Cause::machine : Cause::own_work;
}

const char* to_string(Cause cause) {
  constexpr std::array words{"catching up",
                             "another thread ran",
                             "memory was fetched",
                             "the machine was away",
                             "it rested, as the kernel demands",
                             "a partner was late",
                             "the step's own work"};
  return words[static_cast<std::size_t>(cause)];
}

std::string why_late(const Timing& timing) {
  std::string why;
  for (std::size_t k = 0; k < timing.causes.size(); ++k) {
    if (timing.causes[k] > 0)
      why +=
          fmt::format("{}{} {}", why.empty() ? "" : ", ", timing.causes[k], to_string(static_cast<Cause>(k)));
  }
  if (!why.empty() && timing.stolen_ns > 0)
    why += fmt::format("; the host of this virtual machine took {} of the processor", show(timing.stolen_ns));
  return why;
}

std::string to_string(const Timing& timing) {
  const double simulated = static_cast<double>(timing.steps * timing.step_ns) * 1e-9;
  const double elapsed = static_cast<double>(timing.elapsed_ns) * 1e-9;
  const std::string each =
      timing.plant_steps == 1 ? "" : fmt::format(", {} of the plant in each", timing.plant_steps);
  std::string text = fmt::format("{} steps of {}{}{}: {} simulated in {}", timing.steps, show(timing.step_ns),
                                 each, timing.followed ? ", begun by a partner's tick" : "",
                                 print_rounded(simulated, "s"), print_rounded(elapsed, "s"));
  if (timing.pace == Pace::free && elapsed > 0)
    text += fmt::format(" ({:.1f} times real time)", simulated / elapsed);
  const auto row = [&](std::string_view name, const Histogram& h) {
    text += fmt::format("\n  {:<18}{:>10}{:>10}{:>10}", name, show(h.quantile_ns(0.5)),
                        show(h.quantile_ns(0.999)), show(h.max_ns()));
  };
  text += fmt::format("\n  {:<18}{:>10}{:>10}{:>10}", "", "median", "99.9 %", "max");
  row("compute time", timing.compute);
  if (timing.pace == Pace::wall) {
    row("start lateness", timing.lateness);
    text += fmt::format("\n  overruns          {:>10}", timing.overruns);
    if (timing.overruns > 0) {
      text += fmt::format(
          "   {} in a row, worst in step {} (t = {}), {} late", timing.longest_overrun_steps,
          timing.worst_overrun_step,
          print_rounded(static_cast<double>(timing.worst_overrun_step * timing.step_ns) * 1e-9, "s"),
          show(timing.worst_overrun_ns));
      text += "\n    why             " + why_late(timing);
      if (const OwnWork& own = timing.longest_own; own.step >= 0)
        text += fmt::format("\n                    the longest by its own work: step {}, {}, with {}{}",
                            own.step, show(own.took_ns),
                            own.discontinuities == 1 ? "1 discontinuity"
                                                     : fmt::format("{} discontinuities", own.discontinuities),
                            own.controlled ? " and the control's turn" : "");
    }
  }
  for (const std::string& shortcoming : timing.grants.shortcomings) text += "\n  note: " + shortcoming;
  return text;
}

Punctuality punctuality(const Timing& timing) {
  Punctuality kept;
  if (timing.pace != Pace::wall) return kept;
  const double step_s = 1e-9 * static_cast<double>(timing.step_ns);
  kept.paced = true;
  kept.steps = timing.steps;
  kept.late_steps = timing.overruns;
  kept.longest_late_steps = timing.longest_overrun_steps;
  kept.longest_late_s = static_cast<double>(timing.longest_overrun_steps) * step_s;
  kept.worst_late_s = 1e-9 * static_cast<double>(timing.worst_overrun_ns);
  kept.worst_at_s = timing.overruns > 0 ? static_cast<double>(timing.worst_overrun_step) * step_s : 0;
  kept.held_back_s = 1e-9 * static_cast<double>(timing.lateness.max_ns());
  return kept;
}

void Punctuality::add(const Punctuality& next) {
  paced = paced || next.paced;
  steps += next.steps;
  late_steps += next.late_steps;
  longest_late_steps = std::max(longest_late_steps, next.longest_late_steps);
  longest_late_s = std::max(longest_late_s, next.longest_late_s);
  if (next.worst_late_s > worst_late_s) {
    worst_late_s = next.worst_late_s;
    worst_at_s = next.worst_at_s;
  }
  held_back_s = std::max(held_back_s, next.held_back_s);
}

std::string to_string(const Punctuality& kept) {
  return fmt::format("{} of {} steps ended late ({:.3g} %), {} in a row, the worst by {} at {}",
                     kept.late_steps, kept.steps, 100 * kept.late_share(), kept.longest_late_steps,
                     print_rounded(kept.worst_late_s, "s", 3), print_rounded(kept.worst_at_s, "s", 4));
}

Timing measure_fitness(std::int64_t step_ns, double seconds, Clock& clock) {
  const RealtimeGrants grants = acquire_realtime();
  const auto steps = std::max<std::int64_t>(1, static_cast<std::int64_t>(seconds * 1e9) / step_ns);
  Timing timing =
      Executive(clock, grants.waiting()).run(Pace::wall, step_ns, steps, [](std::int64_t) { return true; });
  leave_realtime();
  timing.grants = grants;
  return timing;
}

}  // namespace zavrek::pace
