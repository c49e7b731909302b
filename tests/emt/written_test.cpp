// A network written out in C, compiled by the compiler of the machine and stepped beside the plant.
#include <dlfcn.h>
#include <unistd.h>

#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>
#include <numbers>

#include <gtest/gtest.h>

#include "emt/circuits.hpp"
#include "emt/converters.hpp"
#include "emt/random_network.hpp"
#include "emt/running.hpp"
#include "zavrek/emt/written.hpp"

namespace zavrek::emt {
namespace {

using namespace network;

/// One model in memory of its own.
class Written {
 public:
  Written(const Network& network, std::vector<std::string> outputs)
      : model_(write_c(network, {.name = "it", .title = "a /* test */", .outputs = std::move(outputs)})),
        folder_(std::filesystem::temp_directory_path() /
                ("written-" + std::to_string(::getpid()) + "-" + std::to_string(made_++))) {
    std::filesystem::create_directories(folder_);
    std::ofstream(folder_ / "it.h") << model_.header;
    std::ofstream(folder_ / "it.c") << model_.source << "const unsigned long it_bytes = sizeof(it_model);\n";
    const std::string library = (folder_ / "it.so").string();
    const std::string compile = "cc -std=c99 -pedantic -Wall -Wextra -Werror -O1 -shared -fPIC -o " +
                                library + " " + (folder_ / "it.c").string() + " -lm 2> " +
                                (folder_ / "said").string();
    if (std::system(compile.c_str()) != 0) {
      std::ifstream said(folder_ / "said");
      ADD_FAILURE() << std::string(std::istreambuf_iterator<char>(said), {}).substr(0, 2000);
      return;
    }
    library_ = ::dlopen(library.c_str(), RTLD_NOW | RTLD_LOCAL);
    if (library_ == nullptr) return;
    memory_.resize(*static_cast<unsigned long*>(::dlsym(library_, "it_bytes")) / sizeof(double) + 1);
    call<void(void*)>("it_start")(memory_.data());
  }
  Written(const Written&) = delete;
  Written& operator=(const Written&) = delete;
  ~Written() {
    if (library_ != nullptr) ::dlclose(library_);
    std::filesystem::remove_all(folder_);
  }
  [[nodiscard]] bool stands() const { return library_ != nullptr; }
  [[nodiscard]] int input(const std::string& name) const {
    for (std::size_t k = 0; k < model_.inputs.size(); ++k) {
      if (model_.inputs[k].name == name) return static_cast<int>(k);
    }
    return -1;
  }
  int step() { return call<int(void*)>("it_step")(memory_.data()); }
  int set(const std::string& name, double value) {
    return call<int(void*, int, double)>("it_set")(memory_.data(), input(name), value);
  }
  int fire(int gate, bool on, double at_s) {
    return call<int(void*, int, int, double)>("it_fire")(memory_.data(), gate, on ? 1 : 0, at_s);
  }
  [[nodiscard]] int gate(const std::string& name) const {
    return static_cast<int>(std::find(model_.gates.begin(), model_.gates.end(), name) - model_.gates.begin());
  }
  [[nodiscard]] double get(std::size_t output) {
    return call<double(void*, int)>("it_get")(memory_.data(), static_cast<int>(output));
  }
  [[nodiscard]] std::vector<double> memory() const { return memory_; }
  void remember(const std::vector<double>& kept) { memory_ = kept; }

