// How often somebody may ask.
#pragma once

#include <algorithm>
#include <chrono>
#include <map>
#include <mutex>
#include <string>

namespace zavrek::engine::internal {

/// So many requests at once, and so many a second, from each address.
class Rates {
 public:
  [[nodiscard]] bool takes(const std::string& who) {
    const auto now = std::chrono::steady_clock::now();
    const std::lock_guard lock(mutex_);
    if (buckets_.size() > most_known) buckets_.clear();
    auto [at, fresh] = buckets_.try_emplace(who, Bucket{burst, now});
    Bucket& bucket = at->second;
    bucket.left =
        std::min(burst, bucket.left + a_second * std::chrono::duration<double>(now - bucket.seen).count());
    bucket.seen = now;
    if (bucket.left < 1) return false;
    bucket.left -= 1;
    return true;
  }

 private:
  static constexpr double burst = 4000, a_second = 2000;
  static constexpr std::size_t most_known = 10'000;
  struct Bucket {
    double left;
    std::chrono::steady_clock::time_point seen;
  };
  std::mutex mutex_;
  std::map<std::string, Bucket> buckets_;
};

}  // namespace zavrek::engine::internal
