// Counts every allocation of the program, so that a test can show that a step makes none.
#include <cstdlib>
#include <new>

namespace zavrek::test {
long long allocations = 0;
}

void* operator new(std::size_t size) {
  ++zavrek::test::allocations;
  if (void* memory = std::malloc(size)) return memory;
  throw std::bad_alloc();
}
void* operator new(std::size_t size, std::align_val_t alignment) {
  ++zavrek::test::allocations;
  const auto line = static_cast<std::size_t>(alignment);
  if (void* memory = std::aligned_alloc(line, (size + line - 1) / line * line)) return memory;
  throw std::bad_alloc();
}
void* operator new(std::size_t size, const std::nothrow_t&) noexcept {
  ++zavrek::test::allocations;
  return std::malloc(size);
}
void operator delete(void* memory, std::align_val_t) noexcept { std::free(memory); }
void operator delete(void* memory, std::size_t, std::align_val_t) noexcept { std::free(memory); }
void operator delete(void* memory) noexcept { std::free(memory); }
void operator delete(void* memory, std::size_t) noexcept { std::free(memory); }
