#pragma once

#include <atomic>

namespace zavrek {

/// A number as it stands, of one that another thread writes by `note`.
template <class Number>
[[nodiscard]] Number seen(const Number& number) noexcept {
  return std::atomic_ref<Number>(const_cast<Number&>(number)).load(std::memory_order_relaxed);
}
/// By the one thread that writes it, for any that `seen` it meanwhile.
template <class Number>
void note(Number& number, Number is) noexcept {
  std::atomic_ref<Number>(number).store(is, std::memory_order_relaxed);
}

/// What one thread counts and any may read while it does, at the cost of a plain number. Copies are taken by
/// whoever may: they are not one instant of several counts.
class Count {
 public:
  Count(long long count = 0) noexcept : count_(count) {}
  Count(const Count&) noexcept = default;
  Count& operator=(const Count&) noexcept = default;
  Count& operator=(long long count) noexcept {
    note(count_, count);
    return *this;
  }
  operator long long() const noexcept { return seen(count_); }
  Count& operator++() noexcept { return *this += 1; }
  Count& operator+=(long long more) noexcept { return *this = count_ + more; }

 private:
  alignas(std::atomic_ref<long long>::required_alignment) long long count_;
};

}  // namespace zavrek
