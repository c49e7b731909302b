#include <gtest/gtest.h>

#include <cmath>
#include <filesystem>
#include <functional>
#include <numbers>

#include <fmt/format.h>
#include <unistd.h>

#include "bench/quay.hpp"
#include "zavrek/bench.hpp"
#include "zavrek/record.hpp"

namespace zavrek::bench {
namespace {

constexpr double recorder_step_s = 50e-6;

/// A voltage "m.v" and a current "m.i" over time.
class Waves final : public Source {
 public:
  std::function<double(double)> volts = [](double) { return 0.0; }, amperes = volts;
  double time_s() const noexcept override { return static_cast<double>(steps_) * recorder_step_s; }
  double step_s() const noexcept override { return recorder_step_s; }
  bool step() noexcept override {
    ++steps_;
    return true;
  }
  emt::SignalId signal(const std::string& name) const override {
    if (name == "m.v") return {0};
    if (name == "m.i") return {1};
    throw Error("no signal \"" + name + "\"");
  }
  std::string unit(emt::SignalId signal) const override { return signal.index == 0 ? "V" : "A"; }
  void read(std::span<const emt::SignalId> signals, double* into) const noexcept override {
    for (const emt::SignalId signal : signals)
      *into++ = signal.index == 0 ? volts(time_s()) : amperes(time_s());
  }

 private:
  long long steps_ = 0;
};

double cosine(double t, double amplitude, double frequency_Hz = 50) {
  return amplitude * std::cos(2 * std::numbers::pi * frequency_Hz * t);
}

struct Recorders : testing::Test {
  bench::Setup setup = quay();
  std::filesystem::path folder =
      std::filesystem::temp_directory_path() / fmt::format("zavrek_captures_{}", getpid());
  std::vector<Account> accounts;
  Recorders() { setup.network.elements.clear(); }
  ~Recorders() override { std::filesystem::remove_all(folder); }

