// What is read of others, each as a function of bytes that must neither crash, hang, nor break what holds for
// all that is taken. The tests run them over a kept corpus and damage of it; `./dev fuzz` under libFuzzer.
#pragma once

#include <cstdint>
#include <span>

namespace zavrek::fuzz {

struct Target {
  const char* name;
  void (*run)(std::span<const std::uint8_t> input);
};
[[nodiscard]] std::span<const Target> targets();

}  // namespace zavrek::fuzz
