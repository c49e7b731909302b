#include <algorithm>
#include <cerrno>
#include <chrono>
#include <cstring>
#include <thread>
#include <utility>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include "wire/message_ring.hpp"
#include "zavrek/error.hpp"
#include "zavrek/wire/control_link.hpp"

namespace zavrek::wire {
namespace {

constexpr std::uint64_t slots = 8;
constexpr std::int64_t looks_for_ns = 1'000'000, nap_ns = 100'000;
/// A sleeper is up again so long ahead of the next question.
constexpr std::int64_t up_before_ns = 60'000;

std::int64_t now_ns() noexcept {
  using Steady = std::chrono::steady_clock;
  return std::chrono::duration_cast<std::chrono::nanoseconds>(Steady::now().time_since_epoch()).count();
}
void sleep_ns(std::int64_t ns) noexcept { std::this_thread::sleep_for(std::chrono::nanoseconds(ns)); }

}  // namespace

struct ControlMemory::Shared {
  using Ring = internal::MessageRing<longest_control_message, slots>;
  Ring asks, answers;
};

ControlMemory ControlMemory::make() {
  const std::string name = "/zavrek-control-" + to_string(random_key());
  const int file = ::shm_open(name.c_str(), O_CREAT | O_EXCL | O_RDWR | O_CLOEXEC, 0600);
  void* bytes = MAP_FAILED;
  if (file >= 0 && ::ftruncate(file, sizeof(Shared)) == 0)
    bytes = ::mmap(nullptr, sizeof(Shared), PROT_READ | PROT_WRITE, MAP_SHARED, file, 0);
  const std::string why = std::strerror(errno);
  if (file >= 0) ::close(file);
  if (bytes == MAP_FAILED) {
    if (file >= 0) ::shm_unlink(name.c_str());
    throw Error(fmt::format("no memory to share with the controller: {}", why));
  }
  return {name, static_cast<Shared*>(bytes), true};
}

ControlMemory ControlMemory::open(const std::string& name) {
  const int file = ::shm_open(name.c_str(), O_RDWR | O_CLOEXEC, 0);
  struct stat is {};
  void* bytes = MAP_FAILED;
  if (file >= 0 && ::fstat(file, &is) == 0 && is.st_size == static_cast<off_t>(sizeof(Shared)))
    bytes = ::mmap(nullptr, sizeof(Shared), PROT_READ | PROT_WRITE, MAP_SHARED, file, 0);
  if (file >= 0) ::close(file);
  if (bytes == MAP_FAILED)
    throw Error(fmt::format("\"{}\" is no memory that a run shares with its controller", name));
  ::shm_unlink(name.c_str());
  return {name, static_cast<Shared*>(bytes), false};
}

ControlMemory::ControlMemory(ControlMemory&& other) noexcept
    : name_(std::move(other.name_)),
      shared_(std::exchange(other.shared_, nullptr)),
      plant_(other.plant_),
      period_ns_(other.period_ns_),
      came_ns_(other.came_ns_) {}

ControlMemory::~ControlMemory() {
  if (shared_ == nullptr) return;
  ::munmap(shared_, sizeof(Shared));
  if (plant_) ::shm_unlink(name_.c_str());  // of one that never came
}

bool ControlMemory::send(Bytes message, int /*to_port*/) noexcept {
  return (plant_ ? shared_->asks : shared_->answers).put(message);
}

std::size_t ControlMemory::receive(std::span<std::uint8_t> into, int wait_ms, int* from_port) noexcept {
  Shared::Ring& ring = plant_ ? shared_->answers : shared_->asks;
  if (from_port) *from_port = -1;
  if (ring.empty() && wait_ms > 0) {
    const std::int64_t begun = now_ns(), until = begun + wait_ms * 1'000'000LL;
    if (const std::int64_t next = came_ns_ + period_ns_ - up_before_ns; period_ns_ > 0 && next > begun)
      sleep_ns(std::min(next, until) - begun);
    for (std::int64_t now = begun; ring.empty() && now < until; now = now_ns()) {
      if (now - begun > looks_for_ns) sleep_ns(nap_ns);
    }
  }
  if (ring.empty()) return 0;
  if (period_ns_ > 0) came_ns_ = now_ns();
  return ring.take(into);
}

}  // namespace zavrek::wire
