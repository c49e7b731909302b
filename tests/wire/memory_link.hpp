#pragma once

#include <algorithm>
#include <cstdint>
#include <deque>
#include <span>
#include <string>
#include <vector>

#include "zavrek/wire.hpp"

namespace zavrek::wire {

using Frame = std::vector<std::uint8_t>;

/// A medium in memory: what one party sends, the other may read.
class MemoryLink final : public Link {
 public:
  std::deque<Frame> frames;
  bool send(Bytes frame) noexcept override {
    frames.emplace_back(frame.begin(), frame.end());
    return true;
  }
  std::size_t receive(std::span<std::uint8_t> out) noexcept override {
    if (frames.empty()) return 0;
    const Frame frame = frames.front();
    frames.pop_front();
    std::copy(frame.begin(), frame.end(), out.begin());
    return frame.size();
  }
  bool wait(int) noexcept override { return !frames.empty(); }
  const std::string& description() const noexcept override { return name_; }

 private:
  std::string name_ = "memory";
};

inline Frame frame_of(const auto& message) {
  Frame frame(longest_frame);
  frame.resize(encode(message, frame));
  return frame;
}

inline SampledValues sample_message() {
  SampledValues m;
  m.address = sampled_values_address(0x4001);
  m.first().id = "S1";
  m.first().count = 5;
  for (MeasuredValue& value : m.first().values) value.value = 1;
  return m;
}

}  // namespace zavrek::wire
