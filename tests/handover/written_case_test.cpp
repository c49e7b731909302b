// A case as C: its trials' faults as switches, its files, and what cannot be written of it.
#include <cmath>
#include <filesystem>
#include <fstream>

#include <gtest/gtest.h>

#include "emt/running.hpp"
#include "emt/written_library.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/handover.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::handover {
namespace {

namespace fs = std::filesystem;
using test::Written;

const fs::path demo(ZAVREK_DEMO);

/// A folder that goes with the test.
struct Folder {
  Folder() : path(fs::temp_directory_path() / ("zavrek-written-" + std::to_string(::getpid()))) {
    fs::create_directories(path);
  }
  Folder(const Folder&) = delete;
  Folder& operator=(const Folder&) = delete;
  ~Folder() { fs::remove_all(path); }
  fs::path path;
};

std::string text_of(const fs::path& file) {
  std::ifstream in(file);
  return {std::istreambuf_iterator<char>(in), {}};
}

/// Each trial of the quay: its fault comes and goes in C as in the plant.
TEST(WrittenCase, StrikesTheFaultsOfItsTrials) {
  const trial::Case all = casefile::read_case(demo / "veskar");
  const std::vector<std::string> signals{"CT1.ia", "quay.va", "quay.vb", "T1.ic", "cable1.ia", "moor.vc"};
  ASSERT_GE(all.trials.size(), 8U);
  for (const trial::Trial& trial : all.trials) {
    SCOPED_TRACE(trial.name);
    const network::Network network = trial::network_with_faults(all, trial);
    emt::Plant plant = emt::compile(network);
    Written written(test::written_out(network, signals));
    ASSERT_TRUE(written.stands());
    std::vector<double> peak(signals.size(), 0.0), difference(signals.size(), 0.0);
    const bool strikes = written.input("fault") >= 0;
    for (int k = 0; k < 1600; ++k) {
      if (strikes && (k == 301 || k == 907)) {
        const bool comes = k == 301;
        const emt::OperableId fault = plant.operable("fault");
        comes ? plant.close(fault, plant.time_s()) : plant.open(fault, plant.time_s());
        EXPECT_EQ(written.set("fault", comes ? 1 : 0), 0);
      }
      ASSERT_EQ(plant.step(), emt::Status::running);
      ASSERT_EQ(written.step(), 0);
      for (std::size_t s = 0; s < signals.size(); ++s) {
        const double value = plant.value(plant.signal(signals[s]));
        peak[s] = std::max(peak[s], std::abs(value));
        difference[s] = std::max(difference[s], std::abs(value - written.get(s)));
      }
    }
    for (std::size_t s = 0; s < signals.size(); ++s)
      EXPECT_LE(difference[s], 1e-8 * peak[s]) << signals[s] << " of " << peak[s];
  }
}

TEST(WrittenCase, LeavesAsTwoFiles) {
  const Folder folder;
  const Exported made = export_model(demo / "veskar", {.as = "c",
                                                       .outputs = {"quay.va"},
                                                       .trial = "busbar fault at the quay",
                                                       .out = folder.path / "2nd-quay.c"});
  EXPECT_EQ(made.file, folder.path / "2nd-quay.c");
  EXPECT_EQ(made.header, folder.path / "2nd-quay.h");
  EXPECT_EQ(made.outputs, 1U);
  EXPECT_DOUBLE_EQ(made.step_s, 50e-6);
  EXPECT_EQ(made.step_cost_s, 0) << "it is not compiled here";
  const std::string source = text_of(made.file), header = text_of(made.header);
  EXPECT_EQ(made.bytes, source.size());
  EXPECT_NE(source.find("#include \"2nd-quay.h\""), std::string::npos);
  EXPECT_NE(header.find("int m2nd_quay_step(m2nd_quay_model *model);"), std::string::npos)
      << "no name of C begins with a digit";
  EXPECT_NE(header.find("m2nd_quay_in_fault, /* fault: 1 closed, 0 open */"), std::string::npos);
}

TEST(WrittenCase, TakesItsControlAlongUnlessToldNotTo) {
  const Folder folder;
  ExportOptions options{.as = "c", .out = folder.path / "it.c"};
  const Exported whole = export_model(demo / "battery", options);
  const std::string with = text_of(whole.header);
  options.without_control = true;
  const Exported alone = export_model(demo / "battery", options);
  const std::string without = text_of(alone.header);
  EXPECT_GT(whole.inputs, alone.inputs);
  EXPECT_GT(whole.outputs, alone.outputs);
  EXPECT_NE(with.find("/* pll.frequency, Hz */"), std::string::npos);
  EXPECT_EQ(without.find("pll.frequency"), std::string::npos);
  EXPECT_NE(without.find("it_gate_B1_a_upper"), std::string::npos) << without.substr(0, 2000);
}

TEST(WrittenCase, SaysWhatItWasAskedForInVain) {
  const auto said = [](const fs::path& folder, const ExportOptions& options) {
    return emt::message_of([&] { (void)export_model(folder, options); });
  };
  const Folder folder;
  ExportOptions options{.as = "c", .out = folder.path / "it.c"};
  EXPECT_NE(said(demo / "amplifier", options).find("imposed_current.heater"), std::string::npos);
  options.trial = "busbar fault on the quay";
  EXPECT_NE(said(demo / "veskar", options).find("did you mean \"busbar fault at the quay\""),
            std::string::npos);
  options.trial.clear();
  options.outputs = {"quay.vx"};
  EXPECT_NE(said(demo / "veskar", options).find("quay.vx"), std::string::npos);
  EXPECT_FALSE(fs::exists(options.out)) << "nothing is left of what failed";
  options = {.as = "library", .without_control = true, .out = folder.path / "it.so"};
  EXPECT_EQ(said(demo / "battery", options), "--trial and --without-control go with --as c");
}

}  // namespace
}  // namespace zavrek::handover
