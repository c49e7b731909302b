#include "zavrek/pace/crew.hpp"

#include <pthread.h>
#include <sched.h>

#include <algorithm>

namespace zavrek::pace {
namespace {

/// Looks for work this often before it sleeps: about a millisecond.
constexpr int patience = 30'000;

void relax() noexcept {
#if defined(__x86_64__)
  __builtin_ia32_pause();
#endif
}

std::vector<int> allowed_processors() {
  cpu_set_t set;
  CPU_ZERO(&set);
  std::vector<int> all;
  if (sched_getaffinity(0, sizeof set, &set) != 0) return all;
  for (int k = 0; k < CPU_SETSIZE; ++k) {
    if (CPU_ISSET(k, &set)) all.push_back(k);
  }
  return all;
}

void pin(std::thread& thread, int processor) {
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(processor, &one);
  (void)pthread_setaffinity_np(thread.native_handle(), sizeof one, &one);
}

}  // namespace

int Crew::processors() { return std::max(1, static_cast<int>(allowed_processors().size())); }

Crew::Crew(int cores) {
  const std::vector<int> processors = allowed_processors();
  for (int k = 1; k < cores; ++k) finished_.push_back(std::make_unique<Finished>());
  for (int k = 1; k < cores; ++k) {
    threads_.emplace_back([this, k] { help(k); });
    // The caller of `run` takes the last processor (acquire_realtime).
    const auto n = static_cast<int>(processors.size());
    if (k < n) pin(threads_.back(), processors[static_cast<std::size_t>(n - 1 - k)]);
  }
}

Crew::~Crew() {
  leaving_ = true;
  ++generation_;
  generation_.notify_all();
  for (std::thread& thread : threads_) thread.join();
}

void Crew::run(int count, void (*work)(const void* what, int k) noexcept, const void* what) noexcept {
  count_ = count;
  work_ = work;
  what_ = what;
  const unsigned generation = generation_.fetch_add(1) + 1;
  if (asleep_.load() > 0) generation_.notify_all();
  const int all = cores();
  for (int k = 0; k < count; k += all) work(what, k);
  for (const auto& helper : finished_) {
    while (helper->generation.load(std::memory_order_acquire) != generation) relax();
  }
}

void Crew::help(int core) noexcept {
  std::atomic<unsigned>& finished = finished_[static_cast<std::size_t>(core - 1)]->generation;
  const int all = static_cast<int>(finished_.size()) + 1;
  for (unsigned done = 0;;) {
    for (int k = 0; k < patience && generation_.load(std::memory_order_acquire) == done; ++k) relax();
    if (generation_.load() == done) {
      ++asleep_;
      generation_.wait(done);
      --asleep_;
    }
    if (leaving_) return;
    done = generation_.load(std::memory_order_acquire);
    for (int k = core; k < count_; k += all) work_(what_, k);
    finished.store(done, std::memory_order_release);
  }
}

}  // namespace zavrek::pace
