#include <cerrno>
#include <cstring>
#include <fstream>

#include <fmt/format.h>
#include <pthread.h>
#include <sched.h>
#include <sys/mman.h>

#include "zavrek/pace.hpp"

namespace zavrek::pace {
namespace {

constexpr int priority_running = 80;
/// Of what sleeps until it is called, and is done in microseconds: a thread that spins must not keep it
/// waiting.
constexpr int priority_called = 81;
constexpr int priority_carrying = 82;
thread_local cpu_set_t processors_before;
thread_local bool processors_known = false;

int last_of(const cpu_set_t& processors) {
  int last = -1;
  for (int k = 0; k < CPU_SETSIZE; ++k) {
    if (CPU_ISSET(k, &processors)) last = k;
  }
  return last;
}
/// The last one where there is no other.
int last_but_one_of(cpu_set_t processors) {
  const int last = last_of(processors);
  CPU_CLR(last, &processors);
  return CPU_COUNT(&processors) == 0 ? last : last_of(processors);
}

bool remember_processors() {
  CPU_ZERO(&processors_before);
  processors_known =
      pthread_getaffinity_np(pthread_self(), sizeof processors_before, &processors_before) == 0;
  return processors_known;
}

void pin(int cpu, RealtimeGrants& grants) {
  if (!remember_processors()) return;
  if (cpu < 0) cpu = cpu == -2 ? last_but_one_of(processors_before) : last_of(processors_before);
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(cpu, &one);
  grants.pinned = pthread_setaffinity_np(pthread_self(), sizeof one, &one) == 0;
  if (!grants.pinned) grants.shortcomings.push_back(fmt::format("not pinned to processor {}", cpu));
}

void leave_last_processor() {
  if (!remember_processors() || CPU_COUNT(&processors_before) < 2) return;
  cpu_set_t others = processors_before;
  CPU_CLR(last_of(others), &others);
  (void)pthread_setaffinity_np(pthread_self(), sizeof others, &others);
}

void take_priority(RealtimeGrants& grants, int priority) {
  sched_param parameter{};
  parameter.sched_priority = priority;
  const int status = pthread_setschedparam(pthread_self(), SCHED_FIFO, &parameter);
  grants.realtime_priority = status == 0;
  if (status != 0) {
    grants.shortcomings.push_back(
        fmt::format("no real-time priority ({}); run as root or with the capability cap_sys_nice",
                    std::strerror(status)));
  }
}

/// By default the kernel lets real-time threads run 95 % of each second and then stops those that never
/// slept, for tens of milliseconds; -1 lifts that.
bool stops_who_never_sleeps() {
  long long runtime_us = 0;
  std::ifstream("/proc/sys/kernel/sched_rt_runtime_us") >> runtime_us;
  return runtime_us >= 0;
}

void ask_throttle(RealtimeGrants& grants) {
  grants.may_spin = grants.realtime_priority && !stops_who_never_sleeps();
  if (grants.realtime_priority && !grants.may_spin) {
    grants.shortcomings.emplace_back(
        "the kernel stops real-time threads that never sleep, so waiting sleeps and wakes late, at short "
        "steps "
        "for 60 us of each millisecond; "
        "`sysctl kernel.sched_rt_runtime_us=-1` lifts that");
  }
}

void lock_memory(RealtimeGrants& grants) {
  grants.memory_locked = mlockall(MCL_CURRENT | MCL_FUTURE) == 0;
  if (!grants.memory_locked) {
    grants.shortcomings.push_back(
        fmt::format("memory not locked ({}); raise `ulimit -l` or run as root", std::strerror(errno)));
  }
}

}  // namespace

RealtimeGrants acquire_realtime(int cpu) {
  RealtimeGrants grants;
  lock_memory(grants);
  pin(cpu, grants);
  take_priority(grants, priority_running);
  ask_throttle(grants);
  return grants;
}

RealtimeGrants acquire_realtime_beside(bool carries) {
  RealtimeGrants grants;
  lock_memory(grants);
  leave_last_processor();
  take_priority(grants, carries ? priority_carrying : priority_called);
  grants.may_spin = grants.realtime_priority && !stops_who_never_sleeps();
  return grants;
}

void keep_off_plant_processor() { leave_last_processor(); }

void leave_realtime() {
  sched_param parameter{};
  pthread_setschedparam(pthread_self(), SCHED_OTHER, &parameter);
  if (processors_known) pthread_setaffinity_np(pthread_self(), sizeof processors_before, &processors_before);
  munlockall();
}

}  // namespace zavrek::pace
