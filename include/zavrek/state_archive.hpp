#pragma once

#include <cassert>
#include <cstddef>
#include <cstring>
#include <span>
#include <type_traits>
#include <vector>

namespace zavrek {

/// The state of something that runs on its way out of it, or back. Every type that has state says once which
/// of its members that is (`visit_state`); all else is program: it stands from the start on and is shared by
/// all instants.
class StateArchive {
 public:
  /// Out of it: overwrites the bytes.
  explicit StateArchive(std::vector<std::byte>& into) : into_(&into) { into.clear(); }
  /// Back into it, from the first byte on.
  explicit StateArchive(std::span<const std::byte> from) : from_(from) {}

  template <class Number>
  requires std::is_trivially_copyable_v<Number>
  void operator()(Number& number) { carry(&number, sizeof number); }
  /// A vector may be of another length when it comes back.
  template <class Number, class Allocator>
  requires std::is_trivially_copyable_v<Number>
  void operator()(std::vector<Number, Allocator>& numbers) {
    std::size_t count = numbers.size();
    carry(&count, sizeof count);
    numbers.resize(count);
    carry(numbers.data(), count * sizeof(Number));
  }
  template <class... All>
  requires(sizeof...(All) > 1) void operator()(All&... all) { ((*this)(all), ...); }
  void carry(void* memory, std::size_t size) {
    if (size == 0) return;
    if (into_ != nullptr) {
      const auto* first = static_cast<const std::byte*>(memory);
      into_->insert(into_->end(), first, first + size);
    } else {
      assert(size <= from_.size());
      std::memcpy(memory, from_.data(), size);
      from_ = from_.subspan(size);
    }
  }
  [[nodiscard]] bool restores() const noexcept { return into_ == nullptr; }
  /// By a type whose state is not within reach: what is kept then is no whole.
  void miss() noexcept { whole_ = false; }
  [[nodiscard]] bool whole() const noexcept { return whole_; }

 private:
  std::vector<std::byte>* into_ = nullptr;
  bool whole_ = true;
  std::span<const std::byte> from_;
};

}  // namespace zavrek
