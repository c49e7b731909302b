// The targets over the kept corpus, and over damage of it: for some seconds in every run of the tests.
#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <limits>
#include <random>
#include <string>
#include <vector>

#include <gtest/gtest.h>

#include "fuzz/targets.hpp"
#include "zavrek/record.hpp"

namespace zavrek::fuzz {
namespace {

using Bytes = std::vector<std::uint8_t>;

std::vector<Bytes> corpus_of(const std::string& name) {
  std::vector<std::filesystem::path> files;
  for (const auto& entry :
       std::filesystem::directory_iterator(std::string(ZAVREK_SOURCE) + "/tests/fuzz/corpus/" + name))
    files.push_back(entry.path());
  std::sort(files.begin(), files.end());
  std::vector<Bytes> corpus;
  for (const auto& file : files) {
    const std::string content = record::read_file(file);
    corpus.emplace_back(content.begin(), content.end());
  }
  return corpus;
}

/// Changes bytes, cuts, doubles, and joins parts of two inputs.
Bytes damaged(const std::vector<Bytes>& corpus, std::mt19937& random) {
  const auto any = [&] { return corpus[random() % corpus.size()]; };
  Bytes input = any();
  for (unsigned k = 0; k <= random() % 4; ++k) {
    if (input.empty()) return any();
    const std::size_t at = random() % input.size();
    const auto place = input.begin() + static_cast<std::ptrdiff_t>(at);
    switch (random() % 5) {
      case 0:
        *place = static_cast<std::uint8_t>(random());
        break;
      case 1:
        *place = static_cast<std::uint8_t>(*place ^ 1U << random() % 8);
        break;
      case 2:
        input.resize(at);
        break;
      case 3: {
        const Bytes again(place, input.end());
        input.insert(input.end(), again.begin(),
                     again.begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(again.size(), 64)));
        break;
      }
      default: {
        const Bytes other = any();
        const auto from = static_cast<std::ptrdiff_t>(other.empty() ? 0 : random() % other.size());
        input.resize(at);
        input.insert(input.end(), other.begin() + from, other.end());
      }
    }
  }
  return input;
}

class Fuzz : public testing::TestWithParam<Target> {};

TEST_P(Fuzz, TakesTheCorpusAndDamageOfIt) {
  const std::vector<Bytes> corpus = corpus_of(GetParam().name);
  ASSERT_FALSE(corpus.empty());
  for (const Bytes& input : corpus) GetParam().run(input);
  std::mt19937 random(20);
  const char* const wanted = std::getenv("ZAVREK_FUZZ_RUNS");  // in place of half a second
  const long long most = wanted ? std::atoll(wanted) : std::numeric_limits<long long>::max();
  const auto begun = std::chrono::steady_clock::now();
  const auto until = begun + (wanted ? std::chrono::hours(24) : std::chrono::milliseconds(500));
  long long runs = 0;
  for (; runs < most && std::chrono::steady_clock::now() < until; ++runs)
    GetParam().run(damaged(corpus, random));
  RecordProperty("runs", std::to_string(runs));
}
INSTANTIATE_TEST_SUITE_P(Targets, Fuzz, testing::ValuesIn(targets().begin(), targets().end()),
                         [](const auto& info) { return std::string(info.param.name); });

}  // namespace
}  // namespace zavrek::fuzz
