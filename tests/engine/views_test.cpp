// What the page draws besides curves, against closed forms: phasors, sequences, harmonics, impedances of
// loops.
#include <gtest/gtest.h>

#include <cmath>
#include <complex>
#include <functional>
#include <numbers>
#include <set>

#include "engine/views.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::engine {
namespace {

using Complex = std::complex<double>;
using internal::Traces;

constexpr double turn = 2 * std::numbers::pi;

trial::Case demo(const char* name) { return casefile::read_case(std::filesystem::path(ZAVREK_DEMO) / name); }

/// So many rows at 4 kHz, each signal by its own function of time.
void fill(Traces& traces, int rows, const std::vector<std::function<double(double)>>& of) {
  traces.units.assign(traces.signals.size(), "A");
  for (int k = 0; k < rows; ++k) {
    for (std::size_t s = 0; s < of.size(); ++s) traces.rows.put(s, of[s](k / 4000.0));
    traces.rows.commit();
  }
}
std::function<double(double)> sine(const Complex& rms) {
  return [rms](double t) { return std::numbers::sqrt2 * std::real(rms * std::polar(1.0, turn * 50 * t)); };
}
Complex at_degrees(double rms, double degrees) { return std::polar(rms, degrees * turn / 360); }

TEST(Views, GivePhasorsAndTheirSequences) {
  Traces traces({"m.ia", "m.ib", "m.ic"}, 4000, 1U << 20U);
  // Ten of positive, three of negative, two of zero sequence.
  const Complex positive = 10, negative = at_degrees(3, 40), zero = at_degrees(2, -70),
                a = at_degrees(1, 120);
  const std::array<Complex, 3> phases{positive + negative + zero, a * a * positive + a * negative + zero,
                                      a * positive + a * a * negative + zero};
  EXPECT_THROW((void)internal::phasors_of(traces, {"m.ia"}, 50), Error) << "nothing has run yet";
  fill(traces, 240, {sine(phases[0]), sine(phases[1]), sine(phases[2])});
  const nlohmann::json seen = internal::phasors_of(traces, traces.signals, 50);
  const double first_deg = std::arg(phases[0]) * 360 / turn;
  for (std::size_t k = 0; k < 3; ++k) {
    const nlohmann::json& one = seen["phasors"][k];
    EXPECT_NEAR(one["rms"].get<double>(), std::abs(phases[k]), 1e-9);
    const double wanted = std::arg(phases[k] / phases[0]) * 360 / turn;
    EXPECT_NEAR(one["angle_deg"].get<double>(), wanted, 1e-9);
  }
  const nlohmann::json& sequences = seen["sequences"][0];
  EXPECT_NEAR(sequences["positive"]["rms"].get<double>(), 10, 1e-9);
  EXPECT_NEAR(sequences["negative"]["rms"].get<double>(), 3, 1e-9);
  EXPECT_NEAR(sequences["zero"]["rms"].get<double>(), 2, 1e-9);
  EXPECT_NEAR(sequences["negative"]["angle_deg"].get<double>(), 40 - first_deg, 1e-9);
  EXPECT_THROW((void)internal::phasors_of(traces, {"m.id"}, 50), Error);
}

TEST(Views, GiveHarmonicsOverWholeCycles) {
  Traces traces({"m.ia"}, 4000, 1U << 20U);
  fill(traces, 900, {[](double t) {
         return 2 + std::numbers::sqrt2 * (10 * std::sin(turn * 50 * t) + 3 * std::sin(turn * 250 * t + 1) +
                                           4 * std::cos(turn * 550 * t));
       }});
  const nlohmann::json seen = internal::spectrum_of(traces, "m.ia", 50, 10);
  const auto rms = seen["rms"].get<std::vector<double>>();
  ASSERT_EQ(rms.size(), 26U);
  for (std::size_t h = 0; h < rms.size(); ++h)
    EXPECT_NEAR(rms[h], h == 0 ? 2 : h == 1 ? 10 : h == 5 ? 3 : h == 11 ? 4 : 0, 1e-9) << h;
  EXPECT_NEAR(seen["distortion"].get<double>(), 0.5, 1e-9) << "of three and four over ten";
  EXPECT_THROW((void)internal::spectrum_of(traces, "m.ia", 50, 40), Error) << "not so many cycles";
}

/// A fault to earth and one between phases, at impedances that are known.
TEST(Views, PutLoopsWhereTheirImpedanceIs) {
  const trial::Case all = demo("line");
  const bench::Device* device = all.bench.find_device("DM");
  ASSERT_NE(device, nullptr);
  const auto [factor, angle] =
      protection::compensation_of(device->relay, *device->relay.all<protection::Zone>().front());
  const Complex z(2, 4.4), ia = at_degrees(900, -65), ib = at_degrees(40, 170);
  const Complex residual = ia + ib;
  Traces traces({"VTM.va", "VTM.vb", "VTM.vc", "CTM.ia", "CTM.ib", "CTM.ic"}, 4000, 1U << 20U);
  const Complex va = z * (ia + std::polar(factor, angle) * residual), vb = va - z * (ia - ib);
  fill(traces, 800, {sine(va), sine(vb), sine(at_degrees(38e3, 120)), sine(ia), sine(ib), sine(0)});
  const nlohmann::json seen = internal::trajectory_of(traces, all, "DM", 0.1);
  EXPECT_EQ(seen["plane"], "impedance");
  EXPECT_EQ(seen["time_s"].size(), 20U) << "four a cycle";
  for (const char* loop : {"AG", "AB"}) {
    for (const nlohmann::json& point : seen["ways"][loop]) {
      EXPECT_NEAR(point[0].get<double>(), z.real(), 1e-6) << loop;
      EXPECT_NEAR(point[1].get<double>(), z.imag(), 1e-6) << loop;
    }
  }
  EXPECT_THROW((void)internal::trajectory_of(traces, all, "DX", 0.1), Error);
  Traces dead(traces.signals, 4000, 1U << 20U);
  fill(dead, 800, std::vector<std::function<double(double)>>(6, sine(0)));
  EXPECT_TRUE(internal::trajectory_of(dead, all, "DM", 0.1)["ways"]["AG"][0].is_null())
      << "no current, no impedance";
}

/// One side of a transformer alone, with its rated current: all of it is differential, half of it restrains.
TEST(Views, PutADifferentialWhereItsCurrentsAre) {
  const trial::Case all = demo("transformer");
  const bench::Device& device = all.bench.devices.front();
  std::vector<std::string> names;
  for (std::size_t place = 0; place < 2; ++place) {
    for (const char phase : {'a', 'b', 'c'})
      names.push_back(all.bench.stems_of(device.reads.at(place)).current + phase);
  }
  const Complex a = at_degrees(1, 120);
  for (const std::size_t place : {0U, 1U}) {
    const double rated = place == 0 ? 218.7 : 1312.2;
    std::vector<std::function<double(double)>> of(6, sine(0));
    for (std::size_t k = 0; k < 3; ++k)
      of[3 * place + k] = sine(rated * std::pow(a * a, static_cast<double>(k)));
    Traces traces(names, 4000, 1U << 20U);
    fill(traces, 400, of);
    const nlohmann::json seen = internal::trajectory_of(traces, all, device.name, 0.05);
    EXPECT_EQ(seen["plane"], "differential");
    for (const char* phase : {"A", "B", "C"}) {
      const nlohmann::json& point = seen["ways"][phase].back();
      EXPECT_NEAR(point[0].get<double>(), 0.5, 1e-9) << place << phase;
      EXPECT_NEAR(point[1].get<double>(), 1, 1e-9) << place << phase;
    }
  }
}

/// Every bus and what lies between, without a word about any kind of element.
TEST(Views, DrawEveryCaseFromItsTablesAlone) {
  for (const char* name : {"veskar", "island", "link", "transformer"}) {
    const internal::Session session(name, demo(name), {});
    const network::Network& network = session.loaded().network;
    const nlohmann::json drawn = internal::diagram_of(session.loaded(), *session.known());
    ASSERT_EQ(drawn["buses"].size(), network.buses.size()) << name;
    EXPECT_EQ(drawn["elements"].size(), network.elements.size()) << name;
    std::set<std::string> reached;
    for (const nlohmann::json& element : drawn["elements"]) {
      for (const nlohmann::json& bus : element["ends"]) reached.insert(bus.get<std::string>());
    }
    EXPECT_EQ(reached.size(), network.buses.size()) << name << ": every bus has something on it";
  }
}

}  // namespace
}  // namespace zavrek::engine