  DisturbanceRecorder& recorder(const std::vector<std::string>& triggers) {
    DisturbanceRecorder one;
    one.name = "DR1";
    one.records = {"m.v", "m.i", "bench.remote"};
    one.triggers = triggers;
    one.before_s = 0.05;
    one.after_s = 0.1;
    setup.bench.ports.emplace_back(one);
    return std::get<DisturbanceRecorder>(setup.bench.ports.back());
  }
  void play(double duration_s, const std::function<double(double)>& volts,
            const std::function<double(double)>& amperes, const std::vector<Deed>& deeds = {},
            bool afresh = false) {
    auto source = std::make_unique<Waves>();
    source->volts = volts;
    source->amperes = amperes;
    RunOptions options;
    options.free = true;
    options.captures_in = folder;
    options.captures_afresh = afresh;
    bench::Run run(setup, std::move(source), options);
    run.schedule(deeds);
    ASSERT_EQ(run.start(), "");
    run.execute(duration_s);
    run.end();
    EXPECT_EQ(run.failure(), "");
    accounts = run.accounts();
  }
  [[nodiscard]] std::vector<record::Record> captures(const std::string& ending = ".cfg") const {
    std::vector<record::Record> all;
    for (int k = 1;; ++k) {
      const auto file = folder / fmt::format("DR1-{:03}{}", k, ending);
      if (!std::filesystem::exists(file)) return all;
      all.push_back(record::read_record(file));
      // In the time of the run.
      const std::string begins = all.back().fact("begins");
      const double begins_s = begins.empty() ? 0 : parse_quantity_as(begins, "s");
      for (double& t : all.back().time_s) t += begins_s;
      for (record::Event& event : all.back().events) event.time_s += begins_s;
      all.back().trigger_s += begins_s;
    }
  }
  /// The instant of the only capture; -1 where there is another number of them.
  double triggered_by(const std::string& trigger, const std::function<double(double)>& volts,
                      const std::vector<Deed>& deeds = {}) {
    setup.bench.ports.clear();
    recorder({trigger});
    play(
        0.6, volts, [](double t) { return cosine(t, 10); }, deeds, true);
    const auto all = captures();
    return all.size() == 1 ? all[0].trigger_s : -1;
  }
};

TEST_F(Recorders, TriggerByLevelMagnitudeSlopeRmsAndFrequency) {
  const auto step_up = [](double t) { return t < 0.3 ? 0.0 : 10.0; };
  const auto step_down = [](double t) { return t < 0.3 ? 0.0 : -10.0; };
  EXPECT_NEAR(triggered_by("m.v above 5 V", step_up), 0.3, 0.3e-3);
  EXPECT_EQ(triggered_by("m.v above 5 V", step_down), -1);
  EXPECT_NEAR(triggered_by("m.v below -5 V", step_down), 0.3, 0.3e-3);
  EXPECT_NEAR(triggered_by("magnitude of m.v above 5 V", step_down), 0.3, 0.3e-3);
  // Samples are 0.25 ms apart: 10 V in one of them is 40 kV/s.
  EXPECT_NEAR(triggered_by("slope of m.v above 39 V/ms", step_up), 0.3, 0.3e-3);
  EXPECT_EQ(triggered_by("slope of m.v above 41 V/ms", step_up), -1);
  EXPECT_NEAR(triggered_by("slope of m.v below -39 kV/s", step_down), 0.3, 0.3e-3);
  // Of a sine that doubles, the rms over a cycle reaches 1.5 of what it was within the next.
  const auto doubled = [](double t) { return cosine(t, t < 0.3 ? 100 : 200); };
  const double by_rms = triggered_by("rms of m.v above 106 V", doubled);
  EXPECT_GT(by_rms, 0.305);
  EXPECT_LT(by_rms, 0.32);
  EXPECT_EQ(triggered_by("rms of m.v above 142 V", doubled), -1);
  EXPECT_EQ(triggered_by("rms of m.v above 60 V", doubled), -1) << "true from the first cycle on";
  // 48 Hz from 0.2 s on: seen two cycles later.
  const auto slower = [](double t) { return cosine(t < 0.2 ? t : 0.2 + (t - 0.2) * 0.96, 100); };
  const double by_frequency = triggered_by("frequency of m.v below 48.1 Hz", slower);
  EXPECT_GT(by_frequency, 0.21);
  EXPECT_LT(by_frequency, 0.25);
  EXPECT_EQ(triggered_by("frequency of m.v below 47.5 Hz", slower), -1);
  EXPECT_EQ(triggered_by("frequency of m.v above 50.5 Hz", slower), -1);
}

TEST_F(Recorders, TriggerByPointsAndCombinationsThatLast) {
  const auto still = [](double t) { return cosine(t, 100); };
  const std::vector<Deed> closes{{0.2, Deed::Kind::close, "bench.remote"},
                                 {0.4, Deed::Kind::open, "bench.remote"}};
  EXPECT_NEAR(triggered_by("bench.remote", still, closes), 0.2, 0.5e-3);
  EXPECT_NEAR(triggered_by("not bench.remote", still, closes), 0.4, 0.5e-3);
  EXPECT_NEAR(triggered_by("bench.remote for 50 ms", still, closes), 0.25, 0.5e-3);
  EXPECT_EQ(triggered_by("bench.remote for 250 ms", still, closes), -1);
  // The voltage falls at 0.3 s, while the contact is closed.
  const auto falls = [](double t) { return cosine(t, t < 0.3 ? 100 : 20); };
  EXPECT_NEAR(triggered_by("rms of m.v below 40 V and bench.remote", falls, closes), 0.31, 0.01);
  EXPECT_NEAR(triggered_by("rms of m.v below 40 V and not bench.remote", falls, closes), 0.4, 0.5e-3);
  EXPECT_NEAR(triggered_by("rms of m.v below 40 V and bench.remote for 20 ms", falls, closes), 0.33, 0.01);
}

TEST_F(Recorders, KeepWhatWasBeforeAndBehindAndWhyAndWhatChanged) {
  recorder({"m.i above 50 A", "bench.remote"});
  const auto volts = [](double t) { return cosine(t, 100); };
  const auto amperes = [](double t) { return t < 0.3 ? 0.0 : 60.0; };
  play(0.6, volts, amperes, {{0.32, Deed::Kind::close, "bench.remote"}});
  const auto all = captures();
  ASSERT_EQ(all.size(), 1U);
  const record::Record& capture = all[0];
  EXPECT_NEAR(capture.time_s.front(), 0.25, 0.3e-3);
  EXPECT_NEAR(capture.time_s.back(), 0.4, 0.3e-3) << "a second trigger lengthens nothing unless asked to";
  EXPECT_NEAR(capture.trigger_s, 0.3, 0.3e-3);
  EXPECT_EQ(capture.fact("trigger"), "m.i above 50 A");
  EXPECT_EQ(capture.fact("recorder"), "DR1");
  ASSERT_NE(capture.find_binary("bench.remote"), nullptr);
  const auto& remote = capture.find_binary("bench.remote")->samples;
  EXPECT_EQ(remote.front(), 0);
  EXPECT_EQ(remote.back(), 1);
  ASSERT_EQ(capture.events.size(), 2U);
  EXPECT_EQ(capture.events[1].text, "bench.remote on");
  EXPECT_NEAR(capture.events[1].time_s, 0.32, 0.5e-3);
  const record::Analog& v = *capture.find_analog("m.v");
  for (std::size_t k = 0; k < capture.time_s.size(); ++k)
    ASSERT_NEAR(v.samples[k], volts(capture.time_s[k]), 2e-3) << k;
}

TEST_F(Recorders, LengthenRestAndStopAsTheyAreTold) {
  // Pulses at 0.10, 0.16, 0.30, 0.45 and 0.60 s.
  const auto pulses = [](double t) {
    for (const double at : {0.1, 0.16, 0.3, 0.45, 0.6}) {
      if (t >= at && t < at + 0.01) return 10.0;
    }
    return 0.0;
  };
  DisturbanceRecorder& one = recorder({"m.v above 5 V"});
  one.longest_s = 0.13;
  one.dead_s = 0.1;
  one.at_most = 2;
  play(1, pulses, pulses);
  const auto all = captures();
  ASSERT_EQ(all.size(), 2U);
  EXPECT_NEAR(all[0].trigger_s, 0.1, 0.3e-3);
  EXPECT_NEAR(all[0].time_s.back(), 0.23, 0.5e-3) << "0.16 + 0.1 s, but no more than 0.13 behind the first";
  EXPECT_NEAR(all[1].trigger_s, 0.45, 0.3e-3) << "that at 0.3 s came in the dead time";
  ASSERT_EQ(accounts.size(), 1U);
  EXPECT_EQ(accounts[0].sent, 2);
  EXPECT_EQ(accounts[0].refused, 2) << "one in the dead time, one beyond the most";
  EXPECT_EQ(accounts[0].lost, 0);
}

TEST_F(Recorders, KeepWhatTheEndCutsShortAndNumberOnUnlessAfresh) {
  recorder({"m.v above 5 V"}).format = "CSV";
  const auto late = [](double t) { return t < 0.18 ? 0.0 : 10.0; };
  play(0.2, late, late);
  ASSERT_EQ(captures(".csv").size(), 1U);
  EXPECT_NEAR(captures(".csv")[0].time_s.back(), 0.07, 0.5e-3);
  play(0.2, late, late);
  EXPECT_EQ(captures(".csv").size(), 2U);
  play(0.2, late, late, {}, true);
  EXPECT_EQ(captures(".csv").size(), 1U);
}

TEST_F(Recorders, KeepAllOfARunInOneFile) {
  DisturbanceRecorder& one = recorder({"m.v above 5 V"});
  one.keeps = "all";
  one.rate_Hz = 10'000;
  const auto pulse = [](double t) { return t >= 12 && t < 12.01 ? 10.0 : 0.0; };
  const auto ramp = [](double t) { return t; };
  play(30, pulse, ramp, {{20, Deed::Kind::close, "bench.remote"}});
  const auto all = captures(".h5");
  ASSERT_EQ(all.size(), 1U);
  ASSERT_NEAR(static_cast<double>(all[0].time_s.size()), 300'000, 1);
  const record::Analog& i = *all[0].find_analog("m.i");
  for (std::size_t k = 0; k < i.samples.size(); ++k) ASSERT_NEAR(i.samples[k], all[0].time_s[k], 1e-9) << k;
  ASSERT_EQ(all[0].events.size(), 2U);
  EXPECT_NEAR(all[0].events[0].time_s, 12, 0.2e-3);
  EXPECT_EQ(all[0].events[1].text, "bench.remote on");
  EXPECT_NEAR(all[0].events[1].time_s, 20, 0.2e-3);
  // Two seconds of rows, however long the run is.
  EXPECT_NE(accounts[0].carries.find("in 0.48 MB"), std::string::npos) << accounts[0].carries;
}

TEST_F(Recorders, SayWhatTheyDoNotUnderstand) {
  const auto refusal = [&](const std::string& trigger) -> std::string {
    setup.bench.ports.clear();
    recorder({trigger});
    try {
      bench::Run run(setup, std::make_unique<Waves>(), {});
    } catch (const Error& error) {
      return error.what();
    }
    return "taken";
  };
  EXPECT_NE(refusal("energy of m.v above 5 V").find("asks for none of magnitude, slope, rms, frequency"),
            std::string::npos);
  EXPECT_NE(refusal("m.v over 5 V").find("is not understood"), std::string::npos);
  EXPECT_NE(refusal("m.v above 5 A").find("5 A"), std::string::npos);
  EXPECT_NE(refusal("m.w above 5 V").find("m.w"), std::string::npos);
  EXPECT_NE(refusal("").find("is not understood"), std::string::npos);
  EXPECT_NE(refusal("m.v above 5 V for 3 A").find("3 A"), std::string::npos);
  EXPECT_EQ(refusal("not m.v above 5 V"), "taken");
  setup.bench.ports.clear();
  recorder({}).records = {"nothing"};
  const std::vector<Flaw> flaws = validate(setup);
  ASSERT_FALSE(flaws.empty());
  EXPECT_EQ(flaws[0].place, "disturbance_recorder.DR1");
}

TEST_F(Recorders, EndARunByNothingButTellOfADiskThatDoesNotTakeIt) {
  recorder({"m.v above 5 V"});
  const auto rises = [](double t) { return t < 0.1 ? 0.0 : 10.0; };
  auto source = std::make_unique<Waves>();
  source->volts = rises;
  RunOptions options;
  options.free = true;
  options.captures_in = folder;
  bench::Run run(setup, std::move(source), options);
  ASSERT_EQ(run.start(), "");
  // A folder stands where its file should.
  std::filesystem::create_directories(folder / "DR1-001.cfg" / "x");
  run.execute(0.5);
  run.end();
  EXPECT_NE(run.failure().find("DR1"), std::string::npos) << run.failure();
}

}  // namespace
}  // namespace zavrek::bench
