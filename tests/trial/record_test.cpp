// The record of a trial is what the plant and the devices did, however the run got from sample to sample.
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>

#include "zavrek/casefile.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::trial {
namespace {

Case fresh_quay() { return casefile::read_case(std::string(ZAVREK_DEMO) + "/veskar"); }

TrialResult run(const Case& all, const Trial& trial) {
  TrialResult result =
      run_trial(all, trial, {.place = "plant", .interface = {}, .free = true, .relay_program = {}});
  EXPECT_EQ(result.failure, "") << trial.name;
  return result;
}

double peak(const std::vector<double>& samples) {
  double most = 0;
  for (const double sample : samples) most = std::max(most, std::abs(sample));
  return most;
}

/// The same plant by single steps; what relays commanded is taken from the record's events.
class Again {
 public:
  Again(const Case& all, const Trial& trial, const TrialResult& result)
      : all_(all),
        record_(result.record),
        plant_(emt::compile(network_with_faults(all, trial))),
        commander_(plant_, fault_commands(trial, result.inception_s)) {
    for (const record::Analog& analog : record_.analogs) signals_.push_back(plant_.signal(analog.name));
  }
  void compare() {
    std::size_t event = 0;
    for (std::size_t row = 0; row < record_.time_s.size(); ++row) {
      while (plant_.time_s() < record_.time_s[row] - 1e-9) {
        commander_.turn_due(plant_);
        ASSERT_EQ(plant_.step(), emt::Status::running);
      }
      for (std::size_t k = 0; k < signals_.size(); ++k) {
        const record::Analog& analog = record_.analogs[k];
        const double value = plant_.value(signals_[k]) * analog.primary / analog.secondary;
        ASSERT_NEAR(analog.samples[row], value, 1e-7 * (1 + peak_of(k)))
            << analog.name << " at " << record_.time_s[row];
      }
      for (; event < record_.events.size() && record_.events[event].time_s <= plant_.time_s() + 1e-9; ++event)
        obey(record_.events[event].text);
    }
  }

 private:
  void obey(const std::string& text) {
    for (const Device& device : all_.bench.devices) {
      if (text != device.name + " trip") continue;
      for (const std::string& breaker : device.trips) plant_.open(plant_.operable(breaker), plant_.time_s());
    }
  }
  double peak_of(std::size_t k) {
    while (peaks_.size() <= k) peaks_.push_back(peak(record_.analogs[peaks_.size()].samples));
    return peaks_[k];
  }

  const Case& all_;
  const record::Record& record_;
  emt::Plant plant_;
  emt::Commander commander_;
  std::vector<emt::SignalId> signals_;
  std::vector<double> peaks_;
};

TEST(TrialRecord, HoldsWhatSingleStepsGiveAtEverySample) {
  const Case all = fresh_quay();
  for (const Trial& trial : all.trials) {
    const TrialResult result = run(all, trial);
    ASSERT_GT(result.timing.plant_steps, 1) << "it should leap";
    Again(all, trial, result).compare();
    if (HasFatalFailure()) FAIL() << trial.name;
  }
}

/// Rows and instants at which a binary column changed.
std::vector<double> changes_of(const record::Record& record, const record::Binary& binary) {
  std::vector<double> times;
  bool before = binary.normal;
  for (std::size_t row = 0; row < record.time_s.size(); ++row) {
    const bool now = binary.samples[row] != 0;
    if (now != before) times.push_back(record.time_s[row]);
    before = now;
  }
  return times;
}

TEST(TrialRecord, ShowsEachChangeOfABinaryInTheRowBehindItsEvent) {
  const Case all = fresh_quay();
  int changes = 0;
  for (const Trial& trial : all.trials) {
    const TrialResult result = run(all, trial);
    const record::Record& record = result.record;
    const double between = 1 / record.rate_Hz;
    for (const record::Binary& binary : record.binaries) {
      std::string name = binary.name;
      const bool breaker = name.ends_with(".closed");
      if (breaker) name.resize(name.size() - std::string(".closed").size());
      std::replace(name.begin(), name.end(), '.', ' ');
      std::vector<double> events;
      for (const record::Event& event : record.events) {
        const bool own = breaker ? event.text == name + " open" || event.text == name + " closed"
                                 : event.text == name || event.text == name + " off";
        if (own && event.time_s < record.time_s.back()) events.push_back(event.time_s);
      }
      const std::vector<double> seen = changes_of(record, binary);
      ASSERT_EQ(seen.size(), events.size()) << trial.name << ": " << binary.name;
      for (std::size_t k = 0; k < seen.size(); ++k) {
        EXPECT_GE(seen[k], events[k] - 1e-9) << trial.name << ": " << binary.name;
        EXPECT_LE(seen[k], events[k] + between + 1e-9) << trial.name << ": " << binary.name;
        ++changes;
      }
    }
  }
  EXPECT_GT(changes, 30);
}

/// A record whose instants are no grid points makes the run take single steps and interpolate.
TEST(TrialRecord, AgreesWithAFinerOneThatIsNotOnTheGrid) {
  const Case all = fresh_quay();
  Case finer = all;
  finer.bench.points_per_cycle = 160;
  for (std::size_t k = 0; k < 3; ++k) {
    const TrialResult coarse = run(all, all.trials[k]), fine = run(finer, finer.trials[k]);
    ASSERT_EQ(fine.timing.plant_steps, 1);
    ASSERT_EQ(coarse.record.analogs.size(), fine.record.analogs.size());
    for (std::size_t c = 0; c < coarse.record.analogs.size(); ++c) {
      const std::vector<double>& samples = coarse.record.analogs[c].samples;
      const double most = 1e-7 * (1 + peak(samples));
      for (std::size_t row = 0; row < samples.size() && 2 * row < fine.record.time_s.size(); ++row)
        ASSERT_NEAR(samples[row], fine.record.analogs[c].samples[2 * row], most)
            << coarse.record.analogs[c].name << " at " << coarse.record.time_s[row];
    }
    ASSERT_EQ(coarse.record.events.size(), fine.record.events.size());
    for (std::size_t e = 0; e < coarse.record.events.size(); ++e) {
      EXPECT_EQ(coarse.record.events[e].text, fine.record.events[e].text);
      EXPECT_NEAR(coarse.record.events[e].time_s, fine.record.events[e].time_s, 260e-6);
    }
    for (std::size_t v = 0; v < coarse.verdicts.size(); ++v)
      EXPECT_EQ(coarse.verdicts[v].passed, fine.verdicts[v].passed);
  }
}

/// Outputs of the control stand beside signals of the plant, each sample as it was then.
TEST(TrialRecord, HoldsOutputsOfTheControl) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/battery");
  all.bench.record = {"pll.frequency", "L1.ia", "i.d", "C2.v"};
  const TrialResult result = run(all, all.trials.front());
  const record::Analog* frequency = result.record.find_analog("pll.frequency");
  const record::Analog* current = result.record.find_analog("L1.ia");
  ASSERT_NE(frequency, nullptr);
  ASSERT_NE(current, nullptr);
  EXPECT_EQ(current->unit, "A");
  EXPECT_NEAR(frequency->samples.back(), 50, 1);
  EXPECT_GT(peak(current->samples), 10);
  EXPECT_LT(peak(frequency->samples), 80);  // not a current that went into its column
  const record::Analog* link = result.record.find_analog("C2.v");
  ASSERT_NE(link, nullptr);
  EXPECT_EQ(link->unit, "V");
  EXPECT_GT(link->samples.back(), 500);
}

}  // namespace
}  // namespace zavrek::trial