 private:
  template <class Function>
  [[nodiscard]] Function* call(const char* name) const {
    return reinterpret_cast<Function*>(::dlsym(library_, name));
  }
  static inline int made_ = 0;
  WrittenModel model_;
  std::filesystem::path folder_;
  void* library_ = nullptr;
  std::vector<double> memory_;
};

struct Done {
  long long step;
  std::function<void(Plant&, Written&)> what;
};
void open(Plant& plant, Written& written, const std::string& name, bool close = false) {
  const OperableId id = plant.operable(name);
  close ? plant.close(id, plant.time_s()) : plant.open(id, plant.time_s());
  written.set(name, close ? 1 : 0);
}

/// The worst difference of any signal over its own peak, and whose. `beside` a bus: from a plant
/// that is not condensed.
struct Apart {
  double worst = 0;
  std::string whose;
};
Apart apart(const Network& network, int steps, const std::vector<Done>& done = {},
            const std::function<void(Plant&, Written&, long long)>& ahead = {},
            const std::string& beside = "") {
  Plant plant = compile(beside.empty() ? network : test::among_many(network, beside));
  const std::vector<std::string> names = compile(network).signal_names();
  Written written(network, names);
  if (!written.stands()) return {1, "not compiled"};
  std::vector<SignalId> signals;
  for (const std::string& name : names) {
    signals.push_back(plant.signal(name));
    plant.watch(signals.back());
  }
  std::vector<double> peak(names.size(), 0.0), difference(names.size(), 0.0);
  for (int k = 0; k < steps; ++k) {
    for (const Done& one : done) {
      if (one.step == k) one.what(plant, written);
    }
    if (ahead) ahead(plant, written, k);
    if (plant.step() != Status::running || written.step() != 0) return {1, "diverged"};
    for (std::size_t s = 0; s < names.size(); ++s) {
      const double value = plant.value(signals[s]);
      peak[s] = std::max(peak[s], std::abs(value));
      difference[s] = std::max(difference[s], std::abs(value - written.get(s)));
    }
  }
  Apart most;
  for (std::size_t s = 0; s < names.size(); ++s) {
    if (difference[s] <= most.worst * peak[s] || peak[s] == 0) continue;
    most = {difference[s] / peak[s], names[s]};
  }
  return most;
}

/// A station with most of what is not a converter: lines whole and no whole number of steps long, coupled
/// ends, a transformer that saturates, an arrester, a capacitor in series, harmonics, instrument
/// transformers.
Network station() {
  Network n;
  n.buses = {{"moor", 66e3}, {"shore", 66e3}, {"behind", 66e3}, {"low", 400}, {"mid", 11e3}, {"feed", 11e3}};
  n.elements = {
      Source{.name = "grid", .bus = "moor", .short_circuit_VA = 900e6, .x_over_r = 12},
      Breaker{.name = "Q", .between = {"shore", "behind"}, .opening_time_s = 3.1e-3},
      Branch{.name = "step_down",
             .between = {"behind", "mid"},
             .resistance_ohm = 2,
             .inductance_H = 30e-3,
             .capacitance_F = 80e-6},
      test::quay_cable("cable", "mid", "feed", 2400, 2),
      test::station_transformer("feed", 1.15),
      Load{.name = "ferry", .bus = "low", .active_W = 300e3, .reactive_var = 150e3},
      Arrester{.name = "U", .bus = "shore", .curve = {{54e3, 1e-3}, {70e3, 10}, {90e3, 1e3}}},
      CurrentTransformer{.name = "CT",
                         .on = "cable",
                         .primary_A = 400,
                         .knee_V = 60,
                         .knee_current_A = 0.02,
                         .winding_resistance_ohm = 2,
                         .burden_resistance_ohm = 3},
      CapacitiveVoltageTransformer{.name = "VT", .bus = "shore", .primary_V = 66e3, .secondary_V = 110}};
  n.faults = {Fault{.name = "strike", .on = "L", .at = 0.4, .phases = "AB", .resistance_ohm = 2}};
  n.elements.emplace_back(Line{.name = "L",
                               .between = {"moor", "shore"},
                               .length_m = 95e3,
                               .r1_ohm_per_m = 0.09e-3,
                               .x1_ohm_per_m = 0.4e-3,
                               .c1_F_per_m = 9e-12,
                               .r0_ohm_per_m = 0.3e-3,
                               .x0_ohm_per_m = 1.1e-3,
                               .c0_F_per_m = 5e-12});
  return n;
}

/// A bridge of six, thyristors or diodes, behind a source with inductance; smoothed.
Network rectifier(const std::string& device) {
  Network n;
  n.buses = {{"grid", 400}, {"dc", 540, "pn"}};
  n.elements = {
      Source{.name = "source", .bus = "grid", .short_circuit_VA = 2e6},
      Bridge{.name = "r", .dc = "dc", .ac = "grid", .device = device, .on_resistance_ohm = 1e-3},
      Branch{.name = "load", .between = {"dc.p", "dc.n"}, .resistance_ohm = 5, .inductance_H = 20e-3},
      Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 1e6}};
  return n;
}

TEST(WrittenInC, StepsLinearNetworksAsThePlantDoes) {
  for (const unsigned seed : {1U, 7U, 23U}) {
    const auto [worst, whose] = apart(random_network(seed).network, 2000);
    EXPECT_LT(worst, 1e-9) << whose << " of " << seed;
  }
}

TEST(WrittenInC, StepsANetworkOfHundredsOfBusesInLoops) {
  Network n;
  n.buses = {{"b0", 20e3}};
  n.elements = {Source{.name = "grid", .bus = "b0", .short_circuit_VA = 100e6}};
  for (int k = 1; k <= 350; ++k) {
    const std::string here = "b" + std::to_string(k), before = "b" + std::to_string(k - 1);
    n.buses.push_back({here, 20e3});
    n.elements.push_back(test::quay_cable("c" + std::to_string(k), before, here, 200));
  }
  n.elements.push_back(Breaker{.name = "Q", .between = {"b350", "ground"}, .closed = false});
  const WrittenModel text = write_c(n, {.name = "it", .title = "", .outputs = {}});
  EXPECT_EQ(text.source.find("solve_straight(const"), std::string::npos);
  const auto [worst, whose] = apart(n, 400, {{100, [](Plant& p, Written& w) { open(p, w, "Q", true); }}});
  EXPECT_LT(worst, 1e-9) << whose;
}

TEST(WrittenInC, StepsAStationThroughAFaultAndItsClearingAsThePlantDoes) {
  for (const char* rule : {"trapezoidal", "euler"}) {
    Network n = station();
    n.step_s = 43e-6;
    n.rule = rule;
    const auto [worst, whose] = apart(n, 6000,
                                      {{200, [](Plant& p, Written& w) { open(p, w, "strike", true); }},
                                       {1500, [](Plant& p, Written& w) { open(p, w, "Q"); }},
                                       {2500, [](Plant& p, Written& w) { open(p, w, "strike"); }},
                                       {3300, [](Plant& p, Written& w) { open(p, w, "Q", true); }}});
    EXPECT_LT(worst, 1e-9) << whose << " by " << rule;
  }
}

TEST(WrittenInC, FeelsTheCornersOfProgrammesAndHarmonics) {
  const auto [worst, whose] = apart(test::by_programmes({{5, 0.03}, {7, 0.02}}), 2000);
  EXPECT_LT(worst, 1e-9) << whose;
}

TEST(WrittenInC, RestrikesAndKeepsItsInterlockingAsThePlantDoes) {
  Network n;
  n.buses = {{"bar", 20e3}, {"line", 20e3}};
  n.step_s = 5e-6;
  n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 200e6},
                Capacitor{.name = "c", .bus = "line", .reactive_var = 3e6},
                Breaker{.name = "q",
                        .between = {"bar", "line"},
                        .chopping_A = 3,
                        .withstand = {{0, 2e3}, {8e-3, 18e3}, {12e-3, 80e3}}},
                EarthingSwitch{.name = "q8", .bus = "line", .travel_time_s = 0.05, .only_when_open = {"q"}}};
  const auto refused = [](Plant& p, Written& w) {
    EXPECT_FALSE(p.close(p.operable("q8"), 0));
    EXPECT_EQ(w.set("q8", 1), 2) << "interlocked";
    w.set("q8", 0);
  };
  // Some 170 strikes, each of which carries rounding on: a source 1e-15 larger makes as much of a difference.
  const auto [worst, whose] =
      apart(n, 16000, {{10, refused}, {500, [](Plant& p, Written& w) { open(p, w, "q"); }}});
  EXPECT_LT(worst, 1e-5) << whose;
}

