#pragma once

#include <filesystem>
#include <map>

namespace zavrek::pace::internal {

/// Of a processor since the system began, in ticks of the system: all of them, and those that the host of a
/// virtual machine took.
struct ProcessorTicks {
  long long all = 0, stolen = 0;
};
/// By processor, as a file like /proc/stat has them; none where it cannot be read.
[[nodiscard]] std::map<int, ProcessorTicks> read_processor_ticks(const std::filesystem::path& stat);

}  // namespace zavrek::pace::internal
