// What this computer is as a place for real time: its processors, what disturbs them, and what to set so that
// less does. Nothing is changed: what is found comes back as words, and as lines that a person may run.
#pragma once

#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

namespace zavrek::pace {

/// A processor as the system describes it.
struct Processor {
  int number = 0;
  std::vector<int> siblings;  ///< other threads of the same core
  std::string governor;       ///< of its frequency; empty where the system has no say
  bool isolated = false;      ///< from the scheduler (isolcpus)
  bool tickless = false;      ///< without timer interrupts while one thread runs (nohz_full)
  long long throttled = 0;    ///< times that it was slowed down for heat, since the system began
  double stolen_share = 0;    ///< of its time since then, taken by the host of a virtual machine
};
struct Machine {
  std::string kernel;                ///< name and version
  bool preempts_throughout = false;  ///< the kernel is built for real time (PREEMPT_RT)
  bool is_virtual = false;
  long long realtime_runtime_us = 0;  ///< of each second that real-time threads may take; -1: all
  std::vector<Processor> processors;
};
/// Reads /proc and /sys below `root`.
[[nodiscard]] Machine read_machine(const std::filesystem::path& root = "/");

/// Times at which a thread that only asks the clock was held up, on one processor.
struct HeldUp {
  static constexpr std::int64_t least_ns = 1000;
  int processor = 0;
  double seconds = 0;
  std::vector<std::int64_t> ns;  ///< each that lasted longer than `least_ns`
  std::int64_t stolen_ns = 0;    ///< by the host, as it says
  bool realtime = false;         ///< at real-time priority
  [[nodiscard]] std::int64_t longest_ns() const;
  [[nodiscard]] double per_second() const {
    return seconds > 0 ? static_cast<double>(ns.size()) / seconds : 0;
  }
  /// Share of the time.
  [[nodiscard]] double share() const;
  /// Of steps of `step_ns` with work of `work_ns` in each, the share that ends late by these alone: those
  /// whose tick lies so far ahead of an end that no time is left for their work.
  [[nodiscard]] double late_share(std::int64_t step_ns, std::int64_t work_ns) const;
};
/// Asks the clock on a processor for so long, at real-time priority where that is allowed.
[[nodiscard]] HeldUp measure_processor(int processor, double seconds);
/// The processors that this process may run on.
[[nodiscard]] std::vector<int> processors_allowed();

/// The least of the usual steps (1, 2, 5 ... us) of which at most one in ten thousand ends late when half of
/// it is work; 0 when that is none up to 10 ms.
[[nodiscard]] std::int64_t least_step_held_ns(const HeldUp& held);

/// One thing to set: why, and the lines that set it (of a shell, or for the kernel's command line).
struct Advice {
  std::string why;
  std::vector<std::string> now;  ///< lines of a shell, until the next start
  std::string command_line;      ///< words for the kernel's command line, from the next start on
};
/// For a run on the processor that is held up least.
[[nodiscard]] std::vector<Advice> advise(const Machine& machine, const std::vector<HeldUp>& held);
/// The processor of these that is held up least; the first one, which starts the system and keeps its timers,
/// only where there is no other.
[[nodiscard]] const HeldUp& quietest(const std::vector<HeldUp>& held);
/// A script of what is advised, with its reasons; it changes nothing before a person runs it.
[[nodiscard]] std::string script_of(const std::vector<Advice>& advice);

}  // namespace zavrek::pace
