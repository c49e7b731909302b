// The record of a trial is what the plant and the devices did, however the run got from sample to sample.
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <numbers>

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

/// 500 points a cycle fall on no sample of the streams but each fortieth row.
TEST(TrialRecord, OfARateThatIsNoMultipleOfTheStreamsIsJudgedAlike) {
  const Case all = fresh_quay();
  Case odd = all;
  odd.network.step_s = 40e-6;
  odd.bench.points_per_cycle = 500;
  EXPECT_EQ(rows_between_steps(odd, odd.network.step_s), "");
  Case between = odd;
  between.bench.points_per_cycle = 300;
  EXPECT_EQ(rows_between_steps(between, between.network.step_s),
            "the 300 points per cycle of the records lie between steps of 40 us: read off straight lines");
  const TrialResult usual = run(all, all.trials[0]);
  for (const Case* one : {&odd, &between}) {
    const TrialResult result = run(*one, one->trials[0]);
    EXPECT_NEAR(result.record.rate_Hz, 50 * one->bench.points_per_cycle, 1e-9);
    ASSERT_EQ(result.verdicts.size(), usual.verdicts.size());
    for (std::size_t v = 0; v < usual.verdicts.size(); ++v) {
      EXPECT_TRUE(result.verdicts[v].passed) << result.verdicts[v].measured;
      EXPECT_EQ(result.verdicts[v].expected.substr(0, 5), usual.verdicts[v].expected.substr(0, 5));
    }
    EXPECT_EQ(result.notes.size(), usual.notes.size() + (one == &between ? 1U : 0U));
    // Rows stand at their own times: a sinusoid ahead of the fault is one.
    const std::vector<double>& v = result.record.find_analog("VT0.va")->samples;
    const double turn = 2 * std::numbers::pi / one->bench.points_per_cycle;
    const double most = *std::max_element(v.begin(), v.begin() + 600);
    for (std::size_t k = 1; k < 250; ++k)
      ASSERT_NEAR(v[k - 1] + v[k + 1], 2 * std::cos(turn) * v[k], 2e-4 * most) << k;
  }
}

TEST(UndisturbedRun, TellsOfVoltagesThatNoBusExplains) {
  Case all = fresh_quay();
  const RunOptions how{.place = "plant", .interface = {}, .free = true, .relay_program = {}};
  EXPECT_TRUE(run_undisturbed(all, 0.1, 0.1, how).remarks.empty());
  for (network::Bus& bus : all.network.buses) {
    if (bus.name == "yard") bus.voltage_V = 200;
  }
  all.bench.points_per_cycle = 400;  // no leaps
  const TrialResult result = run_undisturbed(all, 0.3, 0.1, how);
  ASSERT_EQ(result.remarks.size(), 3U);
  EXPECT_NE(result.remarks[0].find("the voltage of yard.a was"), std::string::npos) << result.remarks[0];
}

TEST(UndisturbedRun, DoesWhatItIsToldTo) {
  const Case all = fresh_quay();
  const RunOptions how{.place = "plant", .interface = {}, .free = true, .relay_program = {}};
  std::vector<Operation> operations;
  for (const char* text : {"0.1 s: open Q1", " 0.3 s:close  Q1 "}) operations.push_back(operation_of(text));
  const TrialResult result = run_undisturbed(all, 0.5, 0.5, how, operations);
  ASSERT_EQ(result.record.events.size(), 2U);
  EXPECT_EQ(result.record.events[0].text, "Q1 open");
  EXPECT_GT(result.record.events[0].time_s, 0.1);
  EXPECT_EQ(result.record.events[1].text, "Q1 closed");
  EXPECT_GT(result.record.events[1].time_s, 0.3);
  const Operation knob = operation_of("1.5 s: load.ferry.active = 2 MW");
  EXPECT_EQ(knob.set, "load.ferry.active");
  EXPECT_EQ(knob.to, "2 MW");
  EXPECT_EQ(knob.at_s, 1.5);
  EXPECT_EQ(operation_of("0 s: late B1.a_upper").late, "B1.a_upper");
  for (const char* wrong : {"open Q1", "0.1 s: Q1", "0.1 s: shut Q1", "0.1 s: = 3", "soon: open Q1"})
    EXPECT_THROW((void)operation_of(wrong), Error) << wrong;
  EXPECT_THROW((void)run_undisturbed(all, 0.1, 0.1, how, {operation_of("0 s: open nothing")}), Error);
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
