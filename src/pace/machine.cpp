#include "zavrek/pace/machine.hpp"

#include <algorithm>
#include <array>
#include <chrono>
#include <fstream>
#include <numeric>
#include <sstream>

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <sched.h>

#include "pace/processor_ticks.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::pace {
namespace {

namespace fs = std::filesystem;

/// The first line of a file; empty where there is none.
std::string line_of(const fs::path& file) {
  std::ifstream stream(file);
  std::string line;
  std::getline(stream, line);
  return line;
}

long long number_of(const fs::path& file) {
  long long number = 0;
  std::istringstream(line_of(file)) >> number;
  return number;
}

/// "0-2,5" as the kernel writes lists of processors.
std::vector<int> list_of(const std::string& text) {
  std::vector<int> all;
  std::istringstream stream(text);
  for (std::string part; std::getline(stream, part, ',');) {
    std::istringstream ends(part);
    int first = 0, last = 0;
    char dash = 0;
    if (!(ends >> first)) continue;
    last = ends >> dash >> last ? last : first;
    for (int k = first; k <= last; ++k) all.push_back(k);
  }
  return all;
}

bool has(const std::vector<int>& all, int one) { return std::find(all.begin(), all.end(), one) != all.end(); }

/// Whether "flags" of the first processor name a hypervisor.
bool under_hypervisor(const fs::path& cpuinfo) {
  std::ifstream file(cpuinfo);
  for (std::string line; std::getline(file, line);) {
    if (!line.starts_with("flags") && !line.starts_with("Features")) continue;
    std::istringstream words(line);
    for (std::string word; words >> word;) {
      if (word == "hypervisor") return true;
    }
    return false;
  }
  return false;
}

std::string shown(std::int64_t ns) { return print_rounded(1e-9 * static_cast<double>(ns), "s", 2); }

/// 1, 2, 5 of each decade from a microsecond to 10 ms.
constexpr std::array<std::int64_t, 13> usual_steps_us{1,   2,   5,    10,   20,   50,    100,
                                                      200, 500, 1000, 2000, 5000, 10'000};

}  // namespace

Machine read_machine(const fs::path& root) {
  Machine machine;
  machine.kernel = line_of(root / "proc/version");
  machine.preempts_throughout =
      number_of(root / "sys/kernel/realtime") == 1 || machine.kernel.find("PREEMPT_RT") != std::string::npos;
  machine.is_virtual = under_hypervisor(root / "proc/cpuinfo");
  machine.realtime_runtime_us = number_of(root / "proc/sys/kernel/sched_rt_runtime_us");
  const fs::path cpus = root / "sys/devices/system/cpu";
  const std::vector<int> isolated = list_of(line_of(cpus / "isolated"));
  const std::vector<int> tickless = list_of(line_of(cpus / "nohz_full"));
  const auto ticks = internal::read_processor_ticks(root / "proc/stat");
  for (const int number : list_of(line_of(cpus / "online"))) {
    const fs::path folder = cpus / fmt::format("cpu{}", number);
    Processor one;
    one.number = number;
    one.siblings = list_of(line_of(folder / "topology/thread_siblings_list"));
    std::erase(one.siblings, number);
    one.governor = line_of(folder / "cpufreq/scaling_governor");
    one.isolated = has(isolated, number);
    one.tickless = has(tickless, number);
    one.throttled = number_of(folder / "thermal_throttle/core_throttle_count");
    if (const auto found = ticks.find(number); found != ticks.end() && found->second.all > 0)
      one.stolen_share = static_cast<double>(found->second.stolen) / static_cast<double>(found->second.all);
    machine.processors.push_back(std::move(one));
  }
  return machine;
}

std::int64_t HeldUp::longest_ns() const { return ns.empty() ? 0 : *std::max_element(ns.begin(), ns.end()); }

double HeldUp::share() const {
  return seconds > 0
             ? 1e-9 * static_cast<double>(std::accumulate(ns.begin(), ns.end(), std::int64_t{0})) / seconds
             : 0;
}

double HeldUp::late_share(std::int64_t step_ns, std::int64_t work_ns) const {
  double late_ns = 0;
  for (const std::int64_t one : ns)
    late_ns += static_cast<double>(std::max<std::int64_t>(0, one + work_ns - step_ns));
  return seconds > 0 ? std::min(1.0, 1e-9 * late_ns / seconds) : 0;
}

HeldUp measure_processor(int processor, double seconds) {
  using Steady = std::chrono::steady_clock;
  HeldUp held;
  held.processor = processor;
  constexpr std::size_t most = 1'000'000;
  held.ns.reserve(most);
  const RealtimeGrants grants = acquire_realtime(processor);
  held.realtime = grants.may_spin;
  if (!held.realtime) {  // being stopped for never sleeping would be all that is seen
    const sched_param ordinary{};
    (void)::sched_setscheduler(0, SCHED_OTHER, &ordinary);
  }
  const std::int64_t stolen = system_clock().stolen_ns();
  const auto begin = Steady::now();
  const auto end =
      begin + std::chrono::duration_cast<Steady::duration>(std::chrono::duration<double>(seconds));
  auto before = begin;
  while (before < end) {
    const auto now = Steady::now();
    const std::int64_t took = std::chrono::duration_cast<std::chrono::nanoseconds>(now - before).count();
    if (took > HeldUp::least_ns && held.ns.size() < most) held.ns.push_back(took);
    before = now;
  }
  held.seconds = std::chrono::duration<double>(before - begin).count();
  held.stolen_ns = system_clock().stolen_ns() - stolen;
  leave_realtime();
  return held;
}

std::vector<int> processors_allowed() {
  cpu_set_t set;
  CPU_ZERO(&set);
  std::vector<int> all;
  if (::sched_getaffinity(0, sizeof set, &set) != 0) return all;
  for (int k = 0; k < CPU_SETSIZE; ++k) {
    if (CPU_ISSET(k, &set)) all.push_back(k);
  }
  return all;
}

std::int64_t least_step_held_ns(const HeldUp& held) {
  constexpr double most_late = 1e-4;
  for (const std::int64_t us : usual_steps_us) {
    if (held.late_share(1000 * us, 500 * us) <= most_late) return 1000 * us;
  }
  return 0;
}

const HeldUp& quietest(const std::vector<HeldUp>& held) {
  return *std::min_element(held.begin(), held.end(), [](const HeldUp& a, const HeldUp& b) {
    if ((a.processor == 0) != (b.processor == 0)) return b.processor == 0;
    const std::int64_t step_a = least_step_held_ns(a), step_b = least_step_held_ns(b);
    if (step_a != step_b) return step_a != 0 && (step_b == 0 || step_a < step_b);
    return a.share() < b.share();
  });
}

std::vector<Advice> advise(const Machine& machine, const std::vector<HeldUp>& held) {
  std::vector<Advice> all;
  if (held.empty()) return all;
  const HeldUp& chosen = quietest(held);
  const auto found = std::find_if(machine.processors.begin(), machine.processors.end(),
                                  [&](const Processor& one) { return one.number == chosen.processor; });
  if (found == machine.processors.end()) return all;
  const Processor& processor = *found;
  const int k = processor.number;
  if (machine.realtime_runtime_us >= 0)
    all.push_back(
        {fmt::format("the kernel lets real-time threads run {} us of each second and stops those that never "
                     "sleep; a run waits by sleeping, and wakes late",
                     machine.realtime_runtime_us),
         {"sysctl -w kernel.sched_rt_runtime_us=-1"},
         {}});
  if (!processor.isolated && machine.processors.size() > 1) {
    std::vector<int> others;
    for (const Processor& one : machine.processors) {
      if (one.number != k && !has(processor.siblings, one.number)) others.push_back(one.number);
    }
    if (!others.empty())
      all.push_back(
          {fmt::format("processor {} is held up least of those measured; other threads and interrupts "
                       "shall leave it alone",
                       k),
           {fmt::format("for irq in /proc/irq/*/smp_affinity_list; do echo {} > $irq 2>/dev/null; done",
                        fmt::join(others, ","))},
           fmt::format("isolcpus=managed_irq,domain,{0} nohz_full={0} rcu_nocbs={0}", k)});
  }
  if (!processor.siblings.empty()) {
    Advice advice{fmt::format("processor {} shares its core with {}: what runs there slows its steps", k,
                              fmt::join(processor.siblings, ", ")),
                  {},
                  {}};
    for (const int sibling : processor.siblings)
      advice.now.push_back(fmt::format("echo 0 > /sys/devices/system/cpu/cpu{}/online", sibling));
    all.push_back(std::move(advice));
  }
  if (!processor.governor.empty() && processor.governor != "performance")
    all.push_back(
        {fmt::format("its frequency follows its load (governor {}): the first steps behind a rest are slow",
                     processor.governor),
         {fmt::format("echo performance > /sys/devices/system/cpu/cpu{}/cpufreq/scaling_governor", k)},
         {}});
  if (processor.throttled > 0)
    all.push_back({fmt::format("it was slowed down for heat {} times since the system began: cool it",
                               processor.throttled),
                   {},
                   {}});
  if (machine.is_virtual)
    all.push_back(
        {fmt::format(
             "this is a virtual machine, whose host took {:.1f} % of the processor since it began and {} "
             "while it was measured: give it processors of its own on the host, or take a computer",
             100 * processor.stolen_share, shown(chosen.stolen_ns)),
         {},
         {}});
  if (!machine.preempts_throughout)
    all.push_back(
        {"the kernel is not built for real time (PREEMPT_RT): drivers may hold a processor for as long as "
         "they "
         "please; Debian has one as linux-image-rt-amd64",
         {},
         {}});
  return all;
}

std::string script_of(const std::vector<Advice>& advice) {
  std::string text =
      "#!/bin/sh\n# Settings of this computer for paced runs, as `zavrek fitness` advises. Read them, then "
      "run this "
      "as root.\n# They hold until the next start, but for what the kernel's command line says.\n";
  std::string words;
  for (const Advice& one : advice) {
    text += "\n# " + one.why + "\n";
    for (const std::string& line : one.now) text += line + "\n";
    if (!one.command_line.empty()) {
      words += (words.empty() ? "" : " ") + one.command_line;
      text += "# for the kernel's command line: " + one.command_line + "\n";
    }
  }
  if (!words.empty())
    text +=
        "\n# The kernel's command line, behind GRUB_CMDLINE_LINUX_DEFAULT in /etc/default/grub (then "
        "update-grub):\n#   " +
        words + "\n";
  return text;
}

}  // namespace zavrek::pace
