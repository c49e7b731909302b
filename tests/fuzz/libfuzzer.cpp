// One target, named when this is compiled, as libFuzzer calls it.
#include <cstddef>
#include <cstdint>
#include <cstdlib>
#include <string_view>

#include "fuzz/targets.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const auto run = [] {
    for (const zavrek::fuzz::Target& target : zavrek::fuzz::targets()) {
      if (std::string_view(target.name) == ZAVREK_FUZZ_TARGET) return target.run;
    }
    std::abort();
  }();
  run({data, size});
  return 0;
}
