#include "exported/parts.hpp"

#include <cstdint>

namespace zavrek::exported {
namespace {

constexpr std::string_view mark = "ZVMODEL1";
constexpr std::size_t trailer = 4 + 8 + mark.size();

void put(std::string& into, std::uint64_t number, int octets) {
  for (int k = 0; k < octets; ++k) into += static_cast<char>(number >> (8 * k) & 0xFF);
}
std::uint64_t take(std::string_view& from, int octets) {
  std::uint64_t number = 0;
  for (int k = 0; k < octets; ++k)
    number |= static_cast<std::uint64_t>(static_cast<unsigned char>(from[static_cast<std::size_t>(k)]))
              << (8 * k);
  from.remove_prefix(static_cast<std::size_t>(octets));
  return number;
}

}  // namespace

std::string joined(const Parts& parts) {
  std::string all;
  for (const auto& [name, content] : parts) {
    put(all, name.size(), 4);
    all += name;
    put(all, content.size(), 8);
    all += content;
  }
  const std::size_t length = all.size();
  put(all, parts.size(), 4);
  put(all, length, 8);
  return all += mark;
}

Parts parts_of(std::string_view file) {
  if (file.size() < trailer || !file.ends_with(mark)) return {};
  std::string_view end = file.substr(file.size() - trailer);
  const std::uint64_t count = take(end, 4), length = take(end, 8);
  if (length > file.size() - trailer) return {};
  std::string_view all = file.substr(file.size() - trailer - length, length);
  Parts parts;
  for (std::uint64_t k = 0; k < count; ++k) {
    if (all.size() < 4) return {};
    const std::uint64_t name_length = take(all, 4);
    if (name_length > all.size() || all.size() - name_length < 8) return {};
    const std::string name(all.substr(0, name_length));
    all.remove_prefix(name_length);
    const std::uint64_t size = take(all, 8);
    if (size > all.size()) return {};
    parts[name] = all.substr(0, size);
    all.remove_prefix(size);
  }
  return parts;
}

}  // namespace zavrek::exported
