// A run that begins at a state another kept goes on as that one did, to the bit.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>

#include "engine/session.hpp"
#include "zavrek/bench/run.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::engine {
namespace {

namespace fs = std::filesystem;

std::vector<std::string> demo_cases() {
  std::vector<std::string> names;
  for (const auto& entry : fs::directory_iterator(ZAVREK_DEMO)) {
    if (fs::exists(entry.path() / "network.toml")) names.push_back(entry.path().filename().string());
  }
  std::sort(names.begin(), names.end());
  return names;
}

class GoingBack : public testing::TestWithParam<std::string> {};

constexpr double end_s = 0.16, every_s = 0.05;

/// What is done while it runs: whatever opens and closes first, and a knob.
std::vector<bench::Deed> deeds_of(bench::Run& run) {
  const emt::Plant& plant = *run.plant();
  std::vector<bench::Deed> deeds;
  if (const auto names = plant.operable_names(); !names.empty()) {
    deeds.push_back({0.03, bench::Deed::Kind::open, names.front()});
    deeds.push_back({0.12, bench::Deed::Kind::close, names.front()});
  }
  return deeds;
}

record::Record run_to_the_end(const trial::Case& all, bench::KeptStates* keeps, const bench::RunState* from,
                              bool& began) {
  bench::RunOptions how;
  how.place = "plant";
  how.free = true;
  how.states = keeps;
  network::Network network = all.network;
  network.faults.clear();
  bench::Run run(all, network, how);
  run.schedule(deeds_of(run));
  run.record(0, 2 * end_s, {});
  EXPECT_EQ(run.start(), "");
  began = from != nullptr && run.begin_at(*from);
  (void)run.execute(end_s - run.exchange().time_s());
  EXPECT_EQ(run.failure(), "");
  return run.take_record(0);
}

TEST_P(GoingBack, GivesTheSameBits) {
  trial::Case all = casefile::read_case(fs::path(ZAVREK_DEMO) / GetParam());
  all.bench.medium = "datagram";  // nobody else hears what its messages say
  bench::KeptStates kept(64U << 20U, every_s);
  bool began = false;
  const record::Record whole = run_to_the_end(all, &kept, nullptr, began);
  const std::vector<double> instants = kept.instants_s();
  const bool own_code =
      std::any_of(all.control.blocks.begin(), all.control.blocks.end(),
                  [](const auto& block) { return std::holds_alternative<control::OwnCode>(block); });
  if (own_code) {
    EXPECT_TRUE(instants.empty()) << "a user's own code keeps its state to itself";
    return;
  }
  ASSERT_GE(instants.size(), 3U);
  EXPECT_NEAR(instants[2], 2 * every_s, 1e-3);
  for (const double at_s : {instants[0], instants[1], instants[2]}) {
    const bench::RunState* state = kept.latest_at(at_s);
    ASSERT_NE(state, nullptr);
    bench::KeptStates again(64U << 20U, every_s);  // leaps end where states are kept
    const record::Record rest = run_to_the_end(all, &again, state, began);
    ASSERT_TRUE(began);
    ASSERT_GT(rest.time_s.size(), 2U);
    EXPECT_NEAR(rest.time_s.front(), at_s, 1e-3);
    EXPECT_EQ(rest.time_s.back(), whole.time_s.back());
    const std::size_t skipped = whole.time_s.size() - rest.time_s.size();
    for (std::size_t k = 0; k < whole.analogs.size(); ++k) {
      const auto& a = whole.analogs[k].samples;
      EXPECT_TRUE(std::equal(a.begin() + static_cast<std::ptrdiff_t>(skipped), a.end(),
                             rest.analogs[k].samples.begin()))
          << whole.analogs[k].name << " from " << at_s << " s";
    }
    for (std::size_t k = 0; k < whole.binaries.size(); ++k) {
      const auto& a = whole.binaries[k].samples;
      EXPECT_TRUE(std::equal(a.begin() + static_cast<std::ptrdiff_t>(skipped), a.end(),
                             rest.binaries[k].samples.begin()))
          << whole.binaries[k].name << " from " << at_s << " s";
    }
  }
}

INSTANTIATE_TEST_SUITE_P(All, GoingBack, testing::ValuesIn(demo_cases()), [](const auto& one) {
  std::string name = one.param;
  std::replace(name.begin(), name.end(), '-', '_');
  return name;
});

}  // namespace
}  // namespace zavrek::engine