TEST(WrittenInC, CommutatesDiodesAndThyristorsAsThePlantDoes) {
  for (const std::string device : {"diode", "thyristor"}) {
    Network n = rectifier(device);
    n.step_s = 20e-6;
    int fired = 0;
    const auto pulses = [&](Plant& p, Written& w, long long) {
      static constexpr std::array order{"a_upper", "c_lower", "b_upper", "a_lower", "c_upper", "b_lower"};
      if (device == "diode") return;
      for (double at = 0; (at = (fired * 60.0 - 20) / 360 * 0.02) < p.time_s() + p.step_s(); ++fired) {
        for (const int k : {fired % 6, (fired + 5) % 6}) {
          const std::string name = std::string("r.") + order[static_cast<std::size_t>(k)];
          for (const bool on : {true, false}) {
            const double edge = at + (on ? 0 : 0.2e-3);
            p.fire(p.gate(name), on, edge);
            EXPECT_EQ(w.fire(w.gate(name), on, edge), 0);
          }
        }
      }
    };
    const auto [worst, whose] = apart(n, 5000, {}, pulses, "grid");
    EXPECT_LT(worst, 1e-9) << whose << " with " << device;
  }
}

TEST(WrittenInC, SwitchesBridgesOfTwoAndThreeLevelsAsThePlantDoes) {
  for (const bool three_levels : {false, true}) {
    Network n = test::filtered_converter(three_levels);
    n.step_s = 5e-6;
    const Plant named = compile(n);
    control::Controller controller(test::CarrierFeeder::description(three_levels), named.signal_names());
    const auto modulate = [&](Plant& p, Written& w, long long k) {
      if (k % 10 != 0) return;
      controller.run(k / 10 % 400, {});
      const double shift = static_cast<double>(k / 4000) * 0.02;
      for (const control::Edge& edge : controller.edges()) {
        const std::string& name = controller.gates()[static_cast<std::size_t>(edge.gate)];
        p.fire(p.gate(name), edge.on, edge.at_s + shift);
        EXPECT_EQ(w.fire(w.gate(name), edge.on, edge.at_s + shift), 0);
      }
    };
    const auto [worst, whose] = apart(n, 8000, {}, modulate, "grid");
    EXPECT_LT(worst, 1e-9) << whose << (three_levels ? " of three levels" : " of two");
  }
}

