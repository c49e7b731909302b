// Volts, amperes and contacts at the terminals of a board, and of a card reached by its driver.
#include <gtest/gtest.h>

#include <cmath>
#include <numbers>
#include <thread>

#include <unistd.h>

#include "bench/channels.hpp"
#include "bench/probe.hpp"
#include "bench/quay.hpp"
#include "zavrek/bench.hpp"
#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/card.hpp"

namespace zavrek::test {
extern long long allocations;  // counting_allocator.cpp
}

namespace zavrek::bench {
namespace {

using card::Board;

std::string board_name(const char* stem) { return stem + std::to_string(getpid()); }

TEST(Converter, RoundsToItsStepsAndCutsOffBeyondItsRange) {
  Conversion conversion;
  conversion.bits = 8;
  internal::Converter converter(conversion, 100);  // 10 V for 100 A
  const double step_V = 10.0 / 128;
  EXPECT_DOUBLE_EQ(converter.volts(12.3), step_V * std::round(1.23 / step_V));
  EXPECT_DOUBLE_EQ(converter.volts(-100), -10);
  EXPECT_EQ(converter.cut_off(), 0);
  EXPECT_DOUBLE_EQ(converter.volts(100), 10 - step_V);
  EXPECT_DOUBLE_EQ(converter.volts(-1e6), -10);
  EXPECT_DOUBLE_EQ(converter.volts(NAN), -10);
  EXPECT_EQ(converter.cut_off(), 3);
  EXPECT_DOUBLE_EQ(converter.terminal(2.5), 25);
  conversion.bits = 0;
  EXPECT_DOUBLE_EQ(internal::Converter(conversion, 100).volts(12.3456), 1.23456);
}

/// Against 1 - exp(-t / tau), and a straight rise.
TEST(Amplifier, FollowsAStepByItsBandwidthAndItsSlew) {
  AnalogueOut settings;
  settings.bandwidth_Hz = 1000;
  const double step_s = 10e-6, tau_s = 1 / (2 * std::numbers::pi * 1000);
  internal::Amplifier slow(settings, 10, "A", step_s, 0);
  (void)slow.next(0);
  double value = 0;
  for (int k = 1; k <= 30; ++k) value = slow.next(5);
  EXPECT_NEAR(value, 5 * (1 - std::exp(-30 * step_s / tau_s)), 1e-9);
  settings.bandwidth_Hz = 0;
  settings.slew = "20 kA/s";
  settings.limit = "4 A";
  internal::Amplifier steep(settings, 10, "A", step_s, 0);
  EXPECT_NEAR(steep.next(5), 0.2, 1e-12);
  for (int k = 0; k < 100; ++k) value = steep.next(5);
  EXPECT_DOUBLE_EQ(value, 4);
  EXPECT_EQ(steep.cut_off(), 101);
  settings = {};
  settings.noise = "10 mA";
  internal::Amplifier noisy(settings, 10, "A", step_s, 3);
  double sum = 0, squares = 0;
  constexpr int count = 20'000;
  for (int k = 0; k < count; ++k) {
    value = noisy.next(1) - 1;
    sum += value;
    squares += value * value;
  }
  EXPECT_NEAR(sum / count, 0, 3e-4);
  EXPECT_NEAR(std::sqrt(squares / count), 0.01, 3e-4);
}

TEST(Lagging, ComesLateAndOnlyIfItLasts) {
  internal::Lagging contact(2e-3, 5e-3, 1e-3);
  const auto at = [&](double ms, bool wanted) { return contact.next(wanted, 1e-3 * ms); };
  EXPECT_FALSE(at(0, false));
  EXPECT_FALSE(at(1, true));
  EXPECT_FALSE(at(2, false)) << "a millisecond is no change";
  EXPECT_FALSE(at(3, true));
  EXPECT_FALSE(at(9.9, true));
  EXPECT_TRUE(at(10, true));
  EXPECT_TRUE(at(11, false));
  EXPECT_TRUE(at(13.9, false));
  EXPECT_FALSE(at(14, false));
}

TEST(Board, IsSharedByWhoeverKnowsItsName) {
  const std::string name = board_name("shared");
  EXPECT_THROW((void)Board::find(name), Error);
  {
    Board bench = Board::make(name);
    Board device = Board::find(name);
    bench.put(Board::Part::out, 63, 1.5);
    device.put(Board::Part::contacts_in, 0, 110);
    device.count_device_write();
    EXPECT_EQ(device.get(Board::Part::out, 63), 1.5);
    EXPECT_EQ(bench.get(Board::Part::contacts_in, 0), 110);
    EXPECT_EQ(bench.device_writes(), 1U);
    EXPECT_TRUE(std::isnan(bench.get(Board::Part::measured, 0)));
    EXPECT_TRUE(device.served());
  }
  EXPECT_THROW((void)Board::find(name), Error) << "gone with its bench";
  EXPECT_THROW((void)Board::make("a/b"), Error);
}

bench::Setup quay_with_board(const std::string& name) {
  bench::Setup setup = quay();
  Card board;
  board.name = "board";
  board.address = name;
  AnalogueOut out;
  out.name = "out";
  out.card = "board";
  out.first_channel = 4;
  out.signals = {"CT1.ia", "-CT1.ia", "VT1.va"};
  out.ratio = 2;
  out.terminals = {"X1", "X2", "X3"};
  AnalogueIn in;
  in.name = "in";
  in.card = "board";
  in.values = {"v"};
  in.full_scale = "200 V";
  ContactOut contacts;
  contacts.name = "co";
  contacts.card = "board";
  contacts.points = {"Q1", "not bench.remote"};
  contacts.wetting_V = 110;
  contacts.pickup_time_s = 10e-3;
  ContactIn back;
  back.name = "ci";
  back.card = "board";
  back.points = {"open", "other"};
  back.opens = {"Q1: open"};
  back.wetting_V = 48;
  back.debounce_s = 2e-3;
  setup.bench.ports = {board, out, in, contacts, back};
  return setup;
}

/// What the other side sees and does, step by step, without a clock.
TEST(Terminals, CarryVoltsAmperesAndContactsBothWays) {
  const std::string name = board_name("both");
  bench::Setup setup = quay_with_board(name);
  for (const Flaw& flaw : validate(setup))
    ADD_FAILURE() << flaw.place << " " << flaw.field << " " << flaw.text;
  bench::Run run(setup, setup.network, {.free = true});
  EXPECT_TRUE(run.paced());
  run.record(0.12, 0, {"in.v", "CT1.ia", "VT1.va"});
  std::optional<Board> device;
  struct Seen {
    double time_s, ia, reversed, va, q1, remote;
  };
  std::vector<Seen> seen;
  auto probe = std::make_unique<Probe>();
  probe->wired = [](Exchange&) {};
  probe->taken = [&](Exchange& exchange) {
    if (!device) return;
    const auto out = [&](std::size_t k) { return device->get(Board::Part::out, k); };
    seen.push_back({exchange.time_s(), out(4), out(5), out(6), device->get(Board::Part::contacts_out, 0),
                    device->get(Board::Part::contacts_out, 1)});
    device->put(Board::Part::in, 0, 40 + 1000 * exchange.time_s());
    // A pulse of a millisecond, which is bounced over, then a contact that stays.
    const double t = exchange.time_s();
    const bool closed = (t > 0.04 && t < 0.041) || t > 0.06;
    device->put(Board::Part::contacts_in, 0, closed ? 40 : 0);
  };
  run.add(std::move(probe));
  run.schedule({{.at_s = 0.02, .kind = Deed::Kind::close, .what = "bench.remote"},
                {.at_s = 0.1, .kind = Deed::Kind::set, .what = "out.dead", .value = 1}});
  ASSERT_EQ(run.start(), "");
  device.emplace(Board::find(name));
  (void)run.execute(0.12);
  ASSERT_EQ(run.failure(), "");
  const record::Record record = run.take_record(0);
  double greatest = 0;
  for (const Seen& one : seen) {
    EXPECT_DOUBLE_EQ(one.reversed, -one.ia) << one.time_s;
    greatest = std::max(greatest, std::abs(one.ia));
    if (one.time_s > 0.101) {
      EXPECT_EQ(one.ia, 0);
    }
    if (one.time_s > 0.01) {
      EXPECT_EQ(one.q1, one.time_s < 0.0622 ? 110 : one.q1);
    }
    if (one.time_s > 0.0205) {
      EXPECT_EQ(one.remote, 0) << "not remote";
    }
  }
  // 166 A primary over a ratio of 300, times two, through 16 bits of 10 V.
  EXPECT_NEAR(greatest, 2 * std::numbers::sqrt2 * 166.0 / 300, 0.03);
  const auto value = [&](const char* column, double at_s) {
    return record.find_analog(column)->samples[static_cast<std::size_t>(at_s * record.rate_Hz)];
  };
  EXPECT_NEAR(value("in.v", 0.05), 90, 0.3);
  double opened_s = 0;
  int times = 0;
  for (const record::Event& event : record.events) {
    times += event.text == "ci open" ? 1 : 0;
    if (event.text == "ci open") opened_s = event.time_s;
  }
  EXPECT_EQ(times, 1);
  EXPECT_NEAR(opened_s, 0.062, 2e-4);
  long long cut_off = 0;
  for (const Account& account : run.accounts()) cut_off += account.saturated;
  EXPECT_GT(cut_off, 100) << "VT1.va, 127 V at a converter for 10";
}

/// Every kind of port at once, spoiled too, once all texts have their length.
TEST(Terminals, AllocateNothingWithEverythingBesideThem) {
  bench::Setup setup = quay_with_board(board_name("still"));
  const std::string id = board_name("still");
  Stream stream = stream_of_quay(id, 0x5021);
  stream.rate_Hz = 4800;
  stream.group = 2;
  stream.includes = {"refrTm", "smpRate"};
  stream.data_set = "a data set with a name that is long enough";
  StreamIn in;
  in.name = "N1";
  in.id = id;
  in.appid = 0x5021;
  in.rate_Hz = 4800;
  in.when_silent = "off";
  Message message;
  message.name = "G1";
  message.id = id;
  message.appid = 0x331;
  message.entries = {"{ Q1 as position, quality of Q1, time of Q1 }", "CT1.ia as float within 20 A"};
  Subscription reading;
  reading.name = "H1";
  reading.id = id;
  reading.appid = 0x331;
  reading.entries = {"{ q1 as position, quality of q1, - }", "ia as float"};
  reading.when_silent = "keep";
  TimeCode code;
  code.name = "irig";
  Intruder mole;
  mole.name = "mole";
  mole.as = "H1";
  DisturbanceRecorder recorder;
  recorder.name = "DR1";
  recorder.records = {"VT1.v", "CT1.i", "N1.ia", "Q1"};
  recorder.triggers = {"rms of VT1.va below 1 kV and Q1 for 1 ms", "frequency of VT1.va below 10 Hz"};
  for (PortSettings port : std::vector<PortSettings>{stream, in, message, reading, code, mole, recorder})
    setup.bench.ports.push_back(std::move(port));
  ASSERT_TRUE(validate(setup).empty());
  bench::Run run(setup, setup.network, {.free = true});
  auto probe = std::make_unique<Probe>();
  long long before = 0, after = -1;
  probe->given = [&](Exchange& exchange) {
    if (exchange.time_s() < 0.1) before = zavrek::test::allocations;
    if (exchange.time_s() < 0.4) after = zavrek::test::allocations;
  };
  run.add(std::move(probe));
  run.record(0.45, 0, {"in.v", "N1.ia", "H1.ia"});
  std::vector<Deed> deeds;
  for (const char* what :
       {"M1.loss", "M1.delay", "M1.disorder", "M1.corruption", "G1.jitter", "H1.duplicates"}) {
    deeds.push_back({.at_s = 0.15, .kind = Deed::Kind::set, .what = what, .value = 0.01});
    deeds.push_back({.at_s = 0.3, .kind = Deed::Kind::set, .what = what, .value = 0});
  }
  deeds.push_back({.at_s = 0.2, .kind = Deed::Kind::set, .what = "mole.forged", .value = 1000});
  run.schedule(deeds);
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.45);
  ASSERT_EQ(run.failure(), "");
  EXPECT_EQ(after - before, 0) << "allocations";
}

TEST(Terminals, ThatDoNotFitAreRefusedByName) {
  bench::Setup setup = quay_with_board(board_name("bad"));
  auto& out = std::get<AnalogueOut>(setup.bench.ports[1]);
  out.card = "bord";
  out.terminals = {"X1"};
  out.device = "R9";
  std::get<ContactOut>(setup.bench.ports[3]).points = {"Q7"};
  std::string text;
  for (const Flaw& flaw : validate(setup)) text += flaw.place + ", " + flaw.field + ": " + flaw.text + "\n";
  for (const char* flaw :
       {"analogue_out.out, card: no card \"bord\", did you mean \"board\"?",
        "analogue_out.out, terminals: 1 labels for 3 channels", "analogue_out.out, device: no device \"R9\"",
        "analogue_out.out, inputs: 0 names for 3 channels",
        "contact_out.co, points: no breaker, switch or contactor \"Q7\""})
    EXPECT_NE(text.find(flaw), std::string::npos) << flaw << "\nnot in\n" << text;
  setup = quay_with_board(board_name("far"));
  std::get<AnalogueOut>(setup.bench.ports[1]).first_channel = 62;
  bench::Run run(setup, setup.network, {.free = true});
  EXPECT_EQ(run.start(),
            "card board has 64 analogue outputs, and channel 64 is wanted; change first_channel");
}

/// A relay of a single definite stage behind its own converter, by its own clock made of calls.
TEST(RelayAtBoard, TripsByWhatStandsAtItsTerminals) {
  const std::string name = board_name("relay");
  Board bench = Board::make(name);
  protection::RelaySettings settings;
  settings.ct_primary_A = 400;
  protection::Stage stage;
  stage.name = "phase";
  stage.characteristic = "definite";
  stage.pickup_A = 500;
  stage.delay_s = 0.1;
  stage.blocked_by = "input.block";
  settings.functions = {stage};
  StandInTerminals terminals{.name = "R1", .board = name};
  terminals.measures = {{0, 0, 2}, {0, 1, 1}, {0, 2, 0}};
  terminals.reads = {{"block", 5, 110}};
  terminals.gives = {{"start", 7, 0}, {"trip", 8, 48}};
  EXPECT_THROW(RelayAtBoard(settings, {.name = "R1", .board = name, .gives = {{"tripp", 0, 0}}}), Error);
  RelayAtBoard relay(settings, terminals);
  int k = 0;
  const auto run = [&](double secondary_A, double for_s) {
    for (const int until = k + static_cast<int>(for_s * relay.conversions_per_s()); k < until; ++k) {
      const double angle = 2 * std::numbers::pi * 50 * k / relay.conversions_per_s();
      for (std::size_t p = 0; p < 3; ++p)
        bench.put(Board::Part::out, 2 - p,
                  std::numbers::sqrt2 * secondary_A *
                      std::sin(angle - 2 * std::numbers::pi / 3 * static_cast<double>(p)));
      relay.convert();
    }
  };
  run(1.1, 0.2);
  EXPECT_EQ(bench.get(Board::Part::contacts_in, 7), 0);
  EXPECT_NEAR(bench.get(Board::Part::measured, 1), 1.1, 2e-3);
  run(2, 0.09);
  EXPECT_EQ(bench.get(Board::Part::contacts_in, 7), 1);
  EXPECT_EQ(bench.get(Board::Part::contacts_in, 8), 0);
  run(2, 0.06);
  EXPECT_EQ(bench.get(Board::Part::contacts_in, 8), 48);
  bench.put(Board::Part::contacts_out, 5, 110);
  run(2, 0.01);
  EXPECT_EQ(bench.get(Board::Part::contacts_in, 8), 0) << "blocked by its input";
  settings.ct_primary_A = network::unset;
  EXPECT_THROW(RelayAtBoard(settings, terminals), Error) << "no ratio";
}

}  // namespace
}  // namespace zavrek::bench
