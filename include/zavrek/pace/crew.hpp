// Threads that help one plant with its steps.
#pragma once

#include <atomic>
#include <memory>
#include <thread>
#include <vector>

#include "zavrek/emt.hpp"

namespace zavrek::pace {

/// `cores` - 1 threads beside the one that calls `run`, each pinned to a processor of its own where the
/// system lets it (counted downwards from the one below the caller's). They wait for work by spinning, so
/// that a step loses some hundred nanoseconds and not a system call; without work for a millisecond they
/// sleep, and the first run after that wakes them. They take no real-time priority: the kernel would stop a
/// thread that only spins.
class Crew final : public emt::StepWorkers {
 public:
  /// `cores` from 1; more than the computer has make no sense, but do no harm.
  explicit Crew(int cores);
  Crew(const Crew&) = delete;
  Crew& operator=(const Crew&) = delete;
  ~Crew() override;

  /// Share k goes to core k modulo the number of cores: the same in each step, so that its numbers stay in
  /// that core's caches.
  void run(int count, void (*work)(const void* what, int k) noexcept, const void* what) noexcept override;

  [[nodiscard]] int cores() const { return static_cast<int>(threads_.size()) + 1; }
  /// Processors that this process may run on.
  [[nodiscard]] static int processors();

 private:
  struct alignas(64) Finished {
    std::atomic<unsigned> generation{0};
  };

  void help(int core) noexcept;

  // Written by `run` before it raises `generation_`.
  int count_ = 0;
  void (*work_)(const void*, int) noexcept = nullptr;
  const void* what_ = nullptr;

  alignas(64) std::atomic<unsigned> generation_{0};
  std::atomic<int> asleep_{0};
  std::atomic<bool> leaving_{false};
  std::vector<std::unique_ptr<Finished>> finished_;  // per helper: the newest generation that it has done
  std::vector<std::thread> threads_;
};

}  // namespace zavrek::pace