/// Currents that a source drives, contacts in one phase, a meter, two banks that ring.
TEST(WrittenInC, StepsSourcesOfCurrentContactsAndMeters) {
  Network n;
  n.buses = {{"bar", 11e3}, {"feed", 11e3}, {"dc", 800, "pn"}, {"out", 800, "pn"}};
  n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 150e6},
                test::quay_cable("cable", "bar", "feed"),
                CurrentSource{.name = "filter", .bus = "feed", .current_A = 40, .harmonics = {{5, 0.3}}},
                Capacitor{.name = "C1", .bus = "feed", .reactive_var = 2e6},
                Capacitor{.name = "C2", .bus = "bar", .reactive_var = 1e6},
                Meter{.name = "M", .on = "cable", .bus = "bar"},
                DcSource{.name = "e", .bus = "dc", .voltage_V = 800, .resistance_ohm = 0.1},
                Valve{.name = "k", .device = "switch", .from = "dc.p", .to = "out.p"},
                Branch{.name = "z", .between = {"out.p", "out.n"}, .resistance_ohm = 4, .inductance_H = 3e-3},
                Branch{.name = "back", .between = {"out.n", "dc.n"}, .resistance_ohm = 0.01},
                Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 100},
                Branch{.name = "far", .between = {"out.p", "ground"}, .resistance_ohm = 500}};
  const auto work = [](Plant& p, Written& w, long long k) {
    if (k % 200 != 0) return;
    const double edge = p.time_s() + 13e-6;
    p.fire(p.gate("k"), k % 400 == 0, edge);
    EXPECT_EQ(w.fire(w.gate("k"), k % 400 == 0, edge), 0);
  };
  const auto [worst, whose] = apart(n, 3000,
                                    {{700,
                                      [](Plant& p, Written& w) {
                                        p.turn(p.knob("e.voltage"), 640);
                                        EXPECT_EQ(w.set("e.voltage", 640), 0);
                                      }}},
                                    work);
  EXPECT_LT(worst, 1e-9) << whose;
}

TEST(WrittenInC, IsSavedByACopyOfItsMemory) {
  Written written(station(), {"L.ia", "low.va"});
  ASSERT_TRUE(written.stands());
  for (int k = 0; k < 300; ++k) ASSERT_EQ(written.step(), 0);
  written.set("strike", 1);
  const std::vector<double> kept = written.memory();
  std::vector<double> first, second;
  for (std::vector<double>* into : {&first, &second}) {
    written.remember(kept);
    for (int k = 0; k < 300; ++k) {
      ASSERT_EQ(written.step(), 0);
      into->push_back(written.get(0) + written.get(1));
    }
  }
  EXPECT_EQ(first, second) << "to the bit";
  EXPECT_EQ(written.set("nothing", 1), 1);
  EXPECT_EQ(written.set("strike", std::nan("")), 1);
  EXPECT_EQ(written.fire(0, true, 0), 1) << "there are no gates";
}

TEST(WrittenInC, NamesWhatCannotBeWritten) {
  const auto said = [](const Network& n, const std::vector<std::string>& outputs = {}) {
    return message_of([&] { (void)write_c(n, {.name = "it", .title = "", .outputs = outputs}); });
  };
  Network n = station();
  EXPECT_EQ(said(n, {"L.ix"}), "\"L.ix\" is no signal of the network");
  n.faults.push_back(Fault{.name = "arcing", .on = "feed", .arc_voltage_V = 300});
  EXPECT_NE(said(n).find("arcing"), std::string::npos) << said(n);
  n = station();
  std::get<Source>(n.elements[0]).noise = 0.01;
  EXPECT_EQ(
      said(n),
      "source.grid: has noise, phases of their own or a recorded voltage, which is not written out in C");
}

}  // namespace
}  // namespace zavrek::emt
