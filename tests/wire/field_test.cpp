// Parties of field buses against each other in simulated time: a day of traffic in seconds, over a line that
// damages and breaks; and what each refuses. Against others they are tested in tests/tool.
#include <malloc.h>

#include <cmath>

#include <gtest/gtest.h>

#include "wire/field_parties.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/wire/field/can.hpp"
#include "zavrek/wire/field/dnp3.hpp"
#include "zavrek/wire/field/ethercat.hpp"
#include "zavrek/wire/field/iec104.hpp"
#include "zavrek/wire/field/modbus.hpp"
#include "zavrek/wire/field/synchrophasor.hpp"

namespace zavrek::wire {
namespace {

using test::Desk;
using test::Line;

constexpr double tick_s = 0.05;

/// A day, in which four numbers and two states move; `agrees` is asked at the end of each hour that ends in
/// peace. What is kept must not grow behind the first hour.
template <class Agrees>
void live_a_day(Line& line, Desk& station, Agrees&& agrees) {
  std::mt19937 random(3);
  std::size_t after_an_hour = 0;
  for (int hour = 0; hour < 24; ++hour) {
    for (double t = 0; t < 3600; t += tick_s) {
      const bool calm = t > 3300;  // what is under way comes to its end
      const double damaged = line.damaged_share, breaks = line.breaks_per_s;
      if (calm) line.damaged_share = line.breaks_per_s = 0;
      if (!calm && random() % 20 == 0) {
        const std::size_t k = random() % station.shown.size();
        station.shown[k] =
            k < 2 ? static_cast<double>(random() % 2) : static_cast<double>(random() % 20'000) - 10'000;
      }
      station.utc_ns = line.now.utc_ns;
      line.turn(tick_s);
      line.damaged_share = damaged;
      line.breaks_per_s = breaks;
    }
    agrees(hour);
    const std::size_t used = mallinfo2().uordblks;
    if (hour == 0) after_an_hour = used;
    EXPECT_LT(used, after_an_hour + 128 * 1024) << "memory grows, hour " << hour;
    if (testing::Test::HasFailure()) return;
  }
  EXPECT_LT(line.most_waiting, 200'000U);
}

Iec104Settings telecontrol() {
  Iec104Settings settings;
  settings.points = {{1, Iec104Kind::single_point, 0},
                     {2, Iec104Kind::double_point, 1},
                     {3, Iec104Kind::real, 2, 10},
                     {4, Iec104Kind::scaled, 3}};
  settings.interrogation_s = 300;
  return settings;
}

TEST(FieldBus, TelecontrolSaysTheSameOnBothSidesAfterADayOfBreaks) {
  Desk station, master;
  station.shown = {0, 1, 100, 200};
  master.shown = {};
  Iec104Settings settings = telecontrol();
  const auto outside = make_iec104_station(settings, station);
  const auto inside = make_iec104_controller(settings, master);
  Line line(*outside, *inside);
  line.breaks_per_s = 1.0 / 120;
  live_a_day(line, station, [&](int hour) {
    for (std::size_t k = 0; k < 4; ++k)
      EXPECT_NEAR(master.asked[k], station.shown[k], k == 2 ? 10 : 0) << "object " << k << ", hour " << hour;
  });
  EXPECT_GT(line.connections, 400);
  EXPECT_EQ(outside->traffic().malformed, 0);
}

Dnp3Settings outstation() {
  Dnp3Settings settings;
  settings.binaries = {{0, 0, 1}, {1, 1, 1}};
  settings.numbers = {{0, 2, 2, Dnp3Analogue::float32, 10}, {1, 3, 3, Dnp3Analogue::int16}};
  settings.integrity_s = 300;
  settings.most_events = 50;
  return settings;
}

TEST(FieldBus, Dnp3SaysTheSameOnBothSidesAfterADayOfDamageAndBreaks) {
  for (const bool unsolicited : {false, true}) {
    Desk station, master;
    station.shown = {0, 1, 100, 200};
    Dnp3Settings settings = outstation();
    settings.unsolicited = unsolicited;
    settings.takes_time = true;
    const auto outside = make_dnp3_outstation(settings, station);
    const auto inside = make_dnp3_master(settings, master);
    Line line(*outside, *inside);
    line.breaks_per_s = 1.0 / 300;
    line.damaged_share = 0.02;
    live_a_day(line, station, [&](int hour) {
      for (std::size_t k = 0; k < 4; ++k)
        EXPECT_NEAR(master.asked[k], station.shown[k], k == 2 ? 10 : 0)
            << "object " << k << ", hour " << hour << (unsolicited ? ", unsolicited" : "");
    });
    EXPECT_GT(outside->traffic().malformed + inside->traffic().malformed, 100) << "the line did damage";
  }
}

TEST(FieldBus, EveryMasterOfAnOutstationIsToldWhatMoved) {
  Desk station;
  station.shown = {0, 1, 100, 200};
  Dnp3Settings settings = outstation();
  settings.other_masters = {7, 8};
  const auto outside = make_dnp3_outstation(settings, station);
  std::array<Desk, 3> desks;
  std::vector<std::unique_ptr<Party>> masters;
  std::vector<std::unique_ptr<Line>> lines;
  for (std::size_t k = 0; k < desks.size(); ++k) {
    Dnp3Settings own = outstation();
    own.master = std::array{1, 7, 8}.at(k);
    own.integrity_s = 86'400;  // all but the first are told by events alone
    masters.push_back(make_dnp3_master(own, desks.at(k)));
    lines.push_back(std::make_unique<Line>(*outside, *masters.back()));
  }
  std::mt19937 random(5);
  for (int k = 0; k < 20'000; ++k) {
    if (k < 19'000 && random() % 20 == 0) station.shown[random() % 2] = static_cast<double>(random() % 2);
    if (k < 19'000 && random() % 20 == 0)
      station.shown[2 + random() % 2] = static_cast<double>(random() % 20'000) - 10'000;
    for (auto& line : lines) {
      station.utc_ns = line->now.utc_ns;
      line->turn(tick_s);
    }
  }
  for (const Desk& desk : desks) {
    for (std::size_t k = 0; k < 4; ++k) EXPECT_NEAR(desk.asked.at(k), station.shown[k], k == 2 ? 10 : 0);
  }
  EXPECT_EQ(outside->traffic().lost, 0);
  EXPECT_EQ(outside->traffic().refused, 0);
  EXPECT_EQ(outside->traffic().connections, 3);
}

TEST(FieldBus, ControlsAreRefusedWhereThePlantDoesNotDoThem) {
  Desk station, master;
  station.shown = {0, 0};
  master.shown = {1, 400};
  Dnp3Settings settings;
  settings.controls = {{0, 0, 0, true}};
  settings.set_points = {{0, 1, 1, false, Dnp3Analogue::int16}};
  settings.unsolicited = false;
  const auto outside = make_dnp3_outstation(settings, station);
  const auto inside = make_dnp3_master(settings, master);
  Line line(*outside, *inside);
  const auto run = [&] {
    for (int k = 0; k < 200; ++k) line.turn(tick_s);
  };
  run();
  EXPECT_EQ(station.asked[0], 1);
  EXPECT_EQ(station.asked[1], 400);
  EXPECT_EQ(inside->traffic().refused, 0);
  station.answers = Desk::Outcome::refused;
  master.shown[0] = 0;
  run();
  EXPECT_EQ(inside->traffic().refused, 1) << "interlocked";
  station.high = 500;
  master.shown[1] = 600;
  run();
  EXPECT_EQ(station.asked[1], 400) << "out of range";
  EXPECT_EQ(inside->traffic().refused, 2);
  master.shown[1] = 40'000;
  run();
  EXPECT_EQ(inside->traffic().saturated, 1) << "beyond 16 bits";
}

/// One conversation with a Modbus server over TCP; frames as messages have them.
class Meter {
 public:
  explicit Meter(Desk& desk) {
    ModbusMap map;
    map.points = {{ModbusTable::input_registers, 0, RegisterType::float32, 0, std::nullopt},
                  {ModbusTable::holding_registers, 10, RegisterType::int16, 1, 0},
                  {ModbusTable::holding_registers, 11, RegisterType::int32, 2, 1},
                  {ModbusTable::coils, 5, RegisterType::int16, 3, 2}};
    server_ = make_modbus_server(map, desk);
    talk_ = server_->connected({});
  }
  std::vector<std::uint8_t> ask(const std::vector<std::uint8_t>& pdu, double later_s = 0) {
    std::vector<std::uint8_t> frame{0, 1, 0, 0, 0, static_cast<std::uint8_t>(pdu.size() + 1), 1};
    frame.insert(frame.end(), pdu.begin(), pdu.end());
    for (const std::uint8_t octet : frame) talk_->receive(Bytes(&octet, 1), {});
    talk_->poll({static_cast<std::int64_t>(1e9 * later_s), 0});
    std::vector<std::uint8_t> out = std::move(talk_->out());
    talk_->out().clear();
    return out.size() > 7 ? std::vector<std::uint8_t>(out.begin() + 7, out.end())
                          : std::vector<std::uint8_t>();
  }
  [[nodiscard]] const Traffic& traffic() const { return server_->traffic(); }

 private:
  std::unique_ptr<Party> server_;
  std::unique_ptr<Conversation> talk_;
};
using Pdu = std::vector<std::uint8_t>;

TEST(Modbus, TakesRequestsInPiecesAndAnswersOncePlantHasDoneThem) {
  Desk desk;
  desk.shown = {1.5, -2, 70'000, 1};
  Meter meter(desk);
  EXPECT_EQ(meter.ask({4, 0, 0, 0, 2}), (Pdu{4, 4, 0x3F, 0xC0, 0, 0})) << "1.5 as a float";
  EXPECT_EQ(meter.ask({3, 0, 10, 0, 3}), (Pdu{3, 6, 0xFF, 0xFE, 0, 1, 0x11, 0x70})) << "-2 and 70,000";
  EXPECT_EQ(meter.ask({6, 0, 10, 0, 9}), (Pdu{6, 0, 10, 0, 9}));
  EXPECT_EQ(desk.asked[0], 9);
  EXPECT_EQ(meter.ask({16, 0, 10, 0, 3, 6, 0, 1, 0, 2, 0, 3}), (Pdu{16, 0, 10, 0, 3}));
  EXPECT_EQ(desk.asked[1], 2 * 65536 + 3);
  EXPECT_EQ(meter.ask({5, 0, 5, 0xFF, 0}), (Pdu{5, 0, 5, 0xFF, 0}));
  desk.answers = Desk::Outcome::waiting;
  EXPECT_EQ(meter.ask({5, 0, 5, 0, 0}), Pdu()) << "not done yet";
  desk.answers = Desk::Outcome::done;
  EXPECT_EQ(meter.ask({}), (Pdu{5, 0, 5, 0, 0})) << "now it is, and what came then was no request";
}

TEST(Modbus, RefusesWithTheExceptionOfTheReason) {
  Desk desk;
  desk.shown = {1, 2, 3, 1};
  desk.high = 100;
  Meter meter(desk);
  EXPECT_EQ(meter.ask({99, 0}), (Pdu{99 | 0x80, 1})) << "no such function";
  EXPECT_EQ(meter.ask({4, 0, 1, 0, 2}), (Pdu{0x84, 2})) << "an address of nothing";
  EXPECT_EQ(meter.ask({6, 0, 11, 0, 1}), (Pdu{0x86, 2})) << "half a number";
  EXPECT_EQ(meter.ask({6, 0, 10, 0, 101}), (Pdu{0x86, 3})) << "out of its range";
  EXPECT_EQ(meter.ask({3, 0, 10, 0, 126}), (Pdu{0x83, 3})) << "too many at once";
  EXPECT_EQ(meter.ask({5, 0, 5, 1, 0}), (Pdu{0x85, 3})) << "neither on nor off";
  desk.answers = Desk::Outcome::refused;
  EXPECT_EQ(meter.ask({5, 0, 5, 0, 0}), (Pdu{0x85, 4})) << "interlocked";
  desk.full = true;
  EXPECT_EQ(meter.ask({5, 0, 5, 0, 0}), (Pdu{0x85, 6})) << "no room";
  desk.there = false;
  EXPECT_EQ(meter.ask({4, 0, 0, 0, 2}), (Pdu{0x84, 6})) << "nothing to show yet";
  EXPECT_EQ(meter.traffic().refused, 9);
}

TEST(Modbus, AnswersADayOfRequestsAndRubbishWithoutGrowing) {
  Desk desk;
  desk.shown = {0, 0, 0, 0};
  Meter meter(desk);
  std::mt19937 random(11);
  std::size_t after_an_hour = 0;
  for (int second = 0; second < 24 * 3600; ++second) {
    const auto value = static_cast<int>(random() % 20'000) - 10'000;
    desk.shown[1] = value;
    const auto high = static_cast<std::uint8_t>(value >> 8), low = static_cast<std::uint8_t>(value);
    ASSERT_EQ(meter.ask({3, 0, 10, 0, 1}, second), (Pdu{3, 2, high, low}));
    ASSERT_EQ(meter.ask({6, 0, 10, high, low}, second), (Pdu{6, 0, 10, high, low}));
    ASSERT_EQ(desk.asked[0], value);
    Pdu rubbish(random() % 200);
    for (std::uint8_t& octet : rubbish) octet = static_cast<std::uint8_t>(random());
    if (second % 10 == 0 && !rubbish.empty()) (void)meter.ask(rubbish, second);
    const std::size_t used = mallinfo2().uordblks;
    if (second == 3600) after_an_hour = used;
    ASSERT_TRUE(second < 3600 || used < after_an_hour + 32 * 1024) << "memory grows, second " << second;
  }
}

TEST(Modbus, CutsOffWhatItsTypeDoesNotHold) {
  Count cut;
  std::array<std::uint16_t, 4> words{};
  for (const auto& [value, type, kept] : {std::tuple{40'000.0, RegisterType::int16, 32767.0},
                                          {-1.0, RegisterType::natural16, 0.0},
                                          {65'535.0, RegisterType::natural16, 65'535.0},
                                          {1e30, RegisterType::int64, 9.223372036854775807e18},
                                          {-3e9, RegisterType::int32, -2147483648.0}}) {
    put_number(value, type, {}, words.data(), cut);
    EXPECT_EQ(take_number(words.data(), type, {}), kept);
  }
  EXPECT_EQ(cut, 4);
  for (const RegisterOrder order : {RegisterOrder{true, false}, {false, true}, {true, true}}) {
    put_number(-123456.75, RegisterType::float64, order, words.data(), cut);
    EXPECT_EQ(take_number(words.data(), RegisterType::float64, order), -123456.75);
  }
}

TEST(Can, PlacesBitsAsTheTextFormDefinesThem) {
  const CanDatabase database = parse_can_database(
      "BO_ 100 Drive: 8 X\n SG_ low : 4|12@1- (1,0) [0|0] \"\" Y\n SG_ high : 22|12@0+ (0.5,10) [0|0] \"A\" "
      "Y\n",
      "d.dbc");
  const CanMessage& drive = database.messages.at(0);
  std::array<std::uint8_t, 8> data{};
  Count cut;
  put_signal(data, drive.signals[0], -2, cut);      // FFE from bit 4 up
  put_signal(data, drive.signals[1], 1034.5, cut);  // 801 from bit 22 down
  EXPECT_EQ(data, (std::array<std::uint8_t, 8>{0xE0, 0xFF, 0x40, 0x08, 0, 0, 0, 0}));
  EXPECT_EQ(take_signal(data, drive.signals[0]), -2);
  EXPECT_EQ(take_signal(data, drive.signals[1]), 1034.5);
  put_signal(data, drive.signals[0], 5000, cut);
  EXPECT_EQ(take_signal(data, drive.signals[0]), 2047);
  EXPECT_EQ(cut, 1);
  const std::string nine = "123456789";
  EXPECT_EQ(can_checksum(CanChecksum::crc8, Bytes(reinterpret_cast<const std::uint8_t*>(nine.data()), 9), 99),
            0x4B);
}

TEST(Can, NamesFileLineAndCureOfWhatItCannotRead) {
  const auto flaw = [](const char* text) -> std::string {
    try {
      (void)parse_can_database(text, "d.dbc");
    } catch (const Error& error) {
      return error.what();
    }
    return {};
  };
  EXPECT_EQ(flaw("BO_ 1 A: 8 X\n SG_ s : 60|8@1+ (1,0) [0|0] \"\" Y\n"),
            "d.dbc:2: s reaches beyond the 8 octets of A");
  EXPECT_EQ(flaw("BO_ 1 A 8 X\n"), "d.dbc:1: a message is written \"BO_ 256 Drive: 8 Inverter\"");
  EXPECT_EQ(flaw("BO_ 1 A: 99 X\n"), "d.dbc:1: A has 99 octets; a frame holds 64");
  EXPECT_EQ(flaw("BO_ 1 A: 8 X\nBO_ 2 A: 8 X\n"), "d.dbc:2: message A stands there twice");
}

TEST(EtherCat, KeepsItsMemoryWhateverPasses) {
  Desk desk;
  desk.shown = {1, 2};
  EtherCatSettings settings;
  settings.inputs = {{"a", EtherCatType::int16, 0}, {"b", EtherCatType::boolean, 1}};
  settings.outputs = {{"c", EtherCatType::float64, 0}};
  EtherCatSlave slave(settings, desk);
  std::mt19937 random(5);
  std::array<std::uint8_t, 200> frame{};
  int taken = 0;
  for (int k = 0; k < 200'000; ++k) {
    for (std::uint8_t& octet : frame) octet = static_cast<std::uint8_t>(random());
    frame[14] = 180;
    frame[15] = 0x10;
    frame[16] = static_cast<std::uint8_t>(random() % 16);
    frame[20] = static_cast<std::uint8_t>(random());
    frame[21] = static_cast<std::uint8_t>(random() % 0x22);
    frame[22] = static_cast<std::uint8_t>(random() % 168);
    frame[23] = 0;
    taken += slave.pass(frame, {k * 1'000'000LL, 0}) ? 1 : 0;
    slave.poll({k * 1'000'000LL, 0});
  }
  EXPECT_GT(taken, 100'000);
  EXPECT_EQ(slave.input_bytes(), 3U);
}

TEST(Synchrophasor, TellsWhatWasMeasuredInEveryForm) {
  SynchrophasorConfiguration c;
  c.phasors = {{"VA", false, 4, 20e3}, {"IA", true, 4, 1e3}};
  c.analogues = {"P"};
  c.digitals = {"Q1"};
  SynchrophasorData data;
  data.utc_ns = 1'700'000'000'020'000'000;
  data.phasors = {std::polar(6350.0, 0.3), std::polar(120.0, -2.5)};
  data.frequency_Hz = 50.123;
  data.rate_Hz_per_s = -0.5;
  data.analogues = {3.25};
  data.digitals = {true};
  for (const auto& [polar, integers] :
       {std::pair{false, false}, {true, false}, {false, true}, {true, true}}) {
    c.polar = polar;
    c.integers = integers;
    Count cut;
    const std::vector<std::uint8_t> sent = encode(c, SynchrophasorFrame::configuration2, data.utc_ns);
    ASSERT_TRUE(is_whole_synchrophasor(sent));
    const auto read = take_configuration(sent);
    ASSERT_TRUE(read);
    SynchrophasorData got;
    ASSERT_TRUE(take_data(encode(c, data, cut), *read, got));
    EXPECT_EQ(got.utc_ns, data.utc_ns);
    for (std::size_t k = 0; k < 2; ++k)
      EXPECT_LT(std::abs(got.phasors[k] - data.phasors[k]), integers ? 1.0 : 1e-3);
    EXPECT_NEAR(got.frequency_Hz, 50.123, integers ? 6e-4 : 1e-5);
    EXPECT_NEAR(got.rate_Hz_per_s, -0.5, 1e-6);
    EXPECT_EQ(got.analogues, data.analogues);
    EXPECT_TRUE(got.digitals[0]);
    EXPECT_EQ(cut, 0);
  }
}

}  // namespace
}  // namespace zavrek::wire
