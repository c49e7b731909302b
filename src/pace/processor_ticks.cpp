#include "pace/processor_ticks.hpp"

#include <array>
#include <fstream>
#include <numeric>
#include <sstream>
#include <string>

namespace zavrek::pace::internal {

std::map<int, ProcessorTicks> read_processor_ticks(const std::filesystem::path& stat) {
  std::map<int, ProcessorTicks> processors;
  std::ifstream file(stat);
  for (std::string line; std::getline(file, line);) {
    if (!line.starts_with("cpu") || line.size() < 4 || line[3] == ' ') continue;
    std::istringstream words(line.substr(3));
    int number = 0;
    constexpr std::size_t stolen = 7;  // proc(5): user nice system idle iowait irq softirq steal
    std::array<long long, stolen + 1> ticks{};
    words >> number;
    for (long long& one : ticks) words >> one;
    if (words) processors[number] = {std::accumulate(ticks.begin(), ticks.end(), 0LL), ticks[stolen]};
  }
  return processors;
}

}  // namespace zavrek::pace::internal
