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

constexpr int priority = 80;
thread_local cpu_set_t processors_before;
thread_local bool processors_known = false;

void pin(int cpu, Footing& footing) {
  CPU_ZERO(&processors_before);
  if (pthread_getaffinity_np(pthread_self(), sizeof processors_before, &processors_before) != 0) return;
  processors_known = true;
  if (cpu < 0) {
    for (int k = 0; k < CPU_SETSIZE; ++k) {
      if (CPU_ISSET(k, &processors_before)) cpu = k;
    }
  }
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(cpu, &one);
  footing.pinned = pthread_setaffinity_np(pthread_self(), sizeof one, &one) == 0;
  if (!footing.pinned) footing.shortcomings.push_back(fmt::format("not pinned to processor {}", cpu));
}

void take_priority(Footing& footing) {
  sched_param parameter{};
  parameter.sched_priority = priority;
  const int status = pthread_setschedparam(pthread_self(), SCHED_FIFO, &parameter);
  footing.realtime_priority = status == 0;
  if (status != 0) {
    footing.shortcomings.push_back(
        fmt::format("no real-time priority ({}); run as root or with the capability cap_sys_nice",
                    std::strerror(status)));
  }
}

void lock_memory(Footing& footing) {
  footing.memory_locked = mlockall(MCL_CURRENT | MCL_FUTURE) == 0;
  if (!footing.memory_locked) {
    footing.shortcomings.push_back(
        fmt::format("memory not locked ({}); raise `ulimit -l` or run as root", std::strerror(errno)));
  }
}

}  // namespace

Footing take_footing(int cpu) {
  Footing footing;
  lock_memory(footing);
  pin(cpu, footing);
  take_priority(footing);
  return footing;
}

void leave_footing() {
  sched_param parameter{};
  pthread_setschedparam(pthread_self(), SCHED_OTHER, &parameter);
  if (processors_known) pthread_setaffinity_np(pthread_self(), sizeof processors_before, &processors_before);
  munlockall();
}

}  // namespace zavrek::pace
