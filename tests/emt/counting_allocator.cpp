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
void operator delete(void* memory) noexcept { std::free(memory); }
void operator delete(void* memory, std::size_t) noexcept { std::free(memory); }
