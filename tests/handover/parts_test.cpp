// What an exported library carries, whole and damaged.
#include <random>

#include <gtest/gtest.h>

#include "exported/parts.hpp"

namespace zavrek::exported {
namespace {

TEST(ExportedParts, ComeBackFromTheEndOfAFile) {
  const Parts parts{{"network", "[bus]\n"}, {"empty", ""}, {"binary", std::string("\0\1\2ZVMODEL1\xFF", 12)}};
  EXPECT_EQ(parts_of("code of a library" + joined(parts)), parts);
  EXPECT_EQ(parts_of("no model"), Parts());
  EXPECT_EQ(parts_of(""), Parts());
}

TEST(ExportedParts, AreNoneOrOthersWhereTheFileIsDamaged) {
  const std::string file = "code" + joined({{"network", std::string(300, 'n')}, {"outputs", "a\nb\n"}});
  std::mt19937 random(4);
  for (int k = 0; k < 20'000; ++k) {
    std::string damaged = file;
    for (unsigned n = 0; n <= random() % 3; ++n)
      damaged[random() % damaged.size()] = static_cast<char>(random());
    if (random() % 4 == 0) damaged.erase(random() % damaged.size(), random() % 20);
    for (const auto& [name, content] : parts_of(damaged))
      EXPECT_LE(name.size() + content.size(), file.size());
  }
}

}  // namespace
}  // namespace zavrek::exported
